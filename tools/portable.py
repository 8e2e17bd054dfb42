r"""Build Zinker for a stick: a folder that runs on a Windows machine without Python, and leaves nothing there.

    python tools/portable.py python-3.11.9-embed-amd64.zip dist/zinker-portable

The archive is the embeddable package that python.org publishes for Windows. In the folder there are then

    zinker.cmd       starts Zinker; what it keeps is found relative to it
    python/          the interpreter, with Zinker and its packages in python/packages
    zinker-home/     the configuration, and what Zinker remembers
    shelf/           kept versions and the record of changes, made by the first one

and beside the folder a ZIP archive of it. Packages come from the registry that pip is set up for.
"""

import argparse
import compileall
import re
import shutil
import subprocess
import sys
import tempfile
import zipfile
from importlib.metadata import Distribution, distributions
from pathlib import Path

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

PROJECT = Path(__file__).parents[1]
EXTRAS = "remote,keyring,documents,demo-tenant"
_COMMAND = r"""@echo off
setlocal
set "ZINKER_HOME=%~dp0zinker-home"
set "ZINKER_CONFIG="
set "TEMP=%~dp0zinker-home\passing"
set "TMP=%TEMP%"
if not exist "%TEMP%" mkdir "%TEMP%"
"%~dp0python\python.exe" -m zinker %*
exit /b %ERRORLEVEL%
"""
_TOML = """# What Zinker keeps on this stick, wherever it is plugged in: paths count from the folder of this file.
shelf = "../shelf"
subjects = ["../subjects"]
"""


def unpacked(archive: Path, folder: Path) -> tuple[int, int]:
    """Unpack the interpreter; returns its version. It is in the archive's top folder, or in one below."""
    with zipfile.ZipFile(archive) as packed:
        found = [name for name in packed.namelist() if name.rpartition("/")[2] == "python.exe"]
        if not found:
            sys.exit(f"{archive} holds no python.exe: give the embeddable package of Python for Windows.")
        top = found[0].removesuffix("python.exe")
        for name in packed.namelist():
            below = name.removeprefix(top)
            if name.startswith(top) and below and not name.endswith("/") and ".." not in below.split("/"):
                (folder / below).parent.mkdir(parents=True, exist_ok=True)
                (folder / below).write_bytes(packed.read(name))
    (paths,) = folder.glob("python3*._pth")
    paths.write_text(f"{paths.stem}.zip\n.\npackages\n")
    number = re.fullmatch(r"python3(\d+)", paths.stem)
    return 3, int(number[1]) if number else 0


def add_packages(packages: Path, version: tuple[int, int], wanted: list[str]) -> None:
    """Install packages for Windows, and what they need there, which pip alone would judge by this machine."""
    environment = {
        "sys_platform": "win32",
        "platform_system": "Windows",
        "os_name": "nt",
        "platform_machine": "AMD64",
        "python_version": "{}.{}".format(*version),
        "python_full_version": "{}.{}.0".format(*version),
        "platform_python_implementation": "CPython",
        "implementation_name": "cpython",
    }
    pip = [sys.executable, "-m", "pip", "install", "--quiet", "--upgrade", "--target", str(packages)]
    pip += ["--platform", "win_amd64", "--python-version", environment["python_version"]]
    pip += ["--only-binary=:all:", "--no-warn-script-location", "--root-user-action=ignore"]
    subprocess.run([*pip, *wanted], check=True)
    while missing := _missing(packages, environment, wanted):
        subprocess.run([*pip, *missing], check=True)
    shutil.rmtree(packages / "bin", ignore_errors=True)


def _missing(packages: Path, environment: dict[str, str], wanted: list[str]) -> list[str]:
    """Return what installed packages need on Windows and is not there."""
    there: dict[str, Distribution] = {
        canonicalize_name(d.name): d for d in distributions(path=[str(packages)])
    }
    needed, waiting, seen = [], [Requirement(one) for one in wanted], set()
    while waiting:
        one = waiting.pop()
        name = canonicalize_name(one.name)
        if (name, *sorted(one.extras)) in seen:
            continue
        seen.add((name, *sorted(one.extras)))
        if name not in there:
            needed.append(str(one).partition(";")[0])
            continue
        for requirement in map(Requirement, there[name].requires or ()):
            asked = [{**environment, "extra": extra} for extra in ("", *one.extras)]
            if requirement.marker is None or any(requirement.marker.evaluate(one) for one in asked):
                waiting.append(requirement)
    return needed


def requirements() -> list[str]:
    """Return what Zinker needs, as its own metadata has it, with the extras that go along."""
    import tomllib

    project = tomllib.loads((PROJECT / "pyproject.toml").read_text(encoding="utf-8"))["project"]
    waiting, found = [*project["dependencies"], f"zinker[{EXTRAS}]"], []
    while waiting:
        one = Requirement(waiting.pop(0))
        if one.name == "zinker":
            waiting += [
                more for extra in sorted(one.extras) for more in project["optional-dependencies"][extra]
            ]
        else:
            found.append(str(one))
    return found


def add_zinker(packages: Path) -> None:
    """Install Zinker itself, from this project."""
    for old in packages.glob("zinker*"):
        shutil.rmtree(old)
    with tempfile.TemporaryDirectory() as built:
        pip = [
            sys.executable,
            "-m",
            "pip",
            "wheel",
            "--quiet",
            "--no-deps",
            "--wheel-dir",
            built,
            str(PROJECT),
        ]
        subprocess.run(pip, check=True)
        (wheel,) = Path(built).glob("*.whl")
        with zipfile.ZipFile(wheel) as packed:
            packed.extractall(packages)


def dress(folder: Path, version: tuple[int, int]) -> None:
    """Add what is beside the interpreter: the command, and an empty configuration if there is none."""
    (folder / "zinker.cmd").write_bytes(_COMMAND.replace("\n", "\r\n").encode("ascii"))
    toml = folder / "zinker-home/zinker.toml"
    toml.parent.mkdir(exist_ok=True)
    (folder / "subjects").mkdir(exist_ok=True)
    if not toml.exists():
        toml.write_bytes(_TOML.replace("\n", "\r\n").encode("ascii"))
    if sys.version_info[:2] == version:  # a stick is slow, and may not be written to
        compileall.compile_dir(folder / "python/packages", quiet=2, workers=0)


def packed(folder: Path) -> Path:
    """Pack the folder, without what a run has kept in it; the same files give the same bytes."""
    archive = folder.with_name(f"{folder.name}.zip")
    with zipfile.ZipFile(archive, "w", zipfile.ZIP_DEFLATED) as to:
        whole = [folder / "zinker.cmd", folder / "zinker-home/zinker.toml"]
        whole += [
            path for name in ("python", "subjects") for path in (folder / name, *(folder / name).rglob("*"))
        ]
        for path in sorted(whole):
            name = path.relative_to(folder.parent).as_posix()
            if path.is_dir():
                to.writestr(zipfile.ZipInfo(f"{name}/"), b"")
            else:
                about = zipfile.ZipInfo(name)
                about.compress_type = zipfile.ZIP_DEFLATED
                to.writestr(about, path.read_bytes())
    return archive


def main() -> None:
    parser = argparse.ArgumentParser(description="Build Zinker for a stick.")
    parser.add_argument(
        "archive", type=Path, help="the embeddable package of Python for Windows, a ZIP archive"
    )
    parser.add_argument("folder", type=Path, help="the folder to build; one that is there gets a new Zinker")
    parser.add_argument(
        "--with", nargs="*", default=[], dest="more", help="other releases, as in cryptography<43"
    )
    options = parser.parse_args()
    if not zipfile.is_zipfile(options.archive):
        sys.exit(f"{options.archive} is no ZIP archive: give the embeddable package of Python for Windows.")
    python = options.folder / "python"
    shutil.rmtree(python, ignore_errors=True)
    version = unpacked(options.archive, python)
    add_packages(python / "packages", version, [*requirements(), *options.more])
    add_zinker(python / "packages")
    dress(options.folder, version)
    print(f"{options.folder} and {packed(options.folder)}")


if __name__ == "__main__":
    main()

"""Makes a release: wheel and source distribution, reproducible, checked, and tried in empty environments.

    python tools/release.py --to dist
    python tools/release.py --to dist --version 0.2.0 --python /usr/bin/python3.11 --python /usr/bin/python3.13

With `--version`, that goes into the program and the changelog first, whose newest part gets the date of today.
Needs the network: what builds and checks is installed into an environment of its own.
"""

import argparse
import datetime
import hashlib
import os
import re
import shutil
import subprocess
import sys
import tempfile
import zipfile
from pathlib import Path

PROJECT = Path(__file__).parent.parent
# Builds are dated so, wherever and whenever they are made (ZIP archives know nothing before 1980).
EPOCH = "1700000000"
LEFT_OUT = shutil.ignore_patterns(".git", ".venv*", "dist", ".*_cache", "__pycache__", ".hypothesis")
INSIDE = ("share/man/man1/zinker.1", "share/fish/vendor_completions.d/zinker.fish", "licenses/LICENSE")


def set_version(version: str) -> None:
    """Write the version into the program and into the changelog."""
    if not re.fullmatch(r"\d+\.\d+\.\d+", version):
        sys.exit(f"{version} is no version: write it as in 0.2.0")
    program, log = PROJECT / "src/zinker/__init__.py", PROJECT / "CHANGELOG.md"
    text, count = re.subn(
        r"^## \S+ \(unreleased\)$", f"## {version} ({datetime.date.today()})", log.read_text(), flags=re.M
    )
    if count != 1:
        sys.exit("CHANGELOG.md has no part that is unreleased, or several.")
    log.write_text(text)
    program.write_text(re.sub(r'__version__ = ".*"', f'__version__ = "{version}"', program.read_text()))
    own = os.environ | {"PYTHONPATH": str(PROJECT / "src")}
    subprocess.run([sys.executable, PROJECT / "tools/manual.py", PROJECT / "packaging"], check=True, env=own)


def environment(python: str, folder: Path, *packages: str | Path) -> Path:
    """Make an environment with some packages in it; returns where its programs are."""
    subprocess.run([python, "-m", "venv", folder], check=True)
    programs = folder / ("Scripts" if os.name == "nt" else "bin")
    subprocess.run(
        [programs / "python", "-m", "pip", "install", "--quiet", *packages], check=True, env=clean()
    )
    return programs


def clean() -> dict[str, str]:
    """Return the environment without what leads to this project, or to what somebody keeps."""
    return {name: value for name, value in os.environ.items() if not name.startswith(("ZINKER", "PYTHON"))}


def built(tools: Path, folder: Path) -> dict[str, bytes]:
    """Build both distributions in a copy of the project; returns them by name."""
    source = folder / "source"
    shutil.copytree(PROJECT, source, ignore=LEFT_OUT)
    words = [tools / "python", "-m", "build", "--outdir", folder / "out", source]
    own = clean() | {"SOURCE_DATE_EPOCH": EPOCH}
    subprocess.run(words, check=True, env=own, stdout=subprocess.DEVNULL)
    return {path.name: path.read_bytes() for path in sorted((folder / "out").iterdir())}


def tried(python: str, wheel: Path, folder: Path) -> str:
    """Install a wheel into an empty environment, and run the demo there; returns what it says of itself."""
    programs = environment(python, folder, wheel)
    demo = [programs / "zinker", "demo", "--folder", folder / "demo", "--build-only"]
    subprocess.run(demo, check=True, env=clean(), cwd=folder, stdout=subprocess.DEVNULL)
    words = [programs / "zinker", "--version"]
    said = subprocess.run(words, check=True, env=clean(), cwd=folder, capture_output=True, text=True)
    return said.stdout.strip()


def main() -> None:
    """Build twice, compare, check, try."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--to", type=Path, required=True)
    parser.add_argument("--version", default="")
    parser.add_argument("--python", action="append", default=[])
    chosen = parser.parse_args()
    if chosen.version:
        set_version(chosen.version)
    with tempfile.TemporaryDirectory(prefix="zinker-release-") as name:
        base = Path(name)
        tools = environment(sys.executable, base / "tools", "build>=1.2", "twine>=5")
        first, second = (built(tools, base / which) for which in ("first", "second"))
        if first != second:
            sys.exit(f"Not reproducible: {', '.join(one for one in first if first[one] != second.get(one))}")
        chosen.to.mkdir(parents=True, exist_ok=True)
        paths = [chosen.to / one for one in first]
        for path in paths:
            path.write_bytes(first[path.name])
        subprocess.run([tools / "python", "-m", "twine", "check", "--strict", *paths], check=True)
        wheel = next(path for path in paths if path.suffix == ".whl")
        missing = [
            one for one in INSIDE if not any(one in held for held in zipfile.ZipFile(wheel).namelist())
        ]
        if missing:
            sys.exit(f"Not inside: {', '.join(missing)}")
        for number, python in enumerate(chosen.python or [sys.executable]):
            print(f"{python}: {tried(python, wheel, base / f'tried-{number}')}")
        for path in paths:
            print(f"{hashlib.sha256(path.read_bytes()).hexdigest()}  {path}")


if __name__ == "__main__":
    main()

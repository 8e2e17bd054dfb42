"""The desktop's settings database for real: libdconf, and dconf-service on a private D-Bus session."""

import os
import random
import re
import shutil
import signal
import subprocess
from pathlib import Path

import pytest
from conftest import Garden, needs_system

from zinker.formats.gvdb import read_gvdb
from zinker.model.errors import DocumentError
from zinker.stores.desktop_db import DatabaseError

TOOLS = ("dbus-daemon", "dconf", "glib-compile-schemas")
SCHEMA = """<schemalist><schema id="example.tarnhollow.desk.panel" path="/garden/desk/panel/">
  <key name="size" type="u"><default>32</default></key>
  <key name="position" type="s"><default>'top'</default></key>
  <key name="items" type="as"><default>['clock', 'weather']</default></key>
  <key name="margin" type="d"><range min="0" max="10"/><default>1.5</default></key>
</schema></schemalist>"""
# One value of every kind, as the library itself writes it.
VALUES = [
    "true", "'a \"b\" \\\\ \\n é \\u200b'", "\"it's\"", "1.0", "-0.1", "1e+300", "inf", "byte 0xff",
    "int16 -5", "uint16 5", "-7", "uint32 7", "int64 -9007199254740993", "uint64 18446744073709551615",
    "handle 3", "objectpath '/a/b'", "signature 'a{sv}'", "@as []", "@a{sv} {}", "['a', 'b']",
    "[(1, 'x'), (2, 'yy')]", "(1,)", "()", "{'a': <1>, 'b': <'c'>}", "<uint32 5>", "<<('x', byte 0x01)>>",
    "@mi nothing", "@mi 5", "@mmi just nothing", "@ms 'x'", "b'bytes\\n'", "[byte 0x00, 0x01]",
    "[[1, 2], []]", "{1: {2: 'deep'}}", "('s', 1.5, true, [uint16 1], 'end')", "@a(yx) [(0x01, 2)]",
    "[true, false]", f"['{'x' * 300}', 'y']", "'\u00a0\u3000\u2028\ue000\U0001f331'",
]  # fmt: skip


BARE = """<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN"
 "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig><type>session</type><listen>unix:tmpdir=/tmp</listen><policy context="default">
<allow send_destination="*" eavesdrop="true"/><allow eavesdrop="true"/><allow own="*"/></policy></busconfig>"""


def _bus(options, env):
    """Start a D-Bus session of our own; returns its address and process."""
    told = ["dbus-daemon", *options, "--fork", "--print-address=1", "--print-pid=1"]
    out = subprocess.run(told, env=env, capture_output=True, text=True, check=True).stdout.split()
    return out[0], int(out[1])


class Desk(Garden):
    """A garden whose technician has a desktop of his own, with the organisation's database beneath it."""

    def __init__(self, path):
        super().__init__(path)
        desk = self.path / "desk"
        (desk / "site.d/locks").mkdir(parents=True)
        (desk / "run").mkdir(mode=0o700)
        (desk / "site.d/00").write_text("[garden/desk/panel]\nsize=uint32 40\nposition='bottom'\n")
        (desk / "site.d/locks/00").write_text("/garden/desk/panel/position\n")
        (desk / "profile").write_text(f"user-db:user\nfile-db:{desk}/site\n")
        (desk / "garden.gschema.xml").write_text(SCHEMA)
        subprocess.run(["dconf", "compile", desk / "site", desk / "site.d"], check=True)
        subprocess.run(["glib-compile-schemas", desk], check=True)
        self.env = {k: v for k, v in self.env.items() if k not in ("DISPLAY", "DBUS_SESSION_BUS_ADDRESS")} | {
            "XDG_CONFIG_HOME": str(desk / "config"),
            "XDG_RUNTIME_DIR": str(desk / "run"),
            "DCONF_PROFILE": str(desk / "profile"),
            "GSETTINGS_SCHEMA_DIR": str(desk),
        }
        self.desk = desk
        options = ["--session", "--address=unix:tmpdir=/tmp"]  # the usual one may be too long for a socket
        self.env["DBUS_SESSION_BUS_ADDRESS"], self.bus = _bus(options, self.env)

    def dconf(self, *arguments):
        return subprocess.run(
            ["dconf", *arguments], env=self.env, capture_output=True, text=True, check=True
        ).stdout

    def dconf_load(self, path, text):
        subprocess.run(["dconf", "load", path], env=self.env, input=text, text=True, check=True)

    def shown(self, reference="here:garden-desk"):
        settings = self("show", reference, "--json").json["settings"]
        return {s["address"]: (s["type"], s["value"], s.get("layer", "")) for s in settings}


@pytest.fixture
def desk(tmp_path):
    needs_system(all(map(shutil.which, TOOLS)), "dconf with dconf-service, D-Bus and GLib's tools")
    desk = Desk(tmp_path / "garden")
    yield desk
    os.kill(desk.bus, signal.SIGTERM)


def test_every_type_is_captured_put_back_and_read_from_a_disk(desk):
    """The library's own text is the yardstick for the reader of files, too."""
    for number, value in enumerate(VALUES):
        desk.dconf("write", f"/garden/desk/values/{number}", value)
    dump = desk.dconf("dump", "/garden/")
    shown = desk.shown()
    typed = {"/values/11": ("gvariant:u", "7"), "/values/24": ("gvariant:v", "<uint32 5>")}
    assert {address: shown[address][:2] for address in typed} == typed
    disk = desk.path / "dead/home/ivy/.config/dconf"
    disk.mkdir(parents=True)
    shutil.copy(desk.desk / "config/dconf/user", disk / "user")
    with (desk.home / "zinker.toml").open("a") as file:
        file.write('\n[places.dead]\nkind = "folder"\npath = "../dead"\nfolders = { home = "home/ivy" }\n')
    own = {address: value for address, value in shown.items() if not value[2]}
    assert desk.shown("dead:garden-desk") == own and len(own) == len(VALUES)
    desk("export", "garden-desk", "--place", "dead", "--label", "dead")
    desk.dconf("reset", "-f", "/garden/")
    desk("import", "garden-desk@dead", "--adopt", "--yes")
    assert desk.dconf("dump", "/garden/") == dump
    desk.dconf("write", "/garden/desk/values/0", "false")
    desk("export", "garden-desk")
    before = (disk / "user").read_bytes()
    why = desk("import", "garden-desk@latest", "--place", "dead", "--adopt", "--yes", code=1).out
    assert "only read, never written to" in why and (disk / "user").read_bytes() == before


def test_layers_locks_and_reset(desk):
    desk.dconf("write", "/garden/desk/panel/size", "uint32 64")
    desk.dconf("write", "/garden/desk/background/picture", "'fern.png'")
    assert desk.shown() == {
        "/background/picture": ("gvariant:s", "'fern.png'", ""),
        "/panel/items": ("gvariant:as", "['clock', 'weather']", "default"),
        "/panel/margin": ("gvariant:d", "1.5", "default"),
        "/panel/position": ("gvariant:s", "'bottom'", "organisation, locked"),
        "/panel/size": ("gvariant:u", "64", ""),
    }
    written = desk("document", "here:garden-desk", "--format", "markdown").out
    assert "| /panel/position<br>organisation, locked | 'bottom' |" in written
    assert "| /panel/margin<br>default | 1.5 |" in written and "Withheld" not in written
    desk("export", "garden-desk", "--label", "own")
    dump = desk.dconf("dump", "/garden/")
    assert "beneath it is 40" in desk("reset", "garden-desk", "--address", "/panel/*", "--yes").out
    assert desk.shown()["/panel/size"] == ("gvariant:u", "40", "organisation")
    assert desk.shown()["/background/picture"][2] == ""
    desk("undo", "--yes")
    assert desk.dconf("dump", "/garden/") == dump
    out = desk("reset", "garden-desk", "--to", "default", "--yes", code=1).out
    assert "/panel/position: locked by the organisation" in out
    assert desk.shown()["/panel/size"] == ("gvariant:u", "32", "")  # above the organisation's 40
    done = desk("import", "garden-desk@own", "--yes")
    assert "2 settings written" in done.out and desk.dconf("dump", "/garden/") == dump
    assert "No differences: 2" in desk("compare", "garden-desk@own").out
    elsewhere = desk("reset", "mosslight", "--place", "glasshouse", "--to", "organisation", "--yes").out
    assert "what the organisation starts from is unknown; --to can name a kept version" in elsewhere


def test_a_disk_has_its_layers_and_locks_as_the_library_has_them(desk):
    """The profile's lines in every form that the library takes; a key that a lower layer locks has its value."""
    dead, here = desk.path / "dead", desk.path / "dead/etc/dconf"
    keys = {
        "local": "[garden/desk/panel]\nsize=uint32 1\nposition='a'\nitems=['a']\n",
        "site": "[garden/desk/panel]\nsize=uint32 2\nposition='b'\nmargin=2.0\n",
        "far": "[garden/desk/panel]\nsize=uint32 3\nposition='c'\nmargin=3.0\nmore='c'\n",
    }
    locks = {"local": "items", "site": "size", "far": "position"}
    for name, text in keys.items():
        (here / f"db/{name}.d/locks").mkdir(parents=True)
        (here / f"db/{name}.d/0").write_text(text)
        (here / f"db/{name}.d/locks/0").write_text(f"/garden/desk/panel/{locks[name]}\n")
        subprocess.run(["dconf", "compile", here / "db" / name, here / f"db/{name}.d"], check=True)
    (here / "profile").mkdir()
    lines = "# layers\n\n  user-db:user\nodd\n\t%s # a note\nfile-db:%s/etc/dconf/db/site#2\n%s \n"
    (here / "profile/user").write_text(lines % ("system-db:local", "", "system-db:far"))
    (desk.desk / "profile").write_text(lines % (f"file-db:{here}/db/local", dead, f"file-db:{here}/db/far"))
    own = dead / "home/ivy/.config/dconf"
    own.mkdir(parents=True)
    desk.dconf("write", "/garden/desk/panel/own", "'u'")
    shutil.copy(desk.desk / "config/dconf/user", own / "user")
    with (desk.home / "zinker.toml").open("a") as file:
        file.write('\n[places.dead]\nkind = "folder"\npath = "../dead"\nfolders = { home = "home/ivy" }\n')
    shown = desk.shown("dead:garden-desk")
    names = ("size", "position", "items", "margin", "more", "own")
    found = {name: desk.dconf("read", f"/garden/desk/panel/{name}").strip() for name in names}
    assert found["size"] == "uint32 2" and found["position"] == "'c'"
    types = {"size": "uint32 ", "own": ""}
    assert {n: types.get(n, "") + shown[f"/panel/{n}"][1] for n in names} == found
    locked = {name for name in names if shown[f"/panel/{name}"][2] == "organisation, locked"}
    assert locked == {"size", "position", "items"} and "layer" not in shown["/panel/own"]


def test_only_the_parts_wanted_and_nothing_outside(desk):
    file = desk.path / "subjects/garden-desk.subject.toml"
    more = '\n[[part]]\nid = "tools"\nstore = "desktop-db"\npath = "/garden/tools/"\nsecret = ["/key"]\n'
    file.write_text(file.read_text() + more)
    for key, value in (("desk/a", "1"), ("tools/b", "2"), ("tools/key", "'s3cr3t'"), ("other/c", "3")):
        desk.dconf("write", f"/garden/{key}", value)
    desk("export", "garden-desk", "--label", "own")
    assert "s3cr3t" not in desk("show", "garden-desk").out
    for key in ("desk/a", "tools/b", "tools/key", "other/c"):
        desk.dconf("write", f"/garden/{key}", "9")
    desk("import", "garden-desk@own", "--part", "tools", "--yes")
    after = [
        desk.dconf("read", f"/garden/{key}").strip() for key in ("desk/a", "tools/b", "tools/key", "other/c")
    ]
    assert after == ["9", "2", "9", "9"]
    desk("reset", "garden-desk", "--part", "tools", "--yes")
    assert not desk.dconf("list", "/garden/tools/")
    desk("undo", "--yes")
    assert desk.dconf("read", "/garden/tools/key").strip() == "9"


def test_a_change_by_somebody_else_between_plan_and_write(desk):
    desk.dconf("write", "/garden/desk/a", "1")
    desk("export", "garden-desk")
    desk.dconf("write", "/garden/desk/a", "2")
    script = """
import subprocess, sys
from zinker.jobs import import_profile, load_setup
from zinker.model.errors import Refused
def approve(plan):
    subprocess.run(["dconf", "write", "/garden/desk/a", "3"], check=True)
    return True
try:
    import_profile(load_setup(), "garden-desk@latest", approve=approve)
except Refused as error:
    print(error)
"""
    python = Path(os.sys.executable)
    done = subprocess.run([python, "-c", script], env=desk.env, capture_output=True, text=True, check=True)
    assert (
        "have changed since the plan was made" in done.stdout
        and desk.dconf("read", "/garden/desk/a") == "3\n"
    )


def test_no_bus_no_service_no_library(desk):
    desk.dconf("write", "/garden/desk/a", "1")
    desk("export", "garden-desk")
    desk.dconf("write", "/garden/desk/a", "2")
    state = desk.dconf("dump", "/")

    def why(code, **env):
        done = desk("import", "garden-desk@latest", "--yes", code=code, env=env)
        assert desk.dconf("dump", "/") == state
        return done.err

    bus = desk.env.pop("DBUS_SESSION_BUS_ADDRESS")
    try:
        done = desk("import", "garden-desk@latest", "--yes", code=3)
        assert "there is no D-Bus session" in done.err
    finally:
        desk.env["DBUS_SESSION_BUS_ADDRESS"] = bus
    assert "there is no D-Bus session" in why(4, DBUS_SESSION_BUS_ADDRESS="unix:path=/nowhere/bus")
    bare = desk.desk / "bare.conf"  # a bus that knows no services
    bare.write_text(BARE)
    address, number = _bus([f"--config-file={bare}"], desk.env)
    try:
        assert "(dconf-service) is not installed" in why(4, DBUS_SESSION_BUS_ADDRESS=address)
    finally:
        os.kill(number, signal.SIGTERM)
    (desk.path / "libdconf.so.1").write_bytes(b"no library")
    hidden = "import ctypes; ctypes.CDLL = lambda name: (_ for _ in ()).throw(OSError(name))"
    (desk.path / "sitecustomize.py").write_text(hidden)
    out = desk("subjects", "show", "garden-desk", env={"PYTHONPATH": str(desk.path)}).out
    assert "libdconf is not installed on this machine" in out


def test_spoiled_database_files_do_no_harm(desk):
    for number, value in enumerate(VALUES):
        desk.dconf("write", f"/garden/desk/values/{number}", value)
    good, dice, ends = (desk.desk / "config/dconf/user").read_bytes(), random.Random(3), set()
    for number in range(600):
        data = bytearray(good)
        for _ in range(dice.randrange(1, 12)):
            data[dice.randrange(len(data))] = dice.randrange(256)
        if number % 4 == 0:
            del data[dice.randrange(len(data)) :]
        try:
            read_gvdb(bytes(data))
            ends.add("read")
        except DocumentError:
            ends.add("refused")
    assert ends == {"read", "refused"}


def test_what_no_database_can_hold_is_refused(desk, monkeypatch):
    from zinker.model.setting import Leaf
    from zinker.stores.dconf import DconfDatabase

    for key in ("XDG_CONFIG_HOME", "XDG_RUNTIME_DIR", "DCONF_PROFILE", "DBUS_SESSION_BUS_ADDRESS"):
        monkeypatch.setenv(key, desk.env[key])
    database = DconfDatabase()
    for leaf in (
        Leaf("sz", "x"),
        Leaf("gvariant:nonsense", "1"),
        Leaf("gvariant:u", "-1"),
        Leaf("gvariant:s", "x"),
    ):
        with pytest.raises(DatabaseError, match="no value"):
            database.write({"/garden/desk/good": Leaf("gvariant:i", "1"), "/garden/desk/bad": leaf})
    assert not desk.dconf("read", "/garden/desk/good")  # all in one transaction, or nothing


@pytest.mark.soak
def test_an_import_killed_on_its_way_is_taken_back_or_finished(desk):
    """All of a document's values are written in one transaction; what is around it may be cut off anywhere."""
    for number in range(5):
        desk.dconf("write", f"/garden/desk/v{number}", str(number))
    desk("export", "garden-desk", "--label", "own")
    for number in range(5):
        desk.dconf("write", f"/garden/desk/v{number}", "9")
    before = desk.dconf("dump", "/garden/desk/")
    killing = {"PYTHONPATH": str(Path(__file__).parent / "killing"), "KILL_BELOW": str(desk.path)}
    ends = []
    for at in range(1, 80, 2):
        done = desk("import", "garden-desk@own", "--yes", code=None, env=killing | {"KILL_AT": str(at)})
        if done.code == 0:
            break
        assert done.code == -9
        state = desk.dconf("dump", "/garden/desk/")
        said = desk("export", "garden-desk").err
        after = desk.dconf("dump", "/garden/desk/")
        assert after == (state if "counts as done" in said else before)
        ends.append("done" if "counts as done" in said else "taken back" if said else "not begun")
        if after != before:
            desk("undo", "--yes")
    assert set(ends) >= {"not begun", "done"}


def test_what_a_profile_needs_beyond_itself_is_named_before(desk):
    file = desk.path / "subjects/garden-desk.subject.toml"
    need = '{ path = "{data}/desk/add-ons/weather", says = "The Weather add-on" }'
    need = f"[application]\nneeds = [ {need} ]\n\n[[part]]"
    file.write_text(file.read_text().replace("[[part]]", need, 1))
    desk.env["XDG_DATA_HOME"] = str(desk.path / "data")
    desk.dconf("write", "/garden/desk/weather/town", "'Tarn Hollow'")
    desk("export", "garden-desk")
    desk.dconf("write", "/garden/desk/weather/town", "'Elsewhere'")
    why = desk("import", "garden-desk", "--yes", code=3).err
    assert "The Weather add-on is missing at this machine ({data}/desk/add-ons/weather)" in why
    assert "Elsewhere" in desk.dconf("dump", "/garden/")
    (desk.path / "data/desk/add-ons/weather").mkdir(parents=True)
    desk("import", "garden-desk", "--yes")
    assert "Tarn Hollow" in desk.dconf("dump", "/garden/")


def test_a_change_in_the_database_is_spotted_by_its_key(desk):
    """Somebody who watches a whole folder does not see a file of bytes, but the setting."""
    desk.dconf_load("/garden/", "[desk/panel]\nsize=uint32 48\nwindow=1\n")
    desk("export", "garden-desk")
    done = []

    def change(*pairs):
        def act():
            if pairs not in done:
                done.append(pairs)
                for key, value in pairs:
                    desk.dconf("write", key, value)
            return "\n"

        return act

    window, size = ("/garden/desk/panel/window", "2"), ("/garden/desk/panel/size", "uint32 50")
    answers = [("save, close it.", change(window)), ("Now the same", change((window[0], "3"), size))]
    spot = ("spot", "--home", "$XDG_CONFIG_HOME", "--draft", "panel", "--label", "wider")
    out, code = desk.at_terminal(*spot, answers=answers)
    plain = re.sub(r"\x1b\[[0-9;]*m", "", out)
    assert code == 0 and re.search(r"/garden/desk/panel/size +was 48, now 50", plain), plain
    assert "The change touched 1 setting: 1 changed." in plain and "dconf/user" not in plain
    draft = (desk.path / "subjects/panel.subject.toml").read_text()
    assert 'path = "/garden/desk/panel/"' in draft and '"/size" = "size"' in draft


def test_a_dump_is_read_compared_imported_and_written_as_its_own_tool_has_it(desk):
    for number, value in enumerate(VALUES):
        desk.dconf("write", f"/garden/desk/values/{number}", value)
    desk.dconf("write", "/garden/desk/panel/size", "uint32 48")
    shown = desk.shown()
    live = {address: value[:2] for address, value in shown.items() if "default" not in value[2]}
    whole = desk.dconf("dump", "/")  # with what counts from the organisation
    own = whole.replace("position='bottom'\n", "")
    for name, text in {"whole": whole, "part": desk.dconf("dump", "/garden/")}.items():
        (desk.path / f"{name}.dconf").write_text(text)
        read = {address: value[:2] for address, value in desk.shown(f"{name}.dconf").items()}
        assert read == live, name
        found = desk("compare", f"{name}.dconf", "here:garden-desk", "--json", code=1).json["differences"]
        assert [difference["address"] for difference in found] == ["/panel/position"]
    # What is written is what the tool itself would write, and loads.
    desk("export", "garden-desk", "--label", "all")
    desk("export", "garden-desk@all", "--to", "ours.dconf")
    assert (desk.path / "ours.dconf").read_text().split() == ["#", "below", "/", *own.split()]
    desk.dconf("reset", "-f", "/garden/")
    desk.dconf_load("/", (desk.path / "ours.dconf").read_text())
    assert desk.dconf("dump", "/") == whole
    # And it is imported, setting by setting; what is not in it stays.
    desk.dconf("reset", "-f", "/garden/desk/values/")
    desk.dconf("write", "/garden/desk/panel/margin", "3.0")
    assert "locked by the organisation" in desk("import", "whole.dconf", "--yes", code=1).out
    desk.dconf("reset", "/garden/desk/panel/margin")
    assert desk.dconf("dump", "/") == whole
    desk("export", "ours.dconf", "--label", "from-a-colleague")
    kept = {address: value[:2] for address, value in desk.shown("garden-desk@from-a-colleague").items()}
    assert kept == {address: value for address, value in live.items() if address != "/panel/position"}
    # Paths that no subject describes, and lines that are none, are named.
    (desk.path / "odd.dconf").write_text("[org/example/x]\nplain='1'\nbad=[1, 'x'\n")
    odd = desk("show", "odd.dconf", code=1)
    assert "/org/example/x/plain" in odd.out and "Not shown:" in odd.out
    why = desk("import", "odd.dconf", "--yes", code=2).err
    assert "no subject file describes" in why and "/org/example/x/" in why
    for broken in (b"size=1\n", b"[a\nb=1\n", b"\xff\xfe", b"[a]\nb\n"):
        (desk.path / "broken.dconf").write_bytes(broken)
        assert "is no dump of a settings database" in desk("show", "broken.dconf", code=5).err

"""What of a profile is written: exactly, by address, by choice, and where something else is there."""

import contextlib
import json
import os
import re
import shutil
import struct

import pyte
import pytest
from conftest import COMMAND

IMPORT = ("import", "mosslight@season-start", "--place", "potting-shed")
BRANCH = r"HKEY_CURRENT_USER\Software\Tarn Hollow\Mosslight"


def clutter(garden):
    """Add to every store what the profile does not know; returns all that is there then."""
    text = garden.ini.read_bytes().replace(b"units = metric", b"units = metric\r\nrain = heard")
    garden.ini.write_bytes(text + b"\r\n[pests]\r\nsnails = many\r\n")
    (garden.settings / "devices/bench-north.json").write_text('{"name": "North"}')
    (garden.data / "artwork/old/older").mkdir(parents=True)
    (garden.data / "artwork/old/older/plan.svg").write_text("<svg/>")
    (garden.data / "artwork/empty").mkdir()
    (garden.data / "notes.txt").write_text("nobody's part")

    def more(state):
        keys = state["registry"]["keys"]
        keys[BRANCH]["Extra"] = ["sz", "x"]
        keys[rf"{BRANCH}\Plug-ins\Rain"] = {"On": ["dword", 1]}

    garden.edit_workstation("potting-shed", more)
    return garden.places("potting-shed")


def plain(places):
    """Without the keys that are there through others below them alone."""
    keys = places["registry of potting-shed"]
    there = {key: v for key, v in keys.items() if v or not any(k.startswith(key + "\\") for k in keys)}
    return places | {"registry of potting-shed": there}


def test_exact_removes_the_rest_of_the_parts_and_nothing_else(kept):
    pristine = kept.places("potting-shed")
    before = clutter(kept)
    garden_only = {"potting-shed/Users/ivy/AppData/Local/mosslight/notes.txt"}
    # By default what the profile does not know stays.
    assert kept(*IMPORT, "--yes", "--json").json["state"] == "alike"
    assert kept.places("potting-shed") == before
    shown = kept(*IMPORT, "--exact", "--preview").out
    assert re.search(r"gone +/pests/snails +is many", shown) and "gone     file bench-north.json" in shown
    assert re.search(r"gone +/Plug-ins/Rain/On", shown) and "notes.txt" not in shown
    kept(*IMPORT, "--exact", "--part", "artwork", "--yes")
    assert not (kept.data / "artwork/old").exists() and (kept.settings / "devices/bench-north.json").exists()
    kept("undo", "--yes")
    assert kept.places("potting-shed") == before
    kept(*IMPORT, "--exact", "--yes")
    assert "No differences" in kept("compare", "mosslight@season-start").out
    now = kept.places("potting-shed")
    assert {path for path in now if path not in pristine} == garden_only
    # An emptied section keeps its heading, as a person who deletes its lines would leave it.
    assert now["registry of potting-shed"] == pristine["registry of potting-shed"]
    kept("undo", "--yes")
    assert plain(kept.places("potting-shed")) == plain(before)


def test_exact_does_not_take_what_the_profile_could_not_read_for_gone(kept):
    # What is no file is not in the second version.
    text = kept.ini.read_bytes()
    kept.ini.unlink()
    os.mkfifo(kept.ini)
    kept("export", "mosslight", "--place", "potting-shed", "--label", "holes", code=1)
    kept.ini.unlink()
    kept.ini.write_bytes(text)
    arguments = ("import", "mosslight@holes", "--place", "potting-shed", "--exact", "--yes")
    done = kept(*arguments, code=1)
    assert "not removed: the profile could not read its own copy" in done.out
    assert kept.ini.read_bytes() == text
    # A part that had no home where the profile was taken says nothing about this place.
    path = kept.path / "subjects/mosslight.subject.toml"
    artwork = 'path = "{data}/mosslight/artwork/**"'
    path.write_text(path.read_text().replace(artwork, 'path = { linux = "{data}/mosslight/artwork/**" }'))
    kept("export", "mosslight", "--place", "potting-shed", "--label", "homeless")
    path.write_text(path.read_text().replace('{ linux = "{data}/mosslight/artwork/**" }', artwork[7:]))
    before = kept.places("potting-shed")
    kept("import", "mosslight@homeless", "--place", "potting-shed", "--exact", "--yes")
    assert kept.places("potting-shed") == before


def test_parts_instances_and_addresses_are_chosen(kept):
    kept.spoil()
    shutil.copy(kept.settings / "devices/bench-east.json", kept.settings / "devices/spare.json")
    plan = kept(*IMPORT, "--address", "/lamps.*/dusk", "--preview", "--json").json
    items = [item["address"] for document in plan["plan"] for item in document["settings"]]
    assert items == ["/lamps.north/dusk"] and not plan["left"]
    kept(*IMPORT, "--address", "/lamps.*/dusk", "--yes")
    text = kept.ini.read_text()
    assert "dusk = 19:30" in text and "level = 100" in text
    # Of a file that is not there, nothing can come by itself.
    (kept.settings / "devices/bench-west.json").unlink()
    done = kept(*IMPORT, "--address", "/ramp/*", "--yes", code=1)
    assert (
        "bench-west.json: the file does not exist here, so single settings cannot be written into it"
        in done.out
    )
    plan = kept("import", "mosslight/bench-west@1", "--place", "potting-shed", "--preview", "--json").json
    assert [document["document"] for document in plan["plan"]] == ["bench-west.json"]


def two_sides(kept):
    """The place and the profile to import have both gone on since the place was last kept."""
    kept.spoil()
    kept("export", "mosslight", "--place", "potting-shed", "--label", "other")
    kept(*IMPORT, "--yes")  # what Zinker has written itself counts as known
    kept("export", "mosslight", "--place", "potting-shed", "--label", "base")
    text = kept.ini.read_bytes()
    text = text.replace(b"dusk = 19:30", b"dusk = 22:00").replace(b"dawn = 06:15", b"dawn = 04:00")
    kept.ini.write_bytes(text)


def test_three_ways_and_a_merge(kept):
    two_sides(kept)
    other = ("import", "mosslight@other", "--place", "potting-shed")
    shown = kept(*other, "--preview").out
    assert "last kept from there: mosslight@4" in shown
    address = r"  /lamps\.\w+/\w+\n"
    assert re.search(
        rf"dusk time +is 22:00, becomes 07:30{address} +changed on both sides: in mosslight@4, it was 19:30",
        shown,
    )
    assert re.search(rf"dawn time +is 04:00, becomes 06:15{address} +changed here since mosslight@4", shown)
    assert re.search(rf"level in percent +is 55, becomes 100{address}  (?! +changed)", shown)
    merged = kept(*other, "--merge", "--yes", code=1)
    assert "North lamps: dusk time: it has changed on both sides" in merged.out
    text = kept.ini.read_text()
    assert "dusk = 22:00" in text and "dawn = 04:00" in text and "level = 100" in text
    # What only the place has changed is not asked of it; what collides is.
    left = {item["address"]: item["wanted"] for item in kept("changes", "2", "--json").json["change"]["left"]}
    assert left["/lamps.south/dawn"] is False and left["/lamps.north/dusk"] is True
    # Where nothing is kept, nobody knows what has changed.
    why = kept("import", "mosslight@1", "--place", "glasshouse", "--merge", "--adopt", "--yes", code=3).err
    assert "nothing is kept of mosslight at glasshouse" in why


def test_conflicts_are_skipped_or_kept_beside(kept):
    two_sides(kept)
    preset = kept.settings / "devices/bench-east.json"
    preset.write_text(preset.read_text().replace('"minutes": 40', '"minutes": 1'))
    before, own = kept.places("potting-shed"), preset.read_bytes()
    other = ("import", "mosslight@other", "--place", "potting-shed", "--yes", "--on-conflict")
    out = kept(*other, "keep", code=1).out
    assert "North lamps: dusk time: skipped: something else is there" in out
    text = kept.ini.read_text()
    assert "dusk = 22:00" in text and "level = 100" in text and preset.read_bytes() == own
    kept("undo", "--yes")
    assert kept.places("potting-shed") == before
    out = kept(*other, "both", code=1).out
    beside = kept.settings / "devices/bench-east-from-POTTING-SHED.json"
    assert "new      file bench-east-from-POTTING-SHED.json, 12 settings" in out
    assert preset.read_bytes() == own and json.loads(beside.read_bytes())["channels"][0]["level"] == 7
    again = kept(*other, "both", code=1).out
    assert "bench-east-from-POTTING-SHED-2.json" in again
    kept("undo", "--yes")
    kept("undo", "--yes")
    assert kept.places("potting-shed") == before


def test_conflicts_are_asked_for_and_a_checklist_is_shown(kept):
    two_sides(kept)
    other = ("import", "mosslight@other", "--place", "potting-shed")
    answers = [("for all [k]:", "r\n"), ("for all [k]:", "k\n"), ("for all [k]:", "kk\n"), ("[y/N]:", "y\n")]
    out, code = kept.at_terminal(*other, "--on-conflict", "ask", answers=answers)
    assert code == 1 and "when it was last kept, it was 19:30" in out and "b = both" in out
    assert "dusk = 07:30" in kept.ini.read_text() and "dawn = 04:00" in kept.ini.read_text()
    assert '"level": 70' in (kept.settings / "devices/bench-east.json").read_text()
    kept("undo", "--yes")
    answers = [("goes on:", "2-5\n"), ("goes on:", "6\n"), ("goes on:", "\n"), ("[y/N]:", "y\n")]
    out, code = kept.at_terminal(*other, "--choose", answers=answers)
    assert "   1  write  " in out and "   2  leave  " in out and "These are not numbers from 1 to 5" in out
    assert "1 setting written and read back" in out and code == 0 and "not chosen" not in out
    why = kept(*other, "--choose", "--yes", code=2).err + kept(*other, "--on-conflict", "ask", code=2).err
    assert why.count("there is no terminal to answer on") == 2


class Screen:
    """A command that fills a terminal, as somebody sees it; what draws it is another library's terminal."""

    def __init__(self, garden, *arguments, columns=80, rows=30, **env):
        fcntl, termios = pytest.importorskip("fcntl"), pytest.importorskip("termios")
        self.screen = pyte.Screen(columns, rows)
        self.stream = pyte.ByteStream(self.screen)
        self.pid, self.terminal = pytest.importorskip("pty").fork()
        if self.pid == 0:
            fcntl.ioctl(0, termios.TIOCSWINSZ, struct.pack("HHHH", rows, columns, 0, 0))
            os.chdir(garden.path)
            os.execve(COMMAND[0], [*COMMAND, *map(str, arguments)], garden.env | {"TERM": "xterm"} | env)

    def read(self):
        with contextlib.suppress(OSError):  # how a terminal on Linux says that nobody is left
            if piece := os.read(self.terminal, 65536):
                self.stream.feed(piece)
                return True
        return False

    def shows(self, *texts):
        """Wait until all of some texts are on the screen; returns its lines."""
        while not all(any(text in line for line in self.screen.display) for text in texts):
            assert self.read(), "\n".join(self.screen.display)
        return [line.rstrip() for line in self.screen.display]

    def type(self, keys):
        os.write(self.terminal, keys.encode())

    def ends(self):
        while self.read():
            pass
        os.close(self.terminal)
        return os.waitstatus_to_exitcode(os.waitpid(self.pid, 0)[1])


UP, DOWN, RIGHT, LEFT = (f"\x1b[{letter}" for letter in "ABCD")


@pytest.mark.skipif(os.name == "nt", reason="needs a terminal of its own")
def test_a_list_fills_the_terminal_folds_and_finds(kept):
    beds = "".join(
        f"\r\n[bed {n}]\r\nmoss = a {n}\r\nfern = \u202e{'long ' * 99}{n}\r\n" for n in range(2500)
    )
    pristine = kept.ini.read_bytes()
    kept.ini.write_bytes(pristine + beds.encode())
    kept("export", "mosslight", "--place", "potting-shed", "--label", "beds")
    kept.spoil()
    kept.ini.write_bytes(
        kept.ini.read_bytes().replace(b"moss = a", b"moss = b").replace(b"long 0", b"short 0")
    )
    before = kept.places("potting-shed")
    words = ("import", "mosslight@beds", "--place", "potting-shed", "--choose")
    screen = Screen(kept, *words)
    shown = screen.shows("Enter goes on", "2,507 of 2,507 will be written")
    assert shown[2] == "write  General preferences, mosslight.ini  2,504 items"
    # What is below a head folds; what one stands at is told with its values: long ones cut, and none acts.
    screen.type(LEFT)
    shown = screen.shows("General preferences, mosslight.ini  2,504 items, folded", "Alarm sound")
    screen.type(RIGHT)
    screen.shows("/bed 0/fern")
    screen.type("short")
    shown = screen.shows("1 listed with “short”", "mosslight.ini, /bed 0/fern", "becomes  \\u202elong")
    assert sum("…" in row for row in shown[-8:]) == 2
    screen.type("\x15")  # as many shells have it; Escape waits for what may follow it
    screen.shows("2,507 of 2,507 will be written ")
    # A head stands for what is listed under it; what is not listed stays as it is.
    screen.type("/moss")
    screen.shows("2,500 listed with “/moss”")
    screen.type(UP + " ")
    screen.shows("7 of 2,507 will be written", "some   General preferences")
    screen.type(DOWN + DOWN + " \x15")
    screen.shows("8 of 2,507 will be written ")
    screen.type("nowhere")
    screen.shows("there is nothing with “nowhere”")
    screen.type(" \x7f\x15")
    screen.shows("8 of 2,507 will be written ", "General preferences")
    screen.type("\r")
    screen.shows("Write this?")
    screen.type("y\r")
    assert screen.ends() == 0
    text = kept.ini.read_text()
    assert (
        text.count("moss = a") == 1
        and "moss = a 1\n" in text
        and "short" not in text
        and "dusk = 19:30" in text
    )
    kept("undo", "--yes")
    assert kept.places("potting-shed") == before
    # Ctrl+C anywhere, and the terminal is as it was: what was on it before is on it again.
    screen = Screen(kept, *words)
    screen.shows("Enter goes on")
    screen.type("\x03")
    assert screen.ends() == 3 and kept.places("potting-shed") == before
    shown = "\n".join(screen.screen.display)
    assert "Interrupted" in shown and "?1049l" not in shown
    # The window is closed.
    screen = Screen(kept, *words)
    screen.shows("Enter goes on")
    os.close(screen.terminal)
    assert os.waitstatus_to_exitcode(os.waitpid(screen.pid, 0)[1]) == 3
    assert kept.places("potting-shed") == before
    # Where a terminal cannot be filled, there are numbers.
    screen = Screen(kept, *words, TERM="dumb")
    screen.shows("Numbers to leave out")
    screen.type("\x03")
    assert screen.ends() == 3


def test_add_ons_that_a_place_lacks_are_named_with_their_versions(kept):
    path = kept.path / "subjects/mosslight.subject.toml"
    add_ons = (
        'add_ons = [ { part = "plug-ins", item = "/list/*", name = "/name", version = "/version", '
        'only = { "/from" = "outside" } } ]'
    )
    part = '\n[[part]]\nid = "plug-ins"\nstore = "file"\npath = "{config}/mosslight/plug-ins.json"\n'
    path.write_text(path.read_text().replace("[application]", f"[application]\n{add_ons}") + part)
    file = kept.settings / "plug-ins.json"

    def have(**versions):
        items = [{"name": name, "version": one, "from": "outside"} for name, one in versions.items()]
        file.write_text(json.dumps({"list": [*items, {"name": "Soil", "version": "9", "from": "within"}]}))

    have(Dusk="1.2", Fern="3.0.1", Rain="2.0")
    kept("export", "mosslight", "--place", "potting-shed", "--label", "with-plug-ins")
    kept.spoil()
    have(Rain="2.5")
    there = file.read_bytes()
    words = ("import", "mosslight@with-plug-ins", "--place", "potting-shed", "--yes")
    why = kept(*words, code=3).err
    assert "Add-ons are missing at potting-shed: Dusk 1.2, Fern 3.0.1.\nInstall them first" in why
    done = kept(*words, "--despite-needs", "--exact")
    assert "The add-on Rain is 2.5 at potting-shed, and 2.0 in the profile." in done.out
    assert file.read_bytes() == there and "dusk = 07:30" not in kept.ini.read_text()
    # Where there is nothing to be written, nothing is needed; and it is nothing to write by itself.
    assert kept(*words, "--part", "plug-ins", "--json").json["state"] == "alike"


def test_the_result_is_read_back_told_and_written_for_the_ticket(kept):
    kept.spoil()
    report = kept.path / "ticket.txt"
    out = kept(*IMPORT, "--yes", "--report", report).out
    told = report.read_text()
    assert out[out.index("Imported into") :] in told and "Change 1 at potting-shed: import" in told
    assert re.search(r"changed +North lamps: dusk time +is 07:30, becomes 19:30", told)
    assert "Start Mosslight greenhouse lighting" in told
    before = kept.places("potting-shed")
    assert "ticket.txt is there already" in kept("undo", "--yes", "--report", report, code=3).err
    assert kept.places("potting-shed") == before and report.read_text() == told
    kept("undo", "--yes", "--report", kept.path / "ticket.json")
    written = json.loads((kept.path / "ticket.json").read_text())
    assert written["state"] == "done" and written["change"]["undoes"] == 1
    # What is refused stands in the ticket, too.
    path = kept.path / "refused.txt"
    arguments = ("import", "mosslight@1", "--place", "glasshouse", "--yes")
    kept(*arguments, "--report", path, code=3)
    assert "Not imported: The settings are ivy's on POTTING-SHED" in path.read_text()
    # And what the user has to do now, by the subject's own words and by what was left.
    subject = kept.path / "subjects/mosslight.subject.toml"
    text = subject.read_text().replace(
        "device_bound = true", 'device_bound = true\nafterwards = "Call the lamp maker."'
    )
    subject.write_text(text)
    steps = kept(*arguments, "--adopt", "--json").json["afterwards"]
    assert steps[0].startswith("Start Mosslight") and "Call the lamp maker." in steps
    assert any("Enter again" in step and "token" in step for step in steps)


def test_changes_are_listed_and_undone_out_of_order(kept):
    kept.spoil()
    before = kept.places("potting-shed")
    for part in ("presets", "artwork", "panel"):
        kept(*IMPORT, "--part", part, "--yes")
    kept("import", "mosslight@1", "--place", "potting-shed", "--address", "/lamps.*/dusk", "--yes")
    kept("import", "mosslight@1", "--place", "potting-shed", "--part", "general", "--yes")
    listed = kept("changes", "--json").json
    assert [change["number"] for change in listed] == [1, 2, 3, 4, 5]
    assert {change["kind"] for change in listed} == {"import"} and listed[0]["who"] and listed[0]["machine"]
    # The second touched what no other did; the first came before others that did not, either.
    kept("undo", "2", "--yes")
    kept("undo", "1", "--yes")
    # Spoil one of the fourth's settings, so that a later change touches it.
    kept.ini.write_bytes(kept.ini.read_bytes().replace(b"dusk = 19:30", b"dusk = 01:00"))
    kept(*IMPORT, "--part", "general", "--yes")
    why = kept("undo", "4", "--yes", code=3).err
    assert "change 8 touched the same afterwards, such as General preferences, mosslight.ini" in why
    assert "North lamps: dusk time" in why
    kept("undo", "8", "--yes")
    assert "it has been changed again since" in kept("undo", "4", "--yes", "--leave-later", code=1).out
    kept.ini.write_bytes(kept.ini.read_bytes().replace(b"dusk = 01:00", b"dusk = 07:30"))
    kept("undo", "5", "--yes")
    kept("undo", "3", "--yes")
    assert kept.places("potting-shed") == before
    out = kept("changes", "--place", "potting-shed").out
    assert "undone by change 6" in out and not kept("changes", "--place", "glasshouse", "--json").json
    assert "Change 5" in kept("changes", "5").out and "No change 99" in kept("changes", "99", code=2).err


def test_a_reset_takes_what_the_parts_own_and_nothing_else(kept):
    before = clutter(kept)
    out = kept("reset", "mosslight", "--place", "potting-shed", "--yes").out
    assert "bound to this device, so it stays" in out
    left = {path for path, content in kept.places("potting-shed").items() if content}
    kept_files = {"notes.txt", "licence.dat", "workspace.xml"}
    assert {path.rpartition("/")[2] for path in left} >= kept_files
    assert not [path for path in left if "bench" in path or path.endswith("mosslight.ini")]
    assert kept.registry()[BRANCH] == {}
    kept("undo", "--yes")
    assert plain(kept.places("potting-shed")) == plain(before)
    kept("reset", "mosslight", "--place", "potting-shed", "--address", "/lamps.north/*", "--yes")
    text = kept.ini.read_text()
    assert "dusk = 19:30" not in text and "dusk = 20:00" in text and "snails" in text
    # To a kept starting point: exactly that.
    kept("reset", "mosslight", "--place", "potting-shed", "--to", "mosslight@season-start", "--yes")
    assert "No differences" in kept("compare", "mosslight@season-start").out
    kept("reset", "mosslight/bench-east", "--place", "potting-shed", "--part", "presets", "--yes")
    assert [path.name for path in (kept.settings / "devices").iterdir()] == ["bench-west.json"]
    kept.edit_workstation("gate-kiosk", lambda state: state.update(running=[]))
    why = kept("reset", "brindlepot", "--place", "gate-kiosk", "--to", "mosslight@1", "--yes", code=2).err
    assert "mosslight@1 is a version of mosslight, not of brindlepot" in why


@pytest.mark.parametrize("store", ["--exact", "--merge"])
def test_a_profile_of_some_settings_says_nothing_about_others(kept, store):
    done = kept("spot", "mosslight", "--place", "potting-shed", "--still", "0", "--for", "0", "--keep")
    assert "The change touched nothing that was watched" in done.out
    assert len(kept("list", "--json").json) == 1

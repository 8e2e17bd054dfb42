"""What is said is true: nothing to do or not allowed to, names with a mistake, a loss, what one reads."""

import json
import os
import re
import shutil

import pytest
from conftest import BRANCH
from test_disk import KILLING

from zinker.demo.hive_writer import Node, write_hive
from zinker.formats.registry_values import to_bytes
from zinker.jobs import export, show
from zinker.jobs.progress import UNKNOWN

AT = ("--place", "potting-shed")


def versions(garden):
    kept = (garden.path / "shelf/subjects").rglob("*.json")
    return {str(path.relative_to(garden.path)) for path in kept if path.stem.isdecimal()}


def test_what_only_the_place_has_is_counted_and_the_option_is_named(kept):
    kept.ini.write_text(kept.ini.read_text() + "[extra]\none = 1\ntwo = 2\n")
    (kept.data / "artwork/own.svg").write_text("<svg/>")
    done = kept("import", "mosslight@1", *AT, "--yes")
    assert "Nothing to write" in done.out
    assert (
        "3 settings and files that only potting-shed has stay as they are; --exact would remove them"
        in done.out
    )
    assert kept("import", "mosslight@1", *AT, "--yes", "--json").json["only_here"] == 3
    # Only what was asked for counts, and only a profile that holds all can tell.
    one = kept("import", "mosslight@1", *AT, "--address", "/extra/o*", "--preview").out
    assert "1 setting or file that only potting-shed has stays as it is; --exact would remove it" in one
    kept("export", "mosslight", *AT, "--document", "mosslight")
    assert "only potting-shed" not in kept("import", "mosslight@2", *AT, "--preview").out
    assert "only potting-shed" not in kept("import", "mosslight@1", *AT, "--exact", "--preview").out


def test_what_was_not_asked_for_is_not_told(kept):
    wanted = ("import", "mosslight@1", "--place", "glasshouse", "--adopt", "--preview")
    assert "token" in kept(*wanted).out and "licence" in kept(*wanted).out
    narrow = kept(*wanted, "--address", "North lamps*").out
    assert "Left alone" not in narrow and "dusk" in narrow


def test_an_undo_passes_over_what_somebody_took_back_by_hand(kept):
    kept.spoil()
    before = kept.ini.read_bytes()
    kept("import", "mosslight@1", *AT, "--address", "North lamps: dusk time", "--yes")
    first = kept.ini.read_bytes()
    kept("import", "mosslight@1", *AT, "--address", "North lamps: level in percent", "--yes")
    kept.ini.write_bytes(first)  # by hand
    done = kept("undo", "--yes")
    assert (
        re.search(r"Passed over: change 2: .+\.", done.out) and "Change 1 undone at potting-shed" in done.out
    )
    assert kept.ini.read_bytes() == before
    why = kept("undo", "--yes", code=3).err
    assert why.startswith("Nothing undone: change 2: ")


def addresses(done):
    return {item["address"] for change in done.json["plan"] for item in change["settings"]}


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("/lamps.north/dusk", {"/lamps.north/dusk"}),
        ("lamps.north/dusk", {"/lamps.north/dusk"}),
        ("/lamps.north", {"/lamps.north/dusk", "/lamps.north/level"}),
        ("/lamps.*/d*", {"/lamps.north/dusk"}),
        ("north lamps: DUSK time", {"/lamps.north/dusk"}),
        ("North*", {"/lamps.north/dusk", "/lamps.north/level"}),
        ("/keys/mist", {"/keys/mist"}),
    ],
)
def test_settings_are_named_by_address_section_or_title(kept, text, found):
    kept.spoil()
    assert addresses(kept("import", "mosslight@1", *AT, "--address", text, "--preview", "--json")) == found


def test_documents_are_named_by_pattern_everywhere(kept):
    kept.spoil()
    for name in ("bench-east", "BENCH-EAST.json", "*east.json"):
        shown = kept("show", "mosslight@1", "--document", name, "--part", "presets", "--json").json[
            "settings"
        ]
        assert {setting["document"] for setting in shown} == {"bench-east.json"}
    one = ("--document", "bench-east")
    found = kept("compare", "mosslight@1", *one, "--json", code=1).json["differences"]
    assert {difference["document"] for difference in found} == {"bench-east.json"}
    plan = kept("import", "mosslight@1", *AT, *one, "--preview", "--json").json["plan"]
    assert [change["document"] for change in plan] == ["bench-east.json"]
    plan = kept("reset", "mosslight", *AT, *one, "--preview", "--json").json["plan"]
    assert [(change["document"], change["action"]) for change in plan] == [("bench-east.json", "remove")]
    kept("export", "mosslight", *AT, *one)
    some = kept("show", "mosslight@2", "--json").json["profile"]
    assert some["partial"] and sum(part["documents"] for part in some["parts"]) == 1
    assert "only some of it" in kept("list").out
    kept("import", "mosslight@2", *AT, "--exact", "--yes", code=2)  # it would remove all the rest
    assert kept("compare", "mosslight", *AT, code=1).out.count("mosslight@1")  # the newest that is whole


@pytest.mark.parametrize(
    ("arguments", "says", "code"),
    [
        ("import mosslight@1 --address /lamps.nroth/dusk --yes", "/lamps.north/dusk", 2),
        ("import mosslight@1 --address North-lamps:dusk --yes", "No setting", 2),
        ("reset mosslight --address /lamps.nroth --yes", "Did you mean /lamps.north", 2),
        ("import mosslight@1 --document bench-eas --yes", "Did you mean bench-east.json", 2),
        ("compare mosslight@1 --document bench-eas", "Did you mean bench-east.json", 2),
        ("show mosslight@1 --document bench-eas", "Did you mean bench-east.json", 2),
        ("export mosslight --document bench-eas", "Did you mean bench-east.json", 2),
        ("export mosslight --document bench-eas --to east.reg", "Did you mean bench-east.json", 2),
        ("export mosslight/bench-eas", "Did you mean bench-east", 2),
        ("show mosslight/bench-eas@1", "Did you mean bench-east", 2),
        ("import mosslight/bench-eas@1 --yes", "Did you mean bench-east", 2),
        ("show mosslight@season-strat", "Did you mean mosslight@season-start?", 2),
        ("show mosslihgt", "Did you mean mosslight?", 2),
        ("show nowhere/mosslight", "there is nothing at nowhere/mosslight", 2),
        ("show ./nowhere", "there is nothing at ./nowhere", 2),
        ("show subjects", "subjects is no profile", 2),
        ("list --place poting-shed", "Did you mean potting-shed?", 2),
        ("changes --place poting-shed", "Did you mean potting-shed?", 2),
        ("export mosslight mosslihgt", "Did you mean mosslight?", 2),
        ("export mosslight --place poting-shed", "Did you mean potting-shed?", 2),
        ("transfer mosslight --from potting-shed --to glas-house --yes", "Did you mean glasshouse?", 2),
        ("transfer mosslight --from potting-shed --to glasshouse", "--yes was not given", 3),
        ("export --home HKCU\\Software\\Nowhere --place gate-kiosk", "there is nothing of that name", 3),
        ("import mosslight@1 --as bench-east --as bench-west --yes", "--as was given 2 times", 2),
        ("exprot mosslight", "export", 2),
        ("show stikc/moss.zinker", "Did you mean ", 2),
        ("export mosslight --to stikc/moss.zinker", "stick? Make it first.", 2),
        ("export --home ~/AppData/Roaming/mosslihgt", "Roaming/mosslight? Check the path.", 2),
        ("import mosslight@1 --report reprots/x.txt --preview", "does not exist", 2),
        ("import mosslight@1 --crosswalk move.crosswlak.toml --preview", "does not exist", 2),
    ],
)
def test_a_name_with_a_mistake_is_refused_with_the_nearest_and_nothing_is_kept(kept, arguments, says, code):
    words = arguments.split(" ")
    at = AT if words[0] in ("import", "reset", "export") and "--place" not in words else ()
    before, places = versions(kept), kept.places()
    subjects = sorted(os.listdir(kept.path / "subjects"))
    done = kept(*words, *at, code=code)
    assert says in " ".join(done.err.replace("│", "").split())
    assert versions(kept) == before and kept.places() == places
    assert sorted(os.listdir(kept.path / "subjects")) == subjects


def test_several_places_are_captured_in_one_go(kept):
    both = ("--place", "potting-shed", "--place", "glasshouse")
    kept("export", "mosslight", *both)
    assert [v["place"] for v in kept("list", "--json").json] == ["potting-shed", "glasshouse"]


def test_a_capture_of_the_loss_says_so_and_is_not_the_latest(kept):
    good = kept.ini.read_bytes()
    kept.ini.write_bytes(b"[about]\nversion = 3.9.0\n")
    shutil.rmtree(kept.settings / "devices")
    done = kept("export", "mosslight", *AT, code=1)
    assert "Most of what mosslight@1 had in General preferences is not there: " in done.out
    assert "Most of what mosslight@1 had in Device presets is not there: 24 of 24 settings" in done.out
    assert "When mosslight@1 was kept, Mosslight greenhouse lighting was 3.2.1; now it is 3.9.0." in done.out
    assert "most of @1 is missing" in kept("list").out
    told = kept("export", "mosslight", *AT, "--json", code=1).json[0]
    assert told["profile"]["lost"] == 1 and {part["title"] for part in told["lost"]} >= {"Device presets"}
    # What is put back without a number is what was there before.
    shown = kept("import", "mosslight", *AT, "--any-version", "--preview").out
    assert "from: mosslight@1, from potting-shed\n" in shown and "from 3.2.1; 3.9.0 is here\n" in shown
    kept("import", "mosslight@latest", *AT, "--any-version", "--yes")
    assert b"dusk = 19:30" in kept.ini.read_bytes() and b"dusk = 19:30" in good
    kept("undo", "--yes")
    kept("export", "mosslight", *AT, "--loss-is-meant")
    assert kept("export", "mosslight", *AT).code == 0
    shown = kept("import", "mosslight@1", *AT, "--any-version", "--preview").out
    assert "; 1 newer version; 3.9.0 is here" in shown


def test_paths_and_keys_are_understood_as_people_type_them(kept):
    for home, path in (
        (r"%APPDATA%\mosslight", "{config}/mosslight/**"),
        ("~/AppData/Roaming/mosslight/mosslight.ini", "{config}/mosslight/mosslight.ini"),
        ("$XDG_CONFIG_HOME", "{config}/**"),
        ("{data}/mosslight", "{data}/mosslight/**"),
        (r"HKCU\Software\Tarn Hollow" + "\\", r"HKEY_CURRENT_USER\\Software\\Tarn Hollow"),
        (r"Computer\HKEY_CURRENT_USER", "HKEY_CURRENT_USER"),
    ):
        kept("subjects", "new", "fern", "--home", home, *AT)
        draft = kept.path / "subjects/fern.subject.toml"
        assert f'path = "{path}"' in draft.read_text(), home
        assert "is right" in kept("subjects", "check", draft).out
        kept("export", "fern", *AT, "--loss-is-meant")
        draft.unlink()
    (kept.path / "own").mkdir()
    kept("export", "mosslight@1", "--to=~/copy.zinker")  # a shell leaves this alone
    assert kept("show", "$HOME/copy.zinker", "--find", "dusk").out.startswith("Mosslight")
    subject = kept.path / "subjects/mosslight.subject.toml"
    subject.write_text(subject.read_text().replace("HKEY_CURRENT_USER", "HKCU"))
    assert BRANCH in kept("subjects", "show", "mosslight", *AT).out


def test_what_no_subject_describes_is_kept_and_put_back(kept):
    folder = kept.settings.parent / "quill"
    folder.mkdir()
    (folder / "quill.ini").write_text("[pen]\nwidth = 2\npassword = hunter-of-newts-7\n")
    done = kept("export", "--home", r"%APPDATA%\quill", *AT, "--label", "before-i-touch-it")
    assert "Described as quill in " in done.err and "Kept as quill@1" in done.out
    (folder / "quill.ini").write_text("[pen]\nwidth = 9\npassword = hunter-of-newts-7\n")
    assert re.search(r"/pen/width +was 2, now 9", kept("compare", "quill@before-i-touch-it", code=1).out)
    kept("import", "quill@before-i-touch-it", *AT, "--yes")
    assert (folder / "quill.ini").read_text() == "[pen]\nwidth = 2\npassword = hunter-of-newts-7\n"
    again = kept("export", "--home", str(folder), *AT)
    assert (
        "Nothing has changed since quill@1" in again.out and "Described" not in again.err
    )  # the same homes, the same subject
    assert "hunter" not in (kept.path / "subjects/quill.subject.toml").read_text()


def test_two_instances_are_compared_setting_by_setting(kept):
    for first, second in (
        ("potting-shed:mosslight/bench-east", "potting-shed:mosslight/bench-west"),
        ("mosslight/bench-east@1", "mosslight/bench-west@1"),
        ("mosslight/bench-east@1", "potting-shed:mosslight/bench-west"),
    ):
        done = kept("compare", first, second, code=1)
        assert "bench-east as bench-west" in done.out and "5 changed; 7 settings are alike" in done.out
    assert "Did you mean bench-west" in kept("compare", first, "mosslight/bench-wets@1", code=2).err


def test_one_bad_file_costs_itself_and_is_named(kept):
    (kept.path / "subjects/odd.subject.toml").write_text("format = 1\nid = [")
    done = kept("subjects", *AT)
    assert "mosslight" in done.out and re.search(
        r"A subject file is left out: .*odd\.subject\.toml: ", done.err
    )
    kept.spoil()
    kept("import", "mosslight@1", *AT, "--yes")
    kept("export", "mosslight", *AT, "--again")
    record = kept.path / "shelf/changes/1/change.json"
    record.write_bytes(record.read_bytes()[:-40])
    (kept.path / "shelf/subjects/mosslight/3.json").write_bytes(b"{}")
    assert "Change 1 is left out: " in kept("changes").err
    kept.ini.write_bytes(kept.ini.read_bytes().replace(b"dusk = 19:30", b"dusk = 07:30"))
    assert "1 setting written" in kept("import", "mosslight@1", *AT, "--yes").out
    assert "damaged" in kept("list").out


def test_a_long_plan_is_summed_up_on_a_terminal_and_whole_elsewhere(kept):
    folder = kept.data / "artwork/many"
    folder.mkdir()
    for number in range(250):
        (folder / f"plan-{number:03}.svg").write_text("<svg/>")
    kept("export", "mosslight", *AT)
    shutil.rmtree(folder)
    preview = ("import", "mosslight@2", *AT, "--preview")
    out, _ = kept.at_terminal(*preview)
    assert (
        re.search(r"new +\S*many: 250 files, 1\.5 kB", re.sub(r"\x1b\[[0-9;]*m", "", out)) and "--full" in out
    )
    assert "plan-100.svg" not in out and "plan-100.svg" in kept.at_terminal(*preview, "--full")[0]
    assert "plan-100.svg" in kept(*preview).out
    assert len(kept(*preview, "--json").json["plan"]) == 250


def test_here_is_called_by_its_machine(kept, tmp_path):
    own = kept.path / "own/.config/mosslight"
    own.mkdir(parents=True)
    shutil.copy(kept.ini, own / "mosslight.ini")
    machine = os.uname().nodename if hasattr(os, "uname") else os.environ["COMPUTERNAME"]
    done = kept("export", "mosslight", "--part", "general")
    assert f"Mosslight greenhouse lighting 3.2.1 at {machine}" in done.out
    (own / "mosslight.ini").write_bytes((own / "mosslight.ini").read_bytes().replace(b"19:30", b"20:45"))
    done = kept("import", "mosslight@2", "--part", "general", "--yes")
    assert f"to:   {machine}\n" in done.out and f"Imported into {machine}: 1 setting" in done.out
    assert not re.search(r"\b(to|into|at):? +here\b", done.out)
    shown = json.loads(kept("show", "here:mosslight", "--json").out)
    assert shown["source"] == "this machine now"


NAMED = """
format = 1
id = "quill"
title = "Quill"
[application]
[[application.needs]]
path = "{data}/quill/plug-ins"
says = "The plug-in"
items = { part = "general", address = "/plugins" }
[[part]]
id = "general"
store = "file"
path = "{config}/quill/quill.json"
[[part]]
id = "catalogue"
store = "file"
path = "{documents}/catalogue.csv"
named_by = { part = "general", address = "/catalogue" }
[[part]]
id = "plans"
store = "file"
path = "{data}/quill/plans/**"
named_by = { part = "general", address = "/plans" }
"""


@pytest.fixture
def quill(garden):
    """An application whose data the user has moved, on one machine; on the other it has just been installed."""
    (garden.path / "subjects/quill.subject.toml").write_text(NAMED)
    for place, user, settings in (
        (
            "potting-shed",
            "ivy",
            {"catalogue": r"C:\Users\ivy\Papers\ferns.csv", "plans": r"%USERPROFILE%\Plans"},
        ),
        ("glasshouse", "fern", {"catalogue": "", "plans": ""}),
    ):
        home = garden.path / place / "Users" / user
        (home / "AppData/Roaming/quill").mkdir(parents=True)
        (home / "AppData/Local/quill/plug-ins/ink").mkdir(parents=True)
        (home / "AppData/Roaming/quill/quill.json").write_text(json.dumps(settings | {"plugins": ["ink"]}))
    ivy = garden.path / "potting-shed/Users/ivy"
    (ivy / "Papers").mkdir()
    (ivy / "Papers/ferns.csv").write_text("hart's tongue\n")
    (ivy / "Plans/beds").mkdir(parents=True)
    (ivy / "Plans/beds/east.svg").write_text("<svg/>")
    return garden


def test_a_home_that_a_setting_names_is_found_where_that_says_on_both_machines(quill):
    fern = quill.path / "glasshouse/Users/fern"
    assert str(quill.path / "potting-shed/Users/ivy/Plans") in quill("subjects", "show", "quill", *AT).out
    shown = quill("export", "quill", *AT).out
    assert re.search(r"Catalogue +1 document\n +Plans +1 document\n", shown)
    before = quill.places("glasshouse")
    there = ("--place", "glasshouse", "--adopt", "--yes")
    quill("import", "quill@1", *there)
    assert (fern / "Papers/ferns.csv").read_text() == "hart's tongue\n"
    assert (fern / "Plans/beds/east.svg").read_text() == "<svg/>"
    own = json.loads((fern / "AppData/Roaming/quill/quill.json").read_text())
    assert own["catalogue"] == r"C:\Users\fern\Papers\ferns.csv"
    # The setting has been changed by hand since; what was written is taken back where it was written.
    quill("undo", "--yes")
    assert quill.places("glasshouse") == before
    # Without the setting, what is named goes where the place's own setting says: the usual place.
    quill("import", "quill@1", *there, "--part", "plans")
    assert (fern / "AppData/Local/quill/plans/beds/east.svg").exists() and not (fern / "Plans").exists()


def test_what_a_setting_names_and_is_not_there_is_said(quill):
    ivy, there = quill.path / "potting-shed/Users/ivy", ("--place", "glasshouse", "--adopt", "--preview")
    quill("export", "quill", *AT)
    told = quill("import", "quill@1", *there, "--without", "catalogue").out
    assert (
        r"Catalogue: C:\Users\fern\Papers\ferns.csv is not at glasshouse, and does not come with this."
        in told
    )
    # A setting from a stranger leads nowhere but into the folders that are known of the place.
    settings = ivy / "AppData/Roaming/quill/quill.json"
    for named in (
        r"C:\Windows\system.ini",
        r"C:\Users\ivy\..\sage\x.csv",
        r"\\server\share\x.csv",
        "/etc/passwd",
    ):
        settings.write_text(json.dumps({"catalogue": named, "plugins": ["ink", "../dye", "blot"]}))
        shown = quill("subjects", "show", "quill", *AT).out
        assert "in none of the folders that are known of potting-shed" in shown, named
    quill("export", "quill", *AT, "--loss-is-meant")
    told = quill("import", "quill@2", *there).out
    assert "The plug-in blot is missing at glasshouse" in told and "The plug-in ../dye is missing" in told
    assert "The plug-in ink" not in told
    assert (
        "in none of the folders"
        in quill("import", "quill@1", *AT, "--part", "catalogue", "--yes", code=1).out
    )


@pytest.mark.skipif(os.name == "nt", reason="no signals there")
def test_an_import_killed_while_homes_move_is_taken_back_where_it_wrote(quill):
    quill("export", "quill", *AT)
    before = quill.places("glasshouse")
    ends = set()
    for number in (2, 4, 6, 8, 10, 40):
        dying = {
            "KILL_AT": str(number),
            "KILL_BELOW": str(quill.path / "glasshouse"),
            "PYTHONPATH": str(KILLING),
        }
        done = quill("import", "quill@1", "--place", "glasshouse", "--adopt", "--yes", code=None, env=dying)
        quill("export", "quill", "--place", "glasshouse", "--loss-is-meant")  # puts right what was cut off
        ends.add((done.code == 0, quill.places("glasshouse") == before))
        if quill.places("glasshouse") != before:
            quill("undo", "--yes")
        assert quill.places("glasshouse") == before, number
    assert (False, True) in ends and (True, False) in ends


def test_a_profile_folder_that_was_edited_or_merged_is_taken_when_that_is_said(kept):
    kept("export", "mosslight", *AT, "--to", "./profiles")
    general = kept.path / "profiles/settings/general.jsonl"
    good = general.read_text()
    # As it was written, it becomes a file, and a folder again, and says the same.
    kept("export", "./profiles", "--to", "copy.zinker")
    kept("export", "copy.zinker", "--to", "./again")
    assert "No differences" in kept("compare", "copy.zinker", "./again").out
    assert (kept.path / "again/settings/general.jsonl").read_text() == good
    lines = good.splitlines(keepends=True)
    dusk = next(number for number, line in enumerate(lines) if "north/dusk" in line)
    edited = [*lines]
    edited[dusk] = lines[dusk].replace("19:30", "21:45")
    del edited[next(number for number, line in enumerate(edited) if "/keys/mist" in line)]
    general.write_text("".join(reversed(edited)))
    why = kept("show", "./profiles", code=5).err
    assert "is not as it was written" in why and "`zinker check profiles`" in why
    kept("export", "./profiles", "--to", "new.zinker", code=5)
    assert "settings/general.jsonl" in kept("check", "./profiles", code=5).out
    kept("check", "./profiles", "--accept")
    kept("export", "./profiles", "--to", "new.zinker")
    found = kept("compare", "new.zinker", *AT, "--json", code=1).json["differences"]
    assert {d["address"] for d in found} == {"/lamps.north/dusk", "/keys/mist"}
    # Also where the file is missing: its copy in the profile says the same as the settings.
    whole = kept.ini.read_bytes()
    kept.ini.unlink()
    kept("import", "new.zinker", *AT, "--yes")
    secret = b"7f3d-moss-91aa-peat"
    told = (
        whole.replace(b"dusk = 19:30", b"dusk = 21:45", 1).replace(b"mist = F7\r\n", b"").replace(secret, b"")
    )
    assert [*filter(None, kept.ini.read_bytes().split(b"\r\n"))] == [
        line for line in filter(None, told.split(b"\r\n")) if not line.startswith(b"token")
    ]
    for number, text, says in (
        (dusk, "<<<<<<< ours\n", "two branches differ here"),
        (dusk, lines[dusk].replace("19:30", "20:15"), "are of one setting, and differ"),
        (dusk, "[1, 2\n", "it is no setting"),
    ):
        general.write_text("".join([*lines[:number], text, *lines[number:]]))
        before = general.read_bytes()
        told = kept("check", "./profiles", "--accept", code=5).err
        assert says in told and "general.jsonl" in told and general.read_bytes() == before
    assert "only a profile folder can be accepted" in kept("check", "copy.zinker", "--accept", code=2).err


def test_a_place_that_does_not_answer_is_passed_over(kept):
    kept.spoil()
    kept("import", "mosslight@1", *AT, "--part", "general", "--yes")
    kept("import", "mosslight@1", "--place", "glasshouse", "--adopt", "--part", "general", "--yes")
    (kept.path / "glasshouse").rename(kept.path / "away")
    done = kept("undo", "--yes").out
    assert (
        re.search(r"Passed over: change 2: .*glasshouse", done) and "Change 1 undone at potting-shed" in done
    )
    (kept.path / "away").rename(kept.path / "glasshouse")
    assert "Change 2 undone at glasshouse" in kept("undo", "--yes").out


def test_an_export_is_seen_before_with_its_room(kept):
    before = versions(kept)
    shown = kept("export", "mosslight", *AT, "--preview").out
    assert re.search(r"8 documents, 52 settings: about \d\.\d kB, of [\d.]+ GB free at .*shelf\.\n", shown)
    assert "Nothing was kept" in shown and versions(kept) == before
    told = kept("export", "mosslight", *AT, "--preview", "--json").json[0]
    sizes = sum(
        path.stat().st_size for path in kept.settings.parent.rglob("mosslight/**/*") if path.is_file()
    )
    assert sizes < told["room"]["size"] < 10 * sizes and told["reference"] == ""
    kept("export", "--home", str(kept.settings), *AT, "--preview")
    assert not list((kept.path / "subjects").glob("mosslight-*"))  # nor is it described then


def test_how_far_a_large_branch_is_read_is_told_on_the_way(garden):
    root = Node("ROOT")
    big = root.key(r"Software\Tarn Hollow\Brindlepot")
    for number in range(120):
        values = big.key(f"Day {number}").values
        values += [(f"Ticket {ticket}", *to_bytes("dword", ticket)) for ticket in range(100)]
    (garden.path / "old-kiosk/Users/sage/NTUSER.DAT").write_bytes(write_hive(root))
    (garden.path / "old-kiosk/Users/sage/NTUSER.DAT.LOG1").unlink()
    told = []
    setup = garden.setup
    setup.progress = lambda *far: told.append(far)
    export(setup, "brindlepot", "old-kiosk")
    assert [far for far in told if far[2] == UNKNOWN and 0 < far[1] < 12_000]
    garden("export", "brindlepot@1", "--to", "big.reg")
    del told[:]
    show(setup, str(garden.path / "big.reg"))
    assert [far for far in told if far[0] == "big.reg"] and [far for far in told if far[2] == 12_000]

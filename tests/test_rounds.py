"""What belongs together is captured, compared and put back as one; what fails at one place stops no other."""

import json
import os
import re
import shutil
import subprocess
import sys
import threading
from pathlib import Path

import pytest
from conftest import Garden
from test_killed import KILLING, killed
from test_tenant import Tenants

import zinker
from zinker.jobs import import_round, load_setup, round_named
from zinker.jobs.secrets.machine_key import machine_key
from zinker.model.change import ChangeId
from zinker.places.here import Here

ROUND = (
    '\n[rounds.monday]\nwhat = ["potting-shed:mosslight", "gate-kiosk:brindlepot", "glasshouse:mosslight"]\n'
)


@pytest.fixture
def house(tmp_path):
    """A garden with a round of three places, each captured under one label, and then spoilt."""
    house = Garden(tmp_path / "garden")
    with (house.home / "zinker.toml").open("a") as file:
        file.write(ROUND)
    house.edit_workstation("gate-kiosk", lambda state: state.update(running=[]))
    # Keys that refuse are another test's business: here all of it can be captured.
    house.edit_workstation("gate-kiosk", lambda state: state["registry"].update(denied={}, locked={}))
    house("export", "--round", "monday", "--label", "agreed")
    house.agreed = house.places()
    spoil(house)
    return house


def spoil(house):
    for ini in house.path.glob("*/Users/*/AppData/Roaming/mosslight/mosslight.ini"):
        ini.write_bytes(re.sub(rb"dusk = .*?\r", b"dusk = 03:03\r", ini.read_bytes()))
    text = house.workstation("gate-kiosk").read_text()
    house.workstation("gate-kiosk").write_text(text.replace("Gardens thank you", "says goodbye"))


def test_a_round_is_captured_compared_written_down_and_put_back_as_one(house):
    listed = house("list", "--json").json
    assert {(one["place"], one["label"]) for one in listed} == {
        (place, "agreed") for place in ("potting-shed", "gate-kiosk", "glasshouse")
    }
    # One label for all; a subject that two places have has it twice, and is found by its place.
    why = house("show", "mosslight@agreed", code=2).err
    assert "several versions are called so" in why and ":mosslight@agreed" in why
    shed = next(f"mosslight@{one['number']}" for one in listed if one["place"] == "potting-shed")
    assert shed in house("compare", "potting-shed:mosslight@agreed", code=1).out
    compared = house("compare", "--round", "monday@agreed", "--json", code=1).json
    assert [one["place"] for one in compared["comparisons"]] == ["potting-shed", "gate-kiosk", "glasshouse"]
    assert all(one["differences"] for one in compared["comparisons"])
    survey = house("survey", "--round", "monday@agreed", "--json", code=1).json
    assert len(survey["cells"]) == 3 and all(cell["drift"] for cell in survey["cells"])
    for name in ("whole.md", "whole.html", "whole.docx"):
        house("document", "--round", "monday@agreed", "--output", name)
    text = (house.path / "whole.md").read_text()
    assert all(
        word in text for word in ("ticket till: brindlepot\\@1", "lighting: " + shed.replace("@", "\\@"))
    )
    ids = re.findall(r'id="([^"]+)"', (house.path / "whole.html").read_text())
    assert len(ids) == len(set(ids)) and "m1" in ids

    # One plan: nothing is changed by looking at it. One answer, one number, one report.
    spoilt = house.places()
    seen = house("import", "--round", "monday@agreed", "--preview", "--report", "plan.docx")
    assert "to be written" in seen.out.splitlines()[-2] and "this was a preview" in seen.out
    assert house.places() == spoilt and (house.path / "plan.docx").exists()
    done = house("import", "--round", "monday@agreed", "--yes", "--json", "--report", "done.html").json
    assert done["number"] == 1 and [one["id"] for one in done["members"]] == ["1.1", "1.2", "1.3"]
    assert house.places() == house.agreed
    assert all(f">1.{member}<" in (house.path / "done.html").read_text() for member in (1, 2, 3))
    told = house("changes", "1").out
    assert told.index("1.1:") < told.index("1.2:") < told.index("1.3:") and "zinker undo 1" in told
    assert "Nothing to write" in house("import", "--round", "monday@agreed", "--yes").out

    # A member alone, the rest as one, and that again.
    house("undo", "1.2", "--yes")
    assert house.registry("gate-kiosk") == spoilt["registry of gate-kiosk"]
    house("undo", "1", "--yes")
    assert house.places() == spoilt
    assert "undone already" in house("undo", "1", "--yes", code=3).err
    house("undo", "3", "--yes")
    ids = [f"{one['number']}.{one['member']}" for one in house("changes", "--json").json]
    assert ids == ["1.1", "1.2", "1.3", "2.0", "3.1", "3.2", "4.1", "4.2"]
    assert house("changes").out.count("import, monday") == 3 and house("check").code == 0


def test_a_bare_undo_takes_the_newest_round_back_as_one(house):
    spoilt = house.places()
    house("import", "--round", "monday@agreed", "--yes")
    out = house("undo", "--yes").out
    assert "undo of change 1" in out and house.places() == spoilt


def test_all_that_is_kept_of_one_place_comes_back_or_goes_to_another(house):
    assert "this was a preview" in house("import", "--all", "--place", "glasshouse", "--preview").out
    assert "--all is for a place" in house("import", "--all", code=2).err
    assert "Mosslight" in house("document", "--all", "--place", "glasshouse").out
    house("export", "--all", "--place", "glasshouse", "--label", "all-of-it")
    spoil(house)
    out = house("import", "glasshouse:@agreed", "--yes").out
    assert "1.1" in out and "Nothing has changed" not in out
    moved = house(
        "import",
        "potting-shed:@agreed",
        "--place",
        "glasshouse",
        "--adopt",
        "--other-user",
        "--yes",
        "--json",
    ).json
    assert [one["place"] for one in moved["members"]] == ["glasshouse"]
    assert b"dusk = 03:03" not in next(house.path.glob("glasshouse/**/mosslight.ini")).read_bytes()


def test_what_fails_at_one_place_stops_no_other_and_nothing_is_half_there(house):
    (house.path / "glasshouse").rename(house.path / "away")
    house.edit_workstation(
        "gate-kiosk", lambda state: state.update(running=[{"number": 4312, "name": "brindlepot.exe"}])
    )
    kept = house("export", "--round", "monday", "--label", "second", "--report", "kept.md", code=3)
    assert "glasshouse" in kept.err and "Of 3: 2 kept, 1 not whole." in kept.out
    assert "not kept" in (house.path / "kept.md").read_text()
    before = house.places("gate-kiosk")
    seen = house("import", "--round", "monday@agreed", "--preview").out
    assert "Cannot be written" in seen and "Would be refused now" in seen and "2 of 3 cannot be" in seen
    done = house("import", "--round", "monday@agreed", "--yes", "--report", "r.jsonl", code=3)
    assert "1 of 2 imported whole" in done.out and "is running" in done.out
    assert house.places("gate-kiosk") == before
    rows = [json.loads(line) for line in (house.path / "r.jsonl").read_text().splitlines()]
    assert {row["place"] for row in rows if row["what"] == "failed"} == {"glasshouse", "gate-kiosk"}
    shed = house.agreed["potting-shed/Users/ivy/AppData/Roaming/mosslight/mosslight.ini"]
    assert house.ini.read_bytes() == shed
    assert "It was not begun" in house("changes", "1").out
    # Also where it is not known what there would be.
    toml = house.home / "zinker.toml"
    toml.write_text(f'{toml.read_text()}[rounds.whole]\nwhat = ["potting-shed:quillfern", "glasshouse:*"]\n')
    whole = house("export", "--round", "whole", code=3)
    assert "Of 2: 1 kept, 1 not whole." in whole.out and "No answer from glasshouse" in whole.err
    house("document", "--round", "whole", "--output", "whole.md", code=1)
    assert "glasshouse" in (house.path / "whole.md").read_text()
    # Where nothing can be planned at all, it is refused, with all reasons.
    shutil.rmtree(house.path / "potting-shed")
    (house.home / "zinker.toml").write_text(
        (house.home / "zinker.toml").read_text()
        + '[rounds.gone]\nwhat = ["potting-shed:mosslight", "glasshouse:mosslight"]\n'
    )
    why = house("import", "--round", "gone@agreed", "--yes", code=3).err
    assert "potting-shed" in why and "glasshouse" in why and "Nothing" not in why


def test_a_failure_in_the_middle_leaves_the_rest_of_that_place_as_it_was(house):
    """The disk gives up under the second of three subjects of one place."""
    folder = house.path / "potting-shed/Users/ivy/AppData/Roaming"
    for name in ("abelia", "briar"):
        (folder / f"{name}.ini").write_text("[a]\nheight = 1\n")
        (house.path / f"subjects/{name}.subject.toml").write_text(
            f'format = 1\nid = "{name}"\ntitle = "{name}"\n[[part]]\nid = "a"\nstore = "file"\n'
            f'path = "{{config}}/{name}.ini"\n'
        )
    three = (
        '\n[rounds.three]\nwhat = ["potting-shed:mosslight", "potting-shed:abelia", "potting-shed:briar"]\n'
    )
    with (house.home / "zinker.toml").open("a") as file:
        file.write(three)
    house("import", "--round", "monday@agreed", "--yes")
    house("export", "--round", "three", "--label", "set")
    spoil(house)
    for name in ("abelia", "briar"):
        (folder / f"{name}.ini").write_text("[a]\nheight = 2\n")
    # The new file beside the old one, and then the name it is to have.
    failing = {"FAIL_AT": "1", "KILL_BELOW": str(folder / "abelia.ini"), "PYTHONPATH": str(KILLING)}
    done = house("import", "--round", "three@set", "--yes", code=None, env=failing)
    ends = {name: "height = 1" in (folder / f"{name}.ini").read_text() for name in ("abelia", "briar")}
    assert done.code in (3, 4) and ends["abelia"] is False, done
    assert ends["briar"] == (done.code == 3), "what failed and was taken back ends the rest of its place"
    assert "potting-shed: abelia: Not imported" in done.out, done
    assert b"03:03" not in house.ini.read_bytes()
    house("undo", "--yes")
    assert b"03:03" in house.ini.read_bytes()


@pytest.mark.skipif(not hasattr(os, "fork"), reason="no fork here")
def test_a_round_that_is_killed_is_put_right_member_by_member(house):
    """Killed in the middle, at some changes to the disk: whatever ended is undone as one afterwards."""
    spoilt, pristine = house.places(), house.path.with_name("pristine")
    os.environ["ZINKER_HOME"] = str(house.home)
    shutil.copytree(house.path, pristine)

    def job():
        setup = load_setup()
        import_round(setup, round_named(setup, "monday@agreed"), one_by_one=True)

    number, ends = 5, set()
    while killed(number, house.path, job):
        setup = load_setup()
        for place in ("potting-shed", "gate-kiosk", "glasshouse"):
            # Any run at a place puts right what was begun there.
            house("import", f"{place}:@agreed", "--preview", code=None)
            subject = "brindlepot" if place == "gate-kiosk" else "mosslight"
            house("export", subject, "--place", place)
        assert not setup.shelf.changes.open_ones()
        # What was written down and never begun is told as cut off.
        states = [change.state for change in setup.shelf.changes.all()]
        assert set(states) <= {"done", "partly", "taken-back", "open"}, states
        standing = states.count("done") + states.count("partly")
        ends.add(standing)
        if standing:
            house("undo", str(setup.shelf.changes.all()[0].number), "--yes")
        assert house.places() == spoilt
        shutil.rmtree(house.path)
        shutil.copytree(pristine, house.path)
        number += 23
    assert len(ends) > 1


def test_an_interrupt_lets_each_place_end_what_it_has_begun(house):
    """Ctrl+C while several places are written to: the members that have ended stand, the others never began."""
    script = house.path / "sitecustomize.py"
    script.write_text(
        "import os, signal, sys\nleft = 40\ndef hook(event, arguments):\n    global left\n"
        "    if event == 'zinker.disk':\n        left -= 1\n        if left == 0:\n"
        "            os.kill(os.getpid(), signal.SIGINT)\nsys.addaudithook(hook)\n"
    )
    done = house(
        "import", "--round", "monday@agreed", "--yes", code=None, env={"PYTHONPATH": str(house.path)}
    )
    assert done.code in (0, 3), done
    states = {one["state"] for one in house("changes", "--json").json}
    assert states <= {"done", "partly", "taken-back"}
    assert ("Interrupted" in done.err) == (done.code == 3)
    assert house("check").code == 0


def test_rounds_are_named_in_the_configuration_and_wrong_ones_are_told(house):
    toml = house.home / "zinker.toml"
    plain = toml.read_text()
    assert "Did you mean monday?" in house("export", "--round", "mondya", code=2).err
    assert "names no version" in house("import", "--round", "monday@", code=2).err
    assert "has its own places" in house("export", "--round", "monday", "--place", "glasshouse", code=2).err
    assert "Name one" in house("import", "mosslight@1", "--round", "monday", code=2).err
    assert "no number of a change" in house("undo", "1.x", code=2).err
    assert "No change 9.1" in house("undo", "9.1", code=2).err
    for wrong, said in (
        ('what = ["mosslight"]', "zinker.toml"),
        ("what = []", "zinker.toml"),
        ('what = ["nowhere:mosslight"]', "round r of zinker.toml names it"),
        ('what = ["potting-shed:moss"]', "round r of zinker.toml names it"),
    ):
        toml.write_text(f"{plain}\n[rounds.r]\n{wrong}\n")
        assert said in house("export", "--round", "r", code=2).err
    # `*` stands for all that is there, or, where something is put back, for all that is kept.
    toml.write_text(f'{plain}\n[rounds.r]\nwhat = ["*:mosslight", "gate-kiosk:*"]\n')
    kept = house("export", "--round", "r", "--json", code=None).json
    assert {(one["profile"]["place"], one["profile"]["subject"]) for one in kept} >= {
        ("potting-shed", "mosslight"),
        ("glasshouse", "mosslight"),
        ("gate-kiosk", "brindlepot"),
    }
    assert ChangeId.of("12.2") == (12, 2) and sorted(map(ChangeId.of, ("12.10", "12.9", "2"))) == [
        (2, 0),
        (12, 9),
        (12, 10),
    ]


def test_two_homes_of_one_configuration_come_back_together(tmp_path):
    """Documents on a workstation, rules in a tenant that others depend on: captured, spoiled, restored as one."""
    tenants = Tenants(tmp_path / "garden")
    try:
        shed = "potting-shed:mosslight"
        with (tenants.home / "zinker.toml").open("a") as file:
            file.write('\n[rounds.house]\nwhat = ["potting-shed:mosslight", "tarnhollow:garden-tenant"]\n')
        tenants("export", "--round", "house", "--label", "agreed", code=None)
        agreed = tenants.meaning()
        tenants.spoil()
        tenants.change("WorkstationRules", "Office desks", marks=["cold"])
        # Who does not name the live place changes nothing there; the other one is written all the same.
        done = tenants("import", "--round", "house@agreed", "--yes", code=3)
        assert "others depend on it" in done.out and "1 of 2 imported whole" in done.out
        assert tenants.meaning() != agreed
        assert tenants("compare", shed + "@agreed", shed).code == 0
        tenants("import", "--round", "house@agreed", "--live", "tarnhollow", "--yes")
        assert tenants.meaning() == agreed
        tenants("undo", "2", "--live", "tarnhollow", "--yes")
        assert tenants.state()["WorkstationRules"]["Office desks"]["marks"] == ["cold"]
    finally:
        tenants.stop()


def test_a_round_is_asked_for_once(house):
    out, code = house.at_terminal(
        "import", "--round", "monday@agreed", answers=[("Write this?", "y\n")], columns=100
    )
    assert code == 0 and "This is change 1" in out and house.places() == house.agreed


ACCOUNTS = """
format = 1
id = "fern"
title = "Fern"
[[part]]
id = "own"
store = "file"
path = "{config}/fern/fern.ini"
[[part]]
id = "machine"
store = "file"
path = "{machine-config}/fern.ini"
"""


def test_every_account_of_a_disk_is_one_that_has_something_of_its_own(garden):
    """Homes are those of the list of accounts and of the usual folder; services have none; the template is one."""
    disk = garden.path / "disk"
    files = {
        "home/ivy/.settings/fern/fern.ini": "ivy",
        "srv/people/rowan/.settings/fern/fern.ini": "rowan",
        "etc/skel/.settings/fern/fern.ini": "template",
        "var/lib/service/.settings/fern/fern.ini": "a service",
        "home/sage/.profile": "sage has nothing of it",
        "etc/fern.ini": "machine",
    }
    for name, text in files.items():
        (disk / name).parent.mkdir(parents=True, exist_ok=True)
        (disk / name).write_text(f"[a]\nwhose = {text}\n")
    (disk / "etc/passwd").write_text(
        "root:x:0:0::/root:/bin/sh\nservice:x:998:998::/var/lib/service:/bin/false\n"
        "ivy:x:1000:1000::/home/ivy:/bin/sh\nrowan:x:1001:1001::/srv/people/rowan:/bin/sh\nbad:x:1002:1::/../etc:/bin/sh\n"
    )
    (garden.path / "subjects/fern.subject.toml").write_text(ACCOUNTS)
    with (garden.home / "zinker.toml").open("a") as toml:
        toml.write('\n[places.disk]\nkind = "folder"\npath = "../disk"\n')
        toml.write('folders = { home = "home/ivy", config = "home/ivy/.settings" }\n')
    at = ("--place", "disk", "--each-account")
    kept = garden("export", "fern", *at, "--label", "set", "--json").json
    assert [one["profile"]["place"] for one in kept] == ["disk", "disk/rowan", "disk/template"]
    shown = {
        name: garden("show", f"{name}:fern@set", "--part", "own", "--json").json["settings"][0]["value"]
        for name in ("disk", "disk/rowan", "disk/template")
    }
    assert shown == {"disk": "ivy", "disk/rowan": "rowan", "disk/template": "template"}
    before = {path: path.read_bytes() for path in disk.rglob("*") if path.is_file()}
    assert "No differences" in garden("compare", "fern", *at).out
    assert garden("compare", "fern@1", *at, code=1).out.count("whose") == 2
    done = garden("reset", "fern", *at, "--part", "own", "--yes", "--json").json
    assert [one["place"] for one in done["members"]] == ["disk", "disk/rowan", "disk/template"]
    gone = {str(p.relative_to(disk)) for p in before if not p.exists()}
    assert gone == {name for name in files if files[name] in ("ivy", "rowan", "template")}
    garden("undo", "--yes")
    assert {path: path.read_bytes() for path in disk.rglob("*") if path.is_file()} == before
    # The template's registry and an account that is not there; what has no account of its own is refused.
    why = garden("show", "disk/nobody:fern", code=2).err
    assert "Its accounts are ivy, rowan, sage, template." in why
    assert "--each-account is for subjects" in garden("export", "--all", "--each-account", code=2).err
    if os.name == "posix" and Path("/root").is_dir():
        assert Here().account_folders("root")["config"] == Path("/root/.config")


def test_threads_that_need_this_machines_key_first_make_one_together(tmp_path):
    """Places are dealt with side by side, also at the very first run."""
    for number in range(20):
        home, found, gate = tmp_path / str(number), [], threading.Barrier(4)

        def ask(home=home, found=found, gate=gate):
            gate.wait()
            found.append(machine_key(home))

        threads = [threading.Thread(target=ask) for _ in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert len(found) == 4 and len(set(found)) == 1
        assert [path.name for path in home.iterdir()] == ["fingerprint-key"]


def test_threads_that_read_subject_files_at_once_do_not_end_the_process():
    """What fills structs learns each of them once, and must not be asked by two threads meanwhile."""
    script = """
import sys, threading
from pathlib import Path
from zinker.subjects.subject import Subject
from zinker.subjects.toml_check import load
sys.setswitchinterval(1e-6)
start = threading.Barrier(4)
def read():
    start.wait()
    load(Path(sys.argv[1]), Subject, "Not read")
threads = [threading.Thread(target=read) for _ in range(4)]
for thread in threads: thread.start()
for thread in threads: thread.join()
"""
    file = next(Path(zinker.__file__).parent.glob("**/mosslight.subject.toml"))
    for _ in range(5):
        done = subprocess.run(
            [sys.executable, "-c", script, file], capture_output=True, text=True, check=False
        )
        assert (done.returncode, done.stderr) == (0, "")

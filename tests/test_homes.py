"""Documents of every format and kind on a workstation: captured, spoiled, put back, through the command."""

import json
import os
import plistlib
import shutil
import sqlite3
import subprocess
import sys
import tomllib
from pathlib import Path

import msgspec
import pytest

from zinker import formats
from zinker.formats.dialect import Dialect
from zinker.formats.leaves import Edit
from zinker.jobs import export
from zinker.model.setting import Leaf

SUBJECT = """
format = 1
id = "fernwork"
title = "Fernwork"

[[part]]
id = "xml"
store = "file"
path = "{config}/fernwork/desk.xml"
[[part]]
id = "yaml"
store = "file"
path = "{config}/fernwork/desk.yaml"
[[part]]
id = "toml"
store = "file"
path = "{config}/fernwork/desk.toml"
[[part]]
id = "plist"
store = "file"
path = "{config}/fernwork/desk.plist"
[[part]]
id = "script"
store = "file"
path = "{config}/fernwork/prefs.js"
format = "pattern"
dialect = { pattern = '^pref\\("(?P<key>[^"]+)", (?P<value>.*)\\);$', line = 'pref("{key}", {value});' }
[[part]]
id = "database"
store = "file"
path = "{config}/fernwork/desk.db"
format = "sqlite"
dialect = { tables = [ { table = "prefs", key = ["name"], value = "value" } ] }
[[part]]
id = "signs"
store = "file"
path = "{config}/fernwork/nosuffix*"
[[part]]
id = "keys"
store = "file"
format = "key-value"
path = ["{config}/fernwork/keys.new", "{home}/.fernkeys"]
[[part]]
id = "looks"
store = "file"
format = "whole"
path = "{data}/fernwork/**"
[[part.home]]
id = "extra"
path = { windows = "{documents}/fern/**", linux = "{home}/none/**" }
format = "whole"
[[part]]
id = "elsewhere"
store = "file"
path = { macos = "{config}/fernwork.plist" }
"""
FILES = {
    "desk.xml": b"\xff\xfe"
    + '<?xml version="1.0"?>\r\n<desk><lamp name="north" dusk="19:30"/></desk>'.encode("utf-16-le"),
    "desk.yaml": b"# desk\nlamps:\n  north: {dusk: '19:30'}\n",
    "desk.toml": b'[lamps]\r\ndusk = "19:30" # kept\r\n',
    "desk.plist": plistlib.dumps({"dusk": "19:30", "data": b"\0\1"}, fmt=plistlib.FMT_BINARY),
    "prefs.js": b'// script\npref("dusk", "19:30");\n',
    "nosuffix-a": b'{"dusk": "19:30"}',
    "nosuffix-b": b"\x00\x01binary",
}


@pytest.fixture
def fernwork(garden):
    (garden.path / "subjects/fernwork.subject.toml").write_text(SUBJECT)
    garden.config = garden.path / "potting-shed/Users/ivy/AppData/Roaming/fernwork"
    garden.config.mkdir()
    for name, data in FILES.items():
        (garden.config / name).write_bytes(data)
    (garden.path / "potting-shed/Users/ivy/.fernkeys").write_bytes(b"dusk 19:30\n")
    garden.db = garden.config / "desk.db"
    with sqlite3.connect(garden.db) as database:
        database.execute("CREATE TABLE prefs (name TEXT PRIMARY KEY, value)")
        database.execute("INSERT INTO prefs VALUES ('dusk', '19:30'), ('level', 40), ('blob', x'0001')")
    database.close()
    garden.looks = garden.path / "potting-shed/Users/ivy/AppData/Local/fernwork"
    return garden


def run(garden, *arguments, **more):
    return garden(arguments[0], *arguments[1:], "--place", "potting-shed", **more)


def test_every_format_is_captured_spoiled_and_put_back(fernwork):
    done = run(fernwork, "export", "fernwork")
    assert "Elsewhere" in done.out and "nothing there" in done.out
    shown = fernwork("show", "fernwork", "--json").json["settings"]
    found = {(s["part"], s["document"], s["address"]): s.get("value") for s in shown}
    assert found["xml", "desk.xml", '/desk/lamp[@name="north"]/@dusk'] == "19:30"
    assert (
        found["yaml", "desk.yaml", "/lamps/north/dusk"]
        == found["toml", "desk.toml", "/lamps/dusk"]
        == "19:30"
    )
    assert found["plist", "desk.plist", "/dusk"] == found["keys", "keys.new", "/dusk"] == "19:30"
    assert found["database", "desk.db", "/prefs/dusk"] == found["signs", "nosuffix-a", "/dusk"] == "19:30"
    assert found["script", "prefs.js", "/dusk"] == '"19:30"' and ("signs", "nosuffix-b", "") in found
    before = fernwork.places("potting-shed")
    for name, data in FILES.items():
        spoiled = data.replace("19:30".encode("utf-16-le"), "07:00".encode("utf-16-le")).replace(
            b"19:30", b"07:00"
        )
        (fernwork.config / name).write_bytes(spoiled)
    (fernwork.path / "potting-shed/Users/ivy/.fernkeys").write_bytes(b"dusk 07:00\nown 1\n")
    with sqlite3.connect(fernwork.db) as database:
        database.execute("UPDATE prefs SET value = '07:00' WHERE name = 'dusk'")
        database.execute("INSERT INTO prefs VALUES ('own', 1)")
    database.close()
    assert "8 changed, 2 new" in run(fernwork, "compare", "fernwork", code=1).out
    run(fernwork, "import", "fernwork", "--yes")
    after = fernwork.places("potting-shed")
    changed = {name for name in before if before[name] != after[name]}
    assert {name.rpartition("/")[2] for name in changed} == {
        ".fernkeys",
        "desk.db",
    }  # what only the place has stays
    assert (fernwork.path / "potting-shed/Users/ivy/.fernkeys").read_bytes() == b"dusk 19:30\nown 1\n"
    with sqlite3.connect(fernwork.db) as database:
        rows = dict(database.execute("SELECT name, value FROM prefs"))
    assert rows == {"dusk": "19:30", "level": 40, "blob": b"\0\1", "own": 1}
    fernwork("undo", "--yes")
    assert b"07:00" in (fernwork.config / "desk.toml").read_bytes()
    for path in (*fernwork.config.iterdir(), fernwork.path / "potting-shed/Users/ivy/.fernkeys"):
        path.unlink()
    run(fernwork, "import", "fernwork@1", "--yes")
    back = fernwork.places("potting-shed")
    # Where nothing is, each comes back byte for byte, and in the first of its places; a database as it was read.
    assert {n: d for n, d in back.items() if "keys" not in n and "desk.db" not in n} == {
        n: d for n, d in before.items() if "keys" not in n and "desk.db" not in n
    }
    assert (fernwork.config / "keys.new").read_bytes() == b"dusk 19:30\n"


def test_a_database_in_use_is_read_as_it_stands_and_written_in_one_transaction(fernwork):
    live = sqlite3.connect(fernwork.db)
    live.execute("PRAGMA journal_mode = WAL")
    live.execute("UPDATE prefs SET value = '20:00' WHERE name = 'dusk'")
    live.commit()
    live.execute("UPDATE prefs SET value = 'not committed' WHERE name = 'dusk'")
    files = sorted(os.listdir(fernwork.config))
    run(fernwork, "export", "fernwork", "--part", "database")
    assert sorted(os.listdir(fernwork.config)) == files
    shown = fernwork("show", "fernwork", "--json").json["settings"]
    assert next(s["value"] for s in shown if s["address"] == "/prefs/dusk") == "20:00"
    live.rollback()
    live.execute("UPDATE prefs SET value = '07:00' WHERE name = 'dusk'")
    live.commit()
    live.execute("BEGIN IMMEDIATE")  # somebody is writing
    done = run(fernwork, "import", "fernwork", "--yes", code=4)
    assert "the database is in use" in done.err and "taken back" in done.err
    live.rollback()
    run(fernwork, "import", "fernwork", "--yes")
    assert live.execute("SELECT value FROM prefs WHERE name = 'dusk'").fetchone() == ("20:00",)
    live.close()


@pytest.mark.skipif(os.name == "nt", reason="Windows has no such files")
def test_links_modes_and_empty_folders_come_along(fernwork):
    looks = fernwork.looks
    fernwork.edit_workstation("potting-shed", lambda state: state.update(system="Linux 6.1"))  # it has modes
    (looks / "themes/empty/inner").mkdir(parents=True)
    (looks / "tool.sh").write_text("#!/bin/sh\n")
    (looks / "tool.sh").chmod(0o750)
    (looks / "themes/current").symlink_to("dark.theme")
    (looks / "themes/dark.theme").write_text("dark")
    (looks / "out").symlink_to("/etc/hostname")
    (looks / "loop").symlink_to("loop")
    (looks / "folder").symlink_to("themes")
    odd = os.fsencode(looks) + b"/not-utf8-\xff"
    with open(odd, "wb") as file:
        file.write(b"odd")
    extra = fernwork.path / "potting-shed/Users/ivy/none"
    extra.mkdir(parents=True)
    (extra / "tool.sh").write_text("another file of the same name")
    toml = fernwork.home / "zinker.toml"
    toml.write_text(
        toml.read_text().replace(
            'folders = { home = "Users/ivy"',
            'folders = { home = "Users/ivy", documents = "Users/ivy/Documents"',
        )
    )
    run(fernwork, "export", "fernwork", "--part", "looks")
    shown = fernwork("show", "fernwork").out
    assert "link to dark.theme" in shown and "an empty folder" in shown and "mode 750" in shown
    fernwork("export", "fernwork@1", "--to", "copy.zinker")
    subprocess.run(["rm", "-r", looks, extra], check=True)
    done = run(fernwork, "import", "copy.zinker", "--yes", code=1)
    assert "out: the link leads out of its folder, to /etc/hostname" in done.out
    assert (looks / "themes/empty/inner").is_dir() and (looks / "tool.sh").stat().st_mode & 0o777 == 0o750
    assert os.readlink(looks / "themes/current") == "dark.theme" and os.readlink(looks / "folder") == "themes"
    assert os.readlink(looks / "loop") == "loop" and not os.path.lexists(looks / "out")
    with open(odd, "rb") as file:
        assert file.read() == b"odd"
    assert (extra / "tool.sh").read_text() == "another file of the same name"
    (looks / "tool.sh").chmod(0o600)
    assert "mode 600" in run(fernwork, "compare", "fernwork@1", code=1).out
    run(fernwork, "import", "copy.zinker", "--yes", code=1)
    assert (looks / "tool.sh").stat().st_mode & 0o777 == 0o750
    fernwork("undo", "--yes")
    assert (looks / "tool.sh").stat().st_mode & 0o777 == 0o600


def documented():
    """The examples of docs/formats.md: format, dialect, document and first text setting of each."""
    blocks = (Path(__file__).parents[1] / "docs/formats.md").read_text(encoding="utf-8").split("```")[1::2]
    for block, following in zip(blocks, blocks[1:], strict=False):
        if following.startswith("settings\n"):
            head, _, document = block.partition("\n")
            format, _, dialect = head.partition(" ")
            lines = [line.split("  ", 2) for line in following.splitlines()[1:]]
            address, _, value = next(line for line in lines if line[1] == "text")
            yield format, json.loads(dialect or "{}"), document, address, json.loads(value)


def test_every_dialect_of_the_reference_comes_back_through_the_command(garden):
    examples = list(documented())
    assert len(examples) >= 16
    folder = garden.path / "potting-shed/Users/ivy/AppData/Roaming/reference"
    folder.mkdir()
    parts = []
    for number, (format, dialect, document, _, _) in enumerate(examples):
        (folder / f"example-{number}").write_bytes(document.encode())
        keys = ", ".join(f"{key} = {json.dumps(value)}" for key, value in dialect.items())
        parts.append(
            f'[[part]]\nid = "p{number}"\nstore = "file"\npath = "{{config}}/reference/example-{number}"\n'
            f'format = "{format}"\ndialect = {{ {keys} }}\n'
        )
    subject = 'format = 1\nid = "reference"\ntitle = "Reference"\n' + "\n".join(parts)
    (garden.path / "subjects/reference.subject.toml").write_text(subject)
    run(garden, "export", "reference")
    before = {path.name: path.read_bytes() for path in folder.iterdir()}
    for number, (format, dialect, document, address, _) in enumerate(examples):
        chosen = msgspec.convert(dialect, Dialect)
        spoiled = formats.edit(format, document.encode(), [Edit(address, Leaf("text", "spoiled"))], chosen)
        (folder / f"example-{number}").write_bytes(spoiled)
    found = run(garden, "compare", "reference", "--json", code=1).json["differences"]
    told = {(d["part"], d["address"], d["before"]["value"], d["after"]["value"]) for d in found}
    assert told == {(f"p{n}", e[3], e[4], "spoiled") for n, e in enumerate(examples)}
    run(garden, "import", "reference", "--yes")
    after = {path.name: path.read_bytes() for path in folder.iterdir()}
    # Byte for byte, but where a value was spread over several lines.
    different = {
        examples[int(name.partition("-")[2])][1].get("continued", "")
        for name in after
        if after[name] != before[name]
    }
    assert different <= {"backslash", ""} and sum(after[name] != before[name] for name in after) <= 1
    run(garden, "compare", "reference")


BROKEN = {
    "desk.xml": b'<!DOCTYPE d [<!ENTITY a "ha"><!ENTITY b "&a;&a;&a;">]><d>&b;</d>',
    "desk.yaml": b"a: &a [x]\nb: &b [*a, *a]\nc: [*b, *b\n",
    "desk.toml": b"dusk = 19:30 '\n",
    "desk.plist": b"bplist00\xff\xff\xff\xff",
    "prefs.js": b'pref("dusk", "M\xc3\xb6we");\npref("dawn", "M\xf6we");\n',
    "desk.db": b"SQLite format 3\0" + b"\xff" * 2000,
    "nosuffix-a": b"[" * 100_000 + b"]" * 100_000,
}


def test_what_breaks_its_format_is_carried_whole_and_said(fernwork):
    for name, data in BROKEN.items():
        (fernwork.config / name).write_bytes(data)
    done = run(fernwork, "export", "fernwork")  # nothing is expanded: that would take for ever
    for told in (
        "declares entities of its own",
        "cannot be read as YAML",
        "cannot be read as TOML",
        "cannot be read as PLIST",
        "mixes UTF-8",
        "cannot be read as SQLITE",
        "nested too deeply",
    ):
        assert told in done.out, told
    for name in BROKEN:
        (fernwork.config / name).write_bytes(b"")
    fernwork("export", "fernwork@1", "--to", "copy.zinker")
    for name in BROKEN:
        (fernwork.config / name).unlink()
    run(fernwork, "import", "copy.zinker", "--yes")
    assert {name: (fernwork.config / name).read_bytes() for name in BROKEN} == BROKEN


def test_aliases_are_never_expanded(fernwork):
    lines = ["a0: &a0 [x, x, x, x, x, x, x, x, x]"]
    lines += [f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 9)}]" for n in range(1, 40)]
    (fernwork.config / "desk.yaml").write_text("\n".join(lines) + "\n")
    run(fernwork, "export", "fernwork", "--part", "yaml")
    shown = fernwork("show", "fernwork", "--json").json["settings"]
    assert len(shown) == 1 + 39 * 9 and {s["type"] for s in shown} == {"list", "alias"}


def test_a_file_that_changes_while_it_is_read_is_read_again_and_then_said(fernwork):
    target = fernwork.looks
    target.mkdir()
    (target / "steady").write_bytes(b"x" * 1000)
    # Whoever opens the file finds that it has changed since it was looked at.
    (target / "busy").write_bytes(b"x")
    (fernwork.path / "meddling").mkdir()
    (fernwork.path / "meddling/sitecustomize.py").write_text(
        f"""
import sys
path, is_in = {str(target / "busy")!r}, False
def hook(event, arguments):
    global is_in
    if event == "open" and not is_in and str(arguments[0]).endswith("busy"):
        is_in = True
        with open(path, "ab") as file:
            file.write(b"x" * 100)
        is_in = False
sys.addaudithook(hook)
"""
    )
    meddling = {"PYTHONPATH": str(fernwork.path / "meddling")}
    done = run(fernwork, "export", "fernwork", "--part", "looks", code=1, env=meddling)
    assert "busy: " in done.out and "changed" in done.out
    assert "1 document" in done.out  # the other one is captured all the same
    fernwork("export", "fernwork@1", "--to", "whole.zinker", code=1)
    assert "steady" in fernwork("show", "whole.zinker", code=1).out


def test_a_case_clash_and_forbidden_names_are_left_alone_on_windows(fernwork):
    toml = fernwork.home / "zinker.toml"
    toml.write_text(
        toml.read_text()
        + '\n[places.disk]\nkind = "folder"\npath = "../disk"\nfolders = { home = "home/ivy" }\n'
    )
    looks = fernwork.path / "disk/home/ivy/.local/share/fernwork"
    looks.mkdir(parents=True)
    for name in ("Logo.svg", "logo.svg", "what?.txt", "nul.txt", "fine.txt"):
        (looks / name).write_text(name)
    fernwork("export", "fernwork", "--place", "disk")
    done = run(fernwork, "import", "fernwork", "--adopt", "--yes", code=1)
    assert "logo.svg: Logo.svg is there already, and this system takes both names for the same" in done.out
    told = {line.strip() for line in done.out.splitlines() if "Windows has no files of that name" in line}
    assert {line.partition(":")[0].rpartition(" ")[2] for line in told} == {"what?.txt", "nul.txt"}
    assert sorted(os.listdir(fernwork.looks)) == ["Logo.svg", "fine.txt"]


@pytest.mark.skipif(sys.platform == "win32", reason="needs the resource module")
@pytest.mark.soak
def test_a_file_of_2_gb_is_streamed(fernwork):
    fernwork.looks.mkdir()
    with (fernwork.looks / "video").open("wb") as file:
        file.seek(2 * 1024**3)
        file.write(b"the end")
    import resource

    def limit():
        resource.setrlimit(resource.RLIMIT_DATA, (200_000_000, 200_000_000))

    run(fernwork, "export", "fernwork", "--part", "looks", "--to", "video.zinker", preexec_fn=limit)
    (fernwork.looks / "video").unlink()
    run(fernwork, "import", "video.zinker", "--yes", preexec_fn=limit)
    with (fernwork.looks / "video").open("rb") as file:
        file.seek(2 * 1024**3)
        assert file.read() == b"the end"
    if hasattr(os.stat_result, "st_blocks"):  # a hole stays one
        assert (fernwork.looks / "video").stat().st_blocks * 512 < 10_000_000


def test_a_draft_says_what_is_there_and_is_right_as_it_is(fernwork):
    folder = fernwork.config.parent / "sporeling"
    files = {
        "sporeling.ini": "[about]\nversion = 2.4.1\n[window]\nwidth = 640\nmargin = 3\n[pots]\ncount = 4\n",
        "keysrc": "# keys\nmist = F7\npassword = p-shy-newt\n",
        "beds/north.json": '{"level": 3, "lamps": {"dusk": "19:30"}}',
        "beds/south.json": '{"level": 4, "lamps": {"dusk": "20:30"}}',
        "plans/moss/house.svg": '<svg width="7"/>',
        "notes.txt": "Water the ferns.\n",
        "sporeling.lic": "2AF9",
        "Cache/deep/one": "x",
        "Cache/two": "y",
        "plans/run.log": "started",
        ".lock": "77",
        "any*.log": "what has a star in its name is no pattern",
    }
    for name, text in files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text)
    at = ("--place", "potting-shed")
    done = fernwork("subjects", "new", "sporeling", *at, "--home", folder, "--json")
    parts = {part["id"]: part for part in done.json["parts"]}
    base = "{config}/sporeling"
    assert {id: part["path"].removeprefix(base) for id, part in parts.items()} == {
        "sporeling": "/sporeling.ini",
        "keysrc": "/keysrc",
        "beds": "/beds/{instance}.json",
        "sporeling-2": "/sporeling.lic",
        "others": "/**",
    }
    assert parts["sporeling"]["volatile"] == ["/window/width"] and parts["keysrc"]["secret"] == ["//password"]
    assert parts["sporeling-2"]["device_bound"] and parts["beds"]["documents"] == 2
    assert {(one["path"], one["files"]) for one in parts["others"]["left_out"]} == {
        ("Cache", 2),
        ("plans/run.log", 1),
        (".lock", 1),
    }
    path = fernwork.path / "subjects/sporeling.subject.toml"
    assert "is right" in fernwork("subjects", "check", path).out
    assert tomllib.loads(path.read_text())["application"]["version"] == {
        "part": "sporeling",
        "address": "/about/version",
    }
    # All of it is kept but what was named, also what comes later; and what is left out is not written either.
    (folder / "later.txt").write_text("moss")
    fernwork("export", "sporeling", *at)
    shown = {line["document"] for line in fernwork("show", "sporeling", "--json").json["settings"]}
    passed = {"Cache/deep/one", "Cache/two", "plans/run.log", ".lock"}
    assert shown == {name.removeprefix("beds/") for name in {*files, "later.txt"} - passed}
    path.write_text(path.read_text().replace('    "Cache",\n', ""))
    fernwork("export", "sporeling", *at, "--to", "all.zinker")
    path.write_text(path.read_text().replace("without = [", 'without = [\n    "Cache",'))
    shutil.rmtree(folder / "Cache")
    assert "no document of that name here" in fernwork("import", "all.zinker", *at, "--yes", code=1).out
    assert not (folder / "Cache").exists()
    path.write_text(path.read_text().replace('"Cache",', '"/Cache",'))
    assert "`/Cache`" in fernwork("subjects", "check", path, code=1).out


def test_subjects_are_drafted_checked_and_found(fernwork):
    fernwork(
        "subjects",
        "new",
        "sundial",
        "--place",
        "potting-shed",
        "--home",
        fernwork.config / "desk.toml",
        "--home",
        fernwork.config,
    )
    path = fernwork.path / "subjects/sundial.subject.toml"
    assert "is right" in fernwork("subjects", "check", path).out
    assert (
        'path = "{config}/fernwork/desk.toml"' in path.read_text() and 'format = "toml"' in path.read_text()
    )
    fernwork("subjects", "new", "sundial", code=3)
    fernwork("subjects", "new", "moss", "--home", "/nowhere/else", code=2)
    parts = {p["id"]: p for p in run(fernwork, "subjects", "show", "fernwork", "--json").json[0]["parts"]}
    assert parts["keys"]["home"].endswith(".fernkeys") and parts["keys"]["documents"] == 1
    assert parts["elsewhere"]["why"] == "it has no home on Windows" and "\n" in parts["looks"]["home"]
    path.write_text(
        'format = 1\nid = "wrong"\ntitel = "x"\n[application]\nprocesses = "x"\n[[part]]\nstore = "file"\n'
        'path = \'C:\\x\'\nformat = "yml"\n[[part]]\nid = "b"\nstore = "file"\npath = "{home}/{user}/b"\n'
        'format = "pattern"\ndialect = { pattern = "(" }\n'
    )
    told = fernwork("subjects", "check", path, code=1).out
    for mistake in (
        "line 3: key titel",
        "key title: this key is missing",
        "line 5: key application.processes",
        "line 6: key part.1.id",
        "line 8: the path",
        "line 9: key part.1.format",
        "no other word in braces",
        "is no regular expression",
        "is not the file's name",
    ):
        assert mistake in told, (mistake, told)
    assert "A subject file is left out: " in fernwork("subjects").err


def test_a_pattern_that_comes_to_no_end_is_given_up(fernwork, monkeypatch):
    """Each `a` doubles the ways to match it, of which none is right."""
    monkeypatch.setattr("zinker.formats.pattern.LONGEST_SEARCH", 0.1)
    subject = fernwork.path / "subjects/fernwork.subject.toml"
    subject.write_text(
        subject.read_text().replace(r'^pref\("(?P<key>[^"]+)",', r'^pref\("(?P<key>(?:a|aa)+)",')
    )
    (fernwork.config / "prefs.js").write_bytes(b'// script\npref("' + b"a" * 80 + b'!", 1);\n')
    done = export(fernwork.setup, "fernwork", place="potting-shed")
    told = [problem.why for problem in done.manifest.problems if problem.document == "prefs.js"]
    assert told == [
        "it cannot be read as PATTERN: line 2: the pattern does not come to an end within 0.1 seconds"
    ]


def test_shipped_subjects_are_right_and_have_homes_everywhere(garden):
    from zinker.subjects.catalogue import SHIPPED, check_subject, load_subject
    from zinker.subjects.subject import paths_of

    files = sorted(SHIPPED.glob("*.subject.toml"))
    assert len(files) >= 40
    for path in files:
        assert check_subject(path) == []
        said = path.read_text(encoding="utf-8").partition("\n")[0]
        is_linux = said == "# Linux only."
        assert (
            is_linux
            or said == "# Not checked on Windows."
            or said.startswith("# On Windows as in Debian's source package")
        )
        homes = [home for part in load_subject(path).part if part.store == "file" for home in part.homes]
        systems = {s for home in homes for s in ("linux", "windows", "macos") if paths_of(home.path, s)}
        registry = {"windows" for part in load_subject(path).part if part.store == "registry"}
        assert systems | registry == ({"linux"} if is_linux else {"linux", "windows", "macos"})
    listed = {state["id"] for state in garden("subjects", "--json").json}
    assert {path.name.partition(".")[0] for path in files} <= listed

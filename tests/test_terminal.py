"""At a terminal: it asks, it fits 80 columns, it shows colours only where they are wanted, it completes."""

import os
import re
import shutil
import subprocess
import sys

import pytest
from conftest import COMMAND


def test_it_asks_and_takes_no_for_no(kept):
    kept.spoil()
    before = kept.places()
    arguments = ["import", "mosslight@1", "--place", "potting-shed"]
    for answer in ("n\n", "\n", "\x03"):
        output, code = kept.at_terminal(*arguments, answers=[("[y/N]:", answer)])
        assert "Write this? [y/N]" in output and code == 3
        assert kept.places() == before
    output, code = kept.at_terminal(*arguments, answers=[("[y/N]:", "y\n")])
    assert code == 0 and "6 settings written" in output
    assert kept.places() != before


def test_colours_are_for_terminals_that_want_them(kept):
    kept.spoil()
    output, _ = kept.at_terminal("compare", "mosslight")
    assert "\x1b[" in output and "changed" in output
    output, _ = kept.at_terminal("compare", "mosslight", env={"NO_COLOR": "1", "TERM": "dumb"}.items())
    assert not re.search(r"\x1b\[[0-9;]*3[0-9]", output)
    assert "\x1b" not in kept("compare", "mosslight", code=1, env={"NO_COLOR": ""}).out


@pytest.mark.parametrize(
    "arguments",
    [
        ["--help"],
        ["list"],
        ["compare", "mosslight"],
        ["import", "mosslight", "--place", "glasshouse", "--preview"],
        ["show", "mosslight"],
    ],
)
def test_everything_fits_eighty_columns(kept, arguments):
    kept.ini.write_bytes(kept.ini.read_bytes().replace(b"lights.tarnhollow", b"l" * 300))
    kept("export", "mosslight", "--place", "potting-shed", "--label", "long-" * 30, "--note", "note " * 40)
    kept.spoil()
    out, _ = kept.at_terminal(*arguments, env={"NO_COLOR": "1"}.items())
    out = re.sub(r"\x1b\[[0-9;]*m", "", out)
    whole = kept(*arguments, code=None).out
    heading, beyond = "", []
    for line in out.splitlines():
        heading = heading if line.startswith(" ") else line
        # A sentence that says why something is left out is not cut, and whole in a file.
        if len(line) > 80 and heading not in ("Left alone:", "Would be refused now:"):
            beyond.append(line)
    assert beyond == []
    assert "…" in out or arguments[0] not in ("list", "show")  # their columns cannot hold what is so long
    assert "…" not in whole.replace("SUBJECTS…", "")  # and nothing is cut in a file


def test_a_sentence_too_long_for_a_terminal_is_broken_between_words(kept):
    kept.ini.write_bytes(b"no = [broken\n\0")
    arguments = ("export", "mosslight", "--place", "potting-shed", "--part", "general")
    arguments = (*arguments, "--again")
    whole = next(line for line in kept(*arguments, code=1).out.splitlines() if "mosslight.ini: " in line)
    output, _ = kept.at_terminal(*arguments, env={"COLUMNS": "60", "NO_COLOR": "1"}.items())
    lines = output.splitlines()
    first = next(number for number, line in enumerate(lines) if "mosslight.ini: " in line)
    assert len(lines) - first > 2 and all(len(line) <= 60 for line in lines)
    assert " ".join(" ".join(lines[first:]).split()) == whole.strip()
    assert all(re.match(r"    \S", line) for line in lines[first + 1 :])


@pytest.mark.parametrize(
    ("typed", "completed"),
    [
        ("zinker ", "subjects"),
        ("zinker im", "import"),
        ("zinker import --pre", "--preview"),
        ("zinker --ver", "--version"),
    ],
)
def test_commands_and_options_complete(garden, typed, completed):
    count = len(typed.split(" ")) - 1
    asked = {"_ZINKER_COMPLETE": "complete_bash", "COMP_WORDS": typed, "COMP_CWORD": str(count)}
    assert completed in garden(env=asked).out.split()


def test_more_or_less_is_said(kept):
    kept.spoil()
    wanted = ("import", "mosslight@1", "--place", "potting-shed", "--yes")
    done = kept(*wanted, "--quiet")
    assert done.out == done.err == "" and "dusk = 19:30" in kept.ini.read_text()
    done = kept("undo", "--yes", "--quiet", "--json")  # a program reads what it asked for
    assert done.json["state"] == "done" and done.err == ""
    assert kept("compare", "mosslight", "--quiet", code=1).out == ""
    assert "dusk" in kept("compare", "mosslight", "--quiet", "--format", "csv", code=1).out
    assert "nowhere" in kept(*wanted[:3], "nowhere", "--quiet", code=2).err
    # Nobody is asked by a quiet command, and what was not shown does not happen.
    out, code = kept.at_terminal(*wanted[:-1], "--quiet")
    assert code == 3 and "--yes was not given" in out and "[y/N]" not in out
    # Each step, as it is taken; in a log with its time, and how it ended. Values are in none of them.
    log = kept.path / "own.log"
    assert kept(*wanted, "--quiet", "--log", log).out == ""
    done = kept("undo", "--yes", "--verbose", "--log", log)
    assert f"  writing {kept.ini}\n" in done.err and done.err.endswith("  ended with 0\n")
    assert "undone" in done.out and "Traceback" not in done.err
    kept(*wanted[:3], "nowhere", "--log", log, code=2)
    lines = log.read_text().splitlines()
    assert all(re.match(r"\d{4}-\d\d-\d\dT[\d:.]+[+-]\d\d:\d\d \d+ (INFO|ERROR) \S", line) for line in lines)
    assert [line.rpartition("ended with ")[2] for line in lines if "ended with" in line] == ["0", "0", "2"]
    assert "INFO zinker " in lines[0] and "ERROR No place nowhere: " in lines[-2]
    assert not {"19:30", "07:30", "drip.wav"} & set(re.split(r"[ /]", log.read_text()))
    assert os.name == "nt" or log.stat().st_mode & 0o777 == 0o600
    assert "--quiet and --verbose" in kept("list", "--quiet", "--verbose", code=2).err
    for path, why in ((kept.path, "is a folder"), (kept.path / "no/where.log", "cannot be written")):
        assert why in kept("list", "--log", path, code=2).err


def test_a_closed_pipe_is_no_error(kept):
    command = f'"{COMMAND[0]}" show mosslight | head -1'
    done = subprocess.run(
        ["sh", "-c", command], env=kept.env | {"PATH": os.environ["PATH"]}, capture_output=True, check=False
    )
    assert done.stderr == b"" and b"Mosslight" in done.stdout


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("shelf = 7\n", "line 1, key shelf: it must be str, not int"),
        (
            "[places.x]\nkind = 'folder'\npath = '.'\nfolder = {}\n",
            "line 4, key places.x.folder: there is no such key",
        ),
        ("[places.x]\nkind = 'cloud'\npath = '.'\n", "key places.x.kind"),
        ("[places.x]\nkind = 'folder'\npath = '.'\nfolders = { hom = 'x' }\n", "folders.hom"),
        ("[places.x]\nkind = 'folder'\npath = '.'\nfolders = { home = '../../x' }\n", "folders.home"),
        ("[places\n", "line 1, column"),
        ("", "No subject mosslight"),
    ],
)
def test_a_mistake_in_the_configuration_is_named(garden, text, says):
    (garden.home / "zinker.toml").write_text(text)
    assert says in garden("export", "mosslight", "--place", "potting-shed", code=2).err


def test_a_silent_place_says_so(garden):
    (garden.path / "glasshouse").rename(garden.path / "away")
    out = garden("places", code=1).out
    assert re.search("glasshouse is silent: the folder .* is not there", out) and "potting-shed" in out
    assert "No answer from glasshouse" in garden("export", "mosslight", "--place", "glasshouse", code=3).err
    garden.workstation("gate-kiosk").write_text("{")
    assert "gate-kiosk.json" in garden("export", "brindlepot", "--place", "gate-kiosk", code=3).err
    assert garden("places", code=1).out.count("answers") == 3


def test_several_subjects_in_one_go(garden):
    done = garden("export", "mosslight", "brindlepot", "--place", "potting-shed", "--json", code=3)
    first, second = done.json
    assert first["reference"] == "mosslight@1" and "nothing of Brindlepot" in second["error"]["why"]
    assert "nothing of Brindlepot" in done.err


def test_a_day_means_the_newest_version_until_then(kept):
    kept("export", "mosslight", "--place", "potting-shed", "--again")
    today = kept("list", "--json").json[0]["captured"][:10]
    assert kept("show", f"mosslight@{today}", "--json").json["source"].startswith("mosslight@2")
    assert kept("show", "potting-shed:mosslight@latest", "--json").json["source"].startswith("mosslight@2")


def test_a_damaged_version_is_said_and_never_passed_over(kept):
    kept("export", "mosslight", "--place", "potting-shed", "--again")
    path = kept.path / "shelf/subjects/mosslight/2.json"
    path.write_bytes(path.read_bytes()[:900])
    assert re.search("@2 +damaged", kept("list").out)
    assert "mosslight@2 is damaged" in kept("show", "mosslight", code=5).err
    assert kept("show", "mosslight@1").code == 0
    kept.spoil()
    kept("import", "mosslight@1", "--place", "potting-shed", "--yes")
    assert [version["number"] for version in kept("list", "--json").json] == [1, 2, 3]


@pytest.mark.skipif(sys.platform != "linux", reason="the shelf's own files are looked at")
def test_a_shelf_of_a_newer_format_is_left_alone(kept):
    (kept.path / "shelf/shelf.json").write_text('{"format": 3}')
    assert "Use a newer Zinker" in kept("list", code=5).err
    (kept.path / "shelf/shelf.json").write_text("")
    assert "shelf.json is damaged" in kept("export", "mosslight", "--place", "potting-shed", code=5).err


def test_alone_it_says_what_to_do_first(garden, tmp_path):
    """On a machine of one's own: what is found there, and the command that keeps it all."""
    home = tmp_path / "own"
    (home / ".config/mosslight").mkdir(parents=True)
    shutil.copy(garden.ini, home / ".config/mosslight/mosslight.ini")
    garden.env["HOME"] = str(home)
    out = garden().out
    assert re.search(r"mosslight +Mosslight greenhouse lighting +not yet", out)
    command = next(line.split() for line in out.splitlines() if line.startswith("    zinker"))
    assert command == ["zinker", "export", "--all"]
    garden(*command[1:])
    assert "just now" in garden().out and "zinker compare" in garden().out
    (home / ".config/mosslight/mosslight.ini").unlink()
    assert "export --home" in garden().out and "1 subject" in garden().out


@pytest.mark.parametrize(
    ("words", "why"),
    [
        (["show"], "Missing argument"),
        (["show", "--bogus"], "No such option: --bogus"),
        (["sho"], "No such command 'sho'"),
        (["thin", "--newest", "x"], "--newest"),
        (["import", "mosslight", "--on-conflict", "shout"], "--on-conflict"),
    ],
)
def test_mistakes_of_usage_are_said_to_programs_too(garden, words, why):
    done = garden(*words, "--json", code=2)
    assert why in done.json["error"]["why"] and "--help" in done.json["error"]["then"]
    assert why in done.err and why in garden(*words, code=2).err.replace("│", " ")

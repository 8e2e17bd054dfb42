"""To another world: crosswalks, transfers, instances, editions; and what a click touches."""

import io
import json
import os
import re
import shutil
import sys
import types

import pytest
from conftest import Done

CROSSWALK = r"""
format = 1
[[replace]]
from = 'C:\Users\ivy'
to = 'E:\People\Fern Frond'
kind = "path"
[[replace]]
from = "ivy"
to = "fern"
kind = "word"
[[replace]]
from = "lights.tarnhollow"
to = "lamps.tarnhollow"
addresses = ["/account/*"]
[[move]]
part = "general"
from = "/keys"
to = "/shortcuts"
since = "3.3"
[[value]]
part = "general"
address = "/lamps.north/level"
at = { glasshouse = "77", potting-shed = "55" }
"""
ADOPTED = ("--place", "glasshouse", "--adopt", "--yes")


@pytest.fixture
def walked(kept):
    (kept.path / "new.crosswalk.toml").write_text(CROSSWALK)
    return kept


def test_a_crosswalk_translates_moves_and_gives_a_place_its_own(walked):
    rules = ("--crosswalk", "new.crosswalk.toml")
    shown = walked("import", "mosslight", "--place", "glasshouse", *rules, "--preview").out
    assert re.search(r"moved +/shortcuts/mist +F7\n +in the profile it is at /keys/mist", shown)
    assert r"C:\Users\ivy becomes E:\People\Fern Frond" in shown and "ivy becomes fern" in shown
    walked("import", "mosslight", *ADOPTED, *rules)
    text = (walked.path / "glasshouse/Users/fern/AppData/Roaming/mosslight/mosslight.ini").read_text()
    assert r"catalogue = E:\People\Fern Frond\Documents\ferns and mosses.csv" in text
    assert "[shortcuts]" in text and "[keys]" not in text and "level = 77" in text
    assert "server = lamps.tarnhollow.example" in text and "name = fern" in text
    # Translated, what stands there is the same; without, it is not.
    differing = walked("compare", "mosslight", "glasshouse:mosslight", "--json", code=1).json["differences"]
    assert {"/keys/mist", "/lamps.north/level", "/account/name"} <= {d["address"] for d in differing}
    same = walked("compare", "mosslight", "glasshouse:mosslight", *rules, "--json", code=1).json[
        "differences"
    ]
    assert {d["address"] for d in same} == {"/about/version", "/account/token", "/general/updates", ""}
    assert walked("import", "mosslight", *ADOPTED, *rules, "--json").json["state"] == "alike"
    walked("undo", "--yes")
    # The move belongs to a newer version: between two old ones it is not made.
    path = walked.path / "glasshouse/Users/fern/AppData/Roaming/mosslight/mosslight.ini"
    path.write_bytes(path.read_bytes().replace(b"version = 3.4.0", b"version = 3.2.9"))
    plan = walked("import", "mosslight", "--place", "glasshouse", *rules, "--preview", "--json").json
    assert "/keys/mist" in {item["address"] for document in plan["plan"] for item in document["settings"]}


def test_a_move_counts_backwards_and_in_a_file_that_is_not_there(walked):
    rules = ("--crosswalk", "new.crosswalk.toml")
    there = walked.path / "glasshouse/Users/fern/AppData/Roaming/mosslight/mosslight.ini"
    walked("import", "mosslight", *ADOPTED, *rules)
    walked("export", "mosslight", "--place", "glasshouse", "--label", "newer")
    walked.ini.write_bytes(walked.ini.read_bytes().replace(b"mist = F7", b"mist = F9"))
    walked(
        "import",
        "mosslight@newer",
        "--place",
        "potting-shed",
        "--adopt",
        "--yes",
        *rules,
        "--part",
        "general",
    )
    assert "mist = F7" in walked.ini.read_text() and "[shortcuts]" not in walked.ini.read_text()
    # Without the file there is no version, so the move is told to count always.
    text = CROSSWALK.replace('since = "3.3"\n', "")
    (walked.path / "new.crosswalk.toml").write_text(text)
    there.unlink()
    walked("import", "mosslight@1", *ADOPTED, *rules, "--part", "general")
    made = there.read_text()
    assert "; the orchids stand here" in made and "mist" in made.partition("[shortcuts]")[2]
    assert "mist" not in made.partition("[keys]")[2].partition("[")[0]


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("format = 2\n", "line 1, key format"),
        ('format = 1\n[[replace]]\nform = "x"\nto = "y"\n', "key replace.1.form: there is no such key"),
        ('format = 1\n[[move]]\npart = "general"\nfrom = "keys"\nto = "/x"\n', "key move.1.from"),
        (
            'format = 1\n[[move]]\npart = "general"\nfrom = "/keys"\nto = "/x"\nsince = "soon"\n',
            "which is no version",
        ),
        (
            'format = 1\n[[move]]\npart = "general"\nfrom = "/keys/mist"\nto = "/keys/all-off"\n',
            "two settings",
        ),
        ("format = 1\n[[replace\n", "line 2, column"),
    ],
)
def test_a_mistake_in_a_crosswalk_is_named(kept, text, says):
    (kept.path / "x.crosswalk.toml").write_text(text)
    before = kept.places()
    assert says in kept("import", "mosslight", *ADOPTED, "--crosswalk", "x.crosswalk.toml", code=2).err
    assert kept.places() == before


def test_a_crosswalk_is_proposed_from_two_places(kept):
    there = kept.path / "glasshouse/Users/fern/AppData/Roaming/mosslight/mosslight.ini"
    text = there.read_text().replace("catalogue =", r"catalogue = D:\Plants\list.csv")
    there.write_text(
        text + "\n[account]\nserver = lamps.tarnhollow.example\nhelp = lamps.tarnhollow.example/help\n"
    )
    kept.ini.write_text(
        kept.ini.read_text().replace("name = ivy", "name = ivy\nhelp = lights.tarnhollow.example/help")
    )
    there.write_text(there.read_text() + "[shortcuts]\nmist = F7\nnext-bench = Ctrl+Right\n")
    out = kept("crosswalk", "new", "potting-shed", "glasshouse").out
    assert "4 texts to replace, 2 settings that move" in out
    path = kept.path / "potting-shed-to-glasshouse.crosswalk.toml"
    proposed = path.read_text()
    assert "from = 'C:\\Users\\ivy'" in proposed and "from = 'lights'\nto = 'lamps'" in proposed
    assert "from = '/keys/next-bench'\nto = '/shortcuts/next-bench'" in proposed
    assert "# at = { 'potting-shed' = '19:30', 'glasshouse' = '18:00' }" in proposed
    assert "No mistakes" in kept("crosswalk", "check", path).out
    assert "is there already" in kept("crosswalk", "new", "potting-shed", "glasshouse", code=3).err
    # Every comment in it is a rule, too.
    uncommented = re.sub(r"^# (\[\[value|part|document|address|at )", r"\1", proposed, flags=re.M)
    path.write_text(uncommented)
    assert re.search(r"7 settings with values of their own", kept("crosswalk", "check", path).out)


def test_from_place_to_place_and_from_the_spare_bench_to_the_real_one(kept):
    before = kept.places()
    path = ("--from", "potting-shed", "--to", "glasshouse")
    assert "this was a preview" in kept("transfer", "mosslight", *path, "--preview").out
    assert kept.places() == before and len(kept("list", "--json").json) == 1
    kept("transfer", "mosslight", *path, "--yes", "--with-secrets")
    there = kept.path / "glasshouse/Users/fern/AppData/Roaming/mosslight"
    assert "token = 7f3d-moss-91aa-peat" in (there / "mosslight.ini").read_text()
    assert kept("changes", "--json").json[0]["kind"] == "transfer"
    kept("undo", "--yes")
    assert kept.places() == before
    devices = kept.settings / "devices"
    shutil.copy(devices / "bench-east.json", devices / "spare-bench.json")
    simulated = (devices / "spare-bench.json").read_text().replace('"minutes": 40', '"minutes": 12')
    (devices / "spare-bench.json").write_text(simulated)
    here = ("--from", "potting-shed", "--to", "potting-shed", "--part", "presets")
    assert (
        "both places are potting-shed"
        in kept("transfer", "mosslight/spare-bench", *here, "--yes", code=2).err
    )
    kept("transfer", "mosslight/spare-bench", *here, "--as", "bench-west", "--yes")
    assert json.loads((devices / "bench-west.json").read_bytes())["ramp"]["minutes"] == 12
    assert (devices / "spare-bench.json").read_text() == simulated
    why = kept("transfer", "mosslight", *here, "--as", "bench-west", "--yes", code=2).err
    assert "has more than one instance" in why and "bench-east, bench-west, spare-bench" in why
    why = kept("transfer", "mosslight/spare-bench", *here, "--as", "../up", "--yes", code=2).err
    assert "cannot be the name of an instance" in why


def test_another_edition_is_another_subject(kept):
    text = (kept.path / "subjects/mosslight.subject.toml").read_text()
    text = text.replace('id = "mosslight"', 'id = "mosslight-pro"').replace(
        "}/mosslight/", "}/mosslight-pro/"
    )
    (kept.path / "subjects/mosslight-pro.subject.toml").write_text(text)
    (kept.path / "pro.crosswalk.toml").write_text('format = 1\nsubjects = { mosslight = "mosslight-pro" }\n')
    rules = ("--crosswalk", "pro.crosswalk.toml")
    kept("import", "mosslight@1", "--place", "potting-shed", "--part", "presets", "--yes", *rules)
    copied = kept.settings.with_name("mosslight-pro") / "devices/bench-east.json"
    assert copied.read_bytes() == (kept.settings / "devices/bench-east.json").read_bytes()
    kept("compare", "mosslight@1", "potting-shed:mosslight-pro", "--part", "presets", *rules)
    kept("undo", "--yes")
    assert not copied.parent.parent.exists()


def while_watched(garden, *arguments, first=lambda: None, second=lambda: None):
    """Run spot, and act during its first and its second watch: instead of waiting for the time that is given."""
    out, err = garden.path.parent / "out", garden.path.parent / "err"
    child = os.fork()
    if child == 0:
        from zinker.cli import spot_command
        from zinker.cli.main import run

        acts = [first, second]
        spot_command.time = types.SimpleNamespace(sleep=lambda seconds: acts.pop(0)())
        os.chdir(garden.path)
        os.environ.clear()
        os.environ.update(garden.env)
        code = 9
        with out.open("w") as sys.stdout, err.open("w") as sys.stderr:
            sys.stdin = io.StringIO()
            sys.argv = ["zinker", "spot", *map(str, arguments), "--still", "2.5", "--for", "2.5"]
            try:
                run()
            except SystemExit as ended:
                code = ended.code or 0
        os._exit(code)
    code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    assert code == 0, err.read_text()
    return Done(code, out.read_text(), err.read_text())


def rewrite(path, *pairs):
    data = path.read_bytes()
    for old, new in pairs:
        assert old in data, (path, old)
        data = data.replace(old, new)
    path.write_bytes(data)


def test_a_click_is_spotted_kept_and_put_back_alone(garden):
    preset = garden.settings / "devices/bench-west.json"

    def quiet():
        rewrite(preset, (b"20418", b"20419"))
        rewrite(garden.ini, (b"[recent]", b"[recent]\r\n7 = a"), (b"width = 1280", b"width = 9"))

    def click():
        rewrite(preset, (b"20419", b"20420"), (b'"level": 65', b'"level": 66'))
        rewrite(
            garden.ini,
            (b"[recent]", b"[recent]\r\n8 = b"),
            (b"level = 80", b"level = 81"),
            (b"mist = F7\r\n", b""),
        )
        edit = lambda s: s["registry"]["keys"][KEY]["Sound"].__setitem__(1, "frog.wav")  # noqa: E731
        garden.edit_workstation("potting-shed", edit)

    KEY = r"HKEY_CURRENT_USER\Software\Tarn Hollow\Mosslight\Alarm"
    before = garden.ini.read_bytes(), preset.read_bytes()
    arguments = ("mosslight", "--place", "potting-shed", "--label", "click", "--json")
    seen = while_watched(garden, *arguments, first=quiet, second=click).json
    assert {(d["what"], d["address"]) for d in seen["touched"]} == {
        ("changed", "/lamps.south/level"),
        ("gone", "/keys/mist"),
        ("changed", "/channels/0/level"),
        ("changed", "/Alarm/Sound"),
    }
    assert {d["address"] for d in seen["noise"]} == {"/serial", "/recent/7", "/window/width"}
    assert seen["kept"] == "mosslight@1" and "no version latest" in garden("show", "mosslight", code=2).err
    # Put back on the state before, just these are written.
    garden.ini.write_bytes(before[0])
    preset.write_bytes(before[1])
    assert "3 changed" in garden("compare", "mosslight@click", code=1).out.replace(
        "2 changed, 1 new", "3 changed"
    )
    plan = garden("import", "mosslight@click", "--place", "potting-shed", "--yes", "--json").json
    assert plan["settings"] == 3 and "mist" not in garden.ini.read_text()
    assert garden.ini.read_bytes() == before[0].replace(b"level = 80", b"level = 81").replace(
        b"mist = F7\r\n", b""
    )
    assert preset.read_bytes() == before[1].replace(b'"level": 65', b'"level": 66')
    assert "No differences" in garden("compare", "mosslight@click").out
    why = garden("import", "mosslight@click", "--place", "potting-shed", "--exact", "--yes", code=2).err
    assert "holds only some settings" in why


def test_a_folder_nobody_has_described_is_watched_and_drafted(garden):
    folder = garden.path / "own/.config/fernwork"
    (folder / "deep").mkdir(parents=True)
    (folder / "fern.ini").write_text("[a]\nx = 1\ntick = 1\n")
    (folder / "deep/moss.json").write_text('{"grow": {"fast": false}}')

    def click():
        rewrite(folder / "fern.ini", (b"tick = 2", b"tick = 3"), (b"x = 1", b"x = 5"))
        rewrite(folder / "deep/moss.json", (b"false", b"true"))

    done = while_watched(
        garden,
        *("--home", folder, "--draft", "fernwork", "--to", garden.path / "subjects"),
        first=lambda: rewrite(folder / "fern.ini", (b"tick = 1", b"tick = 2")),
        second=click,
    )
    assert re.search(r"changed +/a/x +was 1, now 5", done.out) and "2 settings: 2 changed" in done.out
    draft = garden.path / "subjects/fernwork.subject.toml"
    assert "is right" in garden("subjects", "check", draft).out
    assert '"/a/tick",' in draft.read_text() and '"/grow/fast" = "fast"' in draft.read_text()
    garden("export", "fernwork")
    rewrite(folder / "fern.ini", (b"tick = 3", b"tick = 9"), (b"x = 5", b"x = 6"))
    assert "1 changed" in garden("compare", "fernwork", code=1).out
    why = garden("spot", "--still", "0", "--for", "0", code=2).err + garden("spot", "mosslight", code=2).err
    assert "neither a subject nor a home" in why and "--still 5 --for 30" in why
    nothing = garden("spot", "mosslight", "--place", "gate-kiosk", "--still", "0", "--for", "0", code=3).err
    assert "nothing of Mosslight greenhouse lighting is at gate-kiosk" in nothing

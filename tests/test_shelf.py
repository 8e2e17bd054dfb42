"""The shelf: what a version costs, what goes and what stays, damage found and mended, copies, old shelves."""

import datetime
import hashlib
import itertools
import json
import random
import shutil
import subprocess
import zipfile

import msgspec
import pytest
from conftest import Garden, needs_system, unpacked
from hypothesis import given
from hypothesis import strategies as st

from zinker.model.setting import Setting, encode_lines
from zinker.shelf import delta
from zinker.shelf.objects import Objects
from zinker.shelf.record import checked, stamped
from zinker.shelf.storage import FolderStorage
from zinker.shelf.thinning import Rules, going
from zinker.shelf.versions import Record, Version

AT = ("--place", "potting-shed")


def numbers(garden, subject="mosslight"):
    return [version["number"] for version in garden("list", subject, "--json").json]


def objects(garden, shelf="shelf"):
    return {path.name.partition(".")[0]: path for path in (garden.path / shelf / "objects").rglob("*.zst")}


def size(folder):
    return sum(path.stat().st_size for path in folder.rglob("*") if path.is_file())


def turn(garden, level):
    """Change one setting."""
    text = garden.ini.read_bytes()
    start = text.index(b"level = ") + 8
    garden.ini.write_bytes(text[:start] + str(level).encode() + text[text.index(b"\r", start) :])


def dated(garden, days, shelf="shelf", subject="mosslight"):
    """Have the versions captured so many days ago, as if they had been kept then."""
    folder = garden.path / shelf / "subjects" / subject
    for number, ago in days.items():
        path = folder / f"{number}.json"
        record = checked(path.read_bytes(), Record)
        when = datetime.datetime.now().astimezone() - datetime.timedelta(days=ago)
        about = msgspec.structs.replace(record.profile, captured=when.isoformat(timespec="seconds"))
        path.write_bytes(stamped(msgspec.structs.replace(record, profile=about)))
    (folder / "index.json").unlink(missing_ok=True)


@pytest.fixture
def many(kept):
    """A garden with seven versions, each with one setting changed; the first has a label."""
    plots = "".join(f"plot-{number:03} = moss, fern and liverwort\r\n" for number in range(2000))
    kept.ini.write_bytes(kept.ini.read_bytes() + f"[plots]\r\n{plots}".encode())
    for level in range(11, 17):
        turn(kept, level)
        kept("export", "mosslight", *AT)
    return kept


lines = st.dictionaries(
    st.tuples(st.text("ab/", max_size=3), st.text('ab"\\/é', max_size=3).map("/{}".format)),
    st.integers(0, 3),
    max_size=30,
)


def encoded(settings):
    return encode_lines([Setting(*key, "int", value) for key, value in sorted(settings.items())])


def in_pieces(data, at):
    """Yield data in pieces of whole lines."""
    rows = data.splitlines(keepends=True)
    for start in range(0, len(rows), at):
        yield b"".join(rows[start : start + at])


@given(st.lists(lines, min_size=2, max_size=4), st.integers(1, 7))
def test_deltas_lead_from_each_to_the_next_and_say_what_is_between(all_settings, at):
    datas = list(map(encoded, all_settings))
    chain = []
    for old, new in zip(datas, datas[1:], strict=False):
        hunks = delta.hunks_between(in_pieces(old, at), in_pieces(new, at + 1))
        told = delta.encode_delta("a" * 64, "b" * 64, hunks, 10**9)
        assert delta.base_of(told) == "a" * 64
        chain.append(delta.decode_delta(told))
    chunks = delta.chunks_of(in_pieces(datas[0], at))
    for hunks in chain:
        chunks = delta.patched(chunks, hunks)
    assert b"".join(delta.pieces_of(chunks)) == datas[-1]
    first, last = set(datas[0].splitlines()), set(datas[-1].splitlines())
    assert delta.net(chain) == (first - last, last - first)


def test_a_delta_is_what_patch_makes_the_next_of(tmp_path):
    needs_system(shutil.which("patch"), "patch")
    dice = random.Random(5)
    old = {("d.ini", f"/{n:04}"): dice.randrange(9) for n in range(2000)}
    new = {key: 7 if dice.random() < 0.01 else value for key, value in old.items() if dice.random() < 0.99}
    new |= {("d.ini", f"/{n:04}+"): 1 for n in (0, 700, 1999)}
    (tmp_path / "old").write_bytes(encoded(old))
    hunks = delta.hunks_between(in_pieces(encoded(old), 60), in_pieces(encoded(new), 50))
    (tmp_path / "delta").write_bytes(delta.encode_delta("a" * 64, "b" * 64, hunks, 10**9))
    subprocess.run(["patch", "-s", "-o", "new", "old", "delta"], cwd=tmp_path, check=True)
    assert (tmp_path / "new").read_bytes() == encoded(new)


def test_a_version_costs_what_changed_also_of_another_machine_and_as_a_fallback(kept):
    folder = kept.data / "artwork/many"
    folder.mkdir()
    dice = random.Random(3)
    for number in range(20):
        (folder / f"{number}.svg").write_bytes(b"<svg>" + dice.randbytes(20_000) + b"</svg>")
    kept("export", "mosslight", *AT)
    before, whole = size(kept.path / "shelf"), kept("list", "--json").json[-1]["size"]
    assert whole > 400_000
    done = kept("export", "mosslight", *AT, "--json").json[0]
    assert done["unchanged"] and done["reference"] == "mosslight@2" and numbers(kept) == [1, 2]
    assert size(kept.path / "shelf") - before < 1000
    turn(kept, 77)
    (folder / "7.svg").write_bytes(b"<svg>another</svg>")
    kept("export", "mosslight", *AT)
    kept("import", "mosslight@2", *AT, "--yes")  # with a fallback
    shutil.copytree(folder, kept.path / "glasshouse/home/ivy/.local/share/mosslight/artwork/many")
    kept("export", "mosslight", "--place", "glasshouse")
    assert [one["place"] for one in kept("list", "--json").json][-1] == "glasshouse"
    assert size(kept.path / "shelf") - before < 30_000
    # Each is whole all the same.
    for number in numbers(kept):
        assert kept("check", f"mosslight@{number}").code == 0
    assert "/lamps.north/level" in kept("show", "mosslight@3", "--find", "77").out


def test_of_large_settings_only_what_changed_is_kept(kept):
    """Pieces of a stream end anywhere; versions that stand on others are thinned from under them, too."""
    sheet = {f"row {row}": {f"column {column}": row * column for column in range(20)} for row in range(4000)}
    path, sizes = kept.settings / "devices/bench-east.json", []
    for number in range(4):
        for row in range(0, 4000, 900):
            sheet[f"row {row}"]["column 3"] = f"in version {number}"
        path.write_text(json.dumps(sheet))
        kept("export", "mosslight", *AT, "--part", "presets")
        sizes.append(sum(file.stat().st_size for file in objects(kept).values() if ".diff" in file.name))
    assert sizes[0] == 0 and sizes[-1] > sizes[1] > 0 and sizes[-1] < 20_000
    assert "in version 2" in kept("show", "mosslight@4", "--find", "in version").out
    done = kept("compare", "mosslight@3", "mosslight@5", "--json", code=1).json
    assert len(done["differences"]) == 5
    kept("thin", "mosslight@2", "mosslight@3", "--yes")
    assert kept("check").code == 0 and numbers(kept) == [1, 4, 5]
    assert "in version 2" in kept("show", "mosslight@4", "--find", "in version").out
    assert "in version 3" in kept("show", "mosslight@5", "--find", "in version").out


def test_nothing_changed_is_noted_and_gives_label_and_note(kept):
    dated(kept, {1: 40})
    assert "stale" in kept("list").out and kept("list", "--json").json[0]["stale"]
    done = kept("export", "mosslight", *AT, "--note", "before the fair")
    assert "Nothing has changed since mosslight@1, now labelled season-start" in done.out
    (one,) = kept("list", "--json").json
    assert (
        one["label"] == "season-start"
        and one["note"] == "before the fair"
        and one["looked"] > one["captured"]
    )
    assert not one["stale"] and "stale" not in kept("list").out and "just now" in kept("list").out
    # A version has one name and one note: another name is another version, which costs next to nothing.
    kept("export", "mosslight", *AT, "--label", "winter")
    assert [(v["number"], v["label"]) for v in kept("list", "--json").json] == [
        (1, "season-start"),
        (2, "winter"),
    ]
    kept("export", "mosslight", *AT, "--again")
    assert numbers(kept) == [1, 2, 3]


def test_a_label_is_given_moved_and_taken_away(many):
    assert "has the label season-start already" in many("label", "mosslight@3", "season-start", code=3).err
    many("label", "mosslight@3", "season-start", "--move", "--note", "after the fair")
    shown = many("show", "mosslight@season-start", "--json").json["profile"]
    assert shown["note"] == "after the fair" and shown["label"] == "season-start"
    assert many("show", "mosslight@season-start", "--json").json["source"].startswith("mosslight@3")
    many("label", "mosslight@3", "--take-away")
    assert many("show", "mosslight@season-start", code=2).code == 2
    assert many("list", "--json").json[2]["note"] == "after the fair"
    for name in ("7", "latest", "a:b", "a@b", "a/b"):
        many("label", "mosslight@2", name, code=2)
    many("label", "mosslight@99", "x", code=2)
    many("label", "potting-shed:mosslight", "x", code=2)


def test_the_index_is_made_anew_from_the_versions_and_never_believed_against_them(many):
    shelf = many.setup.shelf
    shelf.records.write_index("mosslight", is_wanted=True)
    index = many.path / "shelf/subjects/mosslight/index.json"
    told = many("list", "--json").json
    for spoilt in (
        index.read_bytes()[:-9],
        b"",
        index.read_bytes().replace(b"season-start", b"season-sturt"),
    ):
        index.write_bytes(spoilt)
        assert many("list", "--json").json == told
    assert "does not say what is there" in many("check").out and many("check").out.count("damage") == 0
    index.unlink()
    assert many("list", "--json").json == told


def a_version(number, days, now, **more):
    when = (now - datetime.timedelta(days=days)).isoformat()
    return Version("mosslight", number, "shed", "SHED", when, 5, **more)


def test_rules_keep_the_newest_of_each_day_week_and_month():
    now = datetime.datetime(2026, 11, 26, 12).astimezone()
    daily = [a_version(200 - ago, ago, now) for ago in range(200)][::-1]

    def stays(versions, rules=Rules(), fallbacks=90, older=None):  # noqa: B008
        gone = {one.version.number for one in going(versions, lambda version: rules, now, fallbacks, older)}
        return [one.number for one in versions if one.number not in gone]

    assert stays(daily) == [one.number for one in daily]
    assert stays(daily, Rules(newest=3)) == [198, 199, 200]
    assert stays(daily, Rules(days=5)) == [196, 197, 198, 199, 200]
    # The 26th is a Thursday; the Sundays before it are the newest of their weeks.
    assert stays(daily, Rules(weeks=4)) == [200 - 4 - 14, 200 - 4 - 7, 200 - 4, 200]
    assert stays(daily, Rules(months=3)) == [200 - 26 - 31, 200 - 26, 200]
    assert len(stays(daily, Rules(newest=10, days=14, weeks=8, months=24))) == 14 + 6 + 5
    assert stays(daily, older=7) == [194, 195, 196, 197, 198, 199, 200]
    # What is named, the last good one, what is dated ahead, and each place by itself.
    odd = [
        a_version(1, 900, now, label="old"),
        a_version(2, 800, now),
        a_version(3, 700, now, lost=2),
        a_version(4, 650, now, looked=(now - datetime.timedelta(days=1)).isoformat(), partial=True),
        a_version(5, -3, now),
        a_version(6, 100, now, fallback_of=1),
        a_version(7, 80, now, fallback_of=2),
        a_version(8, 600, now, fallback_of=3, label="keep"),
        msgspec.structs.replace(a_version(9, 500, now), place="glass"),
        Version("mosslight", 10, problem="damaged"),
    ]
    assert stays(odd, older=30) == [1, 4, 5, 7, 8, 9, 10]
    assert stays(odd, Rules(newest=1)) == [1, 5, 7, 8, 9, 10]
    assert stays(odd[:4], older=0) == [1, 2]


def test_thinning_shows_first_keeps_what_stays_whole_and_gives_the_room_back(many):
    folder = many.data / "artwork/many"
    folder.mkdir()
    (folder / "big.svg").write_bytes(b"<svg>" + random.Random(1).randbytes(300_000))
    many("export", "mosslight", *AT)  # 8
    (folder / "big.svg").unlink()
    many("export", "mosslight", *AT)  # 9
    dated(many, {number: 100 - number for number in range(1, 10)})
    contents = {n: many("show", f"mosslight@{n}", "--json").json["settings"] for n in range(1, 10)}
    before = size(many.path / "shelf/objects")
    preview = many("thin", "--older-than", "3 months", "--preview")
    assert "8 versions would go" not in preview.out and numbers(many) == list(range(1, 10))
    rules = ("--newest", "2", "--months", "1")
    told = many("thin", *rules, "--preview", "--json").json
    assert [one["reference"] for one in told["going"]] == [f"mosslight@{n}" for n in range(2, 8)]
    assert "--yes was not given" in many("thin", *rules, code=3).err
    assert numbers(many) == list(range(1, 10)) and size(many.path / "shelf/objects") == before
    many("thin", *rules, "--yes")
    assert numbers(many) == [1, 8, 9]
    told = many("thin", "mosslight@8", "--yes", "--json").json
    assert told["freed"] > 300_000 and abs(told["freed"] - told["frees"]) < 5000
    assert before - size(many.path / "shelf/objects") > 300_000
    for number in numbers(many):
        assert many("show", f"mosslight@{number}", "--json").json["settings"] == contents[number]
    assert many("check").code == 0 and "No version needs" not in many("check").out
    # Where it is not known what a version needs, nothing that it may need goes.
    page = many.path / "shelf/subjects/mosslight/9.json"
    page.write_bytes(page.read_bytes()[:-5])
    told = many("thin", "--newest", "1", "--yes", code=5).err
    assert "what mosslight@9 needs is not known" in told and "zinker thin mosslight@9" in told
    assert "No version needs" not in many("check", code=5).out
    many("thin", "mosslight@9", "--yes")
    many("export", "mosslight", *AT)
    assert many("check").code == 0
    # A number is not given again, and a labelled version goes when it is named.
    many("thin", "mosslight@10", "mosslight@season-start", "--yes")
    assert numbers(many) == [] and not objects(many)
    many("export", "mosslight", *AT)
    assert numbers(many) == [11]


def test_rules_stand_in_the_configuration_by_subject_and_place(many):
    dated(many, {number: 50 - number for number in range(1, 8)})
    toml = many.home / "zinker.toml"
    base = toml.read_text()
    for table, gone in (
        ("[thin]\nnewest = 6\n", []),  # the oldest has a label
        ("[thin]\nnewest = 3\n", [2, 3, 4]),
        ("[thin]\nnewest = 1\n[thin.subjects.mosslight]\nnewest = 5\n", [2]),
        ("[thin.subjects.mosslight]\nnewest = 5\n[thin.places.potting-shed]\nnewest = 4\n", [2, 3]),
    ):
        toml.write_text(f"{base}\n{table}")
        assert [one["number"] for one in many("thin", "--preview", "--json").json["going"]] == gone, table
    toml.write_text(f'fallbacks = "soon"\n{base}')
    assert "key fallbacks" in many("list", code=2).err
    toml.write_text(base)
    assert "No rules say which versions are to stay" in many("thin").out
    many("thin", "mosslihgt", code=2)
    many("thin", "--older-than", "soon", code=2)


def test_a_fallback_that_has_gone_is_said_and_one_that_is_needed_stays(kept):
    kept.spoil()
    kept("import", "mosslight@1", *AT, "--yes")
    dated(kept, {2: 91})
    assert [one["number"] for one in kept("thin", "--preview", "--json").json["going"]] == [2]
    kept("thin", "--yes")
    assert "can no longer be undone" in kept("changes").out
    assert "its fallback, mosslight@2, is not kept any more" in kept("undo", "1", "--yes", code=3).err
    assert "its fallback, mosslight@2, is not kept any more" in kept("undo", "--yes", code=3).err


def test_every_flipped_bit_is_found_named_and_mended(many):
    many("export", "brindlepot", "--place", "gate-kiosk", code=1)
    turn(many, 55)
    many.spoil()
    many("import", "mosslight@1", *AT, "--yes")
    many.setup.shelf.records.write_index("mosslight", is_wanted=True)
    many("copy", "--to", "other")
    assert many("check").code == 0
    dice, shelf = random.Random(11), many.path / "shelf"
    files = [path for path in shelf.rglob("*") if path.is_file() and path.stat().st_size]
    used = {version["reference"] for version in many("list", "--json").json}
    for path in [*dice.sample(files, 12), *(shelf / "subjects").rglob("*.json")]:
        good = path.read_bytes()
        bad = bytearray(good)
        bad[dice.randrange(len(bad))] ^= 1 << dice.randrange(8)
        path.write_bytes(bad)
        done = many("check", "--json", code=None)
        if path.name == "index.json":
            assert done.code == 0 and "index of mosslight" in done.json["damages"][0]["what"]
            continue
        assert done.code == 5, path
        found = done.json.get("damages", [{"versions": ["the shelf"]}])
        is_object = "objects" in path.parts
        assert not is_object or (found[0]["versions"] and set(found[0]["versions"]) <= used)
        if is_object and "@8" not in str(found[0]["versions"]):  # a fallback is on its own shelf only
            assert many("check", "--from", "other", "--json").json["damages"][0]["mended_from"]
            assert many("check").code == 0
        path.write_bytes(good)


def test_what_is_missing_is_named_with_the_versions_it_touches(many):
    many("copy", "--to", "other")
    whole = next(path for path in objects(many).values() if b"/plots/plot-001" in unpacked(path))
    assert whole.name.endswith(".zst") and ".diff" not in whole.name
    whole.unlink()
    found = many("check", "--json", code=5).json["damages"]
    assert [len(one["versions"]) for one in found] == [6] and "missing" in found[0]["why"]
    assert "mosslight@3" in many("check", code=5).out
    # The newest stands on it, so that it is no twin of what is there now, and that is kept anew.
    many("export", "mosslight", *AT)
    assert many("check", "mosslight@8").code == 0 and "mosslight@7" not in many("check", code=5).out
    licence = many.data.joinpath("licence.dat").read_bytes()
    path = next(path for path in objects(many).values() if unpacked(path) == licence)
    path.write_bytes(path.read_bytes()[:-45])
    assert len(many("check", "--json", code=5).json["damages"]) == 2
    assert many("export", "mosslight", *AT, "--json").json[0]["reference"] == "mosslight@9"
    assert len(many("check", "--json", code=5).json["damages"]) == 1
    # A damaged one is no reason to lose more: nothing new stands on it.
    turn(many, 80)
    many("export", "mosslight", *AT)
    assert many("check", "mosslight@10").code == 0
    many("check", "--from", "other")
    assert many("check").code == 0


def test_copies_keep_what_they_are_and_only_what_is_missing_is_copied(many):
    many("export", "brindlepot", "--place", "gate-kiosk", code=1)
    done = many("copy", "--to", "other", "--json").json
    assert [(one["source"], one["target"]) for one in done["copied"]] == [
        (name, name) for name in ("brindlepot@1", *(f"mosslight@{n}" for n in range(1, 8)))
    ]
    assert all(one["was_there"] for one in many("copy", "--to", "other", "--json").json["copied"])
    turn(many, 90)
    many("export", "mosslight", *AT)
    many("copy", "mosslight", "--to", "other")
    (many.home / "zinker.toml").write_text(
        (many.home / "zinker.toml").read_text().replace('shelf"', 'other"', 1)
    )
    assert numbers(many) == list(range(1, 9)) and many("check").code == 0
    assert many("show", "mosslight@season-start", "--json").json["source"].startswith("mosslight@1")
    # Through a file and a folder, and back: the same version.
    for target, more in (("one.zinker", ()), ("one", ("--folder",))):
        many("copy", "mosslight@3", "--to", target, *more)
        assert many("copy", f"./{target}", "--json").json["copied"][0]["target"] == "mosslight@3"
    many("thin", "mosslight@3", "--yes")
    assert many("copy", "./one", "--json").json["copied"][0]["target"] == "mosslight@9"
    # It is where it belongs by its date, and so is no other's latest.
    order = numbers(many)
    assert sorted(order) == [1, 2, 4, 5, 6, 7, 8, 9] and order.index(9) < order.index(8)
    assert many("show", "mosslight", "--json").json["source"].startswith("mosslight@8")
    many("copy", "one.zinker", "--to", "other2", code=2)
    (many.path / "full").mkdir()
    (many.path / "full/x").touch()
    assert "there is something in it" in many("copy", "--to", "full", code=3).err
    many("copy", "--from", "full", code=2)
    many("copy", "mosslight@1", "--to", "nowhere/x/one.zinker", code=2)


def test_a_version_copied_out_is_the_file_that_an_export_writes(kept):
    kept("copy", "mosslight@1", "--to", "copy.zinker")
    with zipfile.ZipFile(kept.path / "copy.zinker") as copy:
        captured = json.loads(copy.read("profile.json"))["captured"]
    setup = kept.setup
    version = setup.shelf.find("mosslight", "1")
    setup.shelf.copy_out(version, kept.path / "again.zinker")
    assert (kept.path / "again.zinker").read_bytes() == (kept.path / "copy.zinker").read_bytes()
    kept("export", "mosslight", *AT, "--to", "direct.zinker", "--label", "season-start")
    with (
        zipfile.ZipFile(kept.path / "direct.zinker") as direct,
        zipfile.ZipFile(kept.path / "copy.zinker") as copy,
    ):
        assert direct.namelist() == copy.namelist() and captured
        for name in direct.namelist():
            if name != "profile.json":
                assert direct.read(name) == copy.read(name)


def as_format_1(garden):
    """Turn the shelf into one of format 1: whole profile files, as an earlier Zinker kept them."""
    folder = garden.path / "shelf"
    for version in numbers(garden):
        garden("copy", f"mosslight@{version}", "--to", f"{version}.zinker")
    for name in ("objects", "subjects", "writing"):
        shutil.rmtree(folder / name)
    (folder / "subjects/mosslight").mkdir(parents=True)
    for path in garden.path.glob("*.zinker"):
        path.rename(folder / "subjects/mosslight" / path.name)
    (folder / "subjects/mosslight/last-number").write_text("4\n")
    (folder / "shelf.json").write_text('{"format": 1}\n')


def test_an_old_shelf_is_read_as_it_is_goes_on_and_is_carried_over(kept):
    for level in (11, 12):
        turn(kept, level)
        kept("export", "mosslight", *AT)
    settings = kept("show", "mosslight@2", "--json").json["settings"]
    as_format_1(kept)
    before = {path.name: path.read_bytes() for path in (kept.path / "shelf").rglob("*") if path.is_file()}
    assert numbers(kept) == [1, 2, 3]
    assert kept("show", "mosslight@season-start", "--json").json["source"].startswith("mosslight@1")
    assert kept("show", "mosslight@2", "--json").json["settings"] == settings
    kept("compare", "mosslight@1", "mosslight@3", code=1)
    assert kept("check").code == 0
    after = {path.name: path.read_bytes() for path in (kept.path / "shelf").rglob("*") if path.is_file()}
    assert after == before  # looking changes nothing
    kept("copy", "--to", "new")
    done = kept("export", "mosslight", *AT)
    assert "Nothing has changed since mosslight@3" in done.out
    assert "was begun by an earlier Zinker" in done.err
    turn(kept, 13)
    kept("export", "mosslight", *AT)
    assert numbers(kept) == [1, 2, 3, 5]
    kept("import", "mosslight@2", *AT, "--yes")
    kept("undo", "--yes")
    told = kept("thin", "mosslight@2", "--yes", "--json").json
    assert told["freed"] > 1000 and numbers(kept)[:3] == [1, 3, 5]
    toml = kept.home / "zinker.toml"
    toml.write_text(toml.read_text().replace('shelf"', 'new"', 1))
    assert numbers(kept) == [1, 2, 3] and kept("check").code == 0
    assert kept("show", "mosslight@2", "--json").json["settings"] == settings


READER = """
import json, pathlib, subprocess, sys
shelf, subject, number, part = pathlib.Path(sys.argv[1]), *sys.argv[2:]
def unpack(path):
    return subprocess.run(["zstd", "-dcq", path], stdout=subprocess.PIPE, check=True).stdout
def content(sha256):
    path = shelf / "objects" / sha256[:2] / f"{sha256}.zst"
    if path.exists():
        return unpack(path)
    delta = unpack(path.with_name(f"{sha256}.diff.zst"))
    base = content(delta.split()[1].decode())
    pathlib.Path("base").write_bytes(base)
    subprocess.run(["patch", "-s", "-o", "next", "base"], input=delta, check=True)
    return pathlib.Path("next").read_bytes()
version = json.loads((shelf / "subjects" / subject / f"{number}.json").read_text())
for one in version["profile"]["parts"]:
    if one["id"] == part:
        settings = content(one["sha256"])
        summed = subprocess.run(["sha256sum"], input=settings, stdout=subprocess.PIPE).stdout
        assert summed[:64].decode() == one["sha256"]
        sys.stdout.buffer.write(settings)
for file in version["files"]:
    assert len(content(file[0])) == file[1]
"""


def test_a_shelf_is_read_without_zinker_by_standard_tools(many, tmp_path):
    needs_system(all(map(shutil.which, ("zstd", "patch", "sha256sum"))), "zstd and patch")
    assert any(path.name.endswith(".diff.zst") for path in objects(many).values())
    (tmp_path / "read.py").write_text(READER)
    for number in numbers(many):
        command = ["python3", "read.py", many.path / "shelf", "mosslight", str(number), "general"]
        done = subprocess.run(command, cwd=tmp_path, stdout=subprocess.PIPE, check=True)
        shown = many("show", f"mosslight@{number}", "--part", "general", "--json").json["settings"]
        rows = [json.loads(line) for line in done.stdout.splitlines()]
        assert [row[1] for row in rows if row[1]] == [one["address"] for one in shown if one["address"]]


def test_a_profile_folder_under_version_control_is_merged_checked_and_accepted(kept):
    needs_system(shutil.which("git"), "git")

    def git(*arguments, code=0):
        who = ("-c", "user.name=ivy", "-c", "user.email=ivy@tarnhollow.example", "-c", "core.autocrlf=false")
        done = subprocess.run(
            ["git", *who, *arguments], cwd=kept.path / "team", capture_output=True, text=True
        )
        assert done.returncode == code, done
        return done.stdout

    (kept.path / "team").mkdir()
    git("init", "-q", "-b", "main")
    kept("copy", "mosslight@1", "--to", "team/mosslight", "--folder")
    git("add", ".")
    git("commit", "-qm", "as the season began")
    general = kept.path / "team/mosslight/settings/general.jsonl"
    git("checkout", "-qb", "west")
    general.write_text(general.read_text().replace('"19:30"', '"20:15"'))
    git("commit", "-qam", "later")
    assert git("diff", "--numstat", "main").split()[:2] == ["1", "1"]  # a setting is a line
    git("checkout", "-q", "main")
    general.write_text(general.read_text().replace('"F7"', '"F8"'))
    git("commit", "-qam", "another key")
    git("merge", "-q", "west", "-m", "both")
    folder = "./team/mosslight"
    refused = kept("import", folder, *AT, "--preview", code=5)
    assert "is not as it was written" in refused.err and f"zinker check {folder[2:]}" in refused.err
    told = kept("check", folder, code=5)
    assert "settings/general.jsonl: its digest is another one" in told.out and "--accept" in told.out
    kept("copy", folder, code=5)
    kept("check", folder, "--accept")
    assert kept("check", folder).code == 0
    kept("import", folder, *AT, "--yes")
    assert b"20:15" in kept.ini.read_bytes() and b"mist = F8" in kept.ini.read_bytes()
    assert kept("copy", folder, "--json").json["copied"][0]["target"] == "mosslight@3"
    kept("check", "./team/mosslight@1", "--accept", code=2)
    kept("check", "mosslight@1", "--accept", code=2)


def test_of_many_objects_a_folder_is_listed_once_and_what_comes_and_goes_is_seen(tmp_path, monkeypatch):
    storage, looked = FolderStorage(tmp_path), []
    texts = (str(number).encode() for number in itertools.count())
    digests = {hashlib.sha256(text).hexdigest(): text for text in itertools.islice(texts, 5_000)}
    alike = {sha256: text for sha256, text in digests.items() if sha256.startswith("ab")}
    assert len(alike) > 12
    size = FolderStorage.size
    monkeypatch.setattr(FolderStorage, "size", lambda own, name: looked.append(name) or size(own, name))
    objects, other = Objects(storage), Objects(storage)
    assert not any(map(objects.has, alike)) and len(looked) < len(alike)  # two looks each would be more
    (kept, text), (fresh, more), *_ = alike.items()
    with storage.batch() as batch:
        other.keep_file(batch, kept, lambda sink: sink.write(text))
        batch.settle()
    assert not objects.has(kept)  # as it was when the run began
    objects.forget()
    assert [sha256 for sha256 in alike if objects.has(sha256)] == [kept]
    objects.delete(kept)
    assert not any(map(objects.has, alike))
    with storage.batch() as batch:
        objects.keep_file(batch, fresh, lambda sink: sink.write(more))
        batch.settle()
    objects.prune(fresh)
    assert objects.has(fresh) and not objects.check(fresh)


@pytest.mark.soak
def test_every_single_flipped_bit_of_two_thousand_is_found(tmp_path):
    garden = Garden(tmp_path / "garden")
    garden("export", "mosslight", *AT, "--label", "season-start")
    for level in (11, 12, 13, 55):
        turn(garden, level)
        garden("export", "mosslight", *AT)
    garden.spoil()
    garden("import", "mosslight@1", *AT, "--yes")
    setup = garden.setup
    setup.shelf.records.write_index("mosslight", is_wanted=True)
    from zinker.jobs import check
    from zinker.model.errors import ZinkerError

    dice = random.Random(2026)
    files = [p for p in (garden.path / "shelf").rglob("*") if p.is_file() and p.stat().st_size]
    missed = []
    for _ in range(2000):
        path = dice.choices(files, [p.stat().st_size for p in files])[0]
        good = path.read_bytes()
        at, bit = dice.randrange(len(good)), dice.randrange(8)
        bad = bytearray(good)
        bad[at] ^= 1 << bit
        path.write_bytes(bad)
        try:
            found = bool(check(garden.setup).tally.damages)
        except ZinkerError:
            found = True
        missed += [] if found else [(path, at, bit)]
        path.write_bytes(good)
    assert not missed

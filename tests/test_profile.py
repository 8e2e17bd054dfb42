"""Profiles: the same settings give the same bytes, and nothing hostile or damaged gets through."""

import contextlib
import hashlib
import io
import json
import os
import random
import re
import zipfile

import jsonschema
import msgspec
import pytest
from conftest import unpacked

from zinker.disk.files import PART_SUFFIX
from zinker.jobs.capture.capture import capture
from zinker.jobs.capture.live import LiveSnapshot
from zinker.jobs.capture.selection import Selection
from zinker.jobs.session import Session
from zinker.model import crosswalk
from zinker.model.errors import Damaged, ZinkerError
from zinker.model.setting import Setting, decode_line, encode_line
from zinker.profiles.reading import open_profile
from zinker.profiles.writing import ProfileBuilder, ZipTarget


def rewrite(source, target, edit=None, add=()):
    """Copy a profile, changing members on the way."""
    with zipfile.ZipFile(source) as old, zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as new:
        for info in old.infolist():
            data = old.read(info)
            new.writestr(info, edit(info.filename, data) if edit else data)
        for info, data in add:
            new.writestr(info, data)
    return target


@pytest.fixture
def profile(kept):
    path = kept.path / "profile.zinker"
    kept("export", "mosslight@1", "--to", path)
    return path


def test_the_same_settings_give_the_same_bytes(garden):
    setup = garden.setup
    subject, place = setup.catalogue.find("mosslight"), setup.place("potting-shed")

    def built():
        file = io.BytesIO()
        target = ZipTarget(file)
        builder = ProfileBuilder(target)
        manifest = capture(Session(setup, place, subject), Selection(subject.part), builder)
        manifest = manifest.__class__(
            **{**{f: getattr(manifest, f) for f in manifest.__struct_fields__}, "captured": ""}
        )
        builder.finish(manifest)
        target.close()
        return file.getvalue()

    assert built() == built()
    live = LiveSnapshot(Session(setup, place, subject), Selection(subject.part))
    first = {part.id: part.sha256 for part in live.manifest.parts}
    garden.spoil()
    again = LiveSnapshot(Session(setup, place, subject), Selection(subject.part))
    second = {p.id: p.sha256 for p in again.manifest.parts}
    assert {id for id in first if first[id] != second[id]} == {"general", "presets", "artwork", "panel"}


def test_profile_and_subject_files_follow_their_schemas(kept, pytestconfig):
    kept("export", "mosslight@1", "--to", "one.zinker")
    kept("export", "mosslight", "--place", "potting-shed", "--to", "plain")
    import tomllib

    docs = pytestconfig.rootpath / "docs"
    for path, loads, schema in (
        (kept.path / "plain/profile.json", json.loads, "profile.schema.json"),
        (kept.path / "subjects/mosslight.subject.toml", tomllib.loads, "subject.schema.json"),
        (kept.path / "shelf/subjects/mosslight/1.json", json.loads, "version.schema.json"),
    ):
        jsonschema.validate(loads(path.read_text()), json.loads((docs / schema).read_text()))


def test_published_schemas_are_those_of_the_code(pytestconfig):
    from zinker.profiles import layout
    from zinker.reports import answers
    from zinker.shelf import keys, versions
    from zinker.subjects import subject

    own = {"profile": layout, "subject": subject, "crosswalk": crosswalk, "version": versions, "seal": keys}
    docs = pytestconfig.rootpath / "docs"
    schemas = {name: module.schema() for name, module in own.items()}
    schemas |= {f"answers/{command.replace(' ', '-')}": schema for command, schema in answers.schemas()}
    published = {str(path.relative_to(docs)): path for path in docs.rglob("*.schema.json")}
    assert {f"{name}.schema.json" for name in schemas} == published.keys()
    for name, schema in schemas.items():
        text = published[f"{name}.schema.json"].read_text()
        assert json.loads(text) == json.loads(msgspec.json.encode(schema)), name


@pytest.mark.parametrize(
    ("name", "says"),
    [
        ("../../evil", "climbs out of its folder"),
        ("attachments/../../evil", "climbs out of its folder"),
        ("/etc/evil", "not part of any profile"),
        ("settings/..\\evil.jsonl", "climbs out of its folder"),
        ("attachments/short", "not part of any profile"),
    ],
)
def test_names_that_lead_elsewhere_are_refused(kept, profile, name, says):
    hostile = rewrite(profile, kept.path / "hostile.zinker", add=[(zipfile.ZipInfo(name), b"x")])
    before = kept.places()
    done = kept("import", hostile, "--place", "potting-shed", "--yes", code=5)
    assert says in done.err and "Profile refused" in done.err
    assert kept.places() == before and not (kept.path.parent / "evil").exists()


def test_documents_that_lead_elsewhere_are_left_alone(kept):
    """A profile with right digests, but with documents named to land outside their part."""
    kept("export", "mosslight@1", "--to", "good.zinker")
    import hashlib

    names = ["../../../evil.json", "/evil.json", "a/../../evil.json", "bench\0east.json", "deep/er.json"]
    lines = [
        json.dumps([n, "", "document", {"format": "json", "size": 2, "sha256": "0" * 64}])
        for n in sorted(names)
    ]
    part = ("\n".join(lines) + "\n").encode()

    def edit(name, data):
        if name == "settings/presets.jsonl":
            return part
        if name == "profile.json":
            manifest = json.loads(data)
            for record in manifest["parts"]:
                if record["id"] == "presets":
                    digest = hashlib.sha256(part).hexdigest()
                    record.update(documents=len(names), settings=0, size=len(part), sha256=digest)
            return json.dumps(manifest).encode()
        return data

    hostile = rewrite(kept.path / "good.zinker", kept.path / "hostile.zinker", edit)
    before = kept.places()
    done = kept("import", hostile, "--place", "potting-shed", "--part", "presets", "--yes", "--json", code=1)
    assert {item["document"] for item in done.json["left"]} == set(names)
    assert kept.places() == before


def test_links_twins_and_bombs_are_refused(kept, profile):
    link = zipfile.ZipInfo("attachments/" + "a" * 64)
    link.external_attr = 0o120777 << 16
    twin = zipfile.ZipInfo("profile.json")
    bomb = zipfile.ZipInfo("settings/bomb.jsonl")
    bomb.compress_type = zipfile.ZIP_DEFLATED
    for info, data, says in (
        (link, b"/etc/passwd", "a link or a device"),
        (twin, b"{}", "the same name twice"),
        (bomb, b"\0" * 200_000_000, "a bomb"),
    ):
        with pytest.warns(UserWarning) if info is twin else contextlib.nullcontext():
            hostile = rewrite(profile, kept.path / "hostile.zinker", add=[(info, data)])
        assert says in kept("show", hostile, code=5).err


def test_a_profile_folder_may_not_hold_links(kept):
    kept("export", "mosslight", "--place", "potting-shed", "--to", "plain")
    settings = kept.path / "plain/settings/general.jsonl"
    settings.rename(kept.path / "elsewhere")
    settings.symlink_to(kept.path / "elsewhere")
    assert "a link or a device" in kept("show", "./plain", code=5).err


def test_a_newer_format_names_who_can_read_it(kept, profile):
    def edit(name, data):
        return data.replace(b'"format": 1', b'"format": 9', 1).replace(b"Zinker 0.1.0", b"Zinker 9.4.0")

    newer = rewrite(profile, kept.path / "newer.zinker", edit)
    assert "It was written by Zinker 9.4.0: use that version" in kept("import", newer, "--yes", code=5).err


def test_a_changed_setting_does_not_get_in(kept, profile):
    before = kept.places()
    forged = rewrite(profile, kept.path / "forged.zinker", lambda n, d: d.replace(b"19:30", b"03:00"))
    done = kept("import", forged, "--place", "potting-shed", "--yes", code=5)
    assert "not those it was written with" in done.err
    swapped = rewrite(
        profile, kept.path / "swapped.zinker", lambda n, d: d.replace(b"<title>West", b"<title>Evil")
    )
    kept.spoil()
    spoiled = kept.places()
    kept("import", swapped, "--place", "potting-shed", "--yes", code=5)
    assert kept.places() == spoiled != before


def test_damage_anywhere_is_found(profile, tmp_path):
    """Cut off or flipped at any byte, a profile is refused, or is as good as before."""
    good = profile.read_bytes()

    def content(path):
        opened = open_profile(path)
        opened.verify()
        return [list(opened.lines(part.id)) for part in opened.manifest.parts]

    expected = content(profile)
    dice = random.Random(7)
    for number in range(600):
        broken = bytearray(good)
        if number % 3:
            broken[dice.randrange(len(good))] ^= 1 << dice.randrange(8)
        else:
            del broken[dice.randrange(len(good)) :]
        path = tmp_path / "broken.zinker"
        path.write_bytes(broken)
        try:
            assert content(path) == expected
        except (Damaged, ZinkerError):
            continue


@pytest.mark.parametrize("data", [b"", b"PK", b"no zip at all" * 100])
def test_what_is_no_profile_says_so(garden, data):
    (garden.path / "x.zinker").write_bytes(data)
    assert "damaged or cut off" in garden("show", "x.zinker", code=5).err


@pytest.mark.parametrize("text", ["plain", "\udcff\ud800 lone", "\x1b[31m", 'q"\\/\u2028', "ü中🪴"])
def test_lines_hold_any_text(text):
    setting = Setting(text, "/" + text.replace("/", "~1"), "sz", text)
    line = encode_line(setting)
    assert b"\n" not in line and decode_line(line) == setting == Setting(*json.loads(line))


def test_nothing_in_a_profile_acts_on_the_terminal(kept):
    text = kept.ini.read_bytes().replace(b"F7", "F7 \u202etext".encode())
    kept.ini.write_bytes(text)
    out = kept("compare", "mosslight@1", code=1).out
    assert "\u202e" not in out and "\\u202e" in out


def test_a_damaged_version_is_not_handed_on(kept):
    objects = list((kept.path / "shelf/objects").rglob("*.zst"))
    one, other, *_ = (path for path in objects if b"<title>" in unpacked(path))
    one.write_bytes(other.read_bytes())
    assert "is not the file it was" in kept("export", "mosslight@1", "--to", "stick", code=5).err
    assert not list((kept.path / "stick").iterdir())


def test_nothing_is_left_behind(kept):
    assert not list(kept.path.rglob(f"*{PART_SUFFIX}"))


def forged(kept, part, lines, attachments=()):
    """A profile folder of one's own making, with digests that are right."""
    kept("export", "mosslight", "--place", "potting-shed", "--to", "forged", "--replace")
    folder = kept.path / "forged"
    data = b"".join(encode_line(Setting(*line)) + b"\n" for line in lines)
    (folder / f"settings/{part}.jsonl").write_bytes(data)
    about = json.loads((folder / "profile.json").read_text())
    record = next(p for p in about["parts"] if p["id"] == part)
    heads = sum(line[1] == "" for line in lines)
    digest = hashlib.sha256(data).hexdigest()
    record |= {"documents": heads, "settings": len(lines) - heads, "size": len(data), "sha256": digest}
    (folder / "profile.json").write_text(json.dumps(about))
    for content in attachments:
        (folder / "attachments" / hashlib.sha256(content).hexdigest()).write_bytes(content)
    return "./forged"


@pytest.mark.skipif(os.name == "nt", reason="Windows has no such links")
def test_a_hostile_link_or_mode_does_no_harm(kept):
    artwork = kept.data / "artwork"
    tool = b"#!/bin/sh\n"
    content = {"size": len(tool), "sha256": hashlib.sha256(tool).hexdigest()}
    lines = [
        ("a-out", "", "whole", {"link": "../../../../../../etc/passwd"}),
        ("b-absolute", "", "whole", {"link": "/etc/passwd"}),
        ("c-drive", "", "whole", {"link": "C:\\Windows"}),
        ("d/e", "", "whole", {"link": "../../artwork-beside"}),
        ("f-fine", "", "whole", {"link": "house.svg"}),
        ("g-tool", "", "whole", {"mode": "777", **content}),
        ("h-folder", "", "whole", {"folder": True}),
        ("house.svg", "", "whole", {"folder": True}),
    ]
    name = forged(kept, "artwork", lines, [tool])
    arguments = ("import", name, "--part", "artwork", "--place", "potting-shed", "--yes")
    done = kept(*arguments, code=1)
    assert done.out.count("the link leads out of its folder") >= 4
    assert "stands there, where the profile has an empty folder" in done.out
    assert sorted(p.name for p in artwork.iterdir()) == [
        "benches",
        "f-fine",
        "g-tool",
        "h-folder",
        "house.svg",
    ]
    assert os.readlink(artwork / "f-fine") == "house.svg" and (artwork / "h-folder").is_dir()
    assert (artwork / "g-tool").stat().st_mode & 0o7000 == 0
    kept("undo", "--yes")
    assert sorted(p.name for p in artwork.iterdir()) == ["benches", "house.svg"]


def test_a_secret_in_clear_in_a_strangers_profile_goes_no_further(kept):
    document = (kept.ini).read_bytes()
    content = {"format": "ini", "size": len(document), "sha256": hashlib.sha256(document).hexdigest()}
    lines = [
        ("mosslight.ini", "", "document", content),
        ("mosslight.ini", "/account/proxyPassword", "text", "sly moth"),
        ("mosslight.ini", "/account/token", "text", "m-token-of-somebody-else"),
        ("mosslight.ini", "/general/language", "text", "fr"),
    ]
    name = forged(kept, "general", lines, [document])
    done = kept("import", name, "--part", "general", "--place", "potting-shed", "--yes")
    assert "written" in done.out and done.out.count("a secret, withheld") >= 2
    said = done.out + "".join(p.read_text() for p in (kept.path / "shelf/changes").rglob("*.json"))
    assert "sly moth" not in said and "somebody-else" not in said
    assert "somebody-else" not in kept.ini.read_text() and "language = fr" in kept.ini.read_text()


@pytest.mark.parametrize(
    "content",
    [
        {"mode": "4777", "size": 1, "sha256": "0" * 64},
        {"mode": "rwx", "size": 1, "sha256": "0" * 64},
        {"link": 5},
        {"folder": "yes"},
        {"device": "8:0"},
    ],
)
def test_a_document_of_no_known_kind_is_damage(kept, content):
    name = forged(kept, "artwork", [("x", "", "whole", content)])
    before = kept.places("potting-shed")
    done = kept("import", name, "--part", "artwork", "--place", "potting-shed", "--yes", code=5)
    assert "is no setting" in done.err and kept.places("potting-shed") == before


def test_a_damaged_or_costly_seal_is_refused(kept):
    own = {"ZINKER_PASSPHRASE": "a quiet heron"}
    kept("export", "mosslight", "--place", "potting-shed", "--with-secrets", "--to", "sealed.zinker", env=own)
    before = kept.places("potting-shed")

    def tampered(change):
        def edit(name, data):
            if name != "secrets.jwe":
                return data
            token = json.loads(data)
            change(token)
            return json.dumps(token).encode()

        rewrite(kept.path / "sealed.zinker", kept.path / "tampered.zinker", edit)
        arguments = ("import", "tampered.zinker", "--place", "potting-shed", "--with-secrets", "--yes")
        return kept(*arguments, code=None, env=own)

    def flip(token):
        token["ciphertext"] = ("A" if token["ciphertext"][0] != "A" else "B") + token["ciphertext"][1:]

    def slow(token):  # years of work for whoever opens it; one recipient stands at the top of the token
        token.get("recipients", [token])[0]["header"]["p2c"] = 2**31

    for change, code, says in (
        (flip, 3, "does not open what is sealed"),
        (slow, 3, "does not open what is sealed"),
        (lambda token: token.pop("ciphertext"), 5, "what is sealed is damaged"),
    ):
        done = tampered(change)
        assert done.code == code, done.err
        assert says in done.err and kept.places("potting-shed") == before
    rewrite(
        kept.path / "sealed.zinker", kept.path / "tampered.zinker", lambda n, d: b"[]" if "jwe" in n else d
    )
    arguments = ("import", "tampered.zinker", "--place", "potting-shed", "--with-secrets", "--yes")
    assert "damaged" in kept(*arguments, code=5, env=own).err
    kept("import", "mosslight@1", "--place", "potting-shed", "--with-secrets", "--yes", code=3, env=own)


def test_a_path_has_variables_that_are_safe_everywhere(kept):
    name = "{place}/{subject}-{version}-{date}{label}.zinker"
    kept("export", "mosslight", "--place", "potting-shed", "--to", f"out/{name}")
    (first,) = (kept.path / "out/potting-shed").iterdir()
    assert re.fullmatch(r"mosslight-3\.2\.1-\d{4}-\d\d-\d\d\.zinker", first.name)
    whole = first.read_bytes()
    for _ in range(2):  # never over one that is there
        kept("export", "mosslight@1", "--to", "out/{place}/{subject}-{version}.zinker")
    names = {path.name for path in (kept.path / "out/potting-shed").iterdir()}
    assert names == {first.name, "mosslight-3.2.1.zinker", "mosslight-3.2.1-2.zinker"}
    assert first.read_bytes() == whole
    kept("label", "mosslight@1", "..away <con>?", "--move")
    kept("export", "mosslight@1", "--to", "out/{label}")
    assert (kept.path / "out/..away_con_/profile.json").exists()
    kept(
        "export",
        "mosslight",
        "--place",
        "potting-shed",
        "--part",
        "panel",
        "--to",
        "out/{account}-{part}.reg",
    )
    assert (kept.path / "out/ivy-panel.reg").exists()
    assert (
        "nothing for {instance}" in kept("export", "mosslight@1", "--to", "out/{instance}.zinker", code=2).err
    )
    nothing = (
        "export",
        "brindlepot",
        "--place",
        "potting-shed",
        "--to",
        "out/{place}/{subject}-new/x.zinker",
    )
    kept(*nothing, code=3)
    assert not (kept.path / "out/potting-shed/brindlepot-new").exists()
    preview = kept(
        "export", "mosslight", "--place", "potting-shed", "--to", "new/{place}/x.zinker", "--preview"
    )
    assert "{place}" not in preview.out and not (kept.path / "new").exists()
    refused = kept("export", "mosslight@1", "--to", "out/{when}.zinker", code=2)
    assert "{when} in out/{when}.zinker stands for nothing" in refused.err and "{label}" in refused.err

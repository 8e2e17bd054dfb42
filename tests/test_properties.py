"""Whatever stands at two places: kept and put back it is the same again, and undone it is as it was."""

import base64
import json
import os
import shutil
import tempfile
from pathlib import Path

import pytest
from conftest import BRANCH, Garden
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from zinker.jobs import Keeping, Wishes, compare, export, import_profile, load_setup, undo
from zinker.jobs.comparing import Wanted
from zinker.model.errors import ZinkerError
from zinker.model.setting import decode_line, encode_line
from zinker.profiles.reading import open_profile

slow = settings(
    max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow]
)

names = st.text(
    st.characters(exclude_categories=["Cs", "Cc"], exclude_characters="\\"), min_size=1, max_size=8
) | st.sampled_from(["a/b", "~1", 'quo"te', "Ä", "x" * 300, " lead", "\ud800", "nul\0inside"])
data = st.binary(max_size=12).map(lambda raw: base64.b64encode(raw).decode())
typed = st.one_of(
    st.tuples(st.sampled_from(["sz", "expand_sz", "link"]), st.text(max_size=12)),
    st.tuples(st.just("sz"), st.sampled_from(["", "\ud800 lone", "two\nlines", r"C:\Users\ivy\x"])),
    st.tuples(st.just("multi_sz"), st.lists(st.text(max_size=5), max_size=3)),
    st.tuples(st.just("dword"), st.integers(0, 2**32 - 1)),
    st.tuples(st.just("qword"), st.integers(0, 2**53 - 1) | st.just("18446744073709551615")),
    st.tuples(st.sampled_from(["binary", "none", "registry:11", "registry:4294901760"]), data),
)


def unique(items, key=str.casefold):
    return list({key(item): item for item in items}.values())


@st.composite
def branches(draw):
    """The keys of a branch; what differs only in case is the same."""
    subkeys = unique(draw(st.lists(names, max_size=3)))
    keys = {}
    for path in ["", *("\\" + key for key in subkeys), *(f"\\{key}\\deep" for key in subkeys[:1])]:
        own = unique(draw(st.lists(names | st.just(""), max_size=4)))
        keys[BRANCH + path] = {name: draw(typed) for name in own}
    return keys


def plain(keys):
    """What a registry holds: keys that only lead to others need not be named."""
    named = {key: {n: list(v) for n, v in values.items()} for key, values in keys.items()}
    leads = {key for key in named if any(other.startswith(key + "\\") for other in named)}
    return {key: values for key, values in named.items() if values or key not in leads}


@pytest.fixture(scope="module")
def shared(tmp_path_factory):
    """One garden, emptied for every example."""
    garden = Garden(tmp_path_factory.mktemp("shared") / "garden")
    before = os.environ.get("ZINKER_HOME")
    os.environ["ZINKER_HOME"] = str(garden.home)
    yield garden
    if before is None:
        del os.environ["ZINKER_HOME"]


@slow
@given(branches(), branches())
@pytest.mark.soak
def test_any_registry_comes_back_and_goes_again(shared, there, here):
    shutil.rmtree(shared.path / "shelf", ignore_errors=True)
    (shared.home / "shelves.json").unlink(missing_ok=True)
    for name, keys in (("potting-shed", there), ("glasshouse", here)):
        shared.edit_workstation(name, lambda s, keys=keys: s["registry"].update(keys=keys))
    before = plain(shared.registry("glasshouse"))
    setup = load_setup()
    assert export(setup, "mosslight", "potting-shed", Keeping(parts=("panel",))).is_complete
    outcome = import_profile(
        setup,
        "mosslight@1",
        "glasshouse",
        Wishes(translate=False, overruled=frozenset({"adopt", "new-instance"})),
    )
    assert outcome.is_complete
    found = compare(setup, "potting-shed:mosslight", "glasshouse:mosslight", Wanted(("panel",)))
    # Nothing of the profile is missing there; what only the place had has stayed. A key that was empty is
    # no longer a setting of its own once something is in it.
    assert all(d.word == "new" or d.before.type in ("key", "withheld") for d in found.differences)
    if outcome.change:
        assert undo(setup).is_complete
        assert plain(shared.registry("glasshouse")) == before


ini_names = st.text(
    st.characters(codec="utf-8", exclude_categories=["C", "Z"], exclude_characters="[]=:;#"), min_size=1
)
ini_values = st.text(st.characters(codec="utf-8", exclude_categories=["C", "Z"]), max_size=8)
ini_files = st.dictionaries(ini_names, st.dictionaries(ini_names, ini_values, max_size=4), max_size=3)
json_values = st.recursive(
    st.text(max_size=5)
    | st.integers()
    | st.booleans()
    | st.none()
    | st.floats(allow_nan=False, allow_infinity=False),
    lambda below: st.dictionaries(st.text(max_size=4), below, max_size=3),
    max_leaves=8,
)
json_files = st.dictionaries(st.text(max_size=4), json_values, max_size=4)
artwork = st.dictionaries(st.sampled_from(["a.svg", "b/c.svg", "b/d/e.svg", "ü.png"]), st.binary(max_size=20))
gap = st.sampled_from(["=", " = ", "= ", " ="])


@st.composite
def applications(draw):
    """The files of an application, written in one style or another."""
    delimiter, end = draw(gap), draw(st.sampled_from(["\n", "\r\n"]))
    lines = []
    for section, keys in draw(ini_files).items():
        lines += [f"[{section}]", *(f"{key}{delimiter}{value}" for key, value in keys.items()), ""]
    mark = draw(st.sampled_from(["", "\ufeff"]))
    presets = draw(st.dictionaries(st.sampled_from(["east", "west"]), json_files, max_size=2))
    style = draw(st.sampled_from([{}, {"indent": 2}, {"indent": "\t"}, {"separators": (",", ":")}]))
    files = {"Roaming/mosslight/mosslight.ini": (mark + end.join(lines)).encode()}
    for name, tree in presets.items():
        files[f"Roaming/mosslight/devices/{name}.json"] = json.dumps(tree, **style).encode()
    for name, content in draw(artwork).items():
        files[f"Local/mosslight/artwork/{name}"] = content
    return files


def write(base, files):
    shutil.rmtree(base, ignore_errors=True)
    for name, content in files.items():
        path = base / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content)


def read(base):
    return {p.relative_to(base).as_posix(): p.read_bytes() if p.is_file() else None for p in base.rglob("*")}


@slow
@given(applications(), applications())
@pytest.mark.soak
def test_any_files_come_back_and_go_again(shared, there, here):
    shutil.rmtree(shared.path / "shelf", ignore_errors=True)
    (shared.home / "shelves.json").unlink(missing_ok=True)
    old, new = (
        shared.path / place / "AppData" for place in ("potting-shed/Users/ivy", "glasshouse/Users/fern")
    )
    write(old, there)
    write(new, here)
    before = read(new)
    setup = load_setup()
    parts = ("general", "presets", "artwork")
    export(setup, "mosslight", "potting-shed", Keeping(parts=parts))
    outcome = import_profile(
        setup,
        "mosslight@1",
        "glasshouse",
        Wishes(translate=False, overruled=frozenset({"adopt", "new-instance"})),
    )
    left = {(item.document, item.address) for item in outcome.left}
    found = compare(setup, "mosslight@1", "glasshouse:mosslight", Wanted(parts))
    missing = [d for d in found.differences if d.word != "new" and (d.document, d.address) not in left]
    # An empty object or section that has been filled there is not a setting of its own any more.
    assert all(d.before.value in ({}, []) for d in missing), missing
    assert all(
        "structure" in item.why or "no way to write" in item.why or "would change" in item.why
        for item in outcome.left
    )
    for name in here.keys() - there.keys():
        assert (new / name).read_bytes() == here[name]
    for name in there.keys() - here.keys():
        assert (new / name).read_bytes() == there[name]
    if outcome.change:
        assert undo(setup).is_complete
        assert read(new) == before


@pytest.fixture(scope="module")
def lines(shared):
    """Honest lines to be spoiled."""
    shutil.rmtree(shared.path, ignore_errors=True)
    Garden(shared.path)
    made = export(load_setup(), "mosslight", "potting-shed", Keeping(to=shared.path / "honest"))
    profile = open_profile(made.path)
    return [decode_line(line) for part in profile.manifest.parts for line in profile.lines(part.id)]


values = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(),
    st.floats(allow_nan=False, allow_infinity=False),
    st.text(max_size=4),
    st.sampled_from(
        ["=notbase64", "../../evil", "a" * 64, {}, [], {"sha256": "../../x"}, {"format": "os"}, [[1]]]
    ),
    st.dictionaries(
        st.sampled_from(["format", "size", "sha256", "key", "mark"]), st.integers() | st.text(max_size=3)
    ),
)
TYPES = (
    "text int float bool null bytes date list object sz expand_sz multi_sz dword qword binary none link key "
    "document whole withheld registry:9 registry:x nonsense"
)
types = st.sampled_from(TYPES.split())
documents = st.sampled_from(
    ["../../evil", "/etc/evil", "a\0b", "mosslight.ini", "", "x" * 5000, "CON", "..", ".", "a//b"]
)
addresses = st.sampled_from(["", "/", "/a", "no slash", "/~2", "/" + "x/" * 2000, "/0/1/2"])


@slow
@given(st.data())
@pytest.mark.soak
def test_no_forged_setting_crashes_or_leads_elsewhere(shared, lines, data):
    """Right digests, wrong settings: every field of any line may be anything."""
    import hashlib

    with tempfile.TemporaryDirectory() as folder:
        forged = Path(folder, "forged")
        shutil.copytree(shared.path / "honest", forged)
        manifest = json.loads((forged / "profile.json").read_text())
        record = data.draw(st.sampled_from(manifest["parts"]))
        path = forged / f"settings/{record['id']}.jsonl"
        own = [decode_line(line) for line in path.read_bytes().splitlines()]
        for _ in range(data.draw(st.integers(1, 3))):
            at = data.draw(st.integers(0, len(own) - 1))
            fields = [getattr(own[at], name) for name in ("document", "address", "type", "value")]
            which = data.draw(st.integers(0, 3))
            fields[which] = data.draw((documents, addresses, types, values)[which])
            own[at] = own[at].__class__(*fields)
        if data.draw(st.booleans()):
            own.sort(key=lambda setting: setting.key)
        content = b"".join(encode_line(setting) + b"\n" for setting in own)
        path.write_bytes(content)
        heads = sum(setting.is_head for setting in own)
        record |= {"size": len(content), "sha256": hashlib.sha256(content).hexdigest()}
        record |= {"documents": heads, "settings": len(own) - heads}
        (forged / "profile.json").write_text(json.dumps(manifest))
        before = shared.places()
        outside = set(shared.path.parent.iterdir())
        setup = load_setup()
        outcome = None
        try:
            compare(setup, f"{forged}", "glasshouse:mosslight")
            outcome = import_profile(
                setup,
                f"{forged}",
                "glasshouse",
                Wishes(device_bound=True, overruled=frozenset({"adopt", "new-instance"})),
            )
        except ZinkerError:
            assert shared.places() == before
        if outcome and outcome.change:
            undo(setup)
        assert shared.places() == before
        assert set(shared.path.parent.iterdir()) == outside

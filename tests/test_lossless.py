"""Every format on documents of every shape: the same bytes back, one edit one place, nothing else touched."""

import datetime
import json
import plistlib
import re
import tomllib
from pathlib import Path
from xml.etree.ElementTree import fromstring
from xml.sax.saxutils import escape, quoteattr

import msgspec
import pytest
import tomlkit
import yaml
from hypothesis import assume, given
from hypothesis import strategies as st

from zinker import formats
from zinker.formats.dialect import PLAIN, Dialect
from zinker.formats.leaves import Edit
from zinker.model.address import pointer, tokens
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.setting import Leaf

DOCS = Path(__file__).parents[1] / "docs/formats.md"


def text(value):
    return Leaf("text", value)


def same_bytes(format, document, dialect=PLAIN):
    before = formats.read(format, document, dialect)
    edits = [Edit(a, leaf) for a, leaf in before.items()]
    assert formats.edit(format, document, edits, dialect) == document
    return before


def examples():
    """The examples of docs/formats.md: format, dialect, document, and the settings that stand under it."""
    blocks = DOCS.read_text(encoding="utf-8").split("```")[1::2]
    for block, following in zip(blocks, blocks[1:], strict=False):
        if following.startswith("settings\n"):
            head, _, document = block.partition("\n")
            format, _, dialect = head.partition(" ")
            yield pytest.param(format, dialect, document, following.partition("\n")[2], id=head[:40])


@pytest.mark.parametrize(("format", "dialect", "document", "settings"), list(examples()))
def test_the_format_reference_is_true(format, dialect, document, settings):
    chosen = msgspec.json.decode(dialect or "{}", type=Dialect)
    found = formats.read(format, document.encode(), chosen)
    lines = [f"{a}  {found[a].type}  {json.dumps(found[a].value, ensure_ascii=False)}" for a in sorted(found)]
    assert lines == settings.rstrip().splitlines()
    for address, leaf in found.items():
        if leaf.type == "text":
            edited = formats.edit(format, document.encode(), [Edit(address, text("42"))], chosen)
            assert formats.read(format, edited, chosen) == found | {address: text("42")}
    # Line ends, encodings and marks are those of the document.
    if format not in ("xml", "plist", "toml"):  # which say their encoding themselves, or have one
        wide = b"\xff\xfe" + document.replace("\n", "\r\n").encode("utf-16-le")
        address = next(a for a, leaf in found.items() if leaf.type == "text")
        edited = formats.edit(format, wide, [Edit(address, text("é"))], chosen).decode("utf-16")
        assert "\n" not in edited.replace("\r\n", "")


clean = st.text(
    st.characters(exclude_categories=("Cs", "Cc"), exclude_characters="\ufeff\ufffe\uffff\x85\u2028\u2029"),
    max_size=8,
)
names = st.one_of(st.sampled_from(["a", "b", "x y", "0", "1", "a.b", "q'", "true", "-", "/", "~"]), clean)
odd = st.sampled_from(
    [
        "true",
        "1",
        "null",
        "- x",
        "a: b",
        "#",
        "two\nlines",
        "tab\there",
        "'",
        '"',
        "{",
        "*x",
        "&x",
        "!x",
        "%",
        " x ",
    ]
)
scalars = st.one_of(
    clean, odd, st.integers(-(2**70), 2**70), st.booleans(), st.floats(allow_nan=False, allow_infinity=False)
)


def trees(leaf):
    below = st.recursive(
        leaf,
        lambda b: st.one_of(st.lists(b, max_size=3), st.dictionaries(names, b, max_size=3)),
        max_leaves=8,
    )
    return st.dictionaries(names, below, max_size=4)


def check_tree(format, document, before, value, data, empty):
    """One change, one removal, one addition and its removal; and all of it built anew from nothing."""
    fixed = [
        a
        for a, leaf in before.items()
        if leaf.value not in ({}, []) and not any(t.isdigit() for t in tokens(a))
    ]
    if fixed:
        address = data.draw(st.sampled_from(sorted(fixed)))
        after = formats.edit(format, document, [Edit(address, text(value))])
        assert formats.read(format, after) == before | {address: text(value)}
        formats.edit(format, document, [Edit(address, None)])
    new = [Edit("/zz new/deep/er", text(value)), Edit("/zz new/k", text("v"))]
    added = formats.edit(format, document, new)
    assert formats.edit(format, added, [Edit(edit.address, None) for edit in new]) == document
    if before:
        rebuilt = formats.edit(format, empty, [Edit(a, leaf) for a, leaf in before.items()])
        assert formats.read(format, rebuilt) == before


@given(trees(scalars | st.none()), st.sampled_from([True, False, None]), clean | odd, st.data())
def test_yaml(tree, flow, value, data):
    document = yaml.safe_dump(tree, default_flow_style=flow, allow_unicode=True, width=999, sort_keys=False)
    try:
        before = same_bytes("yaml", document.encode())
    except DocumentError:
        assume(False)
    check_tree("yaml", document.encode(), before, value, data, b"{}\n")


@given(trees(scalars.filter(lambda v: not isinstance(v, float))), clean | odd, st.data())
def test_toml(tree, value, data):
    try:
        document = tomlkit.dumps(tree)
        tomllib.loads(document)
    except (tomllib.TOMLDecodeError, tomlkit.exceptions.TOMLKitError):
        assume(False)
    before = same_bytes("toml", document.encode())
    check_tree("toml", document.encode(), before, value, data, b"")


@given(trees(scalars | st.binary(max_size=4)), st.booleans(), clean | odd, st.data())
def test_plist(tree, binary, value, data):
    form = plistlib.FMT_BINARY if binary else plistlib.FMT_XML
    try:
        document = plistlib.dumps(tree, fmt=form, sort_keys=False)
    except (OverflowError, ValueError):
        assume(False)
    before = formats.read("plist", document)
    empty = plistlib.dumps({}, fmt=form)
    if not binary:
        same_bytes("plist", document)
        check_tree("plist", document, before, value, data, empty)
    elif before:
        rebuilt = formats.edit("plist", empty, [Edit(a, leaf) for a, leaf in before.items()])
        assert formats.read("plist", rebuilt) == before
        top = [a for a, leaf in before.items() if a.count("/") == 1 and leaf.value != {}]
        gone = formats.edit("plist", rebuilt, [Edit(a, None) for a in top])
        assert formats.read("plist", gone) == {a: leaf for a, leaf in before.items() if a not in top}


tags = st.sampled_from(["a", "b", "item", "q:x", "Name_1"])
attributes = st.dictionaries(st.sampled_from(["name", "k", "v", "q:z"]), clean, max_size=3)
elements = st.recursive(
    st.tuples(tags, attributes, clean.map(escape), st.just("")),
    lambda below: st.tuples(
        tags,
        attributes,
        st.one_of(clean.map(escape), st.lists(below, max_size=3)),
        st.sampled_from(["", "\n  "]),
    ),
    max_leaves=8,
)


def as_xml(element):
    tag, given_attributes, inner, line = element
    start = tag + "".join(f" {name}={quoteattr(value)}" for name, value in given_attributes.items())
    if isinstance(inner, str):
        return f"<{start}>{inner}</{tag}>" if inner else f"<{start}/>"
    below = "".join(line + as_xml(child) for child in inner)
    return f"<{start}>{below}{line[:1] if inner else ''}</{tag}>"


@given(elements, clean, st.sampled_from(["utf-8", "utf-16", "iso-8859-15"]))
def test_xml(element, value, encoding):
    body = f'<root xmlns:q="urn:q">\n  {as_xml(element)}\n</root>\n'
    declared = f'<?xml version="1.0" encoding="{encoding}"?>\n<!-- kept -->\n{body}'
    document = declared.encode(encoding, "xmlcharrefreplace")
    before = same_bytes("xml", document)
    for address, leaf in before.items():
        if leaf.type == "text" and value and value.isascii():
            after = formats.edit("xml", document, [Edit(address, text(value))])
            assert formats.read("xml", after) == before | {address: text(value)}
    new = [Edit("/root/zz/deep/@k", text("v")), Edit("/root/zz/x", text("v"))]
    added = formats.edit("xml", document, new)
    assert formats.edit("xml", added, [Edit(edit.address, None) for edit in new]) == document
    if before:
        empty = b'<root xmlns:q="urn:q"/>'
        rebuilt = formats.edit("xml", empty, [Edit(a, leaf) for a, leaf in before.items()])
        assert formats.read("xml", rebuilt) == before


words = st.text(
    st.characters(exclude_categories=("Cs", "Cc", "Z"), exclude_characters="\ufeff=:#!;[]\"'\\"),
    min_size=1,
    max_size=6,
)
anything = st.text(st.characters(exclude_categories=("Cs",), exclude_characters="\ufeff"), max_size=10)


def escaped_properties(value):
    return "".join(
        f"\\u{ord(c):04x}" if ord(c) < 33 or 0x7F <= ord(c) < 0xA0 or c in "\\=:#!" else c for c in value
    )


@given(
    st.lists(
        st.tuples(words, anything, st.sampled_from(["=", " = ", ": ", " "]))
        | st.sampled_from(["", "# c", "! d"])
    ),
    st.sampled_from(["\n", "\r\n"]),
    words,
    anything,
)
def test_properties(entries, line_end, key, value):
    kept = [e if isinstance(e, str) else e[0] + e[2] + escaped_properties(e[1]) for e in entries]
    document = line_end.join(kept).encode()
    before = same_bytes("properties", document)
    assume(pointer(key) not in before)
    added = formats.edit("properties", document, [Edit(pointer(key), text(value))])
    assert formats.read("properties", added) == before | {pointer(key): text(value)}
    for address in before:
        after = formats.edit("properties", document, [Edit(address, text(value))])
        assert formats.read("properties", after) == before | {address: text(value)}


dialects = st.builds(
    Dialect,
    delimiter=st.sampled_from(["", "=", ":", "=:", "space"]),
    inline=st.booleans(),
    continued=st.sampled_from(["", "indent", "backslash"]),
    quotes=st.booleans(),
    ignore_case=st.booleans(),
    spaces=st.booleans(),
    nested=st.sampled_from([False, False, True]),
)
pieces = st.sampled_from(
    [
        "k",
        "Key",
        " = ",
        "=",
        ":",
        " ",
        "v",
        '"',
        "'",
        ";",
        "#",
        " ; x",
        "\\",
        "\n",
        "\r\n",
        "  more",
        "[s]",
        "[[t]]",
        "\n\n",
    ]
)


@given(st.lists(pieces, max_size=20).map("".join), dialects, st.sampled_from(["ini", "key-value"]), st.data())
def test_ini_dialects(document, dialect, format, data):
    try:
        before = same_bytes(format, document.encode(), dialect)
    except DocumentError:
        assume(False)
    values = [a for a, leaf in before.items() if leaf.type == "text"]
    if values:
        address = data.draw(st.sampled_from(values))
        try:
            after = formats.edit(format, document.encode(), [Edit(address, text("42"))], dialect)
        except NotWritable:
            # Only a line that continues into what is no value of its own cannot be changed.
            assert dialect.continued
            return
        assert formats.read(format, after, dialect) == before | {address: text("42")}


@given(st.sampled_from(sorted(set(formats._FORMATS) - {"sqlite", "pattern"})), st.binary(max_size=200))
def test_no_bytes_crash_a_reader(format, document):
    try:
        leaves = formats.read(format, document)
    except DocumentError:
        return
    assert formats.edit(format, document, [Edit(a, leaf) for a, leaf in leaves.items()]) == document


NUMBERS = """
format = 1
id = "numbers"
title = "Numbers"
[[part]]
id = "json"
store = "file"
path = "{config}/numbers/x.json"
[[part]]
id = "toml"
store = "file"
path = "{config}/numbers/x.toml"
[[part]]
id = "yaml"
store = "file"
path = "{config}/numbers/x.yaml"
"""
FORMS = {
    "json": '{{"a": {0}, "b": [1, 0], "c": [1.0]}}\n',
    "toml": "a = {0}\nb = [1, 0]\nc = [1.0]\n",
    "yaml": "a: {0}\nb: [1, 0]\nc: [1.0]\n",
}


@pytest.mark.parametrize("number", ["3.141592653589793238", "12345678901234567.0", "-0.0", "1e-400", "0.1"])
def test_a_number_comes_back_with_all_its_digits_and_as_the_kind_that_it_was(garden, number):
    """No double holds some of these; Python takes others for equal to what they are not."""
    (garden.path / "subjects/numbers.subject.toml").write_text(NUMBERS)
    folder = garden.settings.parent / "numbers"
    folder.mkdir()
    good = {name: form.format(number) for name, form in FORMS.items()}
    for name, content in good.items():
        (folder / f"x.{name}").write_text(content)
    at = ("--place", "potting-shed")
    garden("export", "numbers", *at)
    for name, content in good.items():
        spoilt = content.replace(number, "7.5").replace("[1, 0]", "[true, false]").replace("[1.0]", "[1]")
        (folder / f"x.{name}").write_text(spoilt)
    found = garden("compare", "numbers", "--json", code=1).json["differences"]
    assert len(found) == 9
    assert "9 settings written and read back" in garden("import", "numbers@1", *at, "--yes").out
    assert {name: (folder / f"x.{name}").read_text() for name in good} == good
    garden("undo", "--yes")
    garden("import", "numbers@1", *at, "--yes")
    assert "No differences" in garden("compare", "numbers@1").out


ANCHORS = b"""base: &t # what others have, too
  x: 1
  y: 2
use: *t
merge: {<<: *t, z: 3}
name: &n  fern
other: *n
list: &l
  - 1
again: *l
nothing: &e
so: *e
"""


@pytest.mark.parametrize(
    ("edits", "change"),
    [
        ({"/name": text("moss")}, {"name": "moss", "other": "moss"}),
        ({"/list": Leaf("list", [2, 3])}, {"list": [2, 3], "again": [2, 3]}),
        ({"/list": text("none")}, {"list": "none", "again": "none"}),
        ({"/nothing": text("some")}, {"nothing": "some", "so": "some"}),
        ({"/use": text("own")}, {"use": "own"}),
        ({"/other": Leaf("alias", "t")}, {"other": {"x": 1, "y": 2}}),
        ({"/name": None}, "*n refers to what is not there"),
        ({"/base/x": None, "/base/y": None}, "*t refers to what is not there"),
        ({"/name": Leaf("alias", "t")}, "*n refers to what is not there"),
        ({"/use": Leaf("alias", "n")}, "*n refers to what is not there, or comes later"),
    ],
)
def test_what_others_refer_to_keeps_its_name_by_another_reader(edits, change):
    wanted = [Edit(address, leaf) for address, leaf in edits.items()]
    if isinstance(change, str):
        with pytest.raises(NotWritable, match=re.escape(change)):
            formats.edit("yaml", ANCHORS, wanted)
        return
    edited = formats.edit("yaml", ANCHORS, wanted)
    assert yaml.safe_load(edited) == yaml.safe_load(ANCHORS) | change
    untouched = [line for line in ANCHORS.splitlines() if b"#" in line or b"merge" in line]
    assert all(line in edited.splitlines() for line in untouched)


@pytest.mark.parametrize(
    ("format", "document", "load"),
    [
        ("yaml", b"a: 1\nz:\n  y: 2\n  w:\n    q: 1\n", yaml.safe_load),
        ("toml", b"a = 1\n[z]\ny = 2\n[z.w]\nq = 1\n", lambda data: tomllib.loads(data.decode())),
        ("json", b'{"a": 1, "z": {"y": 2, "w": {"q": 1}}}', json.loads),
    ],
)
@pytest.mark.parametrize("removed", [(), ("/a",), ("/z/y",), ("/z/w/q",)])
def test_additions_that_end_at_one_place_come_where_they_belong(format, document, load, removed):
    added = {"/b": "B", "/z/x": "X", "/z/w/r": "R", "/n/m": "M"}
    for order in (added, dict(reversed(added.items()))):
        edits = [Edit(address, text(value)) for address, value in order.items()]
        edited = load(formats.edit(format, document, [*edits, *(Edit(address, None) for address in removed)]))
        expected = {"a": 1, "z": {"y": 2, "w": {"q": 1, "r": "R"}, "x": "X"}, "b": "B", "n": {"m": "M"}}
        for address in removed:
            *above, name = tokens(address)
            holder = expected
            for token in above:
                holder = holder[token]
            del holder[name]
        assert edited == expected


def test_what_xml_declares_is_minded_by_a_reader_that_knows_namespaces():
    declared = b'<r xmlns:q="u"><a>1</a><s xmlns:p="v"><p:c>2</p:c></s></r>'
    for address, why in (
        ("/r/q:b", ""),
        ("/r/@q:b", ""),
        ("/r/s/p:d", ""),
        ("/r/p:b", "its prefix is not declared"),
        ("/r/@p:b", "its prefix is not declared"),
        ("/r/a/x:b", "structure|prefix"),
    ):
        edits = [Edit(address, text("x")), Edit("/r/a", text("9"))]
        if why:
            with pytest.raises(NotWritable, match=why):
                formats.edit("xml", declared, edits)
        else:
            fromstring(formats.edit("xml", declared, edits))  # knows namespaces
    # What a document type gives by default is no setting; said in the document, it is one.
    typed = b'<!DOCTYPE r [<!ATTLIST a d CDATA "dd">]>\n<r><a>1</a><b d="1"/></r>'
    assert set(formats.read("xml", typed)) == {"/r/a", "/r/b/@d"}
    edited = formats.edit("xml", typed, [Edit("/r/a/@d", text("own"))])
    assert edited == typed.replace(b"<a>", b'<a d="own">')


def test_dates_of_property_lists_go_from_one_form_to_the_other():
    when = datetime.datetime(2026, 1, 2, 3, 4, 5)
    forms = [plistlib.dumps({"when": when, "n": 1}, fmt=form) for form in plistlib.PlistFormat]
    said = [formats.read("plist", form) for form in forms]
    assert said[0] == said[1] and said[0]["/when"] == Leaf("date", "2026-01-02T03:04:05Z")
    for form in forms:
        edited = formats.edit("plist", form, [Edit("/when", Leaf("date", "2027-02-03T04:05:06Z"))])
        assert plistlib.loads(edited) == {"when": datetime.datetime(2027, 2, 3, 4, 5, 6), "n": 1}
        for wrong in ("hello", "2027-02-30T00:00:00Z", "2027-02-03", "2027-02-03T04:05:06+01:00", ""):
            with pytest.raises(NotWritable, match="is no date"):
                formats.edit("plist", form, [Edit("/when", Leaf("date", wrong))])
    parts = plistlib.dumps({"when": when.replace(microsecond=250_000)}, fmt=plistlib.FMT_BINARY)
    leaf = formats.read("plist", parts)["/when"]
    assert formats.edit("plist", parts, [Edit("/when", leaf)]) == parts
    with pytest.raises(NotWritable, match="parts of a second"):
        formats.edit("plist", forms[0], [Edit("/when", leaf)])
    with pytest.raises(DocumentError, match="<date> holds"):
        formats.read("plist", forms[0].replace(b"2026-01-02T03:04:05Z", b"hello"))


def test_binary_property_lists_with_odd_keys_and_numbers_are_said():
    odd = plistlib.dumps({"a": "x", "bb": 1}, fmt=plistlib.FMT_BINARY)
    # A key that is a number: the first object of the dictionary is the second value instead.
    at = odd.index(b"\xd2") + 1
    keyed = odd[:at] + odd[at + 3 : at + 4] + odd[at + 1 :]
    with pytest.raises(DocumentError, match="a key that is no text"):
        formats.read("plist", keyed)
    wide = plistlib.dumps({"n": 1, "w": 2**63}, fmt=plistlib.FMT_BINARY)
    wider = wide.replace((2**63).to_bytes(16, "big"), (2**100).to_bytes(16, "big"))
    assert wider != wide and formats.read("plist", wider)["/w"] == Leaf("int", str(2**100))
    with pytest.raises(NotWritable, match="more than 64 bits"):
        formats.edit("plist", wider, [Edit("/n", Leaf("int", 2))])

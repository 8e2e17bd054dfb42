"""Formats: what is read, and that writing touches nothing but what was asked for."""

import configparser
import contextlib
import json
import random
import sqlite3

import configobj
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from zinker import formats
from zinker.formats.dialect import Dialect, Table
from zinker.formats.leaves import Edit
from zinker.formats.sqlite import plain_header
from zinker.formats.sqlite_logs import put_together
from zinker.model.address import pointer, tokens
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.setting import Leaf


def text(value):
    return Leaf("text", value)


names = st.text(
    st.characters(codec="utf-8", exclude_categories=["C", "Z"], exclude_characters='[]=:;#"'), min_size=1
)
values = st.text(st.characters(codec="utf-8", exclude_categories=["C", "Z"]))
spaces = st.sampled_from(["", " ", "\t", "  "])


@st.composite
def ini_lines(draw):
    key = st.builds(
        lambda i, k, a, b, v, t: f"{i}{k}{a}={b}{v}{t}", spaces, names, spaces, spaces, values, spaces
    )
    header = st.builds(lambda i, n, t: f"{i}[{n}]{t}", spaces, st.one_of(names, st.just("a]b")), spaces)
    comment = st.builds(lambda s, v: f"{s}{v}", st.sampled_from([";", "# ", "  ;"]), values)
    lines = draw(st.lists(st.one_of(key, key, header, comment, spaces, names)))
    ends = draw(st.lists(st.sampled_from(["\n", "\r\n"]), min_size=len(lines), max_size=len(lines)))
    whole = "".join(line + end for line, end in zip(lines, ends, strict=True))
    return whole if draw(st.booleans()) else whole.rstrip("\r\n")


encodings = st.sampled_from(["utf-8", "utf-8-sig", "utf-16"])


@given(ini_lines(), encodings, st.data())
def test_ini_edits_touch_one_line(whole, encoding, data):
    document = whole.encode(encoding)
    before = formats.read("ini", document)
    assert formats.edit("ini", document, [Edit(a, leaf) for a, leaf in before.items()]) == document
    keyed = [address for address, leaf in before.items() if leaf.type == "text"]
    assume(keyed)
    address = data.draw(st.sampled_from(sorted(keyed)))
    new = data.draw(values)
    after = formats.edit("ini", document, [Edit(address, text(new))])
    assert formats.read("ini", after) == before | {address: text(new)}
    old_lines, new_lines = (d.decode(encoding).splitlines(keepends=True) for d in (document, after))
    assert len(old_lines) == len(new_lines)
    assert sum(a != b for a, b in zip(old_lines, new_lines, strict=True)) <= 1
    if len([a for a in before if tokens(a)[:2] == tokens(address)[:2]]) == 1:
        removed = formats.edit("ini", document, [Edit(address, None)])
        left = formats.read("ini", removed)
        assert (
            address not in left and {a: v for a, v in before.items() if a != address}.items() <= left.items()
        )


@given(ini_lines(), names, names, values)
def test_ini_additions_hold_and_keep_every_line(whole, section, key, value):
    document = whole.encode()
    before = formats.read("ini", document)
    address = pointer(section, key)
    assume(address not in before and pointer(section) not in before)
    after = formats.edit("ini", document, [Edit(address, text(value))])
    assert formats.read("ini", after)[address] == text(value)
    remaining = iter(after.decode().splitlines())
    assert all(line in remaining for line in whole.splitlines())  # all old lines, in their order


plain = st.one_of(
    st.text(), st.integers(), st.booleans(), st.none(), st.floats(allow_nan=False, allow_infinity=False)
)
trees = st.recursive(
    plain, lambda below: st.one_of(st.lists(below, max_size=4), st.dictionaries(st.text(), below, max_size=4))
)
roots = st.dictionaries(st.text(), trees, max_size=5)


@given(data=st.data())
def test_ini_edits_are_what_another_reader_finds(data):
    """Keys that come, change and go in several sections at once, as Python's own reader of INI files sees them."""
    end = data.draw(st.sampled_from(["\n", "\r\n"]))
    lines = []
    for section in data.draw(st.lists(st.sampled_from("abc"), unique=True)):
        lines.append(f"[{section}]")
        for key in data.draw(st.lists(st.sampled_from("xyz"), max_size=2, unique=True)):
            lines.append(f"{key}{data.draw(st.sampled_from(['=', ' = ']))}{len(lines)}")
            lines += data.draw(st.sampled_from([[], [], ["; note"]]))
        lines += [""] * data.draw(st.integers(0, 2))
    before = end.join([*lines, *data.draw(st.sampled_from([[], [""]]))]).encode()
    had = read_elsewhere(before)
    wanted = {at: data.draw(st.sampled_from([None, None, "100", value])) for at, value in had.items()}
    places = st.tuples(st.sampled_from("abcd"), st.sampled_from("xyz"))
    wanted |= data.draw(st.dictionaries(places, st.sampled_from(["100", "200"])))
    edits = [Edit(f"/{s}/{k}", value and Leaf("text", value)) for (s, k), value in wanted.items()]
    after = formats.edit("ini", before, edits)
    assert read_elsewhere(after) == {at: value for at, value in (had | wanted).items() if value}
    assert after.count(b"; note") == before.count(b"; note")


def read_elsewhere(data):
    """The keys of an INI file by section and name, by configparser."""
    reader = configparser.RawConfigParser(default_section="\0", interpolation=None, strict=False)
    reader.read_string(data.decode())
    return {(section, key): value for section in reader.sections() for key, value in reader.items(section)}


@given(roots, st.sampled_from([None, 2, "\t"]), st.booleans(), encodings)
def test_json_is_rebuilt_from_its_settings(tree, indent, ascii_only, encoding):
    document = json.dumps(tree, indent=indent, ensure_ascii=ascii_only).encode(encoding, "replace")
    leaves = formats.read("json", document)
    assert formats.edit("json", document, [Edit(a, leaf) for a, leaf in leaves.items()]) == document
    rebuilt = formats.edit("json", b"{}", [Edit(a, leaf) for a, leaf in leaves.items()])
    assert formats.read("json", rebuilt) == leaves


@given(roots, st.sampled_from([None, 2]), st.text(), st.data())
def test_json_edits_touch_one_node(tree, indent, value, data):
    document = json.dumps(tree, indent=indent).encode()
    before = formats.read("json", document)
    # An item of a list that holds lists: the list may become one of plain values, which has no items.
    in_objects = [
        a
        for a, leaf in before.items()
        if not any(token.isdigit() for token in tokens(a)) and leaf.value != {}
    ]
    assume(in_objects)
    address = data.draw(st.sampled_from(sorted(in_objects)))
    new = before | {address: text(value)}
    after = formats.edit("json", document, [Edit(address, new[address])])
    assert formats.read("json", after) == new
    assert abs(len(after.splitlines()) - len(document.splitlines())) <= len(document.splitlines())
    added = formats.edit("json", document, [Edit("/added by a test/deep", text(value))])
    removed = formats.edit("json", added, [Edit("/added by a test/deep", None)])
    assert removed == document


def test_json_looks_like_its_neighbours():
    document = b'{\r\n  "a": {\r\n    "x": 1.50\r\n  },\r\n  "list": ["p",  "q"]\r\n}'
    edits = [
        Edit("/a/y", Leaf("bool", True)),
        Edit("/b/z", Leaf("int", "9007199254740993")),
        Edit("/list", Leaf("list", ["p"])),
    ]
    assert formats.edit("json", document, edits) == (
        b'{\r\n  "a": {\r\n    "x": 1.50,\r\n    "y": true\r\n  },\r\n  "list": ["p"],\r\n  "b": {\r\n'
        b'    "z": 9007199254740993\r\n  }\r\n}'
    )


def test_json_values_are_exact():
    leaves = formats.read(
        "json", b'{"a": 12345678901234567890, "b": 1e400, "c": [], "d": {}, "e": -0.0, "f": [[1]]}'
    )
    assert leaves["/a"] == Leaf("int", "12345678901234567890")
    assert leaves["/b"] == Leaf("float", "1e400")
    assert (leaves["/c"], leaves["/d"]) == (Leaf("list", []), Leaf("object", {}))
    assert leaves["/f/0"] == Leaf("list", [1])
    assert formats.edit("json", b'{"a": [1.0]}', [Edit("/a", Leaf("list", [1, 1.0]))]) == b'{"a": [1, 1.0]}'
    numbered = {"/n": Leaf("object", {}), "/n/0/x": Leaf("int", 1)}  # not an array
    assert formats.read("json", b'{"n": {"0": {"x": 1}}}') == numbered
    assert formats.read("json", b"{}") == {} and formats.read("json", b"[true]") == {"/0": Leaf("bool", True)}


def test_ini_dialects():
    document = "\ufeffbare\ntop=1\n[a b]\n;note\n k = v ; kept\nk=2\nempty=\n[none]\n".encode()
    assert formats.read("ini", document) == {
        "//bare": Leaf("null", None),
        "//top": text("1"),
        "/a b/k": text("v ; kept"),
        "/a b/k/2": text("2"),
        "/a b/empty": text(""),
        "/none": Leaf("object", {}),
    }
    assert formats.read("ini", b"[s]\nk: v=1\nl: C:\\x\n")["/s/k"] == text("v=1")
    after = formats.edit("ini", document, [Edit("/a b/new", text("n")), Edit("/c/d", text("é"))])
    assert after.decode() == document.decode().replace("empty=\n", "empty=\nnew=n\n") + "[c]\nd=é\n"
    assert formats.edit("ini", b"[a]\nx = 1\n\n[b]\ny = 2", [Edit("/b/y", None)]) == b"[a]\nx = 1"
    latin = "[s]\nname = Möwe\n".encode("latin-1")
    assert formats.edit("ini", latin, [Edit("/s/name", text("Käfer"))]) == "[s]\nname = Käfer\n".encode(
        "latin-1"
    )


@pytest.mark.parametrize(
    ("format", "document", "edit"),
    [
        ("ini", b"[s]\nk=1\n", Edit("/s/k", text("two\nlines"))),
        ("ini", b"[s]\nk=1\n", Edit("/s/k", text(" spaced "))),
        ("ini", b"[s]\nk=1\n", Edit("/s/k=x", text("1"))),
        ("ini", b"[s]\nk=1\n", Edit("/s/k", Leaf("int", 1))),
        ("ini", "[s]\nk=\xe9\n".encode("latin-1"), Edit("/s/k", text("\u4e2d"))),
        ("json", b'{"a": {"b": 1}}', Edit("/a", text("x"))),
        ("json", b'{"a": 1}', Edit("/a/b", text("x"))),
        ("json", b'{"a": [{}]}', Edit("/a/7/x", text("x"))),
        ("json", b'{"a": 1}', Edit("/a", Leaf("dword", 1))),
    ],
)
def test_what_cannot_be_written_is_refused(format, document, edit):
    with pytest.raises(NotWritable) as caught:
        formats.edit(format, document, [edit])
    assert caught.value.address == edit.address


@pytest.mark.parametrize(
    ("format", "document"),
    [
        ("ini", b"[s]\nk=\x00\x01\x02\n"),
        ("ini", b"[open\nk=1\n"),
        ("ini", b"= value\n"),
        ("json", b'{"a": 1'),
        ("json", b""),
        ("json", b"17"),
        ("json", b'{"a": 1, "a": 2}'),
        ("json", b'{"a": NaN}'),
        ("json", b"[" * 100_000 + b"]" * 100_000),
        ("json", b'{"a": "\xff"}'),
        ("json", b'{"n": ' + b"9" * 5000 + b"}"),
        ("json", b"[1,,]"),
        ("json", b"[,]"),
        ("json", b'{"a": 1} /* open'),
        ("plist", b"<plist><dict><key><true/>k</key><string>x</string></dict></plist>"),
        ("toml", "a = 1\n".encode("utf-16")),
        ("xml", b"\xef\xbb\xbf<?xml version='1.0' encoding='iso-8859-1'?><x/>"),
        # What not everybody reads alike.
        ("yaml", "a: x\u2028b: y\n".encode()),
        ("yaml", b"{ ?a: b }\n"),
        ("yaml", b"k: &a:b v\n"),
        ("yaml", b"- |+\n   "),
    ],
)
def test_what_breaks_its_format_is_said(format, document):
    with pytest.raises(DocumentError):
        formats.read(format, document)


PREFS = Dialect(
    tables=(Table("prefs", ("scope", "name"), "value"), Table("odd \"table'", ("id",), "v")),
)


def database(*statements):
    with contextlib.closing(sqlite3.connect(":memory:")) as made:
        made.execute("CREATE TABLE prefs (scope TEXT, name, value NOT NULL, more TEXT DEFAULT 'kept')")
        made.execute("""CREATE TABLE "odd ""table'" (id INTEGER PRIMARY KEY, v)""")
        made.execute("INSERT INTO prefs VALUES ('lamps', 'dusk', '19:30', 'own'), ('lamps', 7, 1.5, NULL)")
        for statement in statements:
            made.execute(statement)
        made.commit()
        return made.serialize()


def test_sqlite_rows_are_settings_and_the_rest_is_not_touched():
    data = database("""INSERT INTO "odd ""table'" VALUES (1, x'00ff'), (2, 9007199254740993), (3, NULL)""")
    found = formats.read("sqlite", data, PREFS)
    assert found == {
        "/prefs/lamps/dusk": text("19:30"),
        "/prefs/lamps/dusk/more": text("own"),
        "/prefs/lamps/7": Leaf("float", 1.5),
        "/odd \"table'/1": Leaf("bytes", "AP8="),
        "/odd \"table'/2": Leaf("int", "9007199254740993"),
        "/odd \"table'/3": Leaf("null", None),
    }
    edits = {
        "/prefs/lamps/dusk": Leaf("int", "9007199254740993"),
        "/prefs/lamps/7": None,
        "/prefs/water/dawn": text("06:10"),
        "/odd \"table'/3": Leaf("bytes", "AQ=="),
        "/odd \"table'/4": text("new"),
    }
    after = formats.edit("sqlite", data, [Edit(a, leaf) for a, leaf in edits.items()], PREFS)
    wanted = {a: leaf for a, leaf in (found | edits).items() if leaf is not None}
    assert formats.read("sqlite", after, PREFS) == wanted
    with contextlib.closing(sqlite3.connect(":memory:")) as made:
        made.deserialize(after)
        assert set(made.execute("SELECT name, more FROM prefs")) == {("dusk", "own"), ("dawn", None)}


def test_whole_rows_come_back_also_of_a_table_without_numbers():
    """All columns of a row are settings: several values, keys of any kind, text that is no UTF-8."""
    with contextlib.closing(sqlite3.connect(":memory:")) as made:
        made.execute("CREATE TABLE beds (place BLOB, row, plant TEXT, since REAL, data BLOB, "
                     "PRIMARY KEY (place, row)) WITHOUT ROWID")  # fmt: skip
        made.execute("CREATE TABLE notes (id INTEGER PRIMARY KEY, name TEXT, value TEXT, by TEXT DEFAULT 'x', "
                     "size INT AS (length(value)))")  # fmt: skip
        made.execute("INSERT INTO beds VALUES (x'ff00', 1, 'moss', 1.5, x'00'), (x'ff', 2, NULL, NULL, NULL)")
        made.execute(
            "INSERT INTO notes VALUES (7, 'water', CAST(x'ff41' AS TEXT), 'ivy'), (9, 'dry', 'b', NULL)"
        )
        made.commit()
        data = made.serialize()
    dialect = Dialect(tables=(Table("beds", ("place", "row")), Table("notes", ("name",), "value")))
    found = formats.read("sqlite", data, dialect)
    assert found == {
        "/beds/~1wA=/1/plant": text("moss"),
        "/beds/~1wA=/1/since": Leaf("float", 1.5),
        "/beds/~1wA=/1/data": Leaf("bytes", "AA=="),
        "/beds/~1w==/2": Leaf("object", {}),
        "/notes/water": Leaf("text:raw", "/0E="),
        "/notes/water/by": text("ivy"),
        "/notes/dry": text("b"),
    }
    emptied = formats.edit("sqlite", data, [Edit(address, None) for address in found], dialect)
    assert formats.read("sqlite", emptied, dialect) == {}
    back = formats.edit("sqlite", emptied, [Edit(*item) for item in found.items()], dialect)
    assert formats.read("sqlite", back, dialect) == found
    with contextlib.closing(sqlite3.connect(":memory:")) as made:
        made.deserialize(back)
        rows = made.execute("SELECT name, hex(value), typeof(value), by FROM notes ORDER BY name").fetchall()
        assert rows == [("dry", "62", "text", None), ("water", "FF41", "text", "ivy")]
        assert made.execute(
            "SELECT plant, since, data FROM beds WHERE place = x'ff00' AND row = 1"
        ).fetchall() == [("moss", 1.5, b"\0")]
    for address, why in (("/notes/water", "other columns"), ("/notes/water/none", "no column none")):
        with pytest.raises(NotWritable, match=why):
            formats.edit("sqlite", data, [Edit(address, None)], dialect)
    with pytest.raises(NotWritable, match="the database refuses it"):
        formats.edit("sqlite", data, [Edit("/notes/dry", text("\ud800"))], dialect)


@pytest.mark.parametrize(
    ("address", "leaf", "why"),
    [
        ("/prefs/lamps", text("x"), "no such table"),
        ("/other/a/b", text("x"), "no such table"),
        ("/prefs/lamps/dusk", Leaf("null", None), "the database refuses it"),
        ("/prefs/lamps/dusk", Leaf("list", ["x"]), "holds no list"),
        ("/prefs/lamps/none", None, "it is not there"),
        ("/odd \"table'/word", text("x"), "the database refuses it"),
    ],
)
def test_what_a_database_refuses_is_said(address, leaf, why):
    with pytest.raises(NotWritable, match=why) as caught:
        formats.edit("sqlite", database(), [Edit(address, leaf)], PREFS)
    assert caught.value.address == address


@pytest.mark.parametrize(
    ("data", "why"),
    [
        (b"", "no SQLite database"),
        (b"SQLite format 3\0", "no SQLite database"),
        (b"SQLite format 3\0" + bytes(5000), "SQLite"),
        (database()[:4096], "SQLite|damaged"),
        (database("INSERT INTO prefs VALUES ('lamps', 'dusk', '20:00', NULL)"), "twice"),
        (database("DROP TABLE prefs"), "no such table"),
    ],
)
def test_a_database_that_is_none_or_damaged_is_said(data, why):
    with pytest.raises(DocumentError, match=why):
        formats.read("sqlite", data, PREFS)


@pytest.mark.parametrize(
    ("name", "beginning", "format"),
    [
        ("mosslight.INI", b"", "ini"),
        ("desk.jsonc", b"<xml/>", "json"),  # the name comes first
        ("README", b"Moss and fern.\n", "whole"),
        ("prefs", b"\xef\xbb\xbf<?xml version='1.0'?><a/>", "xml"),
        ("prefs", b"<?xml version='1.0'?>\n<!DOCTYPE plist PUBLIC", "plist"),
        ("prefs", b"bplist00\x00", "plist"),
        ("rc", b"# moss\n\n[lamps]\ndusk=1\n", "ini"),
        ("rc", b'{"a": 1}', "json"),
        ("rc", b"{ not json", "whole"),
        ("rc", b"SQLite format 3\0", "whole"),
        ("folder.d/.hidden", b"", "whole"),
    ],
)
def test_a_format_is_told_from_the_name_or_the_beginning(name, beginning, format):
    assert formats.guess(name, beginning) == format


def test_encodings_are_found_declared_and_kept():
    word = "Käfer"
    for encoding in ("utf-16-le", "cp1250", "shift_jis", "koi8-r"):
        plain = "k" if encoding in ("shift_jis", "koi8-r") else word
        document = f"[s]\nk = {plain}\n".encode(encoding)
        dialect = Dialect(encoding=encoding.removesuffix("-le"))
        assert formats.read("ini", document, dialect) == {"/s/k": text(plain)}
        after = formats.edit("ini", document, [Edit("/s/new", text("x"))], dialect)
        assert after == f"[s]\nk = {plain}\nnew = x\n".encode(encoding)
    with pytest.raises(DocumentError, match="mixes UTF-8"):
        formats.read("ini", b"[s]\na=K\xc3\xa4fer\nb=K\xe4fer\n")
    with pytest.raises(NotWritable, match="which has no"):
        formats.edit("ini", b"[s]\na=K\xe4fer\n", [Edit("/s/a", text("дуб"))])
    xml = '<?xml version="1.0" encoding="iso-8859-1"?>\n<a>Käfer</a>'.encode("latin-1")
    assert formats.read("xml", xml) == {"/a": text("Käfer")}
    assert formats.edit("xml", xml, [Edit("/a", text("Möwe"))]) == xml.replace(b"K\xe4fer", b"M\xf6we")
    with pytest.raises(DocumentError, match="unknown"):
        formats.read("xml", b'<?xml version="1.0" encoding="moss-8"?><a/>')


def test_xml_never_expands_and_never_fetches():
    bomb = "".join(f'<!ENTITY l{n} "{f"&l{n - 1};" * 10}">' for n in range(1, 30))
    for document, why in (
        (f'<!DOCTYPE a [<!ENTITY l0 "ha">{bomb}]><a>&l29;</a>', "declares entities of its own"),
        ('<!DOCTYPE a [<!ENTITY f SYSTEM "file:///etc/passwd">]><a>&f;</a>', "declares entities of its own"),
        ('<!DOCTYPE a SYSTEM "http://a.example/a.dtd"><a>&other;</a>', "uses entities|undefined entity"),
        ("<a>" * 3 + "</a>", "mismatched|no element|unclosed"),
    ):
        with pytest.raises(DocumentError, match=why):
            formats.read("xml", document.encode())
    deep = b"<a>" * 50_000 + b"x" + b"</a>" * 50_000
    assert len(formats.read("xml", deep)) == 1


@pytest.mark.parametrize("mode", ["wal", "delete", "persist"])
@pytest.mark.parametrize("page", [512, 4096])
def test_a_database_cut_off_anywhere_is_put_together_as_sqlite_itself_does(tmp_path, mode, page):
    chance = random.Random(f"{mode} {page}")
    live = sqlite3.connect(tmp_path / "live", isolation_level=None)
    for pragma in (f"page_size = {page}", f"journal_mode = {mode}", "cache_size = 4", "auto_vacuum = FULL"):
        live.execute(f"PRAGMA {pragma}")
    live.execute("CREATE TABLE prefs (name PRIMARY KEY, value)")
    seen = {"hot": 0, "whole": 0, "cut": 0}
    for step in range(60):
        live.execute("BEGIN")
        for _ in range(chance.choice((1, 9))):
            if chance.random() < 0.3:
                live.execute("DELETE FROM prefs WHERE rowid % 3 = ?", (chance.randrange(3),))
            live.execute(
                "REPLACE INTO prefs VALUES (?, ?)", (chance.randrange(60), "x" * chance.randrange(3000))
            )
        is_open = chance.random() < 0.5
        if not is_open:
            live.execute("COMMIT")
        files = {end: tmp_path.joinpath("live" + end) for end in ("", "-journal", "-wal")}
        parts = {end: path.read_bytes() if path.exists() else b"" for end, path in files.items()}
        if chance.random() < 0.3 and parts["-wal"]:  # the disk lost the end of what was written last
            at = chance.randrange(len(parts["-wal"]))
            parts["-wal"] = parts["-wal"][:at] + chance.choice((b"", bytes(page)))
            seen["cut"] += 1
        for end, data in parts.items():
            tmp_path.joinpath(f"copy{end}").write_bytes(data)
        ours = put_together(*parts.values())
        reference = sqlite3.connect(tmp_path / "copy")
        memory = sqlite3.connect(":memory:")
        memory.deserialize(plain_header(ours))
        assert list(memory.iterdump()) == list(reference.iterdump()), step
        assert memory.execute("PRAGMA integrity_check").fetchone() == ("ok",)
        reference.close()
        seen["hot" if is_open and len(ours) and ours != parts[""] else "whole"] += 1
        if is_open:
            live.execute("ROLLBACK")
    assert seen["hot"] > 5 and seen["whole"] > 5 and (mode != "wal" or seen["cut"] > 5)


NESTED = b"""place = garden  # where
[benches]
count = 2
[[east]]
plugin = watering
[[[deep]]]
a = "x, y"
[[west]]

[lamps]
dusk = 19:30
"""


def test_sections_in_sections_as_configobj_reads_them():
    dialect = Dialect(nested=True, comments=("#",), inline=True, quotes=True)

    def seen(data):
        made = configobj.ConfigObj(data.decode().splitlines(), list_values=True, interpolation=False)
        return json.loads(json.dumps(made))

    found = formats.read("ini", NESTED, dialect)
    assert found["/benches/east/deep/a"] == text("x, y") and found["//place"] == text("garden")
    assert found["/benches/west"] == Leaf("object", {})
    now = seen(NESTED)
    after = formats.edit(
        "ini",
        NESTED,
        [
            Edit("/benches/east/plugin", text("drip")),
            Edit("/benches/east/deep/a", None),
            Edit("/benches/more", text("1")),
            Edit("/benches/north/deeper/b", text("2")),
            Edit("/vents/inner/c", text("3 # no comment")),
            Edit("//top", text("4")),
            Edit("/lamps/dusk", None),
        ],
        dialect,
    )
    now["benches"]["east"] = {"plugin": "drip"}
    now["benches"] |= {"more": "1", "north": {"deeper": {"b": "2"}}}
    del now["lamps"]
    now |= {"vents": {"inner": {"c": "3 # no comment"}}, "top": "4"}
    assert seen(after) == now and b"# where" in after
    for document, why in (
        (b"[[a]]\n", "in one that is not there"),
        (b"[a]\nb=1\nb=2\n", "twice"),
        (b"a='''x\ny'''\n", "several lines"),
        (b"[a]\nb=1\n[[b]]\nc=2\n", "a key and a section"),
    ):
        with pytest.raises(DocumentError, match=why):
            formats.read("ini", document, dialect)


def test_a_key_without_a_value_comes_and_goes():
    document = b"[lamps]\nautomatic\ndusk = 19:30\n"
    given_one = formats.edit("ini", document, [Edit("/lamps/automatic", text("yes"))])
    assert given_one == b"[lamps]\nautomatic=yes\ndusk = 19:30\n"
    assert formats.edit("ini", given_one, [Edit("/lamps/automatic", Leaf("null", None))]) == document


@pytest.mark.parametrize(
    ("format", "document", "leaf", "result"),
    [
        ("yaml", "a: True\n", Leaf("bool", False), "a: False\n"),
        ("yaml", "a: 2.50\n", Leaf("float", 1.5), "a: 1.50\n"),
        ("yaml", "a: 'x'\n", text("it's"), "a: 'it''s'\n"),
        ("yaml", "a:  # b\n - 1.50 # c\n - x\n", Leaf("list", [1.5, "z", 2]), "a:  # b\n - 1.50 # c\n - z\n - 2\n"),
        ("yaml", "a: |  # b\n  x\n", text("z"), "a: z  # b\n"),
        ("yaml", "a: 1\r\nb: 2\r\n", None, "b: 2\r\n"),
        ("json", '{"a": [1.50, /* b */ 2,\n3]}', Leaf("list", [1.5, 9, 2, 3]), '{"a": [1.50, /* b */ 9, 2,\n3]}'),
        ("toml", "a = [\n 1.50, #b\n 2, #c\n]\n", Leaf("list", [1.5, 3, 4]), "a = [\n 1.50, #b\n 3, #c\n 4,\n]\n"),
        ("toml", "a = 10:00:00.12345678\n", Leaf("date", "10:00:00.12345679"), "a = 10:00:00.12345679\n"),
        ("toml", "a.b = 1\nc = {a.b = 1, a.c = 2}\n", None, "c = {a.b = 1, a.c = 2}\n"),
        ("xml", "<r><a><!-- b -->x</a></r>", text("y"), "<r><a><!-- b -->y</a></r>"),
        ("plist", "<plist><dict><key>a</key><array><real>.50</real><!----><string/></array></dict></plist>",
         Leaf("list", [0.5, "y"]),
         "<plist><dict><key>a</key><array><real>.50</real><!----><string>y</string></array></dict></plist>"),
    ],
)  # fmt: skip
def test_the_spelling_of_what_stays_and_the_comments_stay(format, document, leaf, result):
    address = "/r/a" if format == "xml" else "/a/b" if document.startswith("a.b") else "/a"
    assert formats.edit(format, document.encode(), [Edit(address, leaf)]) == result.encode()

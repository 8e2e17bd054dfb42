"""Registration text files: every form in which people exchange them, read and written."""

import io
import random
import re

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zinker.disk.sorted_rows import SortedRows
from zinker.formats.registry_text import RegistryText
from zinker.formats.registry_text_writer import write_registry_text
from zinker.formats.registry_values import from_bytes
from zinker.model.address import folded, pointer
from zinker.model.errors import DocumentError
from zinker.model.rows import address_of, encode_rows, leaf_of, row_of
from zinker.model.setting import Leaf, Setting, decode_line

TILL = r"HKEY_CURRENT_USER\Software\Tarn Hollow\Brindlepot"
ODD = r"""Windows Registry Editor Version 5.00

; what somebody wrote by hand [not a key]
[HKEY_CURRENT_USER\Software\Tarn Hollow\Brindlepot\Prices]
"Adult"=dword:3d4 ; without zeros in front
"Child"=-
@="the \"default\" \\ value"
"Path"=hex(2):25,00,\
  ; between
  41,00,00,00
"Lines"="one
[HKEY_LOCAL_MACHINE]
three"
"odd/na~me\\"=hex(b):01,00,00,00,00,00,00,80
"Cut"=hex(1):41,00
"¬¶"="¬¶\\¬"

[-HKEY_CURRENT_USER\Software\Tarn Hollow\Brindlepot\Receipt]

[HKEY_CURRENT_USER\Software\Tarn Hollow\Brindlepot\Receipt]
"Footer"="again"

[HKEY_CURRENT_USER\Software\Tarn Hollow\Brindlepot\Season passes]

[HKEY_CURRENT_USER\SOFTWARE\tarn hollow\Brindlepot\prices]
"ADULT"=dword:000003d5
"""


def read(data, piece=2**21):
    """All settings, by document and address, and the mistakes."""
    from zinker.formats import registry_text

    registry_text._CHUNK, usual = piece, registry_text._CHUNK
    try:
        text = RegistryText(lambda: io.BytesIO(data))
        blocks = list(text.blocks())
    finally:
        registry_text._CHUNK = usual
    found = {}
    for document, block in blocks:
        for row in block:
            address = address_of(row)
            assert (document, address) not in found
            found[document, address] = (leaf_of(row).type, leaf_of(row).value)
    return found, text.mistakes


@pytest.mark.parametrize("piece", [7, 64, 2**21])
@pytest.mark.parametrize("ends", ["\n", "\r\n"])
@pytest.mark.parametrize("encoding", ["utf-16", "utf-16-be", "utf-8-sig", "utf-8"])
def test_every_form_is_read(ends, encoding, piece):
    mark = b"\xfe\xff" if encoding == "utf-16-be" else b""
    found, mistakes = read(mark + ODD.replace("\n", ends).encode(encoding), piece)
    assert not mistakes
    base = "/Software/Tarn Hollow/Brindlepot"
    assert {address.removeprefix(base): value for (_, address), value in found.items()} == {
        "/Prices/": ("sz", 'the "default" \\ value'),
        "/Prices/Child": ("gone", None),
        "/Prices/Path": ("expand_sz", "%A"),
        "/Prices/Lines": ("sz", ends.join(["one", "[HKEY_LOCAL_MACHINE]", "three"])),
        "/Prices/odd~1na~0me\\": ("qword", str(2**63 + 1)),
        "/Prices/Cut": ("registry:1", "QQA="),
        "/Prices/¬¶": ("sz", "¬¶\\¬"),
        "/SOFTWARE/tarn hollow/Brindlepot/prices/ADULT".removeprefix(base): ("dword", 0x3D5),
        "/Receipt//": ("key-gone", None),
        "/Receipt/Footer": ("sz", "again"),
        "/Season passes/": ("key", None),
    }


def test_the_older_generation_is_in_ansi():
    text = f'REGEDIT4\r\n\r\n[{TILL}]\r\n"€"="für \x81"\r\n"Path"=hex(2):80,41,00\r\n'
    data = b"".join(b"\x81" if c == "\x81" else c.encode("cp1252") for c in text)
    found, mistakes = read(data)
    assert not mistakes and list(found.values()) == [("sz", "für \x81"), ("expand_sz", "€A")]


def test_what_others_write_is_read_too():
    """As the registries of other systems take it: indented, spaced, bytes of one digit, no byte-order mark."""
    lines = [
        f"  [{TILL}] ; a note",
        '\t"a" = dword:1',
        ' @ = "x" ; y',
        '"b"=hex:1,2,',
        '"c"="é\\\\"',
        '"d" =-',
        "; end",
    ]
    data = "\r\n".join(["Windows Registry Editor Version 5.00", "", *lines]).encode("cp1252")
    found, mistakes = read(data)
    assert not mistakes
    base = "/Software/Tarn Hollow/Brindlepot"
    assert {address.removeprefix(base): value for (_, address), value in found.items()} == {
        "/a": ("dword", 1),
        "/": ("sz", "x"),
        "/b": ("binary", "AQI="),
        "/c": ("sz", "é\\"),
        "/d": ("gone", None),
    }


def test_lines_that_mean_nothing_are_named_and_the_rest_is_read(garden):
    lines = ['"a"="C:\\temp"', '"b"=dword:xyz', '"c"=hex:0g', "nonsense", '"d"="open', '"e"=dword:1', "[open"]
    data = "\r\n".join(["REGEDIT4", f"[{TILL}]", *lines, '"f"="lost with its key"', ""]).encode()
    found, mistakes = read(data)
    assert list(found.values()) == [("dword", 1)]
    assert [mistake.line for mistake in mistakes] == [3, 4, 5, 6, 7, 9]
    (garden.path / "till.reg").write_bytes(data)
    for wanted in ((), ("--find", "no such text"), ("--secrets",), ("--document", TILL)):
        shown = garden("show", "till.reg", *wanted, code=1).out
        assert len(re.findall(r"till\.reg: line [345679]: ", shown)) == 6, wanted


@pytest.mark.parametrize(
    "data",
    [
        b"",
        b"\xff\xfe",
        b"[HKEY_CURRENT_USER]\r\n",
        b"\0" * 4096,
        "Windows Registry Editor Version 4".encode("utf-16"),
    ],
)
def test_what_is_none_says_so(data, garden):
    with pytest.raises(DocumentError):
        read(data)
    (garden.path / "x.reg").write_bytes(data)
    assert "is no registration text file" in garden("show", "x.reg", code=5).err


_CHARACTERS = st.characters(codec=None, blacklist_characters="\0\1")
_NAMES = st.text(_CHARACTERS, max_size=12)
_KEYS = st.text(
    st.characters(blacklist_characters="\0\1\\\r\n]", blacklist_categories=["Cs"]), min_size=1, max_size=8
)
_DATA = st.one_of(
    st.text(max_size=20).map(lambda text: f"{text}\0".encode("utf-16-le", "surrogatepass")),
    st.binary(max_size=60),
)
_VALUES = st.tuples(st.integers(0, 12), _DATA)


@settings(max_examples=150)
@given(
    st.dictionaries(st.tuples(st.lists(_KEYS, max_size=3), _NAMES).map(lambda at: (*at[0], at[1])), _VALUES)
)
def test_what_is_written_is_read_back(values):
    """Any types, any bytes, any names but those that no such file can hold."""
    unlike = {}
    for path, value in values.items():  # case does not count, and a space at an end is not kept
        if path[:-1] == tuple(name.strip() for name in path[:-1]):
            unlike[folded("\0".join(path))] = (path, value)
    wanted = {pointer(*path): from_bytes(*value) for path, value in unlike.values()}
    lines = [Setting("HKEY_USERS", address, *typed) for address, typed in wanted.items()]
    data = b"".join(write_registry_text(lines))
    found, mistakes = read(data)
    assert not mistakes and {address: value for (_, address), value in found.items()} == wanted


@settings(max_examples=150)
@given(
    st.lists(st.tuples(st.text(st.characters(codec=None), max_size=6), st.text(max_size=6)), max_size=30),
    st.integers(1, 60),
)
def test_rows_sort_and_become_lines_as_settings_do(pairs, held):
    settings = {pointer("k", name): Leaf("sz", value) for name, value in pairs}
    rows = SortedRows(held)  # so little that most is put aside
    for address, leaf in settings.items():
        rows.add([row_of(address, leaf)])
    lines = b"".join(encode_rows("d\ud800", block) for block in rows.blocks()).splitlines()
    expected = [
        Setting("d\ud800", address, leaf.type, leaf.value) for address, leaf in sorted(settings.items())
    ]
    assert [decode_line(line) for line in lines] == expected


def test_spoiled_files_do_no_harm():
    """Flipped, cut and repeated bytes: read as far as that goes, or refused; never an unexpected error."""
    good = ODD.replace("\n", "\r\n").encode("utf-16")
    dice = random.Random(11)
    for number in range(400):
        data = bytearray(good)
        for _ in range(dice.randrange(1, 8)):
            data[dice.randrange(len(data))] = dice.randrange(256)
        if number % 3 == 0:
            del data[dice.randrange(len(data)) :]
        try:
            read(bytes(data))
        except (DocumentError, AssertionError):
            continue


def test_a_text_file_is_shown_compared_imported_and_taken_back(garden):
    (garden.path / "odd.reg").write_bytes(ODD.replace("\n", "\r\n").encode("utf-16"))
    garden("export", "brindlepot", "--place", "gate-kiosk", "--to", "now.reg", code=1)
    assert "No differences" in garden("compare", "now.reg", "gate-kiosk:brindlepot", code=1).out
    shown = garden("show", "odd.reg").out
    assert "to be removed" in shown and "key to be removed" in shown
    arguments = ("--place", "gate-kiosk", "--while-running")
    plan = garden("import", "odd.reg", *arguments, "--preview", "--json").json["plan"][0]["settings"]
    words = {item["address"]: item["what"] for item in plan}
    assert (
        words["/Prices/Child"] == words["/Receipt/Logo"] == "gone" and words["/Receipt/Footer"] == "changed"
    )
    before = garden.registry("gate-kiosk")
    garden("import", "odd.reg", *arguments, "--yes")
    prices = garden.registry("gate-kiosk")[rf"{TILL}\Prices"]
    assert (
        prices["Adult"] == ["dword", 0x3D5]
        and "Child" not in prices
        and prices["Pensioner"] == ["dword", 700]
    )
    garden("undo", "--yes", "--while-running")
    assert garden.registry("gate-kiosk") == before


def test_keys_of_nobody_and_secrets_in_text_files(garden):
    token = "f81d4fae7dec11d0a76500a0c91e6bf6"
    text = f'REGEDIT4\r\n[{TILL}]\r\n"API-Token"="{token}"\r\n[HKEY_LOCAL_MACHINE\\Elsewhere]\r\n"a"="b"\r\n'
    (garden.path / "till.reg").write_text(text, newline="")
    out = garden("import", "till.reg", "--place", "gate-kiosk", "--yes", "--while-running", code=1).out
    assert "has no such branch, so it is left out" in out and token not in out
    assert garden.registry("gate-kiosk")[TILL]["API-Token"] == ["sz", token]
    garden("export", "till.reg", "--to", "kept.zinker", code=1)
    assert token.encode() not in (garden.path / "kept.zinker").read_bytes()
    garden("export", "kept.zinker", "--to", "again.reg", code=1)
    assert '; "API-Token"= is a secret' in (garden.path / "again.reg").read_bytes().decode("utf-16")
    (garden.path / "other.reg").write_text('REGEDIT4\r\n[HKEY_USERS\\x]\r\n"a"="b"\r\n', newline="")
    assert "1 setting." in garden("show", "other.reg").out
    why = garden("import", "other.reg", "--yes", code=2).err
    assert "no subject file describes the keys" in why and "--home 'HKEY_USERS\\x'" in why
    garden(
        "subjects", "new", "other", "--home", r"HKEY_USERS\x", "--home", "/garden/none/", "--to", "subjects"
    )
    assert garden("subjects", "check", "subjects/other.subject.toml").code == 0
    assert garden("show", "other.reg", "--json").json["profile"]["subject"] == "other"


def test_the_older_generation_is_written_where_it_can_be(garden):
    garden("export", "brindlepot", "--place", "old-kiosk", "--label", "old")
    garden("export", "brindlepot@old", "--to", "old.reg", "--ansi")
    data = (garden.path / "old.reg").read_bytes()
    assert data.startswith(b"REGEDIT4\r\n") and b'"Drawers"=hex(7):66,72' in data
    assert "No differences: 7" in garden("compare", "brindlepot@old", "old.reg").out
    key = rf"{TILL}\Receipt"
    garden.edit_workstation("gate-kiosk", lambda s: s["registry"]["keys"][key].update(Footer=["sz", "späť"]))
    why = garden("export", "brindlepot", "--place", "gate-kiosk", "--to", "new.reg", "--ansi", code=3).err
    assert "/Receipt/Footer" in why and not (garden.path / "new.reg").exists()


@pytest.mark.parametrize("line", ['"a"="x', '"a"=hex:00,\\', '"a', '"a" "', "[x"])
def test_lines_without_an_end_are_given_up_one_by_one(line):
    """A hundred thousand of them: what is read again is not read again and again."""
    found, mistakes = read(f"REGEDIT4\n[{TILL}]\n{f'{line}{chr(10)}' * 100_000}".encode())
    assert len(found) <= 1 and 1 <= len(mistakes) <= 101


def test_very_long_names_and_many_values_of_one_key():
    name, deep = "n" * 16_000, "\\".join(f"k{number}" for number in range(400))
    values = {pointer(name): ("sz", "x"), pointer(*deep.split("\\"), "a"): ("dword", 1)}
    values |= {pointer("many", f"v{number}"): ("dword", number) for number in range(30_000)}
    data = b"".join(write_registry_text(Setting("HKEY_USERS", at, *typed) for at, typed in values.items()))
    found, mistakes = read(data, 4096)
    assert not mistakes and {address: value for (_, address), value in found.items()} == values


def test_what_a_place_cannot_have_is_not_called_gone(garden):
    (garden.path / "till.reg").write_text(f'REGEDIT4\r\n[{TILL}]\r\n"a"="b"\r\n', newline="")
    out = garden("compare", "till.reg", "--place", "far", code=2).err
    assert "no place of that name" in out
    (garden.path / "bare").mkdir()
    with (garden.home / "zinker.toml").open("a") as file:
        file.write('\n[places.bare]\nkind = "folder"\npath = "../bare"\n')
    out = garden("compare", "till.reg", "--place", "bare", code=None).out
    assert "bare has no registry that can be reached" in out and "gone" not in out

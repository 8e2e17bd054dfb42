"""Registry hives on disks of machines that do not run: read with their logs, damaged or not, never written."""

import random
import struct
from collections import Counter

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from test_registration import _DATA

from zinker.demo.hive_writer import Node, interrupted, log_entry, write_hive
from zinker.formats.hive import BASE, Hive, checksum
from zinker.formats.hive_logs import recovered
from zinker.formats.registry_values import from_bytes
from zinker.model.address import folded, pointer
from zinker.model.errors import DocumentError
from zinker.model.rows import address_of, leaf_of


def read(data):
    hive, damages = Hive(data), []
    rows = [row for block in hive.blocks([], damages) for row in block]
    return {address_of(row): (leaf_of(row).type, leaf_of(row).value) for row in rows}, damages


_names = st.text(st.characters(codec=None, blacklist_characters="\\"), min_size=1, max_size=8)
_values = st.lists(
    st.tuples(st.text(max_size=8), st.integers(0, 12), _DATA | st.just(40_000).map(bytes)),
    max_size=4,
    unique_by=lambda value: folded(value[0]),
)
_nodes = st.recursive(
    st.builds(Node, _names, _values),
    lambda below: st.builds(
        Node, _names, _values, st.lists(below, max_size=4, unique_by=lambda n: folded(n.name))
    ),
    max_leaves=12,
)


def expected(node, path=()):
    """What a tree of keys holds, by address."""
    found = {pointer(*path, name): from_bytes(number, data) for name, number, data in node.values}
    if path and not node.values and not node.below:
        found[pointer(*path, "")] = ("key", None)
    for below in node.below:
        found |= expected(below, (*path, below.name))
    return found


@settings(max_examples=120)
@given(_nodes)
def test_any_tree_comes_back(root):
    found, damages = read(write_hive(root))
    assert found == expected(root) and not damages


def _large():
    root = Node("ROOT")
    for number in range(1200):  # more than one list of keys holds
        root.key(rf"Group\Item {number}").values.append(("a", 4, struct.pack("<I", number)))
    return root


def test_what_the_logs_hold_is_taken_into_account():
    root = _large()
    before = write_hive(root)
    root.key(r"Group\Item 7").values[0] = ("a", 4, b"\0\0\1\0")
    root.key("New").values.append(("much", 3, bytes(range(256)) * 200))
    after = write_hive(root)
    hive, log = interrupted(before, after)
    assert "was being written" in Hive(hive).remarks[0]
    whole = recovered(hive, [log])
    assert whole.entries == 1 and not Hive(whole.data).remarks and read(whole.data)[0] == expected(root)
    # A log of the older kind: a bitmap of pages, and the pages.
    pages = [after[BASE:][at : at + 512] for at in range(0, len(after) - BASE, 512)]
    base = bytearray(hive[:512])
    struct.pack_into("<II", base, 4, 2, 2)
    struct.pack_into("<I", base, 40, len(after) - BASE)
    struct.pack_into("<I", base, 508, checksum(bytes(base)))
    bitmap = b"DIRT" + b"\xff" * (-(-len(pages) // 8))
    old = bytes(base) + bitmap + bytes(-len(bitmap) % 512) + b"".join(pages)
    assert read(recovered(hive, [old]).data)[0] == expected(root)


def test_a_log_that_is_not_whole_or_not_next_is_left_out():
    root = Node("ROOT", [("a", 4, b"\1\0\0\0")])
    before = write_hive(root)
    hive, log = interrupted(before, write_hive(Node("ROOT", [("a", 4, b"\2\0\0\0")])))
    for broken in (log[:600], log[:-1] + b"\1", b"", log[:512]):
        assert recovered(hive, [broken]).entries == 0
    base, bins = bytes(log[:512]), len(before) - BASE
    gap = base + log_entry(1, bins, [(0, before[BASE:4608])]) + log_entry(3, bins, [(0, b"\0" * 512)])
    assert recovered(hive, [gap]).entries == 1
    assert (
        recovered(hive, [base + log_entry(0, bins, [(0, b"\0" * 512)])]).entries == 0
    )  # it is in there already
    assert recovered(before, [log]).entries == 0  # a hive that was closed well needs none


def test_damage_is_named_and_the_rest_is_saved():
    root = _large()
    good, wanted = write_hive(root), expected(root)
    at = good.index(b"vk", 100_000)
    found, damages = read(good[:at] + b"XX" + good[at + 2 :])
    assert len(found) == len(wanted) - 1 and "cannot be read" in damages[0].why and damages[0].address
    hive = Hive(good[: len(good) // 2])
    damages = []
    rows = [row for block in hive.blocks([], damages) for row in block]
    assert 300 < len(rows) < 1100 and damages and "the file is cut off" in hive.remarks[0]


def test_what_is_there_twice_is_read_once():
    """Names differ by case letter by letter only: the first two values are two, as are the last two keys."""
    root = Node(
        "ROOT", [("straße", 4, b"\1\0\0\0"), ("STRASSE", 4, b"\2\0\0\0"), ("strasse", 4, b"\3\0\0\0")]
    )
    root.below = [Node("A", [("x", 3, b"1")]), Node("a", [("x", 3, b"2")]), Node("ﬁ"), Node("fi")]
    found, damages = read(write_hive(root))
    assert found == {
        "/straße": ("dword", 1),
        "/STRASSE": ("dword", 2),
        "/A/x": ("binary", "MQ=="),
        "/ﬁ/": ("key", None),
        "/fi/": ("key", None),
    }
    assert [damage.why.split(";")[0][-14:] for damage in damages] == ["is there twice"] * 2


def test_spoiled_hives_do_no_harm():
    """No crash, no hang, no key read twice, and nothing larger than the file."""
    root = Node("ROOT")
    for number in range(40):
        key = root.key(rf"A{number % 4}\B{number}")
        key.values += [
            ("a", 1, "text\0".encode("utf-16-le")),
            ("b", 3, b"x" * 20_000 if number == 3 else b"yy"),
        ]
    good, dice, ends = write_hive(root), random.Random(5), Counter()
    for number in range(500):
        data = bytearray(good)
        for _ in range(dice.randrange(1, 30)):
            data[dice.randrange(*((0, 200) if number % 9 == 0 else (BASE, len(data))))] = dice.randrange(256)
        if number % 5 == 0:
            del data[dice.randrange(len(data)) :]
        try:
            found, damages = read(bytes(data))
        except DocumentError:
            ends["refused"] += 1
            continue
        assert len(found) <= 200
        ends["damaged" if damages else "read"] += 1
    assert min(ends.values()) > 20, ends


@pytest.fixture
def disk(garden):
    return garden.path / "old-kiosk"


def test_a_disk_is_read_with_its_logs_and_never_written(garden, disk):
    before = {p: p.read_bytes() for p in disk.rglob("*") if p.is_file()}
    assert "980" in garden("show", "old-kiosk:brindlepot").out  # which only the log knows
    garden("export", "brindlepot", "--place", "gate-kiosk", code=1)
    done = garden("import", "brindlepot@latest", "--place", "old-kiosk", "--yes", code=1)
    assert "only read, never written to" in done.out
    (disk / "Users/sage/NTUSER.DAT.LOG1").rename(disk / "away")
    out = garden("export", "brindlepot", "--place", "old-kiosk", code=1).out
    assert "what its logs would add is not there" in out
    (disk / "away").rename(disk / "Users/sage/NTUSER.DAT.LOG1")
    assert before == {path: path.read_bytes() for path in disk.rglob("*") if path.is_file()}


def test_the_hives_of_the_machine_and_of_other_users(garden, disk):
    config = disk / "windows/system32/CONFIG"  # as a disk may be mounted
    config.mkdir(parents=True)
    software, system = Node("SOFTWARE"), Node("SYSTEM")
    accounts = software.key(r"Microsoft\Windows NT\CurrentVersion\ProfileList\S-1-5-21-7-1002")
    accounts.values.append(("ProfileImagePath", 2, "C:\\Users\\Rowan\0".encode("utf-16-le")))
    software.key(r"WOW6432Node\Tarn Hollow\Scales").values.append(("Port", 1, "COM1\0".encode("utf-16-le")))
    system.key("Select").values.append(("Current", 4, b"\2\0\0\0"))
    system.key(r"ControlSet002\Control").values.append(("Lang", 1, "cy\0".encode("utf-16-le")))
    (config / "Software").write_bytes(write_hive(software))
    (config / "SYSTEM").write_bytes(write_hive(system))
    rowan = Node("ROOT")
    rowan.key(r"Software\Tarn Hollow\Brindlepot").values.append(("Version", 1, "8\0".encode("utf-16-le")))
    (disk / "Users/rowan").mkdir()
    (disk / "Users/rowan/ntuser.dat").write_bytes(write_hive(rowan))
    scales = r"""
format = 1
id = "scales"
title = "Seed scales"
[[part]]
id = "port"
store = "registry"
path = 'HKEY_LOCAL_MACHINE\SOFTWARE\Tarn Hollow\Scales'
view = 32
[[part]]
id = "control"
store = "registry"
path = 'HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Control'
"""
    (garden.path / "subjects/scales.subject.toml").write_text(scales)
    shown = {s["address"]: s["value"] for s in garden("show", "old-kiosk:scales", "--json").json["settings"]}
    assert shown == {"/Port": "COM1", "/Lang": "cy"}
    assert "Version" in garden("show", "old-kiosk/rowan:brindlepot").out
    (config / "SYSTEM").write_bytes(b"regf" + bytes(5000))
    out = garden("export", "scales", "--place", "old-kiosk", code=1).out
    assert (
        "SYSTEM is damaged: its first key cannot be read" in out
        and "COM1" in garden("show", "scales", code=1).out
    )

"""What holds for every registry that can be written: the simulated one, Windows', and Samba's over the network."""

import pytest

from zinker.model.address import pointer
from zinker.model.rows import address_of, leaf_of
from zinker.stores.registry import RegistryError, RegistryHome

VALUES = [
    ("", "sz", "the default"),
    ("Plain", "sz", ""),
    ("Text", "sz", 'ünïcödé "quoted" \\ back \U0001fab4'),
    ("Lone", "sz", "half \ud800 a pair"),
    ("Path", "expand_sz", "%APPDATA%\\moss"),
    ("Many", "multi_sz", ["east", "west", "späť"]),
    ("None of them", "multi_sz", []),
    ("Small", "dword", 0),
    ("Large", "dword", 2**32 - 1),
    ("Huge", "qword", str(2**64 - 1)),
    ("Bytes", "binary", "AAECAwQ="),
    ("No bytes", "binary", ""),
    ("Nothing", "none", ""),
    ("Something", "none", "AQI="),
    ("Odd dword", "registry:4", "AQI="),
    ("Without end", "registry:1", "YQBi"),
    ("Unknown", "registry:8", "c3RyYW5nZQ=="),
    ("a/b~c\\d", "sz", "a name like a path"),
    ('"quoted"', "sz", "x"),
    ("n" * 255, "sz", "a long name"),
    ("Straße", "dword", 1),
    ("Strasse", "dword", 2),
    ("Much", "binary", "AAAA" * 10_000),
]


def read(registry, branch):
    """Everything in a branch, as a profile has it."""
    reading = RegistryHome(registry, (branch,)).read(branch)
    rows = [row for block in reading.blocks() for row in block]
    return {address_of(row): (leaf_of(row).type, leaf_of(row).value) for row in rows}


def every_value_comes_back(registry, branch):
    for name, type, value in VALUES:
        registry.set(branch + r"\Values", name, type, value)
    registry.flush()
    for name, type, value in VALUES:
        assert registry.value(branch + r"\Values", name)[1:] == (type, value), name
    assert sorted(registry.values(branch + r"\Values")) == sorted(VALUES)
    assert read(registry, branch) == {pointer("Values", name): (type, value) for name, type, value in VALUES}


def case_does_not_count(registry, branch):
    registry.set(branch + r"\Case\Window", "Width", "dword", 1)
    registry.set(branch.upper() + r"\CASE\WINDOW", "WIDTH", "dword", 2)
    [(name, *value)] = registry.values(branch + r"\case\window")
    assert (name.casefold(), *value) == ("width", "dword", 2)  # Samba spells a value as it was set last
    assert registry.subkeys(branch + r"\case") == ["Window"]


def keys_come_and_go(registry, branch):
    assert not registry.exists(branch + r"\Gone")
    for missing in (
        lambda: registry.values(branch + r"\Gone"),
        lambda: registry.subkeys(branch + r"\Gone"),
        lambda: registry.value(branch + r"\Gone", "a"),
        lambda: registry.value(branch, "no such value"),
    ):
        with pytest.raises(KeyError):
            missing()
    registry.create(branch + r"\Gone\Deep\Below")
    assert registry.exists(branch + r"\gone\deep")
    assert read(registry, branch + r"\Gone") == {"/Deep/Below/": ("key", None)}
    registry.set(branch + r"\Gone\Deep\Below", "a", "sz", "b")
    registry.delete_value(branch + r"\Gone\Deep\Below", "A")
    with pytest.raises(KeyError):
        registry.delete_value(branch + r"\Gone\Deep\Below", "a")
    for key in (r"\Gone\Deep\Below", r"\Gone\Deep", r"\Gone"):
        registry.delete_key(branch + key)
    assert not registry.exists(branch + r"\Gone")
    with pytest.raises(KeyError):
        registry.delete_key(branch + r"\Gone")


def what_cannot_be_written_is_refused(registry, branch):
    for type, value in (("dword", 2**32), ("gvariant:s", "'x'"), ("text", "x")):
        with pytest.raises(RegistryError):
            registry.set(branch, "wrong", type, value)
    with pytest.raises(RegistryError, match="root key"):
        registry.set(r"HKEY_NOWHERE\x", "a", "sz", "")
    assert not registry.obstacle(branch + r"\Not\Yet\There")
    assert registry.obstacle(r"HKEY_NOWHERE\x")


CASES = [
    every_value_comes_back,
    case_does_not_count,
    keys_come_and_go,
    what_cannot_be_written_is_refused,
]

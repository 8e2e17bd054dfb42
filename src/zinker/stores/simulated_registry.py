r"""The simulated registry that ships with Zinker: a workstation's registry in one JSON file.

It behaves as a registry does where that matters to a reader or writer: case of names does not count but is
kept, every value has a type, a key may be locked by another program or lack a right, and every write takes
effect at once, on its own. The file (also edited by hand, to play) is:

    {"keys": {"HKEY_CURRENT_USER\\Software\\X": {"Width": ["dword", 1200], "": ["sz", "default"]}},
     "locked": {"HKEY_CURRENT_USER\\Software\\X\\Sync": "mosslight-sync.exe"},
     "denied": {"HKEY_CURRENT_USER\\Software\\X\\Vault": "read"},
     "links": {"HKEY_CURRENT_USER\\Software\\X\\Current": "HKEY_CURRENT_USER\\Software\\X\\Set2"},
     "restless": {"HKEY_CURRENT_USER\\Software\\X\\Clock": "mosslight.exe"}}

`denied` is `read` (nothing is allowed) or `write`. A link is followed on the way to a key, and by whoever names
it; whoever reads a branch finds it as a link. A `restless` key changes whenever it is read.
"""

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec

from zinker.disk.files import write_file
from zinker.formats.registry_values import to_bytes
from zinker.model.address import folded
from zinker.model.errors import Refused, reason
from zinker.model.plain_json import decode, encode, fitted
from zinker.model.rows import Block
from zinker.stores.reading import Trouble
from zinker.stores.registry import ROOTS, RegistryError, Value, blocks_by_key, value_of

_Values = dict[str, tuple[str, Any]]


class _State(msgspec.Struct, omit_defaults=True):
    """The content of the file; keys that only lead to others need not be named."""

    keys: dict[str, _Values] = {}
    locked: dict[str, str] = {}
    denied: dict[str, str] = {}
    links: dict[str, str] = {}
    restless: dict[str, str] = {}


class SimulatedRegistry:
    """A registry in a JSON file; the file is read again for every operation, as others write it, too."""

    def __init__(self, path: Path) -> None:
        self._path = path

    def exists(self, key: str) -> bool:
        """Tell whether there is such a key."""
        state = self._state()
        key = _followed(state, key)
        return any(_is_below(key, other) for other in state.keys)

    def subkeys(self, key: str) -> list[str]:
        """Return the names of the keys right below a key."""
        state = self._readable(key)
        key = _followed(state, key)
        depth = len(key.split("\\"))
        names = {
            folded(other.split("\\")[depth]): other.split("\\")[depth]
            for other in (*state.keys, *state.links)
            if _is_below(key, other) and len(other) > len(key)
        }
        return list(names.values())

    def values(self, key: str) -> list[tuple[str, str, Any]]:
        """Return name, type and value of a key's values."""
        state = self._readable(key)
        own = _find(state.keys, _followed(state, key))
        return [(name, *typed) for name, typed in (state.keys[own] if own else {}).items()]

    def value(self, key: str, name: str) -> Value:
        """Return one value of a key."""
        return value_of(self, key, name)

    def blocks(self, branch: str, troubles: list[Trouble]) -> Iterator[Block]:
        """Yield all settings of a branch."""
        links = {folded(link): target for link, target in self._state().links.items()}

        def look(key: str) -> tuple[list[str], list[Value]]:
            target = links.get(folded(key)) if key != branch else None
            if target is not None:
                return [], [("SymbolicLinkValue", "link", _native(target))]
            return self.subkeys(key), self.values(key)

        return blocks_by_key(branch, look, troubles)

    def create(self, key: str) -> None:
        """Make a key with those above it."""
        state, key = self._writable(key)
        if not _find(state.keys, key):
            state.keys[self._spelling(state, key)] = {}
            self._write(state)

    def set(self, key: str, name: str, type: str, value: Any) -> None:
        """Set a value, and make its key where it is missing."""
        try:
            to_bytes(type, value)
        except ValueError as error:
            raise RegistryError(str(error)) from None
        state, key = self._writable(key)
        values = state.keys.setdefault(_find(state.keys, key) or self._spelling(state, key), {})
        values[_find(values, name, missing=name)] = (type, value)
        self._write(state)

    def delete_value(self, key: str, name: str) -> None:
        """Remove a value; the key stays."""
        state, key = self._writable(key)
        values = state.keys[_find(state.keys, key)]
        del values[_find(values, name, missing=name)]
        self._write(state)

    def delete_key(self, key: str) -> None:
        """Remove a key that holds nothing; the key above it stays."""
        state, key = self._writable(key)
        own = _find(state.keys, key)
        if any(_is_below(key, other) and len(other) > len(key) for other in state.keys) or state.keys[own]:
            raise RegistryError("the key is not empty")
        del state.keys[own]
        state.keys.setdefault(own.rpartition("\\")[0], {})
        self._write(state)

    def obstacle(self, key: str) -> str:
        """Say why nothing can be written at a key, or "" if nothing is seen to prevent it."""
        if key.partition("\\")[0].upper() not in ROOTS:
            return "there is no such root key"
        state = self._state()
        key = _followed(state, key)
        for locked, program in state.locked.items():
            if _is_below(locked, key):
                return f"the key is locked by {program}"
        if any(_is_below(denied, key) for denied in state.denied):
            return "no right to write this key"
        return ""

    def flush(self) -> None:
        """Do nothing: every write is on the disk when it returns."""

    def _state(self) -> _State:
        try:
            whole = decode(self._path.read_bytes(), dict)
            return fitted(whole.get("registry", {}), _State)
        except OSError as error:
            raise RegistryError(f"the simulated registry cannot be read: {reason(error)}") from None
        except ValueError as error:
            what = "Not read"
            why = f"the simulated workstation {self._path} is damaged: {error}"
            raise Refused(what, why, "Repair that file, or build a new demo garden.") from None

    def _write(self, state: _State) -> None:
        whole = decode(self._path.read_bytes(), dict)
        whole["registry"] = msgspec.to_builtins(state)
        try:
            write_file(self._path, encode(whole, indent=2))
        except OSError as error:
            raise RegistryError(reason(error)) from None

    def _readable(self, key: str) -> _State:
        state = self._state()
        key = _followed(state, key)
        if not any(_is_below(key, other) for other in state.keys):
            raise KeyError(key)
        if any(folded(key) == folded(restless) for restless in state.restless):
            raise RegistryError("it changed while it was read, 3 times")
        for denied, right in state.denied.items():
            if right == "read" and _is_below(denied, key):
                raise RegistryError("no right to read this key")
        return state

    def _writable(self, key: str) -> tuple[_State, str]:
        why = self.obstacle(key)
        if why:
            raise RegistryError(why)
        state = self._state()
        return state, _followed(state, key)

    def _spelling(self, state: _State, key: str) -> str:
        """Spell the existing beginning of a new key as it is spelled already."""
        for known in state.keys:
            shared = len(key) if _is_below(key, known) else 0
            if shared:
                return known[:shared]
        parent, _, name = key.rpartition("\\")
        return f"{self._spelling(state, parent)}\\{name}" if parent else name


def _followed(state: _State, key: str) -> str:
    """Return the key that a key with links in its path leads to; raises `RegistryError` for a circle."""
    for _ in range(32):
        link = next((link for link in state.links if _is_below(link, key)), None)
        if link is None:
            return key
        key = state.links[link] + key[len(link) :]
    raise RegistryError("its links lead in a circle")


def _native(key: str) -> str:
    r"""Return a key's path as links have it: from the top of the kernel's own names."""
    for root, path in (
        ("HKEY_LOCAL_MACHINE", r"\Registry\Machine"),
        ("HKEY_USERS", r"\Registry\User"),
    ):
        if _is_below(root, key):
            return path + key[len(root) :]
    return key


def _is_below(upper: str, key: str) -> bool:
    upper, key = folded(upper), folded(key)
    return key == upper or key.startswith(upper + "\\")


def _find(names: dict[str, Any], name: str, missing: str = "") -> str:
    """Return the name as it is spelled there, whatever its case."""
    if name in names:
        return name
    return next((other for other in names if folded(other) == folded(name)), missing)

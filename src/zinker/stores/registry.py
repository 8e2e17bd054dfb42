r"""Settings in a workstation's registry: typed values below a key.

One branch is one document, named by its key. The address of a value is `/subkey/.../name`; the last token is
the value's name, which is empty for a key's default value. A key that holds nothing at all is a setting of
the type `key` at the address of its default value, so that it is not lost.
"""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import partial
from typing import Any, Literal, Protocol, TypeAlias

from zinker.formats import Reader
from zinker.model.address import folded, pointer, tokens
from zinker.model.errors import NotWritable
from zinker.model.plan import DocumentChange
from zinker.model.rows import Block, block_of, row, tail
from zinker.model.setting import Leaf
from zinker.stores.home import (
    MEANWHILE,
    Candidates,
    Home,
    New,
    NoHome,
    Offers,
    Overruled,
    PartShape,
    Step,
    SteppedWriting,
    Writing,
)
from zinker.stores.reading import Reading, StoreError, Trouble

FORMAT = "registry"
ROOTS = (
    "HKEY_CLASSES_ROOT",
    "HKEY_CURRENT_CONFIG",
    "HKEY_CURRENT_USER",
    "HKEY_LOCAL_MACHINE",
    "HKEY_USERS",
)


# Name, type and value, in the form that they have in a profile.
Value: TypeAlias = tuple[str, str, Any]


class RegistryError(StoreError):
    """The registry refused something; `why` says it in plain words."""

    def __init__(self, why: str) -> None:
        super().__init__("Not done in the registry", why)


class Registry(Protocol):
    r"""A registry, real or simulated. Keys are whole paths with `\`; case does not matter, but is kept.

    Every method raises `RegistryError` where the registry refuses, and `KeyError` for a missing key.
    """

    def exists(self, key: str) -> bool:
        """Tell whether there is such a key."""
        ...

    def subkeys(self, key: str) -> list[str]:
        """Return the names of the keys right below a key."""
        ...

    def values(self, key: str) -> list[Value]:
        """Return name, type and value of a key's values, in the form they have in a profile."""
        ...

    def value(self, key: str, name: str) -> Value:
        """Return one value of a key; raises `KeyError` if there is no such value."""
        ...

    def blocks(self, branch: str, troubles: list[Trouble]) -> Iterator[Block]:
        """Yield all settings of a branch; keys that refuse are added to the troubles."""
        ...

    def create(self, key: str) -> None:
        """Make a key with those above it."""
        ...

    def set(self, key: str, name: str, type: str, value: Any) -> None:
        """Set a value, and make its key where it is missing."""
        ...

    def delete_value(self, key: str, name: str) -> None:
        """Remove a value."""
        ...

    def delete_key(self, key: str) -> None:
        """Remove a key that holds nothing."""
        ...

    def obstacle(self, key: str) -> str:
        """Say why nothing can be written at or below a key, or "" if nothing is seen to prevent it."""
        ...

    def flush(self) -> None:
        """Make sure that what was written has reached the disk."""
        ...


_SHORT = {
    "HKCU": "HKEY_CURRENT_USER",
    "HKLM": "HKEY_LOCAL_MACHINE",
    "HKCR": "HKEY_CLASSES_ROOT",
    "HKU": "HKEY_USERS",
    "HKCC": "HKEY_CURRENT_CONFIG",
}


def whole_key(text: str) -> str:
    r"""Return a registry key by its whole name, or "" for what is no key.

    >>> whole_key("HKCU\\Software\\Fern\\"), whole_key("Computer\\HKEY_USERS"), whole_key("fern.ini")
    ('HKEY_CURRENT_USER\\Software\\Fern', 'HKEY_USERS', '')
    """
    plain = re.sub(r"^\\?Computer\\", "", text.strip(), flags=re.IGNORECASE)
    root, slash, rest = plain.rstrip("\\").partition("\\" if "\\" in plain else "/")
    root = root.rstrip(":").upper()
    whole = _SHORT.get(root, root if re.fullmatch(r"HKEY_[A-Z_]+", root) else "")
    rest = rest.strip("\\") if "\\" in plain else rest.strip("/").replace("/", "\\")
    return f"{whole}\\{rest}" if whole and rest else whole


class RegistryHome(Home):
    """Some branches of a registry, and nothing outside them."""

    def __init__(self, registry: Registry, branches: tuple[str, ...], policies: tuple[str, ...] = ()) -> None:
        """Open branches; `policies` are those whose values count instead, the first of them most."""
        self.registry, self.branches, self._policies = registry, branches, policies

    def documents(self) -> list[str]:
        """Return the branches that are there, sorted; raises `RegistryError`."""
        return sorted(branch for branch in self.branches if self.registry.exists(branch))

    def where(self) -> list[str]:
        """Return the branches, for people."""
        return list(self.branches)

    def has(self, document: str) -> bool:
        """Tell whether the branch is there; raises `RegistryError`."""
        return self.registry.exists(document)

    def unfit(self, document: str) -> str:
        """Say why a name is none of these branches', or ""."""
        known = {folded(branch) for branch in self.branches}
        return "" if folded(document) in known else "the subject has no document of that name here"

    def format_of(self, document: str) -> str:
        """Return the one format that branches have."""
        return FORMAT

    def read(self, document: str) -> Reading:
        """Read the whole branch; keys that refuse are named, the rest is read."""
        try:
            self.registry.values(document)
        except (RegistryError, KeyError) as error:
            return Reading(document, "", troubles=(Trouble("", why_not(error)),))
        later: list[Trouble] = []
        return Reading(document, FORMAT, blocks=lambda: self.registry.blocks(document, later), later=later)

    def holds(self, document: str, address: str) -> bool:
        """Tell whether the key of the value at an address is there; raises `RegistryError`."""
        return self.registry.exists(_key(document, tokens(address)[:-1]))

    def refusal(self, document: str, address: str) -> str:
        """Say why the value at an address could not be written, or "" if nothing is seen to prevent it."""
        return self.registry.obstacle(_key(document, tokens(address)[:-1]))

    def overruled(self, document: str) -> Iterator[Overruled]:
        """Yield what stands in the policies' branches, by its address below them."""
        seen: set[str] = set()
        for branch in self._policies:
            if not self.registry.exists(branch):
                continue
            for address, leaf in self.read(branch).all_leaves():
                if leaf.type != "key" and folded(address) not in seen:
                    seen.add(folded(address))
                    yield Overruled(address, leaf, _key(branch, tokens(address)[:-1]))

    def writing(self) -> Writing:
        """Begin to write a change: value by value, parents first."""
        return SteppedWriting(self._write)

    def _write(self, change: DocumentChange, new: New) -> Iterator[NotWritable]:
        """Take the steps one by one; yield those that failed, or found another value there, and go on."""
        branch = change.document
        if change.action == "create":
            yield from self._tried("", lambda: self.registry.create(branch))
        for step in new.steps():
            now = self._now(branch, step)
            if new.is_as_seen(step.address, now, step.before) or now == step.after:
                yield from self._tried(step.address, partial(self._make, branch, step))
            else:
                yield NotWritable(step.address, MEANWHILE)
        if change.action == "remove":
            yield from self._tried("", partial(self._remove, branch))
        self.registry.flush()

    def _tried(self, address: str, do: Callable[[], None]) -> Iterator[NotWritable]:
        try:
            do()
        except (RegistryError, KeyError) as error:
            yield NotWritable(address, why_not(error))

    def _now(self, branch: str, step: Step) -> Leaf | None:
        """Return what stands at an address now; what may not be read is as it was."""
        *path, name = tokens(step.address)
        try:
            if "key" in (step.before and step.before.type, step.after and step.after.type):
                return step.before  # an empty key; whether it is still that is looked at when it goes
            return Leaf(*self.registry.value(_key(branch, path), name)[1:])
        except KeyError:
            return None
        except RegistryError:
            return step.before

    def _make(self, branch: str, step: Step) -> None:
        *path, name = tokens(step.address)
        key = _key(branch, path)
        if step.after is None:
            if any(folded(name) == folded(other) for other, _, _ in self.registry.values(key)):
                self.registry.delete_value(key, name)
            self._remove_empty_keys(branch, path)
        elif step.after.type == "key":
            self.registry.create(key)
            if any(not name for name, _, _ in self.registry.values(key)):
                self.registry.delete_value(key, "")
        else:
            self.registry.set(key, name, step.after.type, step.after.value)

    def _remove(self, branch: str) -> None:
        """Remove a branch, unless somebody has put something into it."""
        if not self.registry.values(branch) and not self.registry.subkeys(branch):
            self.registry.delete_key(branch)

    def _remove_empty_keys(self, branch: str, path: Iterable[str]) -> None:
        """Remove a key of the branch that has become empty, and those above it, but never the branch."""
        path = tuple(path)
        while path:
            key = _key(branch, path)
            if self.registry.values(key) or self.registry.subkeys(key):
                return
            self.registry.delete_key(key)
            path = path[:-1]


def open_home(place: Offers, part: PartShape, candidates: Candidates, reader: Reader) -> RegistryHome:
    """Return the branches of a part: of each home, the first that exists. Raises `NoHome` and `RegistryError`."""
    registry = place.registry(part.view)
    if registry is None:
        raise NoHome(f"{place.told} has no registry that can be reached")
    branches: list[str] = []
    for _, paths in candidates:
        branches += [path for path in paths if registry.exists(path)][:1] or list(paths[:1])
    return RegistryHome(registry, tuple(branches), tuple(part.policies))


def value_of(registry: Registry, key: str, name: str) -> Value:
    """Return one value of a key, by looking at all of them; raises as `Registry.value` does."""
    found = (value for value in registry.values(key) if folded(value[0]) == folded(name))
    value = next(found, None)
    if value is None:
        raise KeyError(name)
    return value


class Redirected:
    """A registry in which some keys stand for others; whoever asks sees only the names they asked by."""

    def __init__(self, registry: Registry, keys: Mapping[str, str]) -> None:
        self._registry = registry
        self._keys = {folded(key): other for key, other in keys.items()}

    def _real(self, key: str) -> str:
        name = folded(key)
        for known, other in self._keys.items():
            if name == known or name.startswith(known + "\\"):
                return other + key[len(known) :]
        return key

    def exists(self, key: str) -> bool:
        """Tell whether there is such a key."""
        return self._registry.exists(self._real(key))

    def subkeys(self, key: str) -> list[str]:
        """Return the names of the keys right below a key."""
        return self._registry.subkeys(self._real(key))

    def values(self, key: str) -> list[Value]:
        """Return name, type and value of a key's values."""
        return self._registry.values(self._real(key))

    def value(self, key: str, name: str) -> Value:
        """Return one value of a key."""
        return self._registry.value(self._real(key), name)

    def blocks(self, branch: str, troubles: list[Trouble]) -> Iterator[Block]:
        """Yield all settings of a branch."""
        return self._registry.blocks(self._real(branch), troubles)

    def create(self, key: str) -> None:
        """Make a key with those above it."""
        self._registry.create(self._real(key))

    def set(self, key: str, name: str, type: str, value: Any) -> None:
        """Set a value."""
        self._registry.set(self._real(key), name, type, value)

    def delete_value(self, key: str, name: str) -> None:
        """Remove a value."""
        self._registry.delete_value(self._real(key), name)

    def delete_key(self, key: str) -> None:
        """Remove a key that holds nothing."""
        self._registry.delete_key(self._real(key))

    def obstacle(self, key: str) -> str:
        """Say why nothing can be written at or below a key."""
        return self._registry.obstacle(self._real(key))

    def flush(self) -> None:
        """Make sure that what was written has reached the disk."""
        self._registry.flush()


_SOFTWARE = r"HKEY_LOCAL_MACHINE\SOFTWARE"
_OF_32_BITS = rf"{_SOFTWARE}\WOW6432Node"


def in_view(registry: Registry, view: Literal[0, 32, 64]) -> Registry:
    """Return a registry as a program of 32 or 64 bits sees it: on 64 bits, the others' keys stand aside."""
    if view != 32 or not registry.exists(_OF_32_BITS):
        return registry
    return Redirected(registry, {_OF_32_BITS: _OF_32_BITS, _SOFTWARE: _OF_32_BITS})


def blocks_by_key(
    branch: str, look: Callable[[str], tuple[list[str], list[Value]]], troubles: list[Trouble]
) -> Iterator[Block]:
    """Yield the settings of a branch, asking for subkeys and values key by key, parents first.

    Without recursion: branches are deep.
    """
    waiting: list[tuple[str, ...]] = [()]
    while waiting:
        path = waiting.pop()
        try:
            names, values = look(_key(branch, path))
        except (RegistryError, KeyError) as error:
            # A key may vanish while the branch is read.
            troubles.append(Trouble(pointer(*path), why_not(error)))
            continue
        prefix = pointer(*path, "")
        block = block_of(prefix, values)
        if not names and not values and path:
            # A key that holds nothing at all is a setting, too.
            block = [row(prefix, tail("key", None))]
        yield block
        waiting.extend((*path, name) for name in sorted(names, reverse=True))


def _key(branch: str, path: Iterable[str]) -> str:
    return "\\".join((branch, *path))


def why_not(error: Exception) -> str:
    """Say why a key could not be read or written."""
    return error.why if isinstance(error, RegistryError) else "it is not there any more"

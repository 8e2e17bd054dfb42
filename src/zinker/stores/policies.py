"""A policy as a service has it, and as a document: without what the service makes, with names in place of ids."""

import json
from collections.abc import Callable, Iterator
from functools import partial
from typing import Any, Protocol

import msgspec

from zinker import formats
from zinker.formats.leaves import Edit, Leaves
from zinker.model.address import pointer, tokens
from zinker.model.errors import NotWritable
from zinker.model.policy import PolicyShape
from zinker.model.setting import WITHHELD, Leaf

FORMAT = "json"
# Where a document has what the service makes; never compared, never written.
SERVER = "/@server"
_EMPTY = b"{}\n"
# A secret that the service never gives back has no fingerprint.
NEVER_GIVEN = Leaf(WITHHELD, {"key": "", "mark": ""})

Raw = dict[str, Any]


class Names(Protocol):
    """Translates ids to names and back; an unknown one is returned as it is, or raises `NotWritable`."""

    def policy(self, path: str, id: str) -> str:
        """Return the name of a policy of a collection."""
        ...

    def group(self, id: str) -> str:
        """Return the name of a group."""
        ...

    def user(self, id: str) -> str:
        """Return the name of a user."""
        ...

    def policy_id(self, path: str, name: str) -> str:
        """Return the id of a policy of a collection."""
        ...

    def group_id(self, name: str) -> str:
        """Return the id of a group."""
        ...

    def user_id(self, name: str) -> str:
        """Return the id of a user."""
        ...


def to_document(raw: Raw, shape: PolicyShape, names: Names) -> bytes:
    """Return a policy as JSON, the same bytes for the same policy."""
    out = {shape.name, shape.id, shape.built_in, *shape.server, *shape.write_only}
    document = {key: value for key, value in raw.items() if key not in out and not key.startswith("@")}
    for address, path in shape.references.items():
        document = _mapped(document, tokens(address), partial(names.policy, path))
    for address in shape.groups:
        document = _mapped(document, tokens(address), names.group)
    for address in shape.users:
        document = _mapped(document, tokens(address), names.user)
    for address in shape.unordered:
        document = _mapped(document, tokens(address), _sorted, whole=True)
    for address, key in shape.keys.items():
        document = _mapped(document, tokens(address), partial(_keyed, key), whole=True)
    try:
        return msgspec.json.format(msgspec.json.encode(document, order="sorted"), indent=2) + b"\n"
    except (
        UnicodeEncodeError,
        OverflowError,
    ):  # half a character, which is written as an escape; a huge number
        return json.dumps(document, indent=2, sort_keys=True).encode() + b"\n"


def from_document(data: bytes, current: Raw, shape: PolicyShape, names: Names) -> Raw:
    """Return the properties of a policy that a document has; lists keep the order they have in `current`.

    Raises `NotWritable` where something is referred to that is not there.
    """
    document: Raw = json.loads(data)
    for address, key in shape.keys.items():
        old = [str(item.get(key)) for item in _at(current, tokens(address)) if isinstance(item, dict)]
        for patterns, name_of in ((shape.groups, names.group), (shape.users, names.user)):
            if f"{address}/*/{key}" in patterns:
                old = [name_of(id) for id in old]
        document = _mapped(document, tokens(address), partial(_listed, key, old), whole=True)
    for address in shape.groups:
        document = _mapped(document, tokens(address), names.group_id)
    for address in shape.users:
        document = _mapped(document, tokens(address), names.user_id)
    for address, path in shape.references.items():
        document = _mapped(document, tokens(address), partial(names.policy_id, path))
    return document


def leaves_of(raw: Raw, data: bytes, shape: PolicyShape) -> Leaves:
    """Return the settings of a policy: those of its document, what the service makes, secrets never given."""
    leaves = dict(formats.read(FORMAT, data))
    for name in (shape.id, shape.built_in, *shape.server):
        if name and name in raw:
            leaves[f"{SERVER}{pointer(name)}"] = Leaf("text", str(raw[name]))
    for name in shape.write_only:
        if name in raw:
            leaves[pointer(name)] = NEVER_GIVEN
    return leaves


def edited(data: bytes, edits: list[Edit]) -> bytes:
    """Return a document with edits made; raises `NotWritable`."""
    own = [edit for edit in edits if edit.address and not edit.address.startswith(SERVER)]
    return formats.edit(FORMAT, data or _EMPTY, own) if own else data or _EMPTY


def titles_of(shape: PolicyShape, leaves: dict[str, Leaf]) -> Iterator[tuple[str, str]]:
    """Yield the addresses below which settings have a title of the service's own, with it."""
    for address, leaf in leaves.items():
        above, _, last = address.rpartition("/")
        if shape.titles.get(above.rpartition("/")[0]) == last and isinstance(leaf.value, str):
            yield above, leaf.value


def _mapped(value: Any, path: tuple[str, ...], change: Callable[[Any], Any], whole: bool = False) -> Any:
    """Change what stands at a path, where `*` is any item; lists at its end item by item unless `whole`."""
    if not path:
        if isinstance(value, list) and not whole:
            return [change(item) if isinstance(item, str) else item for item in value]
        is_fit = isinstance(value, list | dict) if whole else isinstance(value, str)
        return change(value) if is_fit else value
    first, rest = path[0], path[1:]
    if isinstance(value, list) and first == "*":
        return [_mapped(item, rest, change, whole) for item in value]
    if isinstance(value, dict):
        return {
            key: _mapped(item, rest, change, whole) if first in ("*", key) else item
            for key, item in value.items()
        }
    return value


def _at(value: Any, path: tuple[str, ...]) -> list[Any]:
    for token in path:
        value = value.get(token) if isinstance(value, dict) else None
    return value if isinstance(value, list) else []


def _sorted(items: Any) -> Any:
    return (
        sorted(items, key=lambda item: json.dumps(item, sort_keys=True)) if isinstance(items, list) else items
    )


def _keyed(key: str, items: Any) -> Any:
    """Turn a list of items into a table by what tells them apart, if that does."""
    if not isinstance(items, list) or not all(
        isinstance(item, dict) and isinstance(item.get(key), str) for item in items
    ):
        return items
    names = [item[key] for item in items]
    if len(set(names)) != len(names):
        return items
    return {item[key]: {name: value for name, value in item.items() if name != key} for item in items}


def _listed(key: str, old: list[str], items: Any) -> Any:
    if not isinstance(items, dict):
        return items
    order = [name for name in old if name in items]
    order += sorted(name for name in items if name not in order)
    return [{key: name, **(items[name] if isinstance(items[name], dict) else {})} for name in order]


def gone(address: str, kind: str, name: str) -> NotWritable:
    """Return the error for something that is referred to and not there."""
    return NotWritable(address, f"there is no {kind} {name} there")

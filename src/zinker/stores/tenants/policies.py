"""A policy as a service has it, and as a document: without what the service makes, with names in place of ids."""

import json
import re
import secrets
from collections.abc import Callable, Iterator
from functools import partial
from typing import Any, NamedTuple, Protocol

import msgspec

from zinker import formats
from zinker.formats.leaves import Edit, Leaves
from zinker.formats.walk import Digits, exact
from zinker.model.address import pointer, tokens
from zinker.model.errors import NotWritable
from zinker.model.policy import SERVER, PolicyShape
from zinker.model.setting import WITHHELD, Leaf

FORMAT = "json"
_EMPTY = b"{}\n"
# A secret that the service never gives back has no fingerprint.
NEVER_GIVEN = Leaf(WITHHELD, {"key": "", "mark": ""})

Raw = dict[str, Any]
ETAG = "@odata.etag"
# Stands for what was nested too deeply; no property is called so.
TOO_DEEP = "@zinker.deep"
TYPE = "@odata.type"


class Names(Protocol):
    """Translates ids to names and back; an unknown one is returned as it is, or raises `NotWritable`."""

    def policy(self, path: str, id: Any) -> Any:
        """Return the name of a policy of a collection."""
        ...

    def group(self, id: Any) -> Any:
        """Return the name of a group."""
        ...

    def user(self, id: Any) -> Any:
        """Return the name of a user."""
        ...

    def policy_id(self, path: str, name: Any) -> Any:
        """Return the id of a policy of a collection."""
        ...

    def group_id(self, name: Any) -> Any:
        """Return the id of a group."""
        ...

    def user_id(self, name: Any) -> Any:
        """Return the id of a user."""
        ...


class Made(NamedTuple):
    """What of the policies of a collection the service makes, by properties: its key, and the rest."""

    key: tuple[str, ...]
    rest: tuple[str, ...]

    def hidden(self, shape: PolicyShape) -> set[str]:
        """Return the properties that are in no document; several that are the key together are given, not made."""
        own = self.key if len(self.key) == 1 else ()
        return {shape.name, *own, *self.rest, *shape.write_only}


def to_document(raw: Raw, shape: PolicyShape, made: Made, names: Names) -> bytes:
    """Return a policy as JSON, the same bytes for the same policy."""
    out = made.hidden(shape)
    document = {key: value for key, value in _plain(raw).items() if key not in out}
    for address in (one for one in shape.server if one.startswith("/")):
        document = _without(document, tokens(address))
    for address, name_of, _ in _names_in(shape, names):
        document = _mapped(document, tokens(address), name_of)
    for address in shape.unordered:
        document = _mapped(document, tokens(address), _sorted, whole=True)
    for address, key in shape.keys.items():
        document = _mapped(document, tokens(address), partial(_keyed, key), whole=True)
    return msgspec.json.format(dumped(document), indent=2) + b"\n"


def from_document(data: bytes, current: Raw, shape: PolicyShape, names: Names) -> Raw:
    """Return the properties of a policy that a document has; lists keep the order they have in `current`.

    Raises `NotWritable` where something is referred to that is not there.
    """
    document: Raw = json.loads(data, parse_float=exact)
    for address, key in shape.keys.items():
        old = [item.get(key) for item in _at(current, tokens(address)) if isinstance(item, dict)]
        for pattern, name_of, _ in _names_in(shape, names):
            if pattern == f"{address}/*/{key}":
                old = [name_of(id) for id in old]
        document = _mapped(document, tokens(address), partial(_listed, key, [*map(str, old)]), whole=True)
    for address, name_of, id_of in _names_in(shape, names):
        # What has no name here stands as it is, and may stay so.
        nameless = {str(id): id for id in ids_at(current, tokens(address)) if str(name_of(id)) == str(id)}
        document = _mapped(document, tokens(address), partial(_id_of, nameless, id_of))
    return document


def _names_in(
    shape: PolicyShape, names: Names
) -> Iterator[tuple[str, Callable[[Any], Any], Callable[[Any], Any]]]:
    """Yield where ids stand, with what gives the name of one, and what gives the id of a name."""
    keyed = {f"{address}/*/{key}" for address, key in shape.keys.items()}
    for address, path in shape.references.items():
        yield address, partial(names.policy, path), partial(names.policy_id, path)
    for addresses, name_of, id_of in (
        (shape.groups, names.group, names.group_id),
        (shape.users, names.user, names.user_id),
    ):
        for address in addresses:
            yield address, partial(_text_of, name_of) if address in keyed else name_of, id_of


def _text_of(name_of: Callable[[Any], Any], id: Any) -> str:
    return str(name_of(id))


def _id_of(nameless: dict[str, Any], id_of: Callable[[Any], Any], name: Any) -> Any:
    return nameless[str(name)] if str(name) in nameless else id_of(name)


def ids_at(value: Any, path: tuple[str, ...]) -> Iterator[Any]:
    """Yield the ids at a path, where `*` is any item; those in a list at its end one by one."""
    if not path:
        yield from (item for item in (value if isinstance(value, list) else [value]) if _is_id(item))
    elif isinstance(value, list) and path[0] == "*":
        for item in value:
            yield from ids_at(item, path[1:])
    elif isinstance(value, dict):
        for name, item in value.items():
            if path[0] in ("*", name):
                yield from ids_at(item, path[1:])


def merging(before: Any, after: Any) -> Any:
    """Return a value as PATCH wants it: what goes from a complex value is named, since the rest of it stays."""
    if not isinstance(before, dict) or not isinstance(after, dict) or before.get(TYPE) != after.get(TYPE):
        return after
    gone = dict.fromkeys(before.keys() - after.keys())
    return {**{name: merging(before.get(name), value) for name, value in after.items()}, **gone}


def leaves_of(raw: Raw, data: bytes, shape: PolicyShape, made: Made) -> Leaves:
    """Return the settings of a policy: those of its document, what the service makes, secrets never given."""
    leaves = dict(formats.read(FORMAT, data))
    for name in (*made.key, *made.rest):
        if raw.get(name) is not None:
            leaves[f"{SERVER}{pointer(name)}"] = Leaf("text", _text(raw[name]))
    for name in shape.write_only:
        if name in raw:
            leaves[pointer(name)] = NEVER_GIVEN
    return leaves


def _text(value: Any) -> str:
    return dumped(value).decode() if isinstance(value, dict | list) else str(value)


def _plain(value: Any) -> Any:
    """Return a value without what the service says about it (JSON Format 4.01, section 4.6), but for its type."""
    if isinstance(value, list):
        return [_plain(item) for item in value]
    if not isinstance(value, dict):
        return value
    if TOO_DEEP in value:
        raise RecursionError
    found = {name: _plain(item) for name, item in value.items() if "@" not in name}
    for name, item in value.items():
        # Of a type derived from the declared one, and of what no type declares.
        if name in (TYPE, "@type") or (
            name.endswith(("@odata.type", "@type")) and name.partition("@")[0] in value
        ):
            found[f"{name.partition('@')[0]}{TYPE}"] = item
    return found


def _without(value: Any, path: tuple[str, ...]) -> Any:
    """Return a value without what stands at a path, where `*` is any item."""
    first, rest = path[0], path[1:]
    if isinstance(value, list):
        return [_without(item, rest) for item in value] if first == "*" and rest else value
    if not isinstance(value, dict):
        return value
    if not rest:
        return {name: item for name, item in value.items() if first not in ("*", name)}
    return {name: _without(item, rest) if first in ("*", name) else item for name, item in value.items()}


def edited(data: bytes, edits: list[Edit]) -> bytes:
    """Return a document with edits made; raises `NotWritable`."""
    own = [edit for edit in edits if edit.address and not edit.address.startswith(SERVER)]
    return formats.edit(FORMAT, data or _EMPTY, own) if own else data or _EMPTY


def _mapped(value: Any, path: tuple[str, ...], change: Callable[[Any], Any], whole: bool = False) -> Any:
    """Change what stands at a path, where `*` is any item; lists at its end item by item unless `whole`."""
    if not path:
        if isinstance(value, list) and not whole:
            return [change(item) if _is_id(item) else item for item in value]
        is_fit = isinstance(value, list | dict) if whole else _is_id(value)
        return change(value) if is_fit else value
    first, rest = path[0], path[1:]
    if isinstance(value, list) and first == "*":
        return [_mapped(item, rest, change, whole) for item in value]
    if isinstance(value, dict) and first == "*":
        return {key: _mapped(item, rest, change, whole) for key, item in value.items()}
    if isinstance(value, dict) and first in value:
        return {**value, first: _mapped(value[first], rest, change, whole)}
    return value


def _is_id(value: Any) -> bool:
    return isinstance(value, str | int) and not isinstance(value, bool)


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


def dumped(value: Any) -> bytes:
    """Return a value as JSON in one order, numbers with all their digits."""
    try:
        return msgspec.json.encode(
            _spelled(value, lambda digits: msgspec.Raw(digits.encode())), order="sorted"
        )
    except (
        UnicodeEncodeError,
        OverflowError,
    ):  # half a character, which is written as an escape; a huge number
        mark = secrets.token_hex(8)
        text = json.dumps(_spelled(value, lambda digits: mark + digits), sort_keys=True)
        return re.sub(f'"{mark}([^"]*)"', r"\1", text).encode()


def _spelled(value: Any, spell: Callable[[str], Any]) -> Any:
    if isinstance(value, Digits):
        return spell(str(value))
    if isinstance(value, list):
        return [_spelled(item, spell) for item in value]
    return {name: _spelled(item, spell) for name, item in value.items()} if isinstance(value, dict) else value

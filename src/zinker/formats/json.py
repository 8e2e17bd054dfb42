"""JSON documents (RFC 8259), written back losslessly.

Objects and arrays are walked through to their values, from a root that must be one of them. An array of plain
values is one setting of the type `list`; an array that holds objects, arrays, or numbers that need care is taken
apart item by item. An empty object is an `object`, an empty array a `list`, so that neither is lost. An object
whose names are all numbers has that mark at its own address, too, so that it can be told from an array.
"""

import json
from collections.abc import Iterator, Sequence
from decimal import Decimal
from math import isfinite
from typing import Any, NoReturn

from zinker.formats.json_tree import Tree, is_index
from zinker.formats.leaves import Edit, Leaves
from zinker.formats.text import Text, decode
from zinker.model.address import pointer, tokens
from zinker.model.errors import DocumentError
from zinker.model.setting import LARGEST_PLAIN_INTEGER, Leaf, plain_int


class _ExactNumber(str):
    """The digits of a number that a binary double does not hold."""

    __slots__ = ()


def read(data: bytes) -> Leaves:
    """Return the settings of a JSON document by address; raises `DocumentError`."""
    return dict(_walk(_load(_decode(data).characters)))


def edit(data: bytes, edits: Sequence[Edit]) -> bytes:
    """Return the document with the edits made; every other byte stays as it is."""
    text = _decode(data)
    tree = Tree(text.characters)
    # From the last item of an array to the first, so that no removal moves an address still to come.
    in_order = sorted(edits, key=_by_number)
    tree.expect(edit.address for edit in in_order if edit.leaf is not None)
    for change in reversed(in_order):
        if change.leaf is None:
            tree.remove(change.address)
    for change in in_order:
        if change.leaf is not None:
            tree.set(change.address, change.leaf)
    tree.prune()
    return text.encode(tree.text())


def _by_number(change: Edit) -> list[tuple[int, str]]:
    """Sort list items by their number, not by its digits."""
    return [(int(token) if is_index(token) else -1, token) for token in tokens(change.address)]


def _decode(data: bytes) -> Text:
    return decode(data, fallback="")


def _load(characters: str) -> Any:
    try:
        return json.loads(
            characters, object_pairs_hook=_object, parse_float=_number, parse_constant=_constant
        )
    except json.JSONDecodeError as error:
        raise DocumentError(f"line {error.lineno}, column {error.colno}: {error.msg}") from None
    except RecursionError:
        raise DocumentError("it is nested too deeply") from None
    except ValueError as error:
        raise DocumentError(str(error)) from None


def _object(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) < len(pairs):
        raise DocumentError("an object has the same name twice, so its settings have no clear address")
    return found


def _number(digits: str) -> float | _ExactNumber:
    number = float(digits)
    exact = repr(number) == digits or (isfinite(number) and Decimal(repr(number)) == Decimal(digits))
    return number if exact else _ExactNumber(digits)


def _constant(name: str) -> NoReturn:
    raise DocumentError(f"it holds {name}, which is no JSON")


def _walk(root: Any) -> Iterator[tuple[str, Leaf]]:
    """Yield every leaf; without recursion, as documents may be deep."""
    if not isinstance(root, dict | list):
        # Its address would be "", which is the document's own.
        raise DocumentError("it is one single value, with no addresses in it")
    waiting = _below("", root)
    while waiting:
        address, value = waiting.pop()
        is_opened = isinstance(value, list) and not all(_is_plain(item) for item in value)
        if is_opened or (isinstance(value, dict) and value):
            waiting += _below(address, value)
            if isinstance(value, dict) and all(map(is_index, value)):
                yield address, Leaf("object", {})
        else:
            yield address, _leaf(value)


def _below(address: str, value: dict[str, Any] | list[Any]) -> list[tuple[str, Any]]:
    if isinstance(value, dict):
        return [(address + pointer(name), below) for name, below in value.items()]
    return [(f"{address}/{at}", item) for at, item in enumerate(value)]


def _is_plain(value: Any) -> bool:
    if isinstance(value, bool) or value is None or type(value) in (str, float):
        return True
    return isinstance(value, int) and abs(value) <= LARGEST_PLAIN_INTEGER


def _leaf(value: Any) -> Leaf:
    if value is None:
        return Leaf("null", None)
    if isinstance(value, bool):
        return Leaf("bool", value)
    if isinstance(value, int):
        return Leaf("int", plain_int(value))
    if isinstance(value, float):
        return Leaf("float", value)
    if isinstance(value, _ExactNumber):
        return Leaf("float", str(value))
    if isinstance(value, dict):
        return Leaf("object", value)
    return Leaf("list" if isinstance(value, list) else "text", value)

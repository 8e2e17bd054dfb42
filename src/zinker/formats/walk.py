"""Nested data as parsers hand it out, turned into leaves: the same rules for every format that nests.

Maps and lists are walked through to their values. A list of plain values is one setting of the type `list`; a
list that holds maps, lists, or values that need care is taken apart item by item. An empty map is an `object`,
an empty list a `list`, so that neither is lost. A map whose names are all numbers has that mark at its own
address, too, so that it can be told from a list.
"""

import base64
import datetime
import re
from collections.abc import Iterable
from decimal import Decimal
from math import isfinite
from operator import itemgetter
from typing import Any

from zinker.formats.leaves import Leaves
from zinker.model.errors import DocumentError
from zinker.model.setting import LARGEST_PLAIN_INTEGER, Leaf, plain_int

MARK = Leaf("object", {})


class Digits(str):
    """A number as its digits, because a binary double does not hold it."""

    __slots__ = ()


class Native(str):
    """A value that only its format has: `type` says which; the text is as it stands in the document."""

    __slots__ = ("type",)
    type: str

    def __new__(cls, type: str, text: str) -> "Native":
        """Make one."""
        made = super().__new__(cls, text)
        made.type = type
        return made


_FIRST = itemgetter(0)
_DECIMAL = re.compile(r"[-+]?\d+\.\d+", re.ASCII).fullmatch
_LARGEST = LARGEST_PLAIN_INTEGER
_SIMPLE = {str: "text", bool: "bool", type(None): "null"}


def leaves_of(root: Any) -> Leaves:
    """Return all leaves by address, sorted by it. Raises `DocumentError`, and `RecursionError` for the deepest."""
    if not isinstance(root, dict | list):
        # Its address would be "", which is the document's own.
        raise DocumentError("it is one single value, with no addresses in it")
    found: Leaves = {}
    _collect("", root, found)
    return found


def _collect(prefix: str, holder: Any, found: Leaves) -> None:
    """Add the leaves below a map or a list in the order of their addresses."""
    items: Iterable[tuple[str, Any]]
    if type(holder) is dict:
        if prefix and all(map(is_index, holder)):
            found[prefix] = MARK
        names = "".join(holder)
        is_plain_named = "/" not in names and "~" not in names
        items = holder.items() if is_plain_named else ((_escaped(n), v) for n, v in holder.items())
    else:
        items = zip(map(str, range(len(holder))), holder, strict=True)
    # What lies below a name has an address that goes on with a slash, and is sorted by that.
    entries = [(f"{n}/" if type(v) is dict or type(v) is list else n, v) for n, v in items]
    entries.sort(key=_FIRST)
    prefix += "/"
    simple = _SIMPLE
    for name, value in entries:
        kind = type(value)
        if kind in simple:
            found[prefix + name] = Leaf(simple[kind], value)
        elif kind is int:
            found[prefix + name] = Leaf("int", value if -_LARGEST <= value <= _LARGEST else str(value))
        elif kind is float:
            found[prefix + name] = Leaf("float", value if isfinite(value) else repr(value))
        elif kind is list and all(map(is_plain, value)):
            found[prefix + name[:-1]] = Leaf("list", value)
        elif (kind is dict and value) or kind is list:
            _collect(prefix + name[:-1], value, found)
        else:
            found[prefix + name.rstrip("/")] = leaf_of(value)


def _escaped(name: str) -> str:
    return name.replace("~", "~0").replace("/", "~1")


def exact(digits: str) -> float | Digits:
    """Return a number as a double where that holds it exactly, else as its digits."""
    number = float(digits)
    if repr(number) == digits or digits.lstrip("+-") in ("inf", "nan"):
        return number
    return number if isfinite(number) and Decimal(repr(number)) == Decimal(digits) else Digits(digits)


def spelled(leaf: Leaf, model: str) -> str:
    """Return a number or a truth value in the spelling of another: 1.50 beside 2.25, `False` beside `True`."""
    if leaf.type == "bool":
        word = "true" if leaf.value else "false"
        return word.upper() if model.isupper() else word.title() if model.istitle() else word
    written = str(leaf.value)
    decimals = len(model.partition(".")[2]) if _DECIMAL(model) else 0
    if leaf.type == "float" and decimals and _DECIMAL(written):
        return written.ljust(written.index(".") + 1 + decimals, "0")
    return written


def is_index(token: str) -> bool:
    """Tell whether a token can be the number of an item (RFC 6901, section 4)."""
    return token.isascii() and token.isdigit() and (len(token) == 1 or token[0] != "0")


def is_plain(value: Any) -> bool:
    """Tell whether a value can stand in a setting of the type `list`."""
    kind = type(value)
    if kind is str or kind is bool or value is None:
        return True
    return (kind is int and -_LARGEST <= value <= _LARGEST) or (kind is float and isfinite(value))


def leaf_of(value: Any) -> Leaf:
    """Return the leaf for one value; the list or map it may be is empty or plain."""
    kind = _SIMPLE.get(type(value))
    if kind is not None:
        return Leaf(kind, value)
    if isinstance(value, Digits):
        return Leaf("float", str(value))  # what takes a value further knows plain texts only
    if isinstance(value, Native):
        return Leaf(value.type, str(value))
    if isinstance(value, int):
        return Leaf("int", plain_int(value))
    if isinstance(value, float):
        return Leaf("float", value if isfinite(value) else repr(value))
    if isinstance(value, bytes | bytearray):
        return Leaf("bytes", base64.b64encode(value).decode("ascii"))
    if isinstance(value, datetime.date | datetime.time):
        return Leaf("date", value.isoformat())
    if isinstance(value, dict):
        return Leaf("object", {})
    if isinstance(value, list):
        return Leaf("list", value)
    import plistlib  # most of what is read is none, and starts without it

    return Leaf("uid", value.data) if isinstance(value, plistlib.UID) else Leaf("list", value)

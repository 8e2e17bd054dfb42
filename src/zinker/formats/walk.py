"""Nested data as parsers hand it out, turned into leaves: the same rules for every format that nests.

Maps and lists are walked through to their values. A list of plain values is one setting of the type `list`; a
list that holds maps, lists, or values that need care is taken apart item by item. An empty map is an `object`,
an empty list a `list`, so that neither is lost. A map whose names are all numbers has that mark at its own
address, too, so that it can be told from a list.
"""

import base64
import datetime
import plistlib
from collections.abc import Iterable
from decimal import Decimal
from math import isfinite
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


_SIMPLE = {str: "text", bool: "bool", type(None): "null", Digits: "float"}


def leaves_of(root: Any) -> Leaves:
    """Return all leaves by address; without recursion, as documents may be deep. Raises `DocumentError`."""
    if not isinstance(root, dict | list):
        # Its address would be "", which is the document's own.
        raise DocumentError("it is one single value, with no addresses in it")
    found: Leaves = {}
    simple = _SIMPLE
    waiting: list[tuple[str, Any]] = [("", root)]
    while waiting:
        prefix, holder = waiting.pop()
        items: Iterable[tuple[Any, Any]]
        if type(holder) is dict:
            if prefix and all(map(is_index, holder)):
                found[prefix] = MARK
            items = holder.items()
        else:
            items = enumerate(holder)
        for name, value in items:
            if type(name) is str and ("~" in name or "/" in name):
                name = name.replace("~", "~0").replace("/", "~1")
            address = f"{prefix}/{name}"
            kind = simple.get(type(value))
            if kind is not None:
                found[address] = Leaf(kind, value)
            elif (type(value) is dict and value) or (type(value) is list and not all(map(is_plain, value))):
                waiting.append((address, value))
            else:
                found[address] = leaf_of(value)
    return found


def exact(digits: str) -> float | Digits:
    """Return a number as a double where that holds it exactly, else as its digits."""
    number = float(digits)
    if repr(number) == digits or digits.lstrip("+-") in ("inf", "nan"):
        return number
    return number if isfinite(number) and Decimal(repr(number)) == Decimal(digits) else Digits(digits)


def is_index(token: str) -> bool:
    """Tell whether a token can be the number of an item (RFC 6901, section 4)."""
    return token.isascii() and token.isdigit() and (len(token) == 1 or token[0] != "0")


def is_plain(value: Any) -> bool:
    """Tell whether a value can stand in a setting of the type `list`."""
    kind = type(value)
    if kind is float:
        return isfinite(value)
    return kind in (str, bool, type(None)) or (kind is int and abs(value) <= LARGEST_PLAIN_INTEGER)


def leaf_of(value: Any) -> Leaf:
    """Return the leaf for one value; the list or map it may be is empty or plain."""
    kind = _SIMPLE.get(type(value))
    if kind is not None:
        return Leaf(kind, value)
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
    if isinstance(value, plistlib.UID):
        return Leaf("uid", value.data)
    return Leaf("object", {}) if isinstance(value, dict) else Leaf("list", value)

"""GVDB: the database files of desktop settings and of their schemas, read without the desktop's library.

A file has a header, and a hash table that may lead to further tables. Every item of a table has a key, which goes
on that of its parent, and a value (`v`), a table (`H`) or a list of items (`L`). All places are checked.
"""

import struct
from typing import Final, NamedTuple

from zinker.formats.gvariant import Variant, read_variant
from zinker.formats.limits import LONGEST_KEY, MOST_TABLES
from zinker.model.errors import DocumentError

_SIGN: Final = b"GVariant"
_SWAPPED: Final = b"raVGtnai"


class Table(NamedTuple):
    """The values and the further tables in a hash table, by their keys."""

    values: dict[str, Variant]
    tables: dict[str, "Table"]


def read_gvdb(data: bytes) -> Table:
    """Read a database file as a whole; raises `DocumentError` for other bytes, or damaged ones."""
    order = {_SIGN: "<", _SWAPPED: ">"}.get(data[:8])
    if order is None or len(data) < 24:
        raise DocumentError("it does not begin as a settings database does")
    version, _, start, end = struct.unpack_from(f"{order}IIII", data, 8)
    if version:
        raise DocumentError(f"it has the version {version}, which is unknown here")
    return _Reader(data, order).table(start, end, 0)


class _Reader:
    def __init__(self, data: bytes, order: str) -> None:
        self._data, self._order = data, order
        self._tables = self._items = 0

    def table(self, start: int, end: int, depth: int) -> Table:
        self._tables += 1
        if start % 4 or not start <= end <= len(self._data) or depth > 8 or self._tables > MOST_TABLES:
            raise DocumentError("a table of it is not in the file")
        found = Table({}, {})
        if end - start < 8:
            return found
        bloom, buckets = struct.unpack_from(f"{self._order}II", self._data, start)
        at = start + 8 + 4 * (bloom & 0x07FF_FFFF) + 4 * buckets
        if at > end or (end - at) % 24:
            raise DocumentError("a table of it is cut off")
        items = [
            struct.unpack_from(f"{self._order}IIIHcBII", self._data, place) for place in range(at, end, 24)
        ]
        self._items += len(items)
        if self._items > len(self._data):
            raise DocumentError("its tables are used again and again, without end")
        keys: dict[int, str] = {}
        for number in range(len(items)):
            key = self._key(items, number, keys)
            _, _, _, _, kind, _, first, last = items[number]
            if kind == b"v":
                if not first <= last <= len(self._data):
                    raise DocumentError(f"the value of {key} is not in the file")
                found.values[key] = read_variant(self._data[first:last], self._order)
            elif kind == b"H":
                found.tables[key] = self.table(first, last, depth + 1)
        return found

    def _key(self, items: list[tuple[int, ...]], number: int, keys: dict[int, str]) -> str:
        """Return the whole key of an item; a chain of parents that bites its tail has no end."""
        chain: dict[int, None] = {}
        while number not in keys:
            if number in chain or number >= len(items):
                raise DocumentError("the keys of it lead in a circle, or nowhere")
            chain[number] = None
            parent = items[number][1]
            if parent == 0xFFFF_FFFF:
                break
            number = parent
        text = keys.get(number, "") if number not in chain else ""
        for one in reversed(chain):
            _, _, start, size, *_ = items[one]
            piece = self._data[start : start + size]
            if len(piece) < size or len(text) > LONGEST_KEY:
                raise DocumentError("a key of it is not in the file")
            try:
                text += piece.decode()
            except UnicodeDecodeError:
                raise DocumentError("a key of it is not UTF-8") from None
            keys[one] = text
        return text

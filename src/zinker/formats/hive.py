"""Registry hives: the files in which Windows keeps its registry, read without Windows.

The format (`regf`, versions 1.3 to 1.6) has no published standard; what is read here is what its files show. A
base block of 4,096 bytes is followed by bins full of cells. A cell begins with its size, negative while it is in
use. Offsets count from the first bin. Keys (`nk`) lead to lists of subkeys (`lf`, `lh`, `li`, `ri`), and to lists
of values (`vk`), whose data stands in the value itself, in a cell, or in several (`db`).

Nothing in a hive is believed: every offset and size is checked, every key is visited once, and what cannot be
read is named while the rest goes on.
"""

import contextlib
import struct
from codecs import utf_16_le_decode  # `bytes.decode` looks for it anew each time
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import Final, NamedTuple

from zinker.formats.limits import MOST_KEYS, MOST_VALUES
from zinker.formats.registry_values import DWORD, SZ, from_bytes
from zinker.model.address import folded, pointer
from zinker.model.errors import DocumentError
from zinker.model.rows import Block, is_escaped, named_row, row, tail, text_tail

BASE: Final = 4096
_SEGMENT = 16_344  # bytes of data in each cell of a large value
_INLINE = 0x8000_0000
_PLAIN_NAME = 0x20  # flag of a key whose name has a byte for each character
_PLAIN_VALUE_NAME = 1

_key = struct.Struct("<2sH16xI4xI4xII28xHH").unpack_from
_value = struct.Struct("<i2sHIIIH").unpack_from  # with the size of its cell
_size = struct.Struct("<i").unpack_from
_u32 = struct.Struct("<I").unpack_from
_u32_pair = struct.Struct("<II").unpack_from


class Damage(NamedTuple):
    """Something in a hive that could not be read: the address of the key, or of the value."""

    address: str
    why: str


class _Broken(Exception):
    """A cell is not what it should be; the message says in what."""


class Key(NamedTuple):
    """A key as it stands in its cell."""

    name: str
    subkeys: int
    subkey_list: int
    values: int
    value_list: int


class Hive:
    """A hive in memory, `data` being all of its file. Raises `DocumentError` for anything else."""

    def __init__(self, data: bytes) -> None:
        if data[:4] != b"regf" or len(data) < BASE:
            raise DocumentError("it does not begin as a registry hive does")
        self._data = data
        self._end = min(len(data), BASE + _u32(data, 40)[0])
        # What is wrong with the file as a whole.
        self.remarks = list(_remarks(data))
        root: int = _u32(data, 36)[0]
        try:
            self.key(root)
        except _Broken as error:
            raise DocumentError(f"its first key cannot be read: {error}") from None
        self.root = root

    @property
    def is_whole(self) -> bool:
        """Whether the file is complete as it is."""
        return not self.remarks

    def find(self, path: Sequence[str]) -> int:
        """Return the key at a path, whose case does not matter; raises `KeyError`."""
        key = self.root
        for name in path:
            wanted = folded(name)
            below = self.below(key, [], "")
            key = next((at for other, at in below if folded(other) == wanted), -1)
            if key < 0:
                raise KeyError(name)
        return key

    def below(self, key: int, damages: list[Damage], address: str) -> list[tuple[str, int]]:
        """Return the names and places of the keys right below a key, as far as they can be read."""
        return [(one.name, at) for one, at in self._below(key, damages, address)]

    def _below(
        self, key: int, damages: list[Damage], address: str, known_as: Key | None = None
    ) -> list[tuple[Key, int]]:
        found: list[tuple[Key, int]] = []
        try:
            places = self._subkeys(known_as or self.key(key))
        except _Broken as error:
            places = self._searched.get(key, [])
            saved = f"; {len(places)} were found by searching the file" if places else ""
            damages.append(Damage(address, f"its list of subkeys cannot be read: {error}{saved}"))
        known: set[str] = set()
        for at in places:
            try:
                one = self.key(at)
            except _Broken as error:
                damages.append(Damage(address, f"a subkey of it cannot be read: {error}"))
                continue
            name = folded(one.name)
            if name in known:
                damages.append(Damage(address, f"the subkey {one.name!a} is there twice; the first counts"))
                continue
            known.add(name)
            found.append((one, at))
        return found

    def values(self, key: int, damages: list[Damage], address: str) -> list[tuple[str, int, bytes]]:
        """Return name, type number and bytes of a key's values, as far as they can be read."""
        try:
            return self._values(self.key(key), damages, address)
        except _Broken as error:
            damages.append(Damage(address, f"its values cannot be read: {error}"))
            return []

    def _values(self, key: Key, damages: list[Damage], address: str) -> list[tuple[str, int, bytes]]:
        found: list[tuple[str, int, bytes]] = []
        try:
            places = self._value_list(key)
        except _Broken as error:
            damages.append(Damage(address, f"its values cannot be read: {error}"))
            return []
        for at in places:
            name = ""
            try:
                name, size, offset, number, start = self._value(at)
                found.append((name, number, self._bytes(size, offset, start)))
            except _Broken as error:
                value = f"the value {name!a}" if name else "a value"
                damages.append(Damage(address, f"{value} of it cannot be read: {error}"))
        if len({folded(name) for name, _, _ in found}) == len(found):
            return found
        first: dict[str, tuple[str, int, bytes]] = {}
        for one in found:
            if first.setdefault(folded(one[0]), one) is not one:
                damages.append(Damage(address, f"the value {one[0]!a} is there twice; the first counts"))
        return list(first.values())

    def blocks(self, path: Sequence[str], damages: list[Damage]) -> Iterator[Block]:
        """Yield all settings at and below a path; raises `KeyError`."""
        seen: set[int] = set()
        top = self.find(path)
        waiting = [("", self.key(top), top)]
        while waiting:
            address, key, at = waiting.pop()
            if at in seen:
                damages.append(Damage(address, "the key leads back to itself, or belongs to another one"))
                continue
            seen.add(at)
            subkeys = self._below(at, damages, address, key)
            waiting += [(f"{address}{pointer(one.name)}", one, at) for one, at in reversed(subkeys)]
            prefix, is_odd = f"{address}/", is_escaped(address)
            block = []
            for name, number, data in self._values(key, damages, address):
                if number == SZ and data[-2:] == b"\0\0" and not len(data) % 2:
                    ending = text_tail(utf_16_le_decode(data[:-2], "surrogatepass", True)[0])
                elif number == DWORD and len(data) == 4:
                    ending = f'"dword",{int.from_bytes(data, "little")}]'
                else:
                    ending = tail(*from_bytes(number, data))
                if name.isalnum() and not is_odd:
                    block.append(f"{prefix}{name}\0\0{ending}")
                else:
                    block.append(named_row(prefix, name, ending))
            if not block and not subkeys and address and not (damages and damages[-1].address == address):
                block = [row(f"{address}/", tail("key", None))]
            yield block

    def key(self, at: int) -> Key:
        """Read a key."""
        start, end = self._cell(at, 76)
        sign, flags, subkeys, subkey_list, values, value_list, length, _ = _key(self._data, start)
        if sign != b"nk":
            raise _Broken(f"there is no key at {at:#x}")
        if start + 76 + length > end:
            raise _Broken(f"the name of the key at {at:#x} is longer than its cell")
        name = self._data[start + 76 : start + 76 + length]
        return Key(_text(name, bool(flags & _PLAIN_NAME)), subkeys, subkey_list, values, value_list)

    def _cell(self, at: int, least: int) -> tuple[int, int]:
        """Return where the content of a cell begins and ends."""
        start = BASE + at
        if at % 8 or start + 4 > self._end:
            raise _Broken(f"{at:#x} is not in the file")
        size = -_size(self._data, start)[0]
        if size < least + 4 or start + size > self._end:
            raise _Broken(f"the cell at {at:#x} is {'free' if size <= 0 else 'too small or cut off'}")
        return start + 4, start + size

    def _subkeys(self, key: Key) -> list[int]:
        if not key.subkeys:
            return []
        if key.subkeys > MOST_KEYS:
            raise _Broken("there are more than a file can hold")
        places: list[int] = []
        lists, seen = [key.subkey_list], set()
        while lists:
            at = lists.pop()
            if at in seen:
                raise _Broken(f"the list at {at:#x} is in itself, or there twice")
            seen.add(at)
            start, end = self._cell(at, 4)
            sign, count = (
                self._data[start : start + 2],
                int.from_bytes(self._data[start + 2 : start + 4], "little"),
            )
            width = 8 if sign in (b"lf", b"lh") else 4
            if sign not in (b"lf", b"lh", b"li", b"ri") or start + 4 + count * width > end:
                raise _Broken(f"there is no list at {at:#x}")
            numbers = struct.unpack_from(f"<{count * width // 4}I", self._data, start + 4)
            if sign == b"ri":
                lists += reversed(numbers)
                if len(lists) > key.subkeys:
                    raise _Broken(f"the list at {at:#x} has more lists than there are keys")
            else:
                places += numbers[:: width // 4]
            if len(places) > key.subkeys:
                raise _Broken(f"the list at {at:#x} has more keys than there are")
        return places

    @cached_property
    def _searched(self) -> dict[int, list[int]]:
        """The keys in the file by the key they say they are below; for what no sound list leads to."""
        found: dict[int, list[int]] = {}
        at = self._data.find(b"nk", BASE)
        while at >= 0:
            place = at - 4 - BASE
            if place % 8 == 0:
                with contextlib.suppress(_Broken):
                    self.key(place)
                    found.setdefault(_u32(self._data, at + 16)[0], []).append(place)
            at = self._data.find(b"nk", at + 1)
        return found

    def _value_list(self, key: Key) -> tuple[int, ...]:
        if not key.values:
            return ()
        if key.values > MOST_VALUES:
            raise _Broken("there are more than a file can hold")
        start, _ = self._cell(key.value_list, 4 * key.values)
        return struct.unpack_from(f"<{key.values}I", self._data, start)

    def _value(self, at: int) -> tuple[str, int, int, int, int]:
        """Return name, size, offset of the data, type number, and where the value itself begins."""
        start = BASE + at
        if at % 8 or start + 24 > self._end:
            self._cell(at, 20)  # says what is wrong with it
        cell, sign, length, size, offset, number, flags = _value(self._data, start)
        if cell > -24 or start - cell > self._end:
            self._cell(at, 20)
        if sign != b"vk" or 24 + length > -cell:
            raise _Broken(f"there is no value at {at:#x}")
        name = self._data[start + 24 : start + 24 + length]
        if flags & _PLAIN_VALUE_NAME:
            return name.decode("latin-1"), size, offset, number, start + 4
        return _text(name, False), size, offset, number, start + 4

    def _bytes(self, size: int, offset: int, start: int) -> bytes:
        if size & _INLINE:
            size &= ~_INLINE
            if size > 4:
                raise _Broken("its data is larger than the place for it")
            return self._data[start + 8 : start + 8 + size]
        if not size:
            return b""
        begin, end = self._cell(offset, 4)
        if size > _SEGMENT and self._data[begin : begin + 2] == b"db":
            return self._segments(begin, size)
        if begin + size > end:
            raise _Broken("its data is longer than its cell")
        return self._data[begin : begin + size]

    def _segments(self, begin: int, size: int) -> bytes:
        count = int.from_bytes(self._data[begin + 2 : begin + 4], "little")
        if not count or size > count * _SEGMENT:
            raise _Broken("its data has too few pieces")
        start, _ = self._cell(_u32(self._data, begin + 4)[0], 4 * count)
        pieces = []
        for at in struct.unpack_from(f"<{count}I", self._data, start):
            begin, end = self._cell(at, 4)
            pieces.append(self._data[begin : min(end, begin + _SEGMENT)])
        data = b"".join(pieces)
        if len(data) < size:
            raise _Broken("its data has a piece that is too short")
        return data[:size]


def _text(name: bytes, is_plain: bool) -> str:
    if is_plain:
        return name.decode("latin-1")
    if len(name) % 2:
        raise _Broken("a name is cut in the middle of a character")
    return name.decode("utf-16-le", "surrogatepass")


def _remarks(data: bytes) -> Iterator[str]:
    size = BASE + _u32(data, 40)[0]
    if size > len(data):
        yield f"the file is cut off: {len(data):,} of {size:,} bytes are there"
    if checksum(data) != _u32(data, 508)[0]:
        yield "its base block does not have the checksum it should have"
    first, second = _u32_pair(data, 4)
    if first != second:
        yield "it was being written when the machine stopped, and what its logs would add is not there"


def checksum(data: bytes) -> int:
    """Return the checksum of a base block: its first 127 numbers, combined by exclusive or."""
    total = 0
    for number in struct.unpack_from("<127I", data):
        total ^= number
    return {0: 1, 0xFFFF_FFFF: 0xFFFF_FFFE}.get(total, total)

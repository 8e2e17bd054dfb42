"""Transaction logs of registry hives: what Windows had not yet written into the hive when the machine stopped.

Two generations are known. Since Windows 8.1, a log (`.LOG1`, `.LOG2`) holds entries (`HvLE`), each with the pages
that were changed and two Marvin32 checksums; before, one set of pages behind a bitmap (`DIRT`). Only what is
whole is taken, in the order of its numbers, and only what follows on the hive.
"""

import struct
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from zinker.formats.hive import BASE, checksum
from zinker.formats.limits import LARGEST_LOG

_SECTOR = 512
_SEED = 0x82EF_4D88_7A4E_55C5
_MASK = 0xFFFF_FFFF
_entry = struct.Struct("<4sIIIIIQQ").unpack_from
_u32_pair = struct.Struct("<II").unpack_from


class Recovered(NamedTuple):
    """A hive with what its logs hold: its bytes, and how many log entries went into it."""

    data: bytes
    entries: int


class _Entry(NamedTuple):
    number: int
    size: int  # of all bins, in bytes
    pages: tuple[tuple[int, bytes], ...]


def recovered(data: bytes, logs: Iterable[bytes]) -> Recovered:
    """Put into a hive what its logs hold, where it was not closed well; otherwise it is complete as it is."""
    if len(data) < BASE or data[:4] != b"regf":
        return Recovered(data, 0)
    first, second = _u32_pair(data, 4)
    if first == second and checksum(data) == struct.unpack_from("<I", data, 508)[0]:
        return Recovered(data, 0)
    entries = sorted({entry.number: entry for log in logs for entry in _entries(log)}.values())
    whole = bytearray(data)
    count, expected = 0, second
    for entry in entries:
        if entry.number < expected:
            continue  # it is in the hive already
        if count and entry.number != expected:
            break  # one is missing
        size = BASE + entry.size
        if len(whole) < size:
            whole += bytes(size - len(whole))
        for at, page in entry.pages:
            whole[BASE + at : BASE + at + len(page)] = page
        struct.pack_into("<I", whole, 40, entry.size)
        expected, count = entry.number + 1, count + 1
    if count:
        struct.pack_into("<II", whole, 4, expected, expected)
        struct.pack_into("<I", whole, 508, checksum(bytes(whole[:_SECTOR])))
    return Recovered(bytes(whole), count)


def _entries(log: bytes) -> Iterator[_Entry]:
    if len(log) < 2 * _SECTOR or log[:4] != b"regf" or checksum(log) != struct.unpack_from("<I", log, 508)[0]:
        return
    if log[_SECTOR : _SECTOR + 4] == b"DIRT":
        entry = _dirty_pages(log)
        if entry is not None:
            yield entry
        return
    at = _SECTOR
    while entry := _entry_at(log, at):
        yield entry
        at += struct.unpack_from("<I", log, at + 4)[0]


def _entry_at(log: bytes, at: int) -> _Entry | None:
    """Read an entry; None if there is none, or none that is whole."""
    if at + 40 > len(log):
        return None
    sign, size, _, number, bins, count, hash1, hash2 = _entry(log, at)
    if sign != b"HvLE" or size % _SECTOR or size < 40 or at + size > len(log) or bins > LARGEST_LOG:
        return None
    if 40 + count * 8 > size or marvin32(log[at : at + 32]) != hash2:
        return None
    if marvin32(log[at + 40 : at + size]) != hash1:
        return None
    pages = []
    start = at + 40 + count * 8
    for page in range(count):
        offset, length = _u32_pair(log, at + 40 + page * 8)
        if start + length > at + size or offset + length > bins:
            return None
        pages.append((offset, log[start : start + length]))
        start += length
    return _Entry(number, bins, tuple(pages))


def _dirty_pages(log: bytes) -> _Entry | None:
    """Read the one set of pages of an older log."""
    number, second = _u32_pair(log, 4)
    bins = struct.unpack_from("<I", log, 40)[0]
    count = bins // _SECTOR
    bitmap = log[_SECTOR + 4 : _SECTOR + 4 + (count + 7) // 8]
    if number != second or bins > LARGEST_LOG or len(bitmap) < (count + 7) // 8:
        return None
    start = -(-(_SECTOR + 4 + len(bitmap)) // _SECTOR) * _SECTOR
    pages = []
    for page in range(count):
        if bitmap[page // 8] >> page % 8 & 1:
            content = log[start : start + _SECTOR]
            if len(content) < _SECTOR:
                return None
            pages.append((page * _SECTOR, content))
            start += _SECTOR
    return _Entry(number, bins, tuple(pages))


def marvin32(data: bytes, seed: int = _SEED) -> int:
    """Return the Marvin32 checksum of some bytes; log entries have a seed of their own.

    >>> hex(marvin32(bytes.fromhex("e70f"), seed=0x004F_B61A_001B_DBCC))
    '0xb5f6e1fc485dbff8'
    """
    low, high = seed & _MASK, seed >> 32
    rest = len(data) % 4
    end = int.from_bytes(data[len(data) - rest :] + b"\x80", "little")
    for number in (*struct.unpack_from(f"<{len(data) // 4}I", data), end, 0):
        low = low + number & _MASK
        high ^= low
        low = (low << 20 | low >> 12) + high & _MASK
        high = (high << 9 | high >> 23) & _MASK ^ low
        low = (low << 27 | low >> 5) + high & _MASK
        high = (high << 19 | high >> 13) & _MASK
    return high << 32 | low

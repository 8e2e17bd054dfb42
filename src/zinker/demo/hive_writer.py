"""Writes small and large registry hives, so that there are disks of dead workstations to try Zinker on.

Zinker itself never writes a hive: this is for the demo garden, for tests and for measuring.
"""

import struct
from dataclasses import dataclass, field

from zinker.formats.hive import BASE, checksum
from zinker.formats.hive_logs import marvin32
from zinker.model.address import folded

_PAGE = 4096
_SEGMENT = 16_344
_NOWHERE = 0xFFFF_FFFF
# An owner-less security descriptor, as small as there is one.
_DESCRIPTOR = struct.pack("<BBHIIII", 1, 0, 0x8000, 0, 0, 0, 0)


@dataclass
class Node:
    """A key: its values as name, type number and bytes, and the keys below it."""

    name: str
    values: list[tuple[str, int, bytes]] = field(default_factory=list)
    below: list["Node"] = field(default_factory=list)

    def key(self, path: str) -> "Node":
        r"""Return a key below this one by its path (`A\B`), made where it is missing."""
        node = self
        for name in path.split("\\") if path else ():
            found = next((other for other in node.below if folded(other.name) == folded(name)), None)
            if found is None:
                found = Node(name)
                node.below.append(found)
            node = found
        return node


def write_hive(root: Node, minor: int = 5) -> bytes:
    """Return a hive of a tree of keys."""
    cells = _Cells()
    descriptor = cells.add(struct.pack("<2sHIIII", b"sk", 0, 0, 0, 1, len(_DESCRIPTOR)) + _DESCRIPTOR)
    cells.patch(descriptor, 4, struct.pack("<II", descriptor, descriptor))
    top = _Keys(cells, descriptor).add(root)
    return cells.finish(top, minor)


class _Keys:
    def __init__(self, cells: "_Cells", descriptor: int) -> None:
        self._cells, self._descriptor = cells, descriptor

    def add(self, root: Node) -> int:
        """Add a key with all below it, without recursion: the children of a key first, then their list."""
        top = self._key(root, 0, is_root=True)
        waiting = [(root, top)]
        while waiting:
            node, at = waiting.pop()
            below = sorted(node.below, key=lambda child: child.name.upper())
            places = [(child, self._key(child, at)) for child in below]
            if places:
                self._cells.patch(at, 28, struct.pack("<I", self._list(places)))
            waiting += places
        return top

    def _key(self, node: Node, parent: int, is_root: bool = False) -> int:
        name, is_plain = _name(node.name)
        flags = 0x20 * is_plain | (0x0C if is_root else 0)
        values = struct.pack(f"<{len(node.values)}I", *(self._value(*value) for value in node.values))
        list_at = self._cells.add(values) if node.values else _NOWHERE
        head = struct.pack(
            "<2sHQIIIIIIIIIIIIIIIHH",
            b"nk",
            flags,
            0,
            0,
            parent,
            len(node.below),
            0,
            _NOWHERE,
            _NOWHERE,
            len(node.values),
            list_at,
            self._descriptor,
            _NOWHERE,
            max((2 * len(child.name) for child in node.below), default=0),
            0,
            max((2 * len(value) for value, _, _ in node.values), default=0),
            max((len(data) for _, _, data in node.values), default=0),
            0,
            len(name),
            0,
        )
        return self._cells.add(head + name)

    def _value(self, name: str, number: int, data: bytes) -> int:
        encoded, is_plain = _name(name)
        size, inline = len(data), b""
        if size <= 4:
            size, inline = size | 0x8000_0000, data.ljust(4, b"\0")
        elif size > _SEGMENT:
            inline = struct.pack("<I", self._segments(data))
        else:
            inline = struct.pack("<I", self._cells.add(data))
        head = struct.pack("<2sHI4sIHH", b"vk", len(encoded), size, inline, number, is_plain, 0)
        return self._cells.add(head + encoded)

    def _segments(self, data: bytes) -> int:
        pieces = [data[at : at + _SEGMENT] for at in range(0, len(data), _SEGMENT)]
        places = struct.pack(f"<{len(pieces)}I", *(self._cells.add(piece) for piece in pieces))
        return self._cells.add(struct.pack("<2sHI", b"db", len(pieces), self._cells.add(places)))

    def _list(self, places: list[tuple[Node, int]]) -> int:
        """Add a list of keys, by their hashes; a long one in several."""
        parts = [self._part(places[at : at + 500]) for at in range(0, len(places), 500)]
        if len(parts) == 1:
            return parts[0]
        return self._cells.add(struct.pack(f"<2sH{len(parts)}I", b"ri", len(parts), *parts))

    def _part(self, places: list[tuple[Node, int]]) -> int:
        entries = b"".join(struct.pack("<II", at, _hash(node.name)) for node, at in places)
        return self._cells.add(struct.pack("<2sH", b"lh", len(places)) + entries)


class _Cells:
    """Bins full of cells; no cell crosses the end of a bin."""

    def __init__(self) -> None:
        self._data = bytearray()
        self._bin = self._bin_end = 0

    def add(self, content: bytes) -> int:
        """Add a cell; returns its offset."""
        size = -(-(len(content) + 4) // 8) * 8
        if len(self._data) + size > self._bin_end:
            self._close()
            self._bin = len(self._data)
            length = -(-(size + 32) // _PAGE) * _PAGE
            self._bin_end = self._bin + length
            self._data += struct.pack("<4sII8xQI", b"hbin", self._bin, length, 0, 0)
        at = len(self._data)
        self._data += struct.pack("<i", -size) + content.ljust(size - 4, b"\0")
        return at

    def patch(self, at: int, offset: int, content: bytes) -> None:
        """Write into a cell."""
        start = at + 4 + offset
        self._data[start : start + len(content)] = content

    def finish(self, root: int, minor: int) -> bytes:
        """Return the file."""
        self._close()
        base = bytearray(BASE)
        struct.pack_into("<4sIIQIIIIIII", base, 0, b"regf", 1, 1, 0, 1, minor, 0, 1, root, len(self._data), 1)
        struct.pack_into("<I", base, 508, checksum(bytes(base)))
        return bytes(base + self._data)

    def _close(self) -> None:
        """Make a free cell of what is left of the bin."""
        left = self._bin_end - len(self._data)
        if left:
            self._data += struct.pack("<i", left) + bytes(left - 4)


def _name(name: str) -> tuple[bytes, bool]:
    try:
        return name.encode("latin-1"), True
    except UnicodeEncodeError:
        return name.encode("utf-16-le", "surrogatepass"), False


def _hash(name: str) -> int:
    total = 0
    for character in name.upper():
        total = (total * 37 + ord(character)) & _NOWHERE
    return total


def interrupted(before: bytes, after: bytes, number: int = 2) -> tuple[bytes, bytes]:
    """Return a hive whose machine stopped while `after` was being written, and the log that has the changes."""
    hive = bytearray(before)
    struct.pack_into("<II", hive, 4, number, number - 1)
    struct.pack_into("<I", hive, 508, checksum(bytes(hive)))
    bins = after[BASE:]
    old = before[BASE:].ljust(len(bins), b"\0")
    pages = [
        (at, bins[at : at + 512])
        for at in range(0, len(bins), 512)
        if bins[at : at + 512] != old[at : at + 512]
    ]
    log = bytearray(hive[:512])
    struct.pack_into("<I", log, 28, 6)  # the type of a log with entries
    struct.pack_into("<I", log, 508, checksum(bytes(log)))
    return bytes(hive), bytes(log) + log_entry(number - 1, len(bins), pages)


def log_entry(number: int, bins: int, pages: list[tuple[int, bytes]]) -> bytes:
    """Return an entry of a log: the pages with their places, and the two checksums."""
    places = b"".join(struct.pack("<II", at, len(page)) for at, page in pages)
    body = places + b"".join(page for _, page in pages)
    size = -(-(40 + len(body)) // 512) * 512
    body = body.ljust(size - 40, b"\0")
    head = struct.pack("<4sIIIIIQ", b"HvLE", size, 0, number, bins, len(pages), marvin32(body))
    return head + struct.pack("<Q", marvin32(head)) + body

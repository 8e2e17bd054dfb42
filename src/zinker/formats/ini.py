r"""INI files: sections in brackets, one key a line, comments after `;` or `#`.

An address is `/section/key`; what stands before the first section has the section "". The second and later
keys of the same name in the same section are `/section/key/2` and so on. A section without keys is an empty
`object` at `/section`. A key without a delimiter has the type `null`, everything else is `text`.

The delimiter is `=`, or `:` in a file where more lines have that one first.
"""

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from itertools import chain

from zinker.formats.leaves import Edit, Leaves
from zinker.formats.text import Text, decode, line_end, lines
from zinker.model.address import pointer, tokens
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.setting import Leaf

_SECTION = re.compile(r"[ \t]*\[(.*)\][ \t]*\Z")
_EMPTY_SECTION = Leaf("object", {})
_NO_VALUE = Leaf("null", None)


@dataclass(slots=True, eq=False)
class _Line:
    """One line; `value` is where its value stands in `raw`, or None for a key without one."""

    raw: str
    section: str = ""
    key: str | None = None
    value: tuple[int, int] | None = None
    is_header: bool = False
    is_dropped: bool = False
    after: list["_Line"] = field(default_factory=list)  # lines added behind this one

    @property
    def is_blank(self) -> bool:
        return not self.raw.strip()

    def leaf(self) -> Leaf:
        return _NO_VALUE if self.value is None else Leaf("text", self.raw[slice(*self.value)])


def read(data: bytes) -> Leaves:
    """Return the settings of an INI file by address; raises `DocumentError`."""
    return _File(decode(data)).leaves()


def edit(data: bytes, edits: Sequence[Edit]) -> bytes:
    """Return the file with the edits made; every other line stays as it is."""
    file = _File(decode(data))
    for change in edits:
        file.make(change)
    return file.encode(edits[0].address if edits else "")


class _File:
    """The lines of one file. Edits mark lines and hang new ones behind them; `encode` puts it all together."""

    def __init__(self, text: Text) -> None:
        self._text = text
        raw = lines(text.characters)
        self._delimiter = _delimiter(raw)
        self._top = _Line("")  # stands before everything, and is never written
        self._lines = [self._top, *_parse(raw, self._delimiter)]
        self._added: list[_Line] = []  # sections added at the end
        ends = [line_end(line) for line in raw]
        self._end = max(("\n", "\r\n", "\r"), key=ends.count)
        self._is_open = bool(raw) and not ends[-1]  # the last line has no line end
        pairs = zip(self._lines[1:], self._lines[2:], strict=False)
        self._is_spaced = any(line.is_blank and after.is_header for line, after in pairs)
        self._addresses: dict[str, _Line] = {}
        self._sections: dict[str, list[_Line]] = {"": [self._top]}
        for line in self._lines[1:]:
            self._sections.setdefault(line.section, []).append(line)
        self._number()

    def leaves(self) -> Leaves:
        found = {address: line.leaf() for address, line in self._addresses.items()}
        with_keys = {line.section for line in self._lines if line.key is not None}
        for line in self._lines:
            if line.is_header and line.section not in with_keys:
                found[pointer(line.section)] = _EMPTY_SECTION
        return found

    def encode(self, address: str) -> bytes:
        written = [line for line in self._in_order() if not line.is_dropped]
        for line in written[:-1]:
            line.raw += "" if line_end(line.raw) else self._end
        if written and self._is_open:
            written[-1].raw = written[-1].raw.rstrip("\r\n")
        elif written and not line_end(written[-1].raw):
            written[-1].raw += self._end
        return self._text.encode("".join(line.raw for line in written), address)

    def make(self, change: Edit) -> None:
        path = tokens(change.address)
        if len(path) == 1:
            self._make_section(path[0], change)
        elif change.leaf is None:
            self._remove(change.address)
        elif len(path) in (2, 3):
            self._set(path, change.address, _written(change.address, change.leaf))
        else:
            raise NotWritable(change.address, "an INI file has sections and keys only")

    def _in_order(self) -> Iterator[_Line]:
        for line in (*self._lines, *self._added):
            if line is not self._top:
                yield line
            yield from line.after

    def _number(self) -> None:
        """Give every key its address; the second of the same name in a section gets a 2, and so on."""
        self._addresses.clear()
        count: dict[tuple[str, str], int] = {}
        for line in self._in_order():
            if line.key is not None and not line.is_dropped:
                place = (line.section, line.key)
                count[place] = nth = count.get(place, 0) + 1
                self._addresses[pointer(*place) if nth == 1 else pointer(*place, str(nth))] = line

    def _make_section(self, section: str, change: Edit) -> None:
        if change.leaf is None:
            self._drop_empty_section(section)
        elif not any(line.is_header and not line.is_dropped for line in self._sections.get(section, ())):
            self._add_section(section)

    def _set(self, path: tuple[str, ...], address: str, value: str | None) -> None:
        line = self._addresses.get(address)
        if line is None:
            self._insert(path[0], path[1], address, value)
        elif value is None:
            if line.value is not None:
                raise NotWritable(address, "its value cannot be taken away without the key")
        elif line.value is None:
            bare, end = line.raw.rstrip("\r\n"), line_end(line.raw)
            bare = bare.rstrip() + self._delimiter
            line.raw, line.value = bare + value + end, (len(bare), len(bare) + len(value))
        else:
            start, stop = line.value
            if start == stop and value and re.search(r"[ \t][=:]\Z", line.raw[:start]):
                line.raw = f"{line.raw[:start]} {line.raw[stop:]}"  # `key =` becomes `key = value`
                start = stop = start + 1
            line.raw = line.raw[:start] + value + line.raw[stop:]
            line.value = (start, start + len(value))

    def _remove(self, address: str) -> None:
        line = self._addresses.pop(address, None)
        if line is None or line.key is None:
            raise NotWritable(address, "it is not there")
        line.is_dropped = True
        if f"{pointer(line.section, line.key)}/2" in self._addresses:
            self._number()
        if not any(other.key is not None and not other.is_dropped for other in self._sections[line.section]):
            self._drop_empty_section(line.section)

    def _drop_empty_section(self, section: str) -> None:
        """Remove the header, and one blank line with it, of a section that holds nothing but blank lines."""
        block = [
            line for line in self._sections.get(section, ()) if not line.is_dropped and not line.is_blank
        ]
        if any(not line.is_header for line in block):
            return
        for header in block:
            header.is_dropped = True
            before = self._lines[self._lines.index(header) - 1]
            before.is_dropped = before.is_dropped or before.is_blank

    def _insert(self, section: str, key: str, address: str, value: str | None) -> None:
        """Add a key at the end of its section, looking like the key before it."""
        if section not in self._sections:
            self._add_section(section)
        known = self._sections[section]
        nearest = chain(reversed(known), reversed(self._lines))
        model = next((line for line in nearest if line.value is not None), None)
        indent, delimiter = _style(model, self._delimiter)
        bare = indent + key + (delimiter if value is not None else "")
        place = None if value is None else (len(bare), len(bare) + len(value))
        line = _Line(bare + (value or ""), section, key, place)
        anchors = (other for other in reversed(known) if other is self._top or not other.is_blank)
        next(anchors, self._top).after.append(line)
        self._addresses[address] = line

    def _add_section(self, section: str) -> None:
        last = self._added[-1] if self._added else self._lines[-1]
        if self._is_spaced and not last.is_blank:
            self._added.append(_Line(""))
        header = _Line(f"[{section}]", section, is_header=True)
        self._added.append(header)
        self._sections.setdefault(section, []).append(header)


def _delimiter(raw: Sequence[str]) -> str:
    firsts = [
        found[0] for line in raw if (found := re.search("[=:]", line)) and line.lstrip()[:1] not in ";#["
    ]
    return ":" if firsts.count(":") > firsts.count("=") else "="


def _parse(raw: Sequence[str], delimiter: str) -> Iterator[_Line]:
    section = ""
    for number, line in enumerate(raw, 1):
        bare = line.rstrip("\r\n")
        stripped = bare.strip(" \t")
        if not stripped or stripped[0] in ";#":
            yield _Line(line, section)
        elif stripped[0] == "[":
            header = _SECTION.match(bare)
            if not header:
                raise DocumentError(f"line {number}: a section name without its closing bracket")
            section = header[1]
            yield _Line(line, section, is_header=True)
        else:
            key, found, value = bare.partition(delimiter)
            if not key.strip(" \t"):
                raise DocumentError(f"line {number}: a value without a key")
            start = len(bare) - len(value.lstrip(" \t"))
            place = (start, max(start, len(bare.rstrip(" \t")))) if found else None
            yield _Line(line, section, key.strip(" \t"), place)


def _written(address: str, leaf: Leaf) -> str | None:
    if leaf.type == "null":
        return None
    if leaf.type != "text":
        raise NotWritable(address, f"an INI file holds text, not {leaf.type}")
    value: str = leaf.value
    if "\r" in value or "\n" in value:
        raise NotWritable(address, "its value has a line break, which an INI file cannot hold")
    return value


def _style(model: _Line | None, delimiter: str) -> tuple[str, str]:
    """Return the indentation and the delimiter with its spaces, as a neighbour has them."""
    if model is None or model.value is None or model.key is None:
        return "", delimiter
    indent = model.raw[: len(model.raw) - len(model.raw.lstrip(" \t"))]
    between = model.raw[len(indent) + len(model.key) : model.value[0]]
    if model.value[0] == model.value[1]:
        between = between.rstrip(" \t") + (" " if between[:1] in " \t" else "")
    return indent, between

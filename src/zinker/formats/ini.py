r"""INI files: sections in brackets, one key a line, comments after `;` or `#`.

An address is `/section/key`; what stands before the first section has the section "". The second and later
keys of the same name in the same section are `/section/key/2` and so on. A section without keys is an empty
`object` at `/section`. A key without a delimiter has the type `null`, everything else is `text`.

The delimiter is `=`, or `:` in a file where more lines have that one first.
"""

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from zinker.formats.leaves import Edit, Leaves
from zinker.formats.text import Text, decode, line_end, lines
from zinker.model.address import pointer, tokens
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.setting import Leaf

_SECTION = re.compile(r"[ \t]*\[(.*)\][ \t]*\Z")
_EMPTY_SECTION = Leaf("object", {})
_NO_VALUE = Leaf("null", None)


@dataclass(slots=True)
class _Line:
    """One line; `value` is where its value stands in `raw`, or None for a key without one."""

    raw: str
    section: str = ""
    key: str | None = None
    value: tuple[int, int] | None = None
    is_header: bool = False

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
    return file.encode([change.address for change in edits])


class _File:
    """The lines of one file, in order."""

    def __init__(self, text: Text) -> None:
        self._text = text
        raw = lines(text.characters)
        self._delimiter = _delimiter(raw)
        self._lines = list(_parse(raw, self._delimiter))
        ends = [line_end(line) for line in raw]
        self._end = max(("\n", "\r\n", "\r"), key=ends.count)
        self._addresses: dict[str, _Line] | None = None

    def leaves(self) -> Leaves:
        found = {address: line.leaf() for address, line in self._by_address().items()}
        with_keys = {line.section for line in self._lines if line.key is not None}
        for line in self._lines:
            if line.is_header and line.section not in with_keys:
                found[pointer(line.section)] = _EMPTY_SECTION
        return found

    def encode(self, addresses: Iterable[str]) -> bytes:
        return self._text.encode("".join(line.raw for line in self._lines), next(iter(addresses), ""))

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

    def _by_address(self) -> dict[str, _Line]:
        if self._addresses is None:
            self._addresses = {}
            count: dict[tuple[str, str], int] = {}
            for line in self._lines:
                if line.key is not None:
                    place = (line.section, line.key)
                    count[place] = nth = count.get(place, 0) + 1
                    address = pointer(*place) if nth == 1 else pointer(*place, str(nth))
                    self._addresses[address] = line
        return self._addresses

    def _make_section(self, section: str, change: Edit) -> None:
        headers = [line for line in self._lines if line.is_header and line.section == section]
        if change.leaf is None:
            for header in headers:
                self._drop_empty_section(header.section)
        elif not headers:
            self._add_section(section)

    def _set(self, path: tuple[str, ...], address: str, value: str | None) -> None:
        line = self._by_address().get(address)
        if line is None:
            self._insert(path[0], path[1], value)
        elif value is None:
            if line.value is not None:
                raise NotWritable(address, "its value cannot be taken away without the key")
        elif line.value is None:
            self._give_value(line, value)
        else:
            start, end = line.value
            if start == end and value and re.search(r"[ \t][=:]\Z", line.raw[:start]):
                line.raw = f"{line.raw[:start]} {line.raw[end:]}"  # `key =` becomes `key = value`
                start = end = start + 1
            line.raw = line.raw[:start] + value + line.raw[end:]
            line.value = (start, start + len(value))

    def _give_value(self, line: _Line, value: str) -> None:
        bare, end = line.raw.rstrip("\r\n"), line_end(line.raw)
        bare = bare.rstrip() + self._delimiter
        line.raw, line.value = bare + value + end, (len(bare), len(bare) + len(value))

    def _remove(self, address: str) -> None:
        line = self._by_address().get(address)
        if line is None:
            raise NotWritable(address, "it is not there")
        self._delete(line)
        if not any(other.section == line.section and other.key is not None for other in self._lines):
            self._drop_empty_section(line.section)

    def _drop_empty_section(self, section: str) -> None:
        """Remove the header, and one blank line with it, of a section that holds nothing, not even comments."""
        block = [line for line in self._lines if line.section == section and not line.is_blank]
        if any(not line.is_header for line in block):
            return
        for header in block:
            at = self._index(header)
            if at and self._lines[at - 1].is_blank:
                self._delete(self._lines[at - 1])
            self._delete(header)

    def _delete(self, line: _Line) -> None:
        at = self._index(line)
        del self._lines[at]
        if at and at == len(self._lines) and not line_end(line.raw):
            last = self._lines[-1]  # the file had no last line end, and so it stays
            last.raw = last.raw.rstrip("\r\n")
        self._addresses = None

    def _index(self, line: _Line) -> int:
        return next(at for at, other in enumerate(self._lines) if other is line)

    def _insert(self, section: str, key: str, value: str | None) -> None:
        """Add a key at the end of its section, looking like the key before it."""
        siblings = [at for at, line in enumerate(self._lines) if line.section == section]
        if not siblings and section:
            self._add_section(section)
            siblings = [len(self._lines) - 1]
        while siblings and self._lines[siblings[-1]].is_blank and not self._lines[siblings[-1]].is_header:
            siblings.pop()
        after = siblings[-1] if siblings else -1
        keys = [line for line in self._lines[: after + 1] if line.value is not None]
        model = next((line for line in reversed(keys) if line.section == section), keys[-1] if keys else None)
        indent, delimiter = _style(model, self._delimiter)
        bare = indent + key + (delimiter if value is not None else "")
        place = None if value is None else (len(bare), len(bare) + len(value))
        self._put(after + 1, _Line(bare + (value or ""), section, key, place))

    def _add_section(self, section: str) -> None:
        spaced = any(
            line.is_header and at and self._lines[at - 1].is_blank for at, line in enumerate(self._lines)
        )
        if self._lines and spaced and not self._lines[-1].is_blank:
            self._put(len(self._lines), _Line("", self._lines[-1].section))
        self._put(len(self._lines), _Line(f"[{section}]", section, is_header=True))

    def _put(self, at: int, line: _Line) -> None:
        """Insert a line that has no line end yet; a file without a last line end keeps having none."""
        before = self._lines[at - 1] if at else None
        if before is not None and not line_end(before.raw):
            before.raw += self._end
        else:
            line.raw += self._end
        self._lines.insert(at, line)
        self._addresses = None


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

"""Documents made of lines: one setting a line, edited line by line. What a line looks like is its grammar's.

Addresses are `/section/key`, or `/key` in a grammar without sections. The second and later keys of the same
name in the same section get `/2` and so on. A section without keys is an empty `object` at `/section`. Where
sections may be in sections, an address has the names of all of them, and no key may come again.
"""

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property
from itertools import chain
from typing import NamedTuple

import msgspec

from zinker.formats.dialect import PLAIN, Dialect
from zinker.formats.leaves import Edit, Leaves
from zinker.formats.text import Text, decode, line_end, lines
from zinker.model.address import pointer, tokens
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.setting import Leaf

EMPTY_SECTION = Leaf("object", {})

# What a scan says in place of a key for a line that opens a section.
HEADER = "\n"

# One line: as it is, its section as an address has it, its key (None for a comment or a blank line, or HEADER),
# and its value as it is written, or None.
Scanned = tuple[str, str, str | None, str | None]


class Style(NamedTuple):
    """How a neighbour writes its line: its indentation, what stands around its value."""

    indent: str = ""
    before: str = ""
    raw_value: str = ""


class Grammar(ABC):
    """What tells one kind of line file from another."""

    has_sections = False
    is_nested = False  # whether sections may be in sections
    bare = Leaf("null", None)  # what a key without a value is
    is_literal = True  # whether values are what stands in the line, so that `value` need not be asked
    inline_marks: tuple[str, ...] = ()  # what begins a comment behind a value

    @abstractmethod
    def scan(self, raw: Sequence[str]) -> Iterator[Scanned]:
        """Take the lines apart, joining those that belong together; raises `DocumentError`."""

    @abstractmethod
    def place(self, raw: str, written: str) -> int:
        """Return where in a line its value stands."""

    def value(self, written: str) -> str:
        """Return the value that is written so."""
        return written

    @abstractmethod
    def written(self, value: str, model: str, indent: str) -> str | None:
        """Return how a value is written, in the manner of `model`, the old value or a neighbour's, in its line
        ending; None where it cannot be.
        """

    @abstractmethod
    def start(self, key: str, has_value: bool, indent: str, before: str) -> str | None:
        """Return what stands in a new line before the value; `before` is what a neighbour has between both."""

    def after(self, key: str) -> str:
        """Return what stands in a new line behind the value."""
        return ""

    def joint(self, raw: str) -> str:
        """Return what has to stand between a key and a value where the line `raw` had none."""
        return ""

    def header(self, names: tuple[str, ...]) -> str | None:
        """Return the line that opens a section, or None where no line can."""
        return None


class _Line(msgspec.Struct, eq=False):
    """One line, or several that belong together; `stop` is -1 for one without a value."""

    raw: str
    section: str = ""
    key: str | None = None
    start: int = 0
    stop: int = -1
    is_header: bool = False
    is_dropped: bool = False
    after: "list[_Line] | None" = None  # lines added behind this one

    @property
    def is_blank(self) -> bool:
        return not self.raw.strip()

    @property
    def indent(self) -> str:
        return self.raw[: len(self.raw) - len(self.raw.lstrip(" \t"))]


class _Block:
    """Consecutive lines of one section, from its header on: most are never looked into, and stay as they are."""

    def __init__(self, section: str, scanned: list[Scanned], grammar: Grammar) -> None:
        self.section, self._scanned, self._grammar = section, scanned, grammar

    @cached_property
    def lines(self) -> list[_Line]:
        """The lines, to be changed."""
        return [_line(scanned, self._grammar) for scanned in self._scanned]

    @property
    def has_header(self) -> bool:
        return self._scanned[0][2] is HEADER

    @property
    def ends_blank(self) -> bool:
        return not self._scanned[-1][0].strip()

    def written(self) -> Iterable[str]:
        """Return the lines as they are to be written; those that were not looked into in one piece."""
        if "lines" not in self.__dict__:
            return ("".join([scanned[0] for scanned in self._scanned]),)
        every = (one for line in self.lines for one in (line, *(line.after or ())))
        return [line.raw for line in every if not line.is_dropped]


def _leaves(characters: str, grammar: Grammar) -> Leaves:
    """Return the settings by address; raises `DocumentError`."""
    found: Leaves = {}
    sections: dict[str, bool] = {}  # whether they have keys
    count: dict[str, int] = {}
    last, prefix, bare = None, "/", grammar.bare
    decode = None if grammar.is_literal else grammar.value
    for _, section, key, written in grammar.scan(lines(characters)):
        if key is None:
            continue
        if key is HEADER:
            sections.setdefault(section, False)
            continue
        if section is not last:
            last, prefix = section, f"/{section}/" if grammar.has_sections else "/"
            sections[section] = True
        address = prefix + (key if "/" not in key and "~" not in key else pointer(key)[1:])
        if address in found:
            if grammar.is_nested:
                raise DocumentError(f"{address} stands there twice, so it has no clear address")
            count[address] = nth = count.get(address, 1) + 1
            address = f"{address}/{nth}"
        if written is None:
            found[address] = bare
        else:
            found[address] = Leaf("text", written if decode is None else decode(written))
    above = {section.rpartition("/")[0] for section in sections} if grammar.is_nested else ()
    for section, has_keys in sections.items():
        if grammar.is_nested and f"/{section}" in found:
            raise DocumentError(f"/{section} is a key and a section, so it has no clear address")
        if not has_keys and section not in above:
            found[f"/{section}"] = EMPTY_SECTION
    return found


def joined(raw: Iterable[str], may_go_on: Callable[[str], bool]) -> Iterator[str]:
    """Put the lines together that a backslash at the end of the one before says to belong together."""
    held: list[str] = []
    for line in raw:
        held.append(line)
        bare = line.rstrip("\r\n")
        backslashes = len(bare) - len(bare.rstrip("\\")) if bare != line else 0
        if backslashes % 2 == 0 or not may_go_on(held[0]):
            yield "".join(held)
            held = []
    if held:
        yield "".join(held)


_Read = Callable[[bytes, Dialect], Leaves]
_Edit = Callable[[bytes, Sequence[Edit], Dialect], bytes]


def line_format(
    decode: Callable[[bytes, Dialect], Text], grammar: Callable[[Text, Dialect], Grammar]
) -> tuple[_Read, _Edit]:
    """Return the two functions of a format of lines, by how its documents are decoded and what tells it apart."""

    def read(data: bytes, dialect: Dialect = PLAIN) -> Leaves:
        text = decode(data, dialect)
        return _leaves(text.characters, grammar(text, dialect))

    def edit(data: bytes, edits: Sequence[Edit], dialect: Dialect = PLAIN) -> bytes:
        text = decode(data, dialect)
        file = _File(text, grammar(text, dialect))
        for change in edits:
            file.make(change)
        return file.encode(edits[0].address if edits else "")

    return read, edit


def plainly(data: bytes, dialect: Dialect) -> Text:
    """Decode a document as its dialect says; raises `DocumentError`."""
    return decode(data, declared=dialect.encoding)


class _File:
    """The lines of one file. Edits mark lines and hang new ones behind them; `encode` puts it all together."""

    def __init__(self, text: Text, grammar: Grammar) -> None:
        self._text, self._grammar = text, grammar
        raw = lines(text.characters)
        self._blocks: list[_Block] = [_Block("", [("", "", None, None)], grammar)]
        self._top = self._blocks[0].lines[0]  # stands before everything, and is never written
        self._top.is_dropped = True
        self._sections: dict[str, list[_Block]] = {"": self._blocks[:]}
        section: str | None = None
        block: list[Scanned] = []
        for scanned in grammar.scan(raw):
            if scanned[2] is HEADER or scanned[1] != section:
                section, block = scanned[1], []
                self._add_block(section, block)
            block.append(scanned)
        both = text.characters.count("\r\n")
        ends = {
            "\n": text.characters.count("\n") - both,
            "\r\n": both,
            "\r": text.characters.count("\r") - both,
        }
        self._end = max(ends, key=ends.__getitem__)
        self._is_open = bool(raw) and not line_end(raw[-1])  # the last line has no line end
        # By section, the lines at the addresses in it: only of those that are looked into.
        self._addresses: dict[str, dict[str, _Line]] = {}
        self._emptied: dict[str, bool] = {}  # sections that lost a key, and whether they go when none is left

    def _add_block(self, section: str, scanned: list[Scanned], at: int | None = None) -> None:
        block = _Block(section, scanned, self._grammar)
        self._blocks.insert(len(self._blocks) if at is None else at, block)
        self._sections.setdefault(section, []).append(block)

    @cached_property
    def _is_spaced(self) -> bool:
        """Whether a blank line stands before a section."""
        pairs = zip(self._blocks[1:], self._blocks[2:], strict=False)
        return any(block.ends_blank and after.has_header for block, after in pairs)

    def encode(self, address: str) -> bytes:
        self._drop_emptied()
        written = [raw for block in self._blocks for raw in block.written()]
        for at, raw in enumerate(written[:-1]):
            if not raw.endswith(("\n", "\r")):
                written[at] = raw + self._end
        if written and self._is_open:
            written[-1] = written[-1].rstrip("\r\n")
        elif written and not line_end(written[-1]):
            written[-1] += self._end
        return self._text.encode("".join(written), address)

    def make(self, change: Edit) -> None:
        """Make one edit; raises `NotWritable`."""
        place, leaf = change.address[1:], change.leaf
        if self._grammar.is_nested and (place in self._sections if leaf is None else leaf == EMPTY_SECTION):
            section, rest = place, []
        elif self._grammar.is_nested:
            section, _, key = place.rpartition("/")
            rest = [key]
        else:
            section, *rest = place.split("/") if self._grammar.has_sections else ["", *place.split("/")]
        if not rest:
            self._make_section(section, change)
        elif leaf is None:
            self._remove(section, change.address)
        elif len(rest) < 3:
            (key,) = tokens(f"/{rest[0]}")
            self._set(section, key, change.address, leaf)
        else:
            raise NotWritable(change.address, "a file of this format has no such depth")

    def _own(self, section: str) -> Iterator[_Line]:
        """Return the lines of a section, those too that are to be dropped."""
        lines = (line for block in self._sections.get(section, ()) for line in block.lines)
        return (one for line in lines for one in (line, *(line.after or ())))

    def _address(self, section: str, key: str, nth: int = 1) -> str:
        address = (f"/{section}" if self._grammar.has_sections else "") + pointer(key)
        return address if nth == 1 else f"{address}/{nth}"

    def _numbered(self, section: str) -> dict[str, _Line]:
        """Return the keys of a section by address; the second of the same name gets a 2, and so on."""
        known = self._addresses.get(section)
        if known is None:
            known = self._addresses[section] = {}
            count: dict[str, int] = {}
            for line in self._own(section):
                if line.key is not None and not line.is_dropped:
                    count[line.key] = nth = count.get(line.key, 0) + 1
                    known[self._address(section, line.key, nth)] = line
        return known

    def _make_section(self, section: str, change: Edit) -> None:
        if change.leaf is None:
            self._emptied.setdefault(section, True)
        elif change.leaf != EMPTY_SECTION:
            raise NotWritable(change.address, "a section of this file holds keys, not a value")
        else:
            self._emptied[section] = False
            if section not in self._sections:
                self._add_section(section, change.address)

    def _set(self, section: str, key: str, address: str, leaf: Leaf) -> None:
        if leaf.type not in ("text", "null"):
            raise NotWritable(address, f"a file of this format holds text, not {leaf.type}")
        value: str | None = leaf.value
        line = self._numbered(section).get(address)
        if line is None or line.is_dropped:
            self._insert(section, key, address, value)
        elif value is None:
            if line.stop >= 0:
                self._take_value(line, address)
        elif line.stop < 0 and leaf != self._grammar.bare:
            bare, end = line.raw.rstrip("\r\n").rstrip(), line_end(line.raw)
            bare += self._grammar.joint(line.raw)
            written = self._written(value, "", "", address)
            line.raw, line.start, line.stop = bare + written + end, len(bare), len(bare) + len(written)
        elif line.stop >= 0:
            self._replace(line, value, address)

    def _take_value(self, line: _Line, address: str) -> None:
        """Leave a key without a value, and without what stood before that."""
        bare = line.raw[: line.start].rstrip(" \t")
        joint = self._grammar.joint(line.raw).strip()
        if joint and bare[-1:] not in ("=", ":"):
            raise NotWritable(address, "its value cannot be taken away without the key")
        bare = bare[:-1].rstrip(" \t") if joint else bare
        line.raw, line.start, line.stop = bare + line.raw[line.stop :], 0, -1

    def _replace(self, line: _Line, value: str, address: str) -> None:
        start, stop = line.start, line.stop
        written = self._written(value, line.raw[start:stop], line.indent, address)
        if (
            start == stop
            and written
            and line.raw[:start][-2:-1] in (" ", "\t")
            and line.raw[start - 1] in "=:"
        ):
            line.raw = f"{line.raw[:start]} {line.raw[stop:]}"  # `key =` becomes `key = value`
            start = stop = start + 1
        gap = (
            " "
            if start == stop and written and line.raw[stop:].startswith(self._grammar.inline_marks)
            else ""
        )
        line.raw = line.raw[:start] + written + gap + line.raw[stop:]
        line.start, line.stop = start, start + len(written)

    def _written(self, value: str, model: str, indent: str, address: str) -> str:
        try:
            written = self._grammar.written(value, model, indent)
        except NotWritable as error:
            raise NotWritable(address, error.why) from None
        if written is None:
            raise NotWritable(address, "its value has characters that a line of this file cannot hold")
        return self._end.join(written.split("\n")) if "\n" in written else written

    def _remove(self, section: str, address: str) -> None:
        line = self._numbered(section).get(address)
        if line is None or line.is_dropped:
            raise NotWritable(address, "it is not there")
        line.is_dropped = True
        self._emptied.setdefault(section, True)

    def _drop_emptied(self) -> None:
        """Remove the headers, and one blank line with each, of sections of which only blank lines are left."""
        gone = {section for section, may_go in self._emptied.items() if may_go and not self._holds(section)}
        for before, block in zip(self._blocks, self._blocks[1:], strict=False):
            if block.section in gone and block.has_header:
                block.lines[0].is_dropped = True
                before.lines[-1].is_dropped |= before.ends_blank

    def _holds(self, section: str) -> bool:
        lines = self._own(section)
        return any(not (line.is_dropped or line.is_blank or line.is_header) for line in lines) or any(
            map(self._holds, self._inner.get(section, ()))
        )

    @cached_property
    def _inner(self) -> dict[str, list[str]]:
        """The sections in others, by those."""
        found: dict[str, list[str]] = {}
        for section in self._sections if self._grammar.is_nested else ():
            if section:
                found.setdefault(section.rpartition("/")[0], []).append(section)
        return found

    def _insert(self, section: str, key: str, address: str, value: str | None) -> None:
        """Add a key at the end of its section, looking like the key before it."""
        if section not in self._sections:
            self._add_section(section, address)
        known = [line for block in self._sections[section] for line in block.lines]
        others = (line for block in reversed(self._blocks) for line in reversed(block.lines))
        nearest: Iterable[_Line] = chain(reversed(known), others)
        model = next((line for line in nearest if line.stop >= 0), None)
        style = _style(model)
        bare = self._grammar.start(key, value is not None, style.indent, style.before)
        if bare is None:
            raise NotWritable(address, "its name has characters that a line of this file cannot hold")
        written = "" if value is None else self._written(value, style.raw_value, style.indent, address)
        end = "" if value is None else self._grammar.after(key)
        stop = -1 if value is None else len(bare) + len(written)
        line = _Line(bare + written + end, section, key, len(bare), stop)
        anchors = (other for other in reversed(known) if other is self._top or not other.is_blank)
        anchor = next(anchors, self._top)
        anchor.after = anchor.after or []
        anchor.after.append(line)
        self._numbered(section)[address] = line

    def _add_section(self, section: str, address: str) -> None:
        """Add a section behind all others; one in another section behind what is in that."""
        names = tokens(f"/{section}") if self._grammar.is_nested else tokens(f"/{section}")[:1]
        above = section.rpartition("/")[0] if len(names) > 1 else ""
        if above and above not in self._sections:
            self._add_section(above, address)
        header = self._grammar.header(names)
        if header is None:
            raise NotWritable(address, "its section has a name that no line of this file can hold")
        at = len(self._blocks)
        if above:
            inside = (
                block.section == above or block.section.startswith(f"{above}/") for block in self._blocks
            )
            at = max(number for number, is_inside in enumerate(inside, 1) if is_inside)
        if self._is_spaced and not self._blocks[at - 1].ends_blank:
            self._blocks.insert(at, _Block(above, [(self._end, above, None, None)], self._grammar))
            at += 1
        self._add_block(section, [(header, section, HEADER, None)], at)


def _line(scanned: Scanned, grammar: Grammar) -> _Line:
    raw, section, key, written = scanned
    if key is HEADER:
        return _Line(raw, section, is_header=True)
    if written is None:
        return _Line(raw, section, key)
    start = grammar.place(raw, written)
    return _Line(raw, section, key, start, start + len(written))


def _style(model: _Line | None) -> Style:
    if model is None or model.key is None:
        return Style()
    indent = model.indent
    before = model.raw[len(indent) : model.start]
    if model.start == model.stop:
        before = before.rstrip(" \t") + (" " if before.rstrip(" \t")[-2:-1] in (" ", "\t") else "")
    return Style(indent, before, model.raw[model.start : model.stop])

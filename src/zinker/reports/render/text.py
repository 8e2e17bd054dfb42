"""A page as lines of text, for a terminal of some width or, uncut, for a file: the look of Zinker's text."""

from collections.abc import Iterable, Iterator

import msgspec

from zinker.reports.page import Block, Entry, Facts, Heading, Made, Paragraph, Reasons, Section, Table
from zinker.reports.report import Report
from zinker.reports.words import UNCUT, cut, visible

# Blue, orange and grey are told apart by nearly everybody; the words say the same. A terminal of 16 colours
# has no orange, and its yellow cannot be read on white: it is bold alone there.
STYLES = {
    "new": "bold blue",
    "changed": "bold dark_orange",
    "gone": "bold bright_black",
    "moved": "bold blue",
    "left": "dark_orange",
    "strong": "bold",
    "quiet": "bright_black",
}
FEW_COLOURS = {"changed": "bold", "left": "bold"}
_WIDE_ENOUGH = 110
_WORD = 9
_NAME = 36
_TITLE = 40  # of what is shown, without a word before it
_BENEATH = 2 + _WORD + 2


class Line(msgspec.Struct, frozen=True):
    """One line, as pieces of text with the name of the style of each, or ""."""

    pieces: tuple[tuple[str, str], ...] = ()

    @property
    def plain(self) -> str:
        """The line without any look."""
        return "".join([text for text, _ in self.pieces])

    def __add__(self, more: tuple[str, str]) -> "Line":
        return Line((*self.pieces, more))


def line(text: str, style: str = "") -> Line:
    """Return a line of one piece."""
    return Line(((text, style),))


def lines(blocks: Iterable[Block], width: int, full: bool = False) -> Iterator[Line]:
    """Yield blocks line by line; a `full` text has also what was inside of documents that came or went."""
    was_empty = False
    for one in _lines(blocks, width, full):
        is_empty = not one.pieces or one.pieces == (("", ""),)
        if not (is_empty and was_empty):  # a gap, and a heading that has one of its own
            yield one
        was_empty = is_empty


def _lines(blocks: Iterable[Block], width: int, full: bool) -> Iterator[Line]:
    under = ""  # the part under whose heading whole documents may follow
    for block in blocks:
        if isinstance(block, Section):
            if not block.is_whole or block.part != under:
                yield Line()
                name = block.part if block.is_whole else f"{block.part}, {block.document}"
                yield line(visible(name), "strong")
            under = block.part if block.is_whole else ""
            for entry in (*block.entries, *(block.inside if full else ())):
                yield from entry_lines(entry, width)
            for note in block.notes:
                yield beneath(note, width)
            continue
        under = ""
        yield from _block(block, width)


def _block(block: Block, width: int) -> Iterable[Line]:
    if isinstance(block, Paragraph):
        return _paragraph(block, width)
    if isinstance(block, Heading):
        first = (Line(),) if block.level > 1 else ()
        return (*first, line(visible(block.text), "strong"))
    if isinstance(block, Facts):
        return _facts(block)
    if isinstance(block, Table):
        return _table(block, width)
    if isinstance(block, Reasons):
        return _reasons(block)
    assert isinstance(block, Entry)  # noqa: S101 - it is all that is left of a union
    return entry_lines(block, width)


def _paragraph(block: Paragraph, width: int) -> Iterator[Line]:
    style = "" if block.look == "plain" else block.look
    yield line(" " * block.indent + visible(block.text), style)


def _facts(block: Facts) -> Iterator[Line]:
    column = max((len(name) for name, _ in block.pairs), default=0) + 1
    for name, told in block.pairs:
        start = f"{visible(name)}:" if name else ""
        yield line(f"{start:<{column}} {visible(told)}".rstrip())


def _reasons(block: Reasons) -> Iterator[Line]:
    if block.rows and block.head:
        yield line(visible(block.head), "left")
    for where, why, times in block.rows:
        yield line(f"  {visible(where)}: {visible(why)}{f' ({times:,} times)' if times > 1 else ''}")


def _table(block: Table, width: int) -> Iterator[Line]:
    """Yield rows in aligned columns; the last column is cut at the width."""
    if not block.rows:
        return
    out = block.beneath if width >= _WIDE_ENOUGH else block.beneath | block.roomy
    kept = [at for at, name in enumerate(block.head) if name not in out]
    # Of thousands of rows, each is put together at once, and a column is looked at as a whole.
    columns = [_visible_all([row[at] for row in (block.head, *block.rows)]) for at in kept]
    widths = [max(map(len, column)) for column in columns]
    head, *rows = zip(*columns, strict=True)
    aligned = "".join(f"{{:<{width}}}  " for width in widths[:-1]).format
    beneath = [at for at, name in enumerate(block.head) if name in block.beneath]
    yield line((aligned(*head[:-1]) + head[-1]).rstrip(), "strong")
    for row, whole in zip(rows, block.rows, strict=True):
        start = aligned(*row[:-1])
        yield line((start + cut(row[-1], max(12, width - len(start)))).rstrip())
        for cell in (whole[at] for at in beneath):
            if cell:
                yield line(cut(f"{'':<{widths[0] + 2}}{visible(cell)}", width), "quiet")


def _visible_all(texts: list[str]) -> list[str]:
    return texts if "".join(texts).isprintable() else [*map(visible, texts)]


def entry_lines(entry: Entry, width: int) -> Iterator[Line]:
    """Yield one line for a setting, or more where that is too long."""
    yield from _first_lines(entry, width)
    for note in entry.notes:
        yield beneath(note, width)


def _first_lines(entry: Entry, width: int) -> Iterator[Line]:
    name = visible(entry.name)
    if not entry.word:
        yield from _shown(name, entry, width)
        return
    first = Line((("  ", ""), (f"{entry.word:<{_WORD}}", entry.word)))
    one, other = (visible(text or "") for text in (entry.before, entry.after))
    if entry.joined:
        told = ", ".join(filter(None, (name, other or one)))
        yield first + (cut(told, width - 2 - _WORD), "")
        return
    phrase = _phrase(entry, one, other)
    if 2 + _WORD + max(len(name), _NAME) + 2 + len(phrase) <= width:
        yield from _with_address(first + (f"{name:<{_NAME}}  ", "") + (phrase, ""), entry.address, width)
        return
    yield from _with_address(first + (cut(name, width - 2 - _WORD), ""), entry.address, width)
    column = max(map(len, entry.verbs)) + 1
    room = width - _BENEATH - column
    for value, verb, text in ((entry.before, entry.verbs[0], one), (entry.after, entry.verbs[1], other)):
        if value is not None:
            yield line(" " * _BENEATH) + (f"{verb:<{column}}", "quiet") + (cut(text, room), "")


def _phrase(entry: Entry, before: str, after: str) -> str:
    if entry.word in ("new", "moved"):
        return after
    was, now = entry.verbs
    return f"{was} {before}" if entry.word == "gone" else f"{was} {before}, {now} {after}"


def _shown(name: str, entry: Entry, width: int) -> Iterator[Line]:
    """Yield a setting with its value, and with the address that is given where it is shown by its title."""
    told = visible(entry.after or "")
    start = f"  {name:<{_TITLE}}  "
    if len(name) > _TITLE and len(start) + len(told) > width:
        yield line(cut(f"  {name}", width))
        start = f"{'':<6}"
    yield from _with_address(line(start + cut(told, width - len(start))), entry.address, width)


def _with_address(first: Line, address: str, width: int) -> Iterator[Line]:
    """Yield a line with an address behind it, or beneath it where there is no room."""
    told = visible(address)
    if not told:
        yield first
    elif width == UNCUT or _cells(first.plain) + 2 + len(told) <= width:
        yield first + (f"  {told}", "quiet")
    else:
        yield first
        yield line(f"{'':<{_BENEATH}}{told}", "quiet")


def _cells(text: str) -> int:
    """Return how many columns of a terminal a text takes."""
    if text.isascii():
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)


def beneath(text: str, width: int = UNCUT) -> Line:
    """Return a line that says more about the one above it."""
    return line(cut(f"{'':<{_BENEATH}}{visible(text)}", width), "quiet")


def checklist_line(start: str, entry: Entry, width: int) -> Line:
    """Return a line of a checklist: what stands before it, and what would be written, in one line."""
    first = Line(((start, ""), (f"{entry.word:<{_WORD}}", entry.word)))
    room = max(12, width - len(start) - _WORD)
    one, other = (visible(text or "") for text in (entry.before, entry.after))
    name = visible(entry.name)
    if entry.joined:
        return first + (cut(", ".join(filter(None, (name, other or one))), room), "")
    beside = min(_NAME, max(12, room // 2))
    if (
        len(_phrase(entry, one, other)) > room - beside - 2
    ):  # both sides are to be seen, or what there is of them
        beside = min(beside, len(name))
        left = room - beside - 2 - len(_phrase(entry, "", ""))
        one, other = (cut(text, max(4, left // (2 if one and other else 1))) for text in (one, other))
    return first + (cut(f"{cut(name, beside):<{beside}}  {_phrase(entry, one, other)}", room).rstrip(), "")


def text(report: Report, made: Made) -> Iterator[bytes]:
    """Yield a report as lines of UTF-8 with nothing cut, and under them by whom it was made."""
    for one in lines(report.page.blocks, UNCUT, full=True):
        yield one.plain.encode() + b"\n"
    yield f"\nMade by {visible(made.by)} on {visible(made.on)}, {made.at}, with {made.using}.\n".encode()

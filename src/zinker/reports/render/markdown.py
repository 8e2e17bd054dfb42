"""A report as Markdown: CommonMark with the tables of GitHub's flavour, in which no value is taken for markup."""

import re
from collections.abc import Iterable, Iterator, Sequence

from zinker.reports.page import Block, Entry, Facts, Heading, Made, Paragraph, Reasons, Section, Table
from zinker.reports.report import Report
from zinker.reports.words import visible

# What means something anywhere in a line, and what does where it begins one.
_SPECIAL = re.compile(r"[\\`*_\[\]<>&|~$@]|(?<=:)//|(?<=www)\.", re.IGNORECASE)
_EDGES = re.compile("^ +| +$")
_OPENS = re.compile(r"([#+=-]|\d+(?=[.)](?:\s|$)))")


def markdown(report: Report, made: Made) -> Iterator[bytes]:
    """Yield a report line by line."""
    page = report.page
    yield _bytes(f"# {escaped(': '.join(filter(None, (page.kind, page.title))))}\n\n")
    for name, told in page.facts.pairs:
        yield _bytes(f"- {f'{escaped(name)}: ' if name else ''}{escaped(told)}\n")
    yield from _drawn(page.summary)
    if page.contents:
        yield _bytes("\n## Contents\n\n")
    for name, anchor, level in page.contents:
        yield _bytes(f"{'  ' * (level - 1)}- [{escaped(name)}](#{anchor})\n")
    yield from _drawn(page.body)
    told = f"Made by {made.by} on {made.on}, {made.at}, with {made.using}."
    yield _bytes(f"\n---\n\n{escaped(told)}\n")


def escaped(text: str) -> str:
    r"""Return a text so that Markdown shows it as it is.

    >>> escaped("a|b <b> 1*2*3")
    'a\\|b \\<b\\> 1\\*2\\*3'
    """
    plain = _SPECIAL.sub(lambda found: f"\\{found[0]}", visible(text))
    plain = _EDGES.sub(lambda found: "&#32;" * len(found[0]), plain)
    opens = _OPENS.match(plain)
    if not opens:
        return plain
    mark, rest = opens[1], plain[opens.end() :]
    return f"{mark}\\{rest}" if mark.isdigit() else f"\\{mark}{rest}"


def _bytes(text: str) -> bytes:
    return text.encode()


def _drawn(blocks: Iterable[Block]) -> Iterator[bytes]:
    part = ""
    is_list = False
    for block in blocks:
        if isinstance(block, Section):
            if block.part != part:
                yield _bytes(f"\n{'#' * block.level} {escaped(block.part)}\n")
                is_list = False
            part = block.part
            if block.is_whole:
                yield _bytes("" if is_list else "\n")
                yield from _whole(block)
                is_list = not block.inside
                continue
            anchor = f'<a id="{block.anchor}"></a>' if block.anchor else ""
            yield _bytes(f"\n{'#' * block.level}# {anchor}{escaped(block.document)}\n")
            yield from (_bytes(f"\n{escaped(note)}\n") for note in block.notes)
            yield from _entries(block.entries)
            is_list = False
            continue
        part, is_list = "", False
        yield from _block(block)


def _block(block: Block) -> Iterator[bytes]:
    if isinstance(block, Heading):
        anchor = f'<a id="{block.anchor}"></a>' if block.anchor else ""
        yield _bytes(f"\n{'#' * max(2, block.level)} {anchor}{escaped(block.text)}\n")
    elif isinstance(block, Paragraph) and block.text:
        text = escaped(block.text)
        text = f"**{text}**" if block.look == "strong" else f"- {text}" if block.indent else text
        yield _bytes(f"\n{text}\n")
    elif isinstance(block, Facts) and block.pairs:
        yield _bytes("\n" + "".join(f"- {escaped(name)}: {escaped(told)}\n" for name, told in block.pairs))
    elif isinstance(block, Table) and block.rows:
        yield from _table(block.head, block.rows)
    elif isinstance(block, Reasons) and block.rows:
        yield _bytes(f"\n{escaped(block.head)}\n\n")
        for where, why, times in block.rows:
            yield _bytes(f"- {escaped(where)}: {escaped(why)}{f' ({times:,} times)' if times > 1 else ''}\n")
    elif isinstance(block, Entry):
        yield from _entries((block,))


def _whole(block: Section) -> Iterator[bytes]:
    """Yield a document that came or went as an item of a list, and what was in it as a table under it."""
    for entry in block.entries:
        told = ", ".join(filter(None, (entry.name, entry.after or entry.before)))
        notes = "".join(f"; {note}" for note in (*entry.notes, *block.notes))
        word = f"**{entry.word}** " if entry.word else ""
        yield _bytes(f"- {word}{escaped(told + notes)}\n")
    if block.inside:
        yield from _entries(block.inside)


def _entries(entries: Sequence[Entry]) -> Iterator[bytes]:
    if not entries:
        return
    if not any(entry.word for entry in entries):
        yield from _table(
            ("setting", "value"), ((_name(entry), _value(entry)) for entry in entries), raw=True
        )
        return
    rows = (
        (entry.word, _name(entry), escaped(entry.before or ""), escaped(entry.after or ""))
        for entry in entries
    )
    yield from _table(("what", "setting", *entries[0].verbs), rows, raw=True)


def _name(entry: Entry) -> str:
    told = [escaped(entry.name), *([escaped(entry.address)] if entry.address else [])]
    return "<br>".join([*told, *map(escaped, entry.notes)])


def _value(entry: Entry) -> str:
    links = (f"[{escaped(text)}](#{to})" if to else escaped(text) for text, to in entry.links)
    return ", ".join(links) if entry.links else escaped(entry.after or "")


def _table(head: Sequence[str], rows: Iterable[Sequence[str]], raw: bool = False) -> Iterator[bytes]:
    yield _bytes(f"\n| {' | '.join(map(escaped, head))} |\n|{' --- |' * len(head)}\n")
    for row in rows:
        yield _bytes(f"| {' | '.join(row if raw else map(escaped, row))} |\n")

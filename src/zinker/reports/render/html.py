"""A report as one HTML page that needs nothing else and reaches for nothing.

Every text is escaped, and a content security policy allows this page's own style and script by their digests alone:
nothing in a value could run even if it broke out of its cell. Rows come in pieces of a few hundred, which a browser
lays out when they come into view, so that a hundred thousand of them answer at once. Without scripts all is there
to read; the script filters, and folds.
"""

import base64
import hashlib
from collections.abc import Iterable, Iterator, Sequence
from html import escape
from importlib.resources import files
from itertools import count, islice

from zinker.reports.page import Block, Entry, Facts, Heading, Made, Page, Paragraph, Reasons, Section, Table
from zinker.reports.report import Report
from zinker.reports.words import visible

# Rows in one piece; a browser lays out whole ones.
_PIECE = 200
# So many pieces are laid out at once; what comes behind them waits.
_AT_ONCE = 5
# Longer values scroll in their cell.
_LONG = 600


def html(report: Report, made: Made) -> Iterator[bytes]:
    """Yield a report as a page, piece by piece."""
    for piece in _page(report.page, made):
        yield piece.encode()


def _page(page: Page, made: Made) -> Iterator[str]:
    style, script = _own("page.css"), _own("page.js")
    policy = f"default-src 'none'; style-src {_digest(style)}; script-src {_digest(script)}"
    name = ": ".join(filter(None, (page.kind, page.title)))
    yield (
        '<!DOCTYPE html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n'
        f'<meta http-equiv="Content-Security-Policy" content="{policy}">\n'
        '<meta name="viewport" content="width=device-width, initial-scale=1">\n'
        f'<meta name="color-scheme" content="light dark">\n<title>{_text(name)}</title>\n'
        f"<style>{style}</style>\n</head>\n<body>\n<header>\n"
    )
    yield f"<p>{_text(page.kind)}</p>\n" if page.title else ""
    yield f"<h1>{_text(page.title or page.kind)}</h1>\n{_facts(page.facts)}</header>\n<main>\n"
    yield from _drawn(page.summary)
    yield from _contents(page)
    yield '<div id="filter"></div>\n<div id="all">\n'
    yield from _drawn(page.body)
    told = f"Made by {made.by} on {made.on}, {made.at}, with {made.using}."
    yield f"</div>\n</main>\n<footer>{_text(told)}</footer>\n<script>{script}</script>\n</body>\n</html>\n"


def _own(name: str) -> str:
    return files("zinker.reports.render").joinpath(name).read_text("utf-8")


def _digest(text: str) -> str:
    return f"'sha256-{base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()}'"


def _text(text: str) -> str:
    return escape(visible(text))


def _facts(block: Facts) -> str:
    pairs = (f"<dt>{_text(name)}</dt><dd>{_text(told)}</dd>" for name, told in block.pairs)
    return f"<dl>{''.join(pairs)}</dl>\n" if block.pairs else ""


def _contents(page: Page) -> Iterator[str]:
    if not page.contents:
        return
    yield '<nav aria-label="Contents"><details><summary>Contents</summary>\n<ul>\n'
    for name, anchor, level in page.contents:
        yield f'<li class="l{level}"><a href="#{_text(anchor)}">{_text(name)}</a></li>\n'
    yield "</ul>\n</details></nav>\n"


def _drawn(blocks: Iterable[Block]) -> Iterator[str]:
    """Yield blocks; the documents of one part stand in a section of their own."""
    part, number = None, count()  # of the pieces
    for block in blocks:
        if not isinstance(block, Section):
            yield "</section>\n" if part is not None else ""
            part = None
            yield _block(block)
            continue
        if block.part != part:
            yield "</section>\n" if part is not None else ""
            yield f'<section class="part"><h{block.level}>{_text(block.part)}</h{block.level}>\n'
        part = block.part
        yield from _whole(block, number) if block.is_whole else _document(block, number)
    yield "</section>\n" if part is not None else ""


def _block(block: Block) -> str:
    if isinstance(block, Paragraph):
        look = " ".join(filter(None, (block.look, "in" if block.indent else "")))
        return f'<p class="{look}">{_text(block.text)}</p>\n' if block.text else ""
    if isinstance(block, Heading):
        level = max(2, block.level)
        return f"<h{level}{_id(block.anchor)}>{_text(block.text)}</h{level}>\n"
    if isinstance(block, Facts):
        return _facts(block)
    if isinstance(block, Table):
        return _table(block.head, block.rows) if block.rows else ""
    if isinstance(block, Reasons):
        rows = [
            (where, f"{why}{f' ({times:,} times)' if times > 1 else ''}") for where, why, times in block.rows
        ]
        head = f'<p class="left">{_text(block.head)}</p>\n' if block.head else ""
        return head + _table(("what", "why"), rows) if rows else ""
    return "".join(_entries((block,), count())) if isinstance(block, Entry) else ""


def _id(anchor: str) -> str:
    return f' id="{_text(anchor)}"' if anchor else ""


def _table(head: Sequence[str], rows: Iterable[Sequence[str]]) -> str:
    names = "".join(f'<th scope="col">{_text(name)}</th>' for name in head)
    body = "".join(f"<tr>{''.join(f'<td>{_text(cell)}</td>' for cell in row)}</tr>\n" for row in rows)
    table = f'<table class="list"><thead><tr>{names}</tr></thead>\n{body}</table>'
    return f'<div class="wide" tabindex="0">{table}</div>\n'


def _document(block: Section, number: Iterator[int]) -> Iterator[str]:
    """Yield what is said of one document, which can be folded."""
    much = f'<span class="much">{len(block.entries):,}</span>'
    name, level = _text(block.document), block.level + 1
    head = f"<summary{_id(block.anchor)}><h{level}>{name}</h{level}>{much}</summary>"
    yield f'<details class="document" data-d="{name}" open>{head}\n'
    yield from (f'<p class="quiet">{_text(note)}</p>\n' for note in block.notes)
    yield from _entries(block.entries, number)
    yield "</details>\n"


def _whole(block: Section, number: Iterator[int]) -> Iterator[str]:
    """Yield a document that came or went, with what was in it folded away."""
    first, *own = block.entries
    notes = "".join(f'<span class="note">{_text(note)}</span>' for note in (*first.notes, *block.notes))
    value = _text(first.after or first.before or "")
    told = f'{_text(first.name)}<span class="much">{value}</span>' if value else _text(first.name)
    head = f"{_word(first)} <span>{told}{notes}</span>"
    marks = f'class="document whole" data-d="{_text(block.document)}" data-w="{_text(first.word)}"'
    more = block.inside or tuple(own)
    if not more:
        yield f"<div {marks}{_id(block.anchor)}>{head}</div>\n"
        return
    yield f"<details {marks}><summary{_id(block.anchor)}>{head}</summary>\n"
    yield from _entries(more, number, is_inside=True)
    yield "</details>\n"


def _word(entry: Entry) -> str:
    return f'<b class="{_text(entry.word)}">{_text(entry.word)}</b>' if entry.word else ""


def _entries(entries: Sequence[Entry], number: Iterator[int], is_inside: bool = False) -> Iterator[str]:
    if not entries:
        return
    has_words = any(entry.word for entry in entries)
    head = ("what", "setting", *entries[0].verbs) if has_words else ("setting", "value")
    names = "".join(f'<th scope="col">{_text(name)}</th>' for name in head)
    kind = f"told {entries[0].verbs[0]}" if has_words else "shown"
    waiting = iter(entries)
    while piece := list(islice(waiting, _PIECE)):
        table = "".join(
            (
                f'<table class="{kind}"><thead><tr>{names}</tr></thead><tbody>\n',
                *(_row(entry, has_words, is_inside) for entry in piece),
                "</tbody></table>",
            )
        )
        # With scripts this is text until it is wanted; without, it is a table like those before.
        yield f'<div class="piece">{f"<noscript>{table}</noscript>" if next(number) > _AT_ONCE else table}</div>\n'


def _row(entry: Entry, has_word: bool, is_inside: bool) -> str:
    address = f"<code>{_text(entry.address)}</code>" if entry.address else ""
    notes = "".join(f'<span class="note">{_text(note)}</span>' for note in entry.notes)
    name = f'<th scope="row">{_text(entry.name)}{address}{notes}</th>'
    mark = "" if is_inside else f' data-w="{_text(entry.word)}"'
    if not has_word:
        return f"<tr{mark}>{name}{_value(entry.after, entry.links)}</tr>\n"
    return f"<tr{mark}><td>{_word(entry)}</td>{name}{_value(entry.before)}{_value(entry.after)}</tr>\n"


def _value(value: str | None, links: Sequence[tuple[str, str]] = ()) -> str:
    if value is None:
        return "<td></td>"
    told = (f'<a href="#{_text(to)}">{_text(text)}</a>' if to else _text(text) for text, to in links)
    text = ", ".join(told) if links else _text(value)
    return (
        f'<td><div class="long" tabindex="0">{text}</div></td>' if len(text) > _LONG else f"<td>{text}</td>"
    )

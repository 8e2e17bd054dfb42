"""A page: what a report has to say to people, as headings, paragraphs, tables and entries; each form only draws it.

Texts are here as they were read: making them harmless in its own form is the business of who draws them, and so is
cutting them to a width. What a whole page holds is read once, block by block, so that it may be longer than memory.
"""

from collections.abc import Iterable, Iterator
from itertools import chain
from typing import Literal, TypeAlias

import msgspec

# What stands before the old and the new value: of what happened, and of what is planned.
HAPPENED = ("was", "now")
PLANNED = ("is", "becomes")
# `left` is what was not done, `quiet` what only some readers want.
Look = Literal["plain", "strong", "quiet", "left"]


class Heading(msgspec.Struct, frozen=True):
    """A line that opens a section; `anchor` is what contents and links lead to."""

    text: str
    level: int = 2
    anchor: str = ""


class Paragraph(msgspec.Struct, frozen=True):
    """A sentence or more; indented where it belongs to the line above it."""

    text: str
    look: Look = "plain"
    indent: int = 0


class Facts(msgspec.Struct, frozen=True):
    """What there is to know first, as names and what they stand for; one without a name goes on with the last."""

    pairs: tuple[tuple[str, str], ...]


class Table(msgspec.Struct, frozen=True):
    """Rows under a head. Where there is little room, `roomy` columns are left out, and others stand `beneath`."""

    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    roomy: frozenset[str] = frozenset()
    beneath: frozenset[str] = frozenset()


class Entry(msgspec.Struct, frozen=True, gc=False):
    """One setting, or a whole document: what happened to it, what people call it, its values before and after.

    An `address` is given where the name is a title. A `joined` entry is one phrase. `links` stand for a value that
    names other documents: what it says, with the anchors they lead to, or "".
    """

    word: str
    name: str
    address: str = ""
    before: str | None = None
    after: str | None = None
    verbs: tuple[str, str] = HAPPENED
    notes: tuple[str, ...] = ()
    joined: bool = False
    links: tuple[tuple[str, str], ...] = ()


class Section(msgspec.Struct, frozen=True):
    """What is said of one document: the title of its part, its name, its entries.

    One that `is_whole` is of a document that came or went, in one entry; those of one part that follow each other
    share a heading. What was `inside` it is for forms that can fold it away. `level` is that of the part's heading.
    """

    part: str
    document: str
    entries: tuple[Entry, ...]
    notes: tuple[str, ...] = ()
    inside: tuple[Entry, ...] = ()
    is_whole: bool = False
    anchor: str = ""
    level: int = 2


class Reasons(msgspec.Struct, frozen=True):
    """What was left out, each with where it stands, why, and how many times that is to be said."""

    head: str
    rows: tuple[tuple[str, str, int], ...]


Block: TypeAlias = Heading | Paragraph | Facts | Table | Entry | Section | Reasons


class Made(msgspec.Struct, frozen=True):
    """By whom, on which machine, when (as people write it) and with what a page was made."""

    by: str
    on: str
    at: str
    using: str


class Page(msgspec.Struct, frozen=True):
    """A page: its kind in a word or two, its title, the facts, the summary, and then all of it.

    `contents` are the names and anchors of what the body has, with the level of each.
    """

    kind: str
    title: str
    facts: Facts
    summary: tuple[Block, ...] = ()
    body: Iterable[Block] = ()
    contents: tuple[tuple[str, str, int], ...] = ()

    @property
    def blocks(self) -> Iterator[Block]:
        """All of it in its order, for a form that has no front page."""
        head = (Heading(self.title, 1),) if self.title else ()
        return chain(head, (self.facts,), self.summary, self.body)

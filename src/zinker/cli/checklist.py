"""A checklist: what of it is taken, what of it is shown, and where one stands. It knows no terminal.

Its rows are choices under their parts, and under their documents where a part has several. Heads fold; where
something is looked for, all that has it is listed.
"""

from collections.abc import Iterable, Iterator
from itertools import groupby
from typing import Final, Literal

import msgspec

from zinker.reports.asking import Choice

Mark = Literal["write", "leave", "some"]
DEEPEST: Final = 2


class Row(msgspec.Struct, frozen=True):
    """A choice, or the head of several: those from `first` up to `end`, indented by its `depth`."""

    first: int
    end: int
    depth: int
    head: str = ""


class Checklist:
    """What of some choices is taken: all at first.

    `rows` are those that are shown, `at` is where one stands among them, and `sought` what is looked for.
    """

    def __init__(self, choices: Iterable[Choice]) -> None:
        self.choices = list(choices)
        self.sought = ""
        self.at = 0
        self._taken = bytearray(b"\1") * len(self.choices)
        self._folded: set[Row] = set()
        self._all = list(_rows(self.choices))
        self._texts = [_text(one) for one in self.choices]
        self.rows = self._all

    @property
    def count(self) -> int:
        """How many choices are taken."""
        return self._taken.count(1)

    @property
    def listed(self) -> int:
        """How many choices are shown, those under folded heads among them."""
        return sum(row.end - row.first for row in self.rows if not row.head or row in self._folded)

    @property
    def row(self) -> Row | None:
        """Where one stands; None where nothing is shown."""
        return self.rows[self.at] if self.rows else None

    def count_of(self, row: Row) -> int:
        """Return how many of what a row stands for are taken, listed or not."""
        return self._taken.count(1, row.first, row.end)

    def left_out(self) -> list[Choice]:
        """Return what is not taken."""
        return [one for one, taken in zip(self.choices, self._taken, strict=True) if not taken]

    def mark(self, row: Row) -> Mark:
        """Tell whether what a row stands for is taken."""
        many = self.count_of(row)
        if many == 0:
            return "leave"
        return "write" if many == row.end - row.first else "some"

    def is_folded(self, row: Row) -> bool:
        """Tell whether what is under a head is not shown."""
        return row in self._folded and not self.sought

    def move(self, by: int) -> None:
        """Go up or down; not beyond the ends."""
        self.at = max(0, min(self.at + by, len(self.rows) - 1))

    def switch(self) -> None:
        """Leave what is taken, or take what is left; of a head, what is listed under it."""
        if self.row is not None:
            self._switch(self._under(self.row))

    def switch_each(self, which: Iterable[int]) -> None:
        """Leave each of some choices, or take it, whatever the others are."""
        for at in which:
            self._taken[at] ^= 1

    def switch_listed(self) -> None:
        """Leave all that is listed, or take it where some is left."""
        self._switch([at for row in self.rows if row.depth == 0 for at in self._under(row)])

    def fold(self) -> None:
        """Hide what is under the head at which, or below which, one stands."""
        row = self.row
        if row is None or self.sought:
            return
        if not row.head or row in self._folded:
            above = (one for one in reversed(self.rows[: self.at]) if one.depth < row.depth)
            row = next(above, None)
        if row is not None:
            self._folded.add(row)
            self._show(row)

    def unfold(self) -> None:
        """Show what is under a head again."""
        row = self.row
        if row is not None and not self.sought:
            self._folded.discard(row)
            self._show(row)

    def seek(self, text: str) -> None:
        """List what has a text in its name, its address, its values, or its heads; everything for ""."""
        row = self.row
        self.sought = text
        self._show(row)

    def _show(self, row: Row | None) -> None:
        """Choose the rows that are shown, and stay at one of them if it is there."""
        if self.sought:
            text = self.sought.casefold()
            found = [at for at, one in enumerate(self._texts) if text in one]
            self.rows = list(_with_any(self._all, found))
        else:
            self.rows = list(_unfolded(self._all, self._folded))
        # What is found is what one wants to stand at, not a head that stays because of it.
        may_stay = (at for at, one in enumerate(self.rows) if one == row and not (self.sought and one.head))
        found_first = (at for at, one in enumerate(self.rows) if not one.head)
        self.at = next(may_stay, next(found_first, 0) if self.sought else 0)

    def _under(self, row: Row) -> list[int]:
        """Return the choices that a row stands for, of those that are looked for."""
        text = self.sought.casefold()
        return [at for at in range(row.first, row.end) if text in self._texts[at]]

    def _switch(self, which: list[int]) -> None:
        value = 0 if all(self._taken[at] for at in which) else 1
        for at in which:
            self._taken[at] = value


def _rows(choices: list[Choice]) -> Iterator[Row]:
    """Yield heads and choices in their order."""
    first = 0
    for part, of_part in groupby(choices, key=lambda one: one.part):
        documents = [
            (name, sum(1 for _ in one)) for name, one in groupby(of_part, key=lambda one: one.document)
        ]
        end = first + sum(many for _, many in documents)
        # A document that comes or goes as a whole is a row, and needs no head of its own.
        with_heads = len(documents) > 1 and any(many > 1 for _, many in documents)
        head = part if with_heads or len(documents) > 1 else f"{part}, {documents[0][0]}"
        yield Row(first, end, 0, head)
        for name, many in documents:
            if with_heads:
                yield Row(first, first + many, 1, name)
            for at in range(first, first + many):
                yield Row(at, at + 1, DEEPEST if with_heads else 1)
            first += many


def _unfolded(rows: list[Row], folded: set[Row]) -> Iterator[Row]:
    hidden = 0  # up to here
    for row in rows:
        if row.first >= hidden:
            yield row
            if row in folded:
                hidden = row.end


def _with_any(rows: list[Row], found: list[int]) -> Iterator[Row]:
    """Yield the rows that stand for any of some choices, which are in their order."""
    waiting = 0
    for row in rows:
        while waiting < len(found) and found[waiting] < row.first:
            waiting += 1
        if waiting < len(found) and found[waiting] < row.end:
            yield row


def _text(one: Choice) -> str:
    entry = one.entry
    texts = (one.part, one.document, entry.word, entry.name, entry.address, entry.before, entry.after)
    return "\n".join(filter(None, texts)).casefold()

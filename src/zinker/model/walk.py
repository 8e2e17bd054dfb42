"""Two streams of sorted lines, side by side: what is not the same in them."""

from collections.abc import Iterator
from typing import NamedTuple

from zinker.model.setting import Setting, decode_line


class Unlike(NamedTuple):
    """Lines that are not the same, or one that has none beside it; numbers count the lines before, on each side."""

    old: bytes | None
    new: bytes | None
    at_old: int
    at_new: int


class Walk:
    """Walks through two streams of sorted lines at once, piece by piece.

    What is the same bytes is passed over as such, without being split into lines, and neither stream is held.
    """

    def __init__(self, before: Iterator[bytes], after: Iterator[bytes], is_numbered: bool = False) -> None:
        self._left, self._right, self._is_numbered = _Side(before), _Side(after), is_numbered

    def settings(self) -> Iterator[tuple[Setting | None, Setting | None]]:
        """Yield the settings that are not the same bytes, side by side where they have one address."""
        left, right = self._left, self._right
        while self._skip_alike():
            yield _paired(left.setting(), right.setting(), left, right)

    def lines(self) -> Iterator[Unlike]:
        """Yield the lines that are not the same, side by side where they have one address."""
        left, right = self._left, self._right
        while self._skip_alike():
            numbers = left.number, right.number
            lines = left.line(), right.line()
            pair = _paired(left.setting(), right.setting(), left, right)
            old, new = (line if setting else None for line, setting in zip(lines, pair, strict=True))
            yield Unlike(old, new, *numbers)

    def _skip_alike(self) -> bool:
        """Go on to the next lines that differ; tells whether there are any."""
        left, right = self._left, self._right
        while left.fill() and right.fill():
            same = _alike(left.piece, left.at, right.piece, right.at)
            whole = left.piece.rfind(b"\n", left.at, left.at + same) + 1 - left.at
            if whole <= 0:
                return True
            if self._is_numbered:
                lines = left.piece.count(b"\n", left.at, left.at + whole)
                left.number += lines
                right.number += lines
            left.at += whole
            right.at += whole
        return left.fill() or right.fill()


class _Side:
    """One of the streams: the piece that is looked at, and how far."""

    def __init__(self, pieces: Iterator[bytes]) -> None:
        self._pieces = pieces
        self.piece = b""
        self.at = 0
        self.number = 0

    def fill(self) -> bool:
        """Get the next piece where this one has been seen; tells whether there is anything left."""
        while self.at >= len(self.piece):
            piece = next(self._pieces, None)
            if piece is None:
                return False
            self.piece, self.at = piece if piece.endswith(b"\n") else piece + b"\n", 0
        return True

    def line(self) -> bytes:
        """Return the line that is next, b"" at the end."""
        return self.piece[self.at : self.piece.find(b"\n", self.at)] if self.at < len(self.piece) else b""

    def setting(self) -> Setting | None:
        """Return the setting of the line that is next, if there is one."""
        return decode_line(self.line()) if self.at < len(self.piece) else None

    def go_on(self) -> None:
        """Go on to the next line."""
        self.at = self.piece.index(b"\n", self.at) + 1
        self.number += 1


def _paired(
    old: Setting | None, new: Setting | None, left: _Side, right: _Side
) -> tuple[Setting | None, Setting | None]:
    """Return the next settings of both sides, or the one that comes first, and go on behind them."""
    if new is None or (old is not None and old.key < new.key):
        new = None
        left.go_on()
    elif old is None or new.key < old.key:
        old = None
        right.go_on()
    else:
        left.go_on()
        right.go_on()
    return old, new


def _alike(one: bytes, start: int, other: bytes, begin: int) -> int:
    """Return how many bytes from there on are the same: by ever longer steps, then by ever shorter ones."""
    most = min(len(one) - start, len(other) - begin)
    at, step = 0, 512
    while at < most and one[start + at : start + at + step] == other[begin + at : begin + at + step]:
        at += step
        step = min(2 * step, 65_536)
    while step:
        length = min(step, most - at)
        if length > 0 and one[start + at : start + at + length] == other[begin + at : begin + at + length]:
            at += length
        step //= 2
    return min(at, most)

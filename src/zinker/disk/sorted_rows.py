"""Rows in order: what is too much to hold is put aside, sorted, and merged."""

from bisect import bisect_right
from collections.abc import Iterator
from tempfile import TemporaryFile
from typing import IO

# So much text is held before it is put aside, sorted, and what is read from aside at a time; in characters.
_HELD = 160_000_000
_PIECE = 1_000_000


class SortedRows:
    """Takes rows in any order and gives them back sorted, in blocks; what is too much to hold is put aside."""

    def __init__(self, held: int = _HELD) -> None:
        self._rows: list[str] = []
        self._size = 0
        self._limit = held
        self._aside: list[IO[str]] = []
        self.count = 0

    def add(self, rows: list[str]) -> None:
        """Take some rows."""
        self._rows += rows
        self.count += len(rows)
        self._size += sum(map(len, rows))
        if self._size > self._limit:
            self._put_aside()

    def blocks(self, size: int = 8192) -> Iterator[list[str]]:
        """Yield everything, sorted, and let go of it."""
        self._rows.sort()
        if self._aside:
            yield from self._merged()
            return
        rows, self._rows = self._rows, []
        for at in range(0, len(rows), size):
            yield rows[at : at + size]

    def _put_aside(self) -> None:
        self._rows.sort()
        file = TemporaryFile("w+", encoding="utf-8", errors="surrogatepass", newline="")  # noqa: SIM115
        for at in range(0, len(self._rows), 8192):
            # Rows may hold line ends of their own, but never three NULs.
            file.write("".join([f"{one}\0\0\0" for one in self._rows[at : at + 8192]]))
        file.seek(0)
        self._aside.append(file)
        self._rows, self._size = [], 0

    def _merged(self) -> Iterator[list[str]]:
        """Merge by blocks: what is below the least of the last rows of all of them is complete."""
        runs: list[Iterator[list[str]]] = [_pieces(file) for file in self._aside]
        runs.append(iter([self._rows] if self._rows else []))
        self._rows = []
        heads = [(block, run) for run in runs if (block := next(run, []))]
        while heads:
            bound = min(block[-1] for block, _ in heads)
            ready: list[str] = []
            rest = []
            for block, run in heads:
                at = bisect_right(block, bound)
                ready += block[:at]
                left = block[at:] or next(run, [])
                if left:
                    rest.append((left, run))
            ready.sort()
            yield ready
            heads = rest
        for file in self._aside:
            file.close()
        self._aside = []


def _pieces(file: IO[str]) -> Iterator[list[str]]:
    rest = ""
    while text := file.read(_PIECE):
        *rows, rest = (rest + text).split("\0\0\0")
        if rows:
            yield rows

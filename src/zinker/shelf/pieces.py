"""Pieces of bytes, one after another, as a stream."""

import io
from collections.abc import Iterator
from typing import IO


class Pieces(io.RawIOBase):
    """A stream of pieces; it closes the file that they are from."""

    def __init__(self, pieces: Iterator[bytes], file: IO[bytes] | None = None) -> None:
        self._pieces, self._file, self._rest = pieces, file, memoryview(b"")

    def readable(self) -> bool:
        """Return True."""
        return True

    def readinto(self, buffer: "memoryview[int]") -> int:  # type: ignore[override]
        """Read as much as there is of a piece."""
        while not self._rest:
            piece = next(self._pieces, None)
            if piece is None:
                return 0
            self._rest = memoryview(piece)
        count = min(len(buffer), len(self._rest))
        buffer[:count] = self._rest[:count]
        self._rest = self._rest[count:]
        return count

    def close(self) -> None:
        """Close the file, too."""
        if self._file is not None:
            self._file.close()
        super().close()

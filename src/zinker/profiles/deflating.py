"""Deflate (RFC 1951) on all processors: pieces are packed side by side, each knowing the end of the one before.

The same bytes give the same result whatever the number of processors.
"""

import os
import zlib
from collections import deque
from concurrent.futures import Future, ThreadPoolExecutor

_PIECE = 1024 * 1024
_WINDOW = 32 * 1024


class Deflater:
    """Packs a stream; in its methods like the objects of `zlib`, which `zipfile` uses."""

    def __init__(self, level: int) -> None:
        self._level = level
        count = min(os.cpu_count() or 1, 4)
        self._pool = ThreadPoolExecutor(count)
        self._ahead = 2 * count
        self._waiting: deque[Future[bytes]] = deque()
        self._before = b""
        self._rest = bytearray()

    def compress(self, data: bytes) -> bytes:
        """Take bytes; returns what is packed by now."""
        self._rest += data
        while len(self._rest) >= _PIECE:
            self._begin(bytes(self._rest[:_PIECE]), zlib.Z_SYNC_FLUSH)
            del self._rest[:_PIECE]
        done = []
        while self._waiting and (len(self._waiting) > self._ahead or self._waiting[0].done()):
            done.append(self._waiting.popleft().result())
        return b"".join(done)

    def flush(self) -> bytes:
        """Return the rest."""
        self._begin(bytes(self._rest), zlib.Z_FINISH)
        done = b"".join(future.result() for future in self._waiting)
        self._pool.shutdown()
        return done

    def _begin(self, piece: bytes, end: int) -> None:
        self._waiting.append(self._pool.submit(_packed, piece, self._before, self._level, end))
        self._before = piece[-_WINDOW:]


def _packed(piece: bytes, before: bytes, level: int, end: int) -> bytes:
    packer = zlib.compressobj(level, zlib.DEFLATED, -15, 9, zlib.Z_DEFAULT_STRATEGY, before)
    return packer.compress(piece) + packer.flush(end)

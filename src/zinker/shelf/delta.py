"""What differs between two streams of sorted lines, as a unified diff without context (POSIX.1-2008, `diff -U 0`).

    --- <SHA-256 of the one>
    +++ <SHA-256 of the other>
    @@ -<line>[,<lines>] +<line>[,<lines>] @@
    -<line that goes>
    +<line that comes>

`patch` makes the other out of the one. So does `patched`, on streams, and with many deltas one after the other:
what is touched is taken apart into lines once, whatever their number.
"""

import re
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from zinker.model.walk import Walk

_HUNK = re.compile(rb"@@ -(\d+)(?:,(\d+))? \+(\d+)(?:,(\d+))? @@")


class Hunk(NamedTuple):
    """Lines that go, of which `at` come before, and those that come in their place; without line ends."""

    at: int
    gone: list[bytes]
    come: list[bytes]


class Chunk(NamedTuple):
    """A piece of a stream of lines, as it is, or taken apart into lines; `size` lines."""

    data: bytes
    lines: list[bytes] | None
    size: int


def hunks_between(old: Iterator[bytes], new: Iterator[bytes]) -> Iterator[Hunk]:
    """Yield what differs between two streams of pieces, each of whole lines, sorted alike."""
    hunk: Hunk | None = None
    after = 0
    for unlike in Walk(old, new, is_numbered=True).lines():
        # The next one goes on where this one ends, if the lines between are none.
        if hunk is None or unlike.at_old != hunk.at + len(hunk.gone) or unlike.at_new != after:
            if hunk is not None:
                yield hunk
            hunk, after = Hunk(unlike.at_old, [], []), unlike.at_new
        if unlike.old is not None:
            hunk.gone.append(unlike.old)
        if unlike.new is not None:
            hunk.come.append(unlike.new)
            after += 1
    if hunk is not None:
        yield hunk


def encode_delta(old: str, new: str, hunks: Iterable[Hunk], most: int) -> bytes | None:
    """Return the delta that leads from one digest to the other, None where it is longer than `most` bytes."""
    pieces = [f"--- {old}\n+++ {new}\n".encode()]
    size, shift = 0, 0
    for at, gone, come in hunks:
        # Where there are no lines, the number is that of the line before.
        first = (at + bool(gone), len(gone)), (at + shift + bool(come), len(come))
        told = (f"{line}" if lines == 1 else f"{line},{lines}" for line, lines in first)
        pieces.append("@@ -{} +{} @@\n".format(*told).encode())
        pieces += [b"-%b\n" % line for line in gone]
        pieces += [b"+%b\n" % line for line in come]
        shift += len(come) - len(gone)
        size += sum(map(len, gone)) + sum(map(len, come))
        if size > most:
            return None
    return b"".join(pieces)


def base_of(head: bytes) -> str:
    """Return the digest that a delta leads from; raises `ValueError` where it does not begin like one."""
    found = re.match(rb"--- ([0-9a-f]{64})\n\+\+\+ [0-9a-f]{64}\n", head)
    if not found:
        raise ValueError("it does not begin as a delta does")
    return found[1].decode()


def decode_delta(data: bytes) -> list[Hunk]:
    """Return the hunks of a delta; raises `ValueError` for anything else."""
    hunks: list[Hunk] = []
    for line in data.split(b"\n")[2:-1]:
        if line.startswith(b"-") and hunks:
            hunks[-1].gone.append(line[1:])
        elif line.startswith(b"+") and hunks:
            hunks[-1].come.append(line[1:])
        elif found := _HUNK.fullmatch(line):
            at, count = int(found[1]), int(found[2] or 1)
            hunks.append(Hunk(at - 1 if count else at, [], []))
        else:
            raise ValueError("it is no delta")
    return hunks


def chunks_of(pieces: Iterable[bytes]) -> Iterator[Chunk]:
    """Yield pieces of whole lines as chunks."""
    for piece in pieces:
        yield Chunk(piece, None, piece.count(b"\n"))


def patched(chunks: Iterator[Chunk], hunks: list[Hunk]) -> Iterator[Chunk]:
    """Yield a stream with what a delta makes of it."""
    at, index, skip = 0, 0, 0
    for chunk in chunks:
        end = at + chunk.size
        if not skip and (index == len(hunks) or hunks[index].at >= end):
            yield chunk
            at = end
            continue
        lines = chunk.lines if chunk.lines is not None else chunk.data[:-1].split(b"\n")
        # What goes may reach beyond the chunk.
        from_ = min(skip, chunk.size)
        skip -= from_
        result: list[bytes] = []
        while index < len(hunks) and hunks[index].at < end and not skip:
            hunk = hunks[index]
            begin = hunk.at - at
            result += lines[from_:begin]
            result += hunk.come
            from_ = begin + len(hunk.gone)
            if from_ > chunk.size:
                from_, skip = chunk.size, from_ - chunk.size
            index += 1
        result += lines[from_:]
        if result:
            yield Chunk(b"", result, len(result))
        at = end
    rest = [line for hunk in hunks[index:] for line in hunk.come]
    if rest:
        yield Chunk(b"", rest, len(rest))


def pieces_of(chunks: Iterable[Chunk]) -> Iterator[bytes]:
    """Yield the pieces that chunks stand for."""
    for chunk in chunks:
        yield chunk.data if chunk.lines is None else b"\n".join(chunk.lines) + b"\n"


def net(deltas: Iterable[list[Hunk]]) -> tuple[set[bytes], set[bytes]]:
    """Return the lines that have gone and come when some deltas have followed one another."""
    gone: set[bytes] = set()
    come: set[bytes] = set()
    for hunks in deltas:
        old = {line for hunk in hunks for line in hunk.gone}
        new = {line for hunk in hunks for line in hunk.come}
        both = old & new
        old, new = old - both, new - both
        gone, come = gone | (old - come), come - old
        come, gone = come | (new - gone), gone - new
    return gone, come

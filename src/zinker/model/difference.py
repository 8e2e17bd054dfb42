"""Differences between two sorted streams of settings."""

from collections.abc import Callable, Iterable, Iterator

import msgspec

from zinker.model.address import folded
from zinker.model.file_state import FileState
from zinker.model.setting import DOCUMENT, Leaf, Setting, decode_line


class Difference(msgspec.Struct, frozen=True):
    """One setting that is not the same on both sides. Neither before nor after is None for `changed`."""

    part: str
    document: str
    address: str
    before: Leaf | None
    after: Leaf | None

    @property
    def word(self) -> str:
        """What happened to the setting: `new`, `changed` or `gone`."""
        if self.before is None:
            return "new"
        return "gone" if self.after is None else "changed"


class _Walk:
    """Walks through two streams of sorted lines at once, piece by piece.

    What is the same bytes is passed over as such, without being split into lines, and neither stream is held.
    """

    def __init__(self, before: Iterator[bytes], after: Iterator[bytes]) -> None:
        self._left, self._right = _Side(before), _Side(after)

    def pairs(self) -> Iterator[tuple[Setting | None, Setting | None]]:
        """Yield the settings that are not the same bytes, side by side where they have one address."""
        left, right = self._left, self._right
        while self._skip_alike():
            old, new = left.setting(), right.setting()
            if new is None or (old is not None and old.key < new.key):
                new = None
                left.go_on()
            elif old is None or new.key < old.key:
                old = None
                right.go_on()
            else:
                left.go_on()
                right.go_on()
            yield old, new

    def _skip_alike(self) -> bool:
        """Go on to the next lines that differ; tells whether there are any."""
        left, right = self._left, self._right
        while left.fill() and right.fill():
            same = _alike(left.piece, left.at, right.piece, right.at)
            whole = left.piece.rfind(b"\n", left.at, left.at + same) + 1 - left.at
            if whole <= 0:
                return True
            left.at += whole
            right.at += whole
        return left.fill() or right.fill()


class _Side:
    """One of the streams: the piece that is looked at, and how far."""

    def __init__(self, pieces: Iterator[bytes]) -> None:
        self._pieces = pieces
        self.piece = b""
        self.at = 0

    def fill(self) -> bool:
        """Get the next piece where this one has been seen; tells whether there is anything left."""
        while self.at >= len(self.piece):
            piece = next(self._pieces, None)
            if piece is None:
                return False
            self.piece, self.at = piece if piece.endswith(b"\n") else piece + b"\n", 0
        return True

    def setting(self) -> Setting | None:
        """Return the setting of the line that is next, if there is one."""
        if self.at >= len(self.piece):
            return None
        return decode_line(self.piece[self.at : self.piece.index(b"\n", self.at)])

    def go_on(self) -> None:
        """Go on to the next line."""
        self.at = self.piece.index(b"\n", self.at) + 1


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


def differences(
    part: str,
    before: Iterator[bytes],
    after: Iterator[bytes],
    ignored: Callable[[Setting], bool] = lambda setting: False,
) -> Iterator[Difference]:
    """Yield what differs between two streams of sorted lines, each of a line or of several, in their order.

    A document's opening line counts only where the document is carried whole or stands on one side alone.
    """
    for old, new in _Walk(before, after).pairs():
        setting = old or new
        if setting is not None and not ignored(setting) and not _same(old, new):
            yield Difference(part, *setting.key, _leaf(old), _leaf(new))


def paired_by_case(found: Iterable[Difference]) -> list[Difference]:
    """Join what is gone and what is new under the same name in other case, for stores where case is nothing."""
    result: list[Difference | None] = []
    gone: dict[tuple[str, str], int] = {}  # where in the result
    for difference in found:
        name = (folded(difference.document), folded(difference.address))
        at = gone.pop(name, -1)
        other = result[at] if at >= 0 else None
        if other is None or (other.before is None) == (difference.before is None):
            gone[name] = len(result)
            result.append(difference)
        else:
            result[at] = None
            before, after = other.before or difference.before, other.after or difference.after
            if before != after:
                spelled = other if other.before else difference
                result.append(Difference(other.part, spelled.document, spelled.address, before, after))
    return [difference for difference in result if difference is not None]


def _same(old: Setting | None, new: Setting | None) -> bool:
    """Whether two settings that are not the same bytes still count as alike."""
    if old is None or new is None:
        return False
    if old.address or old.type != new.type or not (old.is_head and new.is_head):
        return False
    return old.type == DOCUMENT or FileState.of(old).is_same(FileState.of(new))


def _leaf(setting: Setting | None) -> Leaf | None:
    return None if setting is None else setting.leaf

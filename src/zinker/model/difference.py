"""Differences between two sorted streams of settings."""

from collections.abc import Callable, Iterable, Iterator

import msgspec

from zinker.model.address import folded
from zinker.model.file_state import FileState
from zinker.model.setting import DOCUMENT, Leaf, Setting
from zinker.model.walk import Walk


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


def differences(
    part: str,
    before: Iterator[bytes],
    after: Iterator[bytes],
    ignored: Callable[[Setting], bool] = lambda setting: False,
) -> Iterator[Difference]:
    """Yield what differs between two streams of sorted lines, each of a line or of several, in their order.

    A document's opening line counts only where the document is carried whole or stands on one side alone.
    """
    for old, new in Walk(before, after).settings():
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

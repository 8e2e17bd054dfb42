"""The order in which documents are written that refer to each other, and which can be written side by side."""

from collections.abc import Container, Iterable, Iterator

import msgspec

from zinker.model.address import matches
from zinker.model.plan import DocumentChange, SettingChange
from zinker.model.setting import Leaf
from zinker.model.where import Where
from zinker.stores.kinds import traits_of
from zinker.subjects.subject import Part, Subject, paths_of

_WAVE = 64  # documents written side by side before progress is shown


def in_order(subject: Subject, changes: Iterable[DocumentChange]) -> list[DocumentChange]:
    """Return changes so that what others refer to comes before them, and goes after them.

    In a circle, what refers to what is not there yet, or to what goes first, is a change of its own, in between.
    """
    changes = list(changes)
    references = _References(subject)
    if not references.parts:
        return changes
    return _Ordering(changes, references).all()


class _Ordering:
    """Follows references from change to change; a chain may be as long as a collection is large."""

    def __init__(self, changes: list[DocumentChange], references: "_References") -> None:
        self._planned = {change.where: change for change in changes}
        self._references = references
        self._done: dict[Where, DocumentChange] = {}
        self._apart: list[DocumentChange] = []

    def all(self) -> list[DocumentChange]:
        for where in self._planned:
            self._visit(where)
        gone = [change for change in self._done.values() if change.action == "remove"]
        come = [change for change in self._done.values() if change.action != "remove"]
        return come + self._apart + gone[::-1]

    def _visit(self, first: Where) -> None:
        """Take a change after everything that it refers to."""
        if first in self._done:
            return
        path: dict[Where, Iterator[Where]] = {first: self._others(first)}
        while path:
            where = next(reversed(path))
            other = next((o for o in path[where] if o not in path and o not in self._done), None)
            if other is not None:
                path[other] = self._others(other)
                continue
            self._take(where, path)
            del path[where]

    def _others(self, where: Where) -> Iterator[Where]:
        found = (other for item in self._planned[where].items for other in self._of(where, item))
        return (other for other in found if other in self._planned)

    def _of(self, where: Where, item: SettingChange) -> list[Where]:
        return list(self._references.of(where.part, item.address, item.after or item.before))

    def _take(self, where: Where, path: dict[Where, Iterator[Where]]) -> None:
        """Take a change, without what refers to one on the way to it that comes or goes."""
        change = self._planned[where]

        def is_circular(item: SettingChange) -> bool:
            return any(other in path and self._planned[other].is_whole for other in self._of(where, item))

        circular = tuple(item for item in change.items if is_circular(item))
        if circular:
            self._apart.append(msgspec.structs.replace(change, action="edit", items=circular))
            kept = tuple(item for item in change.items if item not in circular)
            change = msgspec.structs.replace(change, items=kept)
        self._done[where] = change


def waves(
    subject: Subject, changes: Iterable[DocumentChange], side_by_side: Container[str] = ()
) -> Iterator[list[DocumentChange]]:
    """Yield changes in their order; together those of documents that know nothing of each other.

    These are policies, and files of the parts that are written `side_by_side`; folders that go or come are not.
    """
    references = _References(subject)
    wave: list[DocumentChange] = []
    names: set[Where] = set()
    referred: set[Where] = set()
    for change in changes:
        if change.part in side_by_side and not change.new_folders and not _is_folder(change):
            if wave and (wave[0].part != change.part or len(wave) == _WAVE):
                yield wave
                wave, names, referred = [], set(), set()
            wave.append(change)
            continue
        if change.part not in references.parts:
            if wave:
                yield wave
                wave, names, referred = [], set(), set()
            yield [change]
            continue
        leaves = ((item.address, leaf) for item in change.items for leaf in (item.before, item.after))
        own = {other for address, leaf in leaves for other in references.of(change.part, address, leaf)}
        is_alone = wave and wave[0].part != change.part
        if wave and (is_alone or change.where in names | referred or own & names or len(wave) == _WAVE):
            yield wave
            wave, names, referred = [], set(), set()
        wave.append(change)
        names.add(change.where)
        referred |= own
    if wave:
        yield wave


def _is_folder(change: DocumentChange) -> bool:
    return any(state is not None and state.is_folder for state in (change.before, change.after))


class _References:
    """Which documents of a subject refer to which, by the subject file."""

    def __init__(self, subject: Subject) -> None:
        self.parts: dict[str, Part] = {p.id: p for p in subject.part if traits_of(p.store).refers}
        self._by_path = {paths_of(part.path)[0]: part.id for part in self.parts.values()}

    def of(self, id: str, address: str, leaf: Leaf | None) -> Iterator[Where]:
        """Yield the documents that a value at an address refers to."""
        part = self.parts.get(id)
        for pattern, path in part.policy.references.items() if part is not None else ():
            if leaf is not None and path in self._by_path and matches(pattern, address):
                names = leaf.value if isinstance(leaf.value, list) else [leaf.value]
                yield from (Where(self._by_path[path], name) for name in names if isinstance(name, str))

"""Looks at all that is on a shelf, and mends from another one what is damaged."""

import contextlib
from collections.abc import Callable, Iterable, Iterator

import msgspec

from zinker.model.errors import Damaged, ZinkerError
from zinker.shelf.objects import Sink
from zinker.shelf.shelf import Shelf
from zinker.shelf.versions import Version

Progress = Callable[[str, int, int], None]


class Damage(msgspec.Struct, frozen=True):
    """What is not as it was written, why, which versions it touches, and what it was mended from, if it was."""

    what: str
    why: str
    versions: tuple[str, ...] = ()
    mended_from: str = ""


class Tally(msgspec.Struct):
    """What has been looked at, and what of it is damaged. Sizes are in bytes."""

    versions: int = 0
    objects: int = 0
    changes: int = 0
    size: int = 0
    unneeded: int = 0
    unneeded_size: int = 0
    damages: list[Damage] = []


class Verifier:
    """Looks at a shelf; `source` is another one, from which to mend."""

    def __init__(self, shelf: Shelf, source: Shelf | None, progress: Progress) -> None:
        self._shelf, self._objects, self._source = shelf, shelf.objects, source
        self._progress = progress
        self.tally = Tally(damages=[])

    def all(self) -> Tally:
        """Look at everything."""
        for what, problem, mended in (*self._shelf.storage.problems(), *self._shelf.page.problems()):
            self.tally.damages.append(Damage(what, problem, mended_from=mended))
        users: dict[str, set[str]] = {}
        for subject in self._shelf.subjects():
            self._subject(subject)
            for version in self._shelf.versions(subject):
                self._version(version, users)
        before = tuple(self.tally.damages)  # what a damaged version needs is not known
        kept = list(self._objects.all())
        self._look_at([*kept, *sorted(users.keys() - set(kept))], users, is_all=True)
        is_known = not any(one.versions and not one.mended_from for one in before)
        unneeded = [sha256 for sha256 in kept if sha256 not in users and is_known]
        self.tally.unneeded = len(unneeded)
        self.tally.unneeded_size = sum(map(self._objects.stored, unneeded))
        for number, why in self._shelf.changes.damaged():
            self.tally.damages.append(Damage(f"change {number}", why))
        self.tally.changes = self._shelf.changes.count()
        return self.tally

    def one(self, version: Version) -> Tally:
        """Look at one version and all that it is made of."""
        users: dict[str, set[str]] = {}
        self._version(version, users)
        self._look_at(list(users), users)
        return self.tally

    def _subject(self, subject: str) -> None:
        """Look at what a subject has besides its versions."""
        try:
            self._shelf.records.last(subject)
        except Damaged as error:
            self.tally.damages.append(Damage(f"last-number of {subject}", error.why))
        why = self._shelf.records.index_problem(subject)
        if why:
            mended = ""
            with contextlib.suppress(OSError):
                self._shelf.records.write_index(subject, is_wanted=True)
                mended = "its versions"
            self.tally.damages.append(Damage(f"the index of {subject}", why, mended_from=mended))

    def _version(self, version: Version, users: dict[str, set[str]]) -> None:
        """Look at a version by itself, and note what it is made of."""
        self.tally.versions += 1
        version = self._shelf.records.one(version.subject, version.number) or version
        why = version.problem.removeprefix(f"{version.reference} is damaged: ")
        if why and self._source is not None:
            mended = self._shelf.records.mend(version, self._source.records, self._has)
            if mended is not None:
                self._note(Damage(version.reference, why, (version.reference,), self._source.storage.told))
                version, why = mended, ""
        if why:
            self._note(Damage(version.reference, why, (version.reference,)))
        elif version.is_file:
            self._file(version)
        else:
            for sha256 in self._shelf.records.record(version).objects:
                users.setdefault(sha256, set()).add(version.reference)

    def _has(self, digests: Iterable[str]) -> bool:
        """Tell whether all of some objects are here, damaged or not."""
        return all(map(self._objects.has, digests))

    def _file(self, version: Version) -> None:
        try:
            with contextlib.closing(self._shelf.open(version)) as profile:
                profile.verify()
        except ZinkerError as error:
            self._note(Damage(version.reference, error.why, (version.reference,)))

    def _look_at(self, digests: list[str], users: dict[str, set[str]], is_all: bool = False) -> None:
        """Look at objects; those that only stand on a damaged one are damaged by it, not by themselves."""
        found: dict[str, str] = {}
        for number, sha256 in enumerate(digests):
            self._progress("Objects", number, len(digests))
            self.tally.objects += 1
            self.tally.size += self._objects.stored(sha256)
            why = self._objects.check(sha256)
            if why:
                found[sha256] = why
        self._progress("Objects", len(digests), len(digests))
        touched: dict[str, set[str]] = {}
        for sha256 in found:
            for one in self._chain(sha256):
                if one == sha256 or self._objects.own_problem(one):
                    touched.setdefault(one, set()).update(users.get(sha256, ()))
        roots = {sha256: why for sha256 in touched if (why := self._objects.own_problem(sha256))}
        # What is right by itself, and stands on what is right, and is not what it was, is damaged all the same.
        alone = {s: why for s, why in found.items() if not any(one in roots for one in self._chain(s))}
        for sha256, why in sorted({**roots, **alone}.items()):
            versions = tuple(sorted(touched.get(sha256, set()) | users.get(sha256, set())))
            self._note(Damage(f"object {sha256[:16]}…", why, versions, self._mend(sha256)))
        if is_all:
            # Also what is right by itself and stands on what is damaged: it cannot be read.
            left = {sha256 for sha256 in {*found, *roots} if self._objects.check(sha256)}
            with contextlib.suppress(OSError, ZinkerError):  # where it cannot be written, it is only said
                self._objects.note_damaged(left)

    def _chain(self, sha256: str) -> Iterator[str]:
        seen: set[str] = set()
        while sha256 and sha256 not in seen:
            seen.add(sha256)
            yield sha256
            try:
                sha256 = self._objects.base(sha256)
            except (Damaged, OSError):
                return

    def _mend(self, sha256: str) -> str:
        """Take an object from the other shelf; returns what it was taken from, or ""."""
        if self._source is None or self._source.objects.check(sha256):
            return ""
        source = self._source.objects

        def write(sink: Sink) -> None:
            for piece in source.pieces(sha256):
                sink.write(piece)

        with self._shelf.lock(), self._shelf.storage.batch() as batch:
            self._objects.replace(batch, sha256, write)
            batch.settle()
            self._objects.prune(sha256)
        return "" if self._objects.check(sha256) else self._source.storage.told

    def _note(self, damage: Damage) -> None:
        self.tally.damages.append(damage)

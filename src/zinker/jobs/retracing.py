"""When settings changed, from what to what, at which place, and with what else: over all kept versions."""

import contextlib
from collections import Counter
from collections.abc import Iterator
from functools import cache

import msgspec

from zinker.jobs.authors import authors, changes_between
from zinker.jobs.comparing import is_uncertain
from zinker.jobs.setup import Setup
from zinker.jobs.sources import subject_known
from zinker.jobs.translate.policies import titles_in
from zinker.model.address import matches
from zinker.model.change import Change
from zinker.model.difference import Difference, differences, paired_by_case
from zinker.model.errors import WrongUsage, ZinkerError
from zinker.model.names import fits_address, unknown
from zinker.model.policy import Titles
from zinker.model.setting import DOCUMENT, Setting, text_of
from zinker.model.where import Where
from zinker.profiles.reading import Profile
from zinker.shelf.shelf import Version
from zinker.stores.kinds import traits_of
from zinker.subjects.subject import Part, Subject


class Sought(msgspec.Struct, frozen=True):
    """Which settings are asked for: by a text in them, by address, section, title or pattern; all of them without.

    Volatile settings are left out unless they are asked for.
    """

    find: str = ""
    addresses: tuple[str, ...] = ()
    parts: tuple[str, ...] = ()
    volatile: bool = False

    @property
    def is_narrow(self) -> bool:
        """Whether only some settings are asked for."""
        return bool(self.find or self.addresses)


class Step(msgspec.Struct, frozen=True):
    """What changed at a place from one kept version to the next: what was asked for, and how much in all.

    `changes` are those that Zinker made in between, `authors` tell by which of them a setting came to what it is.
    """

    before: Version
    after: Version
    found: tuple[Difference, ...]
    counts: dict[str, int]
    # The names of some of the other settings that changed with them.
    others: tuple[Difference, ...] = ()
    changes: tuple[Change, ...] = ()
    authors: dict[Where, Change] = {}

    @property
    def in_all(self) -> int:
        """How many settings changed."""
        return sum(self.counts.values())


class History(msgspec.Struct, frozen=True):
    """The steps of a subject, the oldest first, over `versions`; what could not be read is `left`."""

    subject: str
    title: str
    described: Subject | None
    versions: tuple[Version, ...]
    steps: tuple[Step, ...]
    titles: Titles = {}
    left: tuple[tuple[str, str], ...] = ()
    # What was asked for, where it never changed: its part, and what it is in the newest version of a place.
    constant: tuple[tuple[Version, str, Setting], ...] = ()


_MOST_OTHERS = 4
EVERYTHING = Sought()


def history(setup: Setup, subject: str, place: str = "", sought: Sought = EVERYTHING) -> History:
    """Return when settings of a subject changed, from one kept version of a place to the next.

    Fallbacks and versions of only some settings do not count. Raises `WrongUsage`.
    """
    if subject not in setup.shelf.subjects():
        setup.catalogue.find(subject)  # raises for an unknown name
    kept = [one for one in setup.shelf.versions(subject) if one.is_asked_for]
    setup.check_place_among(place, (version.place for version in kept))
    versions = [one for one in kept if place in ("", one.place)]
    damaged = [(one.reference, one.problem) for one in setup.shelf.versions(subject) if one.problem]
    if not versions:
        raise WrongUsage("No history", f"nothing is kept of {subject}", f"Try `zinker export {subject}`.")
    described = subject_known(setup, subject)
    for id in sought.parts:
        if described is not None and described.find_part(id) is None:
            raise WrongUsage(
                "No history", f"{subject} has no part {id}", "`zinker subjects show` lists them."
            )
    by_place: dict[tuple[str, str], list[Version]] = {}
    for version in versions:
        by_place.setdefault((version.place, version.machine), []).append(version)
    reader = _Reader(setup, described, sought)
    with contextlib.closing(reader):
        steps = sorted(
            (step for group in by_place.values() for step in reader.steps(group)),
            key=lambda step: step.after.number,
        )
        told = {(step.after.place, step.after.machine) for step in steps if step.found}
        silent = [group[-1] for where, group in by_place.items() if where not in told]
        constant = tuple(one for last in silent for one in reader.constant(last)) if sought.is_narrow else ()
        if sought.addresses and not told and not constant:
            raise reader.nothing(versions[-1])
        title = described.title if described else subject
        titles = reader.titles
    return History(
        subject, title, described, tuple(versions), tuple(steps), titles, (*damaged, *reader.left), constant
    )


class _Reader:
    """Reads the kept versions of one subject one after the other, each once."""

    def __init__(self, setup: Setup, subject: Subject | None, sought: Sought) -> None:
        self._setup, self._subject, self._sought = setup, subject, sought
        self._find = sought.find.casefold()
        self._changes = cache(setup.shelf.changes.all)
        self._open: dict[int, Profile] = {}
        self.titles: Titles = {}
        self.left: list[tuple[str, str]] = []

    def close(self) -> None:
        """Let go of what is open."""
        for profile in self._open.values():
            profile.close()
        self._open.clear()

    def steps(self, versions: list[Version]) -> Iterator[Step]:
        """Yield what changed between versions of one place; each part is held against the last one that has it."""
        last: dict[str, tuple[Version, Profile]] = {}
        for done, version in enumerate(versions, 1):
            self._setup.progress("Reading", done, len(versions))
            profile = self._opened(version)
            if profile is None:
                continue
            # A version has only some parts where only these were exported.
            pairs: dict[int, list[str]] = {}
            for record in profile.manifest.parts:
                if record.homeless or (self._sought.parts and record.id not in self._sought.parts):
                    continue
                if record.id in last:
                    pairs.setdefault(last[record.id][0].number, []).append(record.id)
            by_number = {one.number: (one, opened) for one, opened in last.values()}
            for number, parts in sorted(pairs.items()):
                before, older = by_number[number]
                yield from self._step(before, older, version, profile, parts)
            last |= {
                record.id: (version, profile) for record in profile.manifest.parts if not record.homeless
            }
            self._let_go({one.number for one, _ in last.values()})
        self.titles |= titles_in(self._subject, profile) if versions and profile is not None else {}

    def _opened(self, version: Version) -> Profile | None:
        try:
            self._open[version.number] = self._setup.shelf.open(version)
        except ZinkerError as error:
            self.left.append((version.reference, error.why))
            return None
        return self._open[version.number]

    def _let_go(self, needed: set[int]) -> None:
        for number in [number for number in self._open if number not in needed]:
            self._open.pop(number).close()

    def _step(
        self, before: Version, older: Profile, after: Version, newer: Profile, parts: list[str]
    ) -> Iterator[Step]:
        try:
            changed = [one for id in parts for one in self._changed(id, older, newer)]
        except ZinkerError as error:
            self.left.append((after.reference, error.why))
            return
        if not changed:
            return
        found = tuple(one for one in changed if self._is_sought(one))
        others = tuple(one for one in changed if one not in found)[:_MOST_OTHERS] if found else ()
        changes = changes_between(self._changes, older.manifest, newer.manifest)
        counts = dict(Counter(one.word for one in changed))
        wrote = authors(self._setup, changes, found) if found else {}
        yield Step(before, after, found, counts, others, changes, wrote)

    def _changed(self, id: str, older: Profile, newer: Profile) -> Iterator[Difference]:
        part = self._subject.find_part(id) if self._subject else None
        record = newer.manifest.part(id)
        folds = record is not None and traits_of(record.store).folds_case
        unlike = older.unlike(newer, id)
        if unlike is not None:
            first, second = (iter([line + b"\n" for line in lines]) for lines in unlike)
        else:
            first, second = older.pieces(id), newer.pieces(id)

        def is_ignored(setting: Setting) -> bool:
            patterns = part.volatile if part and not self._sought.volatile else ()
            return any(matches(pattern, setting.address) for pattern in patterns)

        found = differences(id, first, second, is_ignored)
        for one in paired_by_case(found) if folds else found:
            leaf = one.after or one.before
            is_opening = not one.address and leaf is not None and leaf.type == DOCUMENT
            if not is_opening and not is_uncertain(one, older.manifest, newer.manifest):
                yield one

    def _is_sought(self, difference: Difference) -> bool:
        texts = (text_of(difference.before), text_of(difference.after))
        return self._fits(difference.part, difference.document, difference.address, texts)

    def _fits(self, id: str, document: str, address: str, texts: tuple[str, ...]) -> bool:
        part: Part | None = self._subject.find_part(id) if self._subject else None
        title = part.titles.get(address, "") if part else ""
        folds = part is not None and traits_of(part.store).folds_case
        wanted = self._sought.addresses
        if wanted and not any(fits_address(text, address, title, folds) for text in wanted):
            return False
        return not self._find or self._find in "\n".join((document, address, title, *texts)).casefold()

    def constant(self, version: Version) -> Iterator[tuple[Version, str, Setting]]:
        """Yield what was asked for as it is in one version."""
        profile = self._opened(version)
        for record in profile.manifest.parts if profile is not None else ():
            for setting in profile.settings(record.id) if profile is not None else ():
                is_head = setting.is_head and setting.type == DOCUMENT
                if not is_head and self._fits(
                    record.id, setting.document, setting.address, (text_of(setting),)
                ):
                    yield version, record.id, setting

    def nothing(self, version: Version) -> WrongUsage:
        """Make the error for addresses that nothing in any version fits, with the nearest of one version."""
        profile, (wanted, *_) = self._opened(version), self._sought.addresses
        records = profile.manifest.parts if profile is not None else ()
        names = (s.address for r in records for s in (profile.settings(r.id) if profile else ()) if s.address)
        titles = (
            title for part in (self._subject.part if self._subject else ()) for title in part.titles.values()
        )
        then = f"`zinker show {version.reference}` shows all."
        return unknown("setting", wanted, dict.fromkeys((*titles, *names)), then)

"""A capture of the loss: most of what the last version of a place had is not there any more."""

import contextlib
from collections.abc import Iterator
from typing import NamedTuple

from zinker.jobs.capture.selection import Selection
from zinker.jobs.setup import Setup
from zinker.model.address import matches
from zinker.model.difference import differences
from zinker.model.errors import ZinkerError
from zinker.model.lines import count_settings
from zinker.model.profile import Manifest, PartRecord
from zinker.model.setting import DOCUMENT, Setting
from zinker.profiles.reading import Profile
from zinker.profiles.writing import ProfileBuilder
from zinker.shelf.shelf import Version
from zinker.subjects.subject import Part


class LostPart(NamedTuple):
    """How much of a part is gone: of `held` settings and whole files, `gone`."""

    title: str
    gone: int
    held: int


class Before(NamedTuple):
    """The last version of a place, and the parts most of which were gone when it was captured again."""

    version: Version
    lost: tuple[LostPart, ...] = ()

    @property
    def application_version(self) -> str:
        """Which version of the application it was."""
        return self.version.application_version


def last_of(setup: Setup, subject: str, place: str, machine: str) -> Version | None:
    """Return the last version of a place that somebody kept, whole, and that does not hold a loss."""
    return setup.shelf.newest(
        subject, lambda one: one.is_asked_for and (one.place, one.machine) == (place, machine)
    )


def held_before(
    setup: Setup, selection: Selection, manifest: Manifest, builder: ProfileBuilder
) -> Before | None:
    """Hold what has just been captured against the last version of its place; None if there is none."""
    version = last_of(setup, manifest.subject, manifest.place, manifest.machine)
    if version is None:
        return None
    parts = {part.id: part for part in selection.parts}
    if selection.is_narrow:
        return Before(version)
    try:
        with contextlib.closing(setup.shelf.open(version)) as profile:
            old = profile.manifest
            fewer = [one for one in manifest.parts if one.id in parts and _is_less(one, old.part(one.id))]
            found = [_lost(parts[record.id], profile, manifest, builder) for record in fewer]
    except ZinkerError:
        return Before(version)  # a damaged one says nothing about what is there
    return Before(version, tuple(lost for lost in found if lost is not None))


def _is_less(new: PartRecord, old: PartRecord | None) -> bool:
    if old is None or old.homeless or new.homeless:
        return False
    return new.settings < old.settings or new.documents < old.documents


def _lost(part: Part, old: Profile, manifest: Manifest, builder: ProfileBuilder) -> LostPart | None:
    """Return how much of a part is gone, where that is most of it; what changes by itself does not count."""
    unknown = {p.document for p in manifest.problems if p.part == part.id and p.is_unknown}
    if "" in unknown:
        return None
    held = 0

    def counted(pieces: Iterator[bytes]) -> Iterator[bytes]:
        nonlocal held
        for piece in pieces:
            held += count_settings(piece)
            yield piece

    def is_ignored(setting: Setting) -> bool:
        return any(matches(pattern, setting.address) for pattern in part.volatile)

    found = differences(part.id, counted(old.pieces(part.id)), builder.pieces(part.id), is_ignored)
    missing = [d for d in found if d.before is not None and d.after is None and d.document not in unknown]
    gone = sum(d.before is not None and d.before.type != DOCUMENT for d in missing)
    is_most = gone * 2 > held and (gone > 1 or gone == held)
    return LostPart(part.name, gone, held) if is_most else None

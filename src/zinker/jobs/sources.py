"""Opens what a reference means: a kept version, a profile outside the shelf, or live settings."""

import contextlib
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from zinker.formats.endings import is_text
from zinker.jobs.capture.selection import select
from zinker.jobs.place_lock import tell_cut_off
from zinker.jobs.references import Reference, no_profile
from zinker.jobs.session import Session
from zinker.jobs.setup import Setup
from zinker.model.errors import WrongUsage
from zinker.model.names import place_told
from zinker.model.profile import Manifest, Snapshot
from zinker.profiles.reading import Profile, open_profile
from zinker.subjects.subject import Subject

if TYPE_CHECKING:
    from zinker.jobs.texts import TextProfile


class Source(msgspec.Struct, frozen=True):
    """Settings that were asked for: what to type for them, or `PLACE now`, and where they are from."""

    name: str
    snapshot: Snapshot
    origin: str = ""
    translation: str = ""
    is_live: bool = False
    # How many newer versions of the same place are kept.
    newer: int = 0
    # Parts that have no home at a live place, and why.
    homeless: dict[str, str] = {}

    @property
    def told(self) -> str:
        """What they are, in words."""
        return (f"{self.name}, from {self.origin}" if self.origin else self.name) + self.translation

    @property
    def manifest(self) -> Manifest:
        """What the snapshot says about itself."""
        return self.snapshot.manifest


@contextlib.contextmanager
def kept(setup: Setup, reference: Reference) -> Iterator[Source]:
    """Open a kept version or a profile outside the shelf; a subject alone means its newest version."""
    newer = 0
    if reference.path is not None:
        profile: Profile | TextProfile = (
            _text(setup, reference.path) if is_text(reference.path) else open_profile(reference.path)
        )
        name = reference.path.name
        origin = _origin(profile.manifest) if isinstance(profile, Profile) else ""
    else:
        if reference.subject not in setup.shelf.subjects():
            if reference.instance and reference.subject not in setup.catalogue.files():
                raise no_profile(
                    reference.text
                )  # a subject with a typo in it, or a path; say what holds for both
            if reference.subject not in setup.catalogue.files() and Path(reference.text).exists():
                raise no_profile(reference.text, is_there=True)
            setup.catalogue.find(reference.subject)  # raises for an unknown name
        version = setup.shelf.find(reference.subject, reference.version or "latest", reference.place)
        profile = setup.shelf.open(version)
        name, origin = version.reference, _origin(profile.manifest)
        newer = setup.shelf.after(version)
    with contextlib.closing(profile):
        yield Source(name, profile, origin, newer=newer)


def _text(setup: Setup, path: Path) -> "TextProfile":
    from zinker.jobs.texts import TextProfile  # a profile or a version needs nothing of it

    return TextProfile(setup, path)


def _origin(manifest: Manifest) -> str:
    """Name where a profile is from; `here` is another place on every machine."""
    return manifest.machine if manifest.place == "here" else manifest.place


@contextlib.contextmanager
def live(
    setup: Setup, place: str, subject: Subject, parts: tuple[str, ...] = (), instance: str = ""
) -> Iterator[Source]:
    """Read the live settings of a subject at a place."""
    from zinker.jobs.capture.live import LiveSnapshot  # what is kept needs nothing of it

    tell_cut_off(setup, place)
    session, selection = Session(setup, setup.place(place), subject), select(subject, parts, (), instance)
    with contextlib.closing(LiveSnapshot(session, selection)) as snapshot:
        homeless = {part.id: why for part in selection.parts if (why := session.why_no_home(part))}
        yield Source(f"{place_told(place)} now", snapshot, is_live=True, homeless=homeless)


@contextlib.contextmanager
def opened(setup: Setup, reference: Reference, parts: tuple[str, ...] = ()) -> Iterator[Source]:
    """Open whatever a reference means."""
    if reference.is_live:
        subject = setup.catalogue.find(reference.subject)
        with live(setup, reference.place, subject, parts, reference.instance) as source:
            yield source
    else:
        with kept(setup, reference) as source:
            yield source


def subject_of(setup: Setup, source: Source) -> Subject | None:
    """Return the subject of a profile, if its subject file is here; for looking at it, none is needed."""
    return subject_known(setup, source.manifest.subject)


def subject_known(setup: Setup, subject: str) -> Subject | None:
    """Return a subject if its subject file is here; raises `WrongUsage` for mistakes in that."""
    try:
        return setup.catalogue.find(subject)
    except WrongUsage:
        if subject in setup.catalogue.files():
            raise
        return None

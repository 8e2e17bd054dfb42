"""A shelf: versions of profiles, numbered by subject, and the record of what was done with them.

    shelf.json                   {"format": 2}
    subjects/<subject>/…         the versions, what was said of them, and an index (versions.py)
    objects/…                    what they are made of (objects.py)
    changes/<number>/            what was done with them (changes.py)
    writing/…                    what runs that are under way have begun to write (storage.py)
    .lock                        held while a run begins to write, gives a label, or removes something

A version appears under its number when all of it is on the disk. Numbers count up by subject and are never given
twice; nothing that a version is made of is ever overwritten.
"""

import contextlib
import datetime
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import msgspec

from zinker.disk.files import PRIVATE
from zinker.model.change import Change
from zinker.model.errors import Damaged, Refused, WrongUsage, ZinkerError, reason, remedy
from zinker.model.names import home_of, nearest, place_told
from zinker.model.profile import Manifest, PartRecord
from zinker.profiles.layout import SUFFIX
from zinker.profiles.reading import Profile
from zinker.shelf.changes import ChangeLog
from zinker.shelf.members import Members, Target
from zinker.shelf.objects import Objects
from zinker.shelf.page import Page
from zinker.shelf.storage import Batch, Busy, Storage
from zinker.shelf.versions import Version, Versions

if TYPE_CHECKING:
    from zinker.profiles.writing import ProfileBuilder

__all__ = ["Kept", "Shelf", "Version"]
# How long another run may hold the shelf, in seconds, before this one gives up.
PATIENCE = 60.0
# In so many versions is looked for settings that those of a new one may stand on.
_LOOKED_BACK = 4
# A change begins this soon after what was there before it was kept.
_SOON = datetime.timedelta(hours=6)


class Kept(NamedTuple):
    """A version that has just been kept, and its profile's first page."""

    version: Version
    manifest: Manifest


class Shelf:
    """A shelf, made when something is first put on it.

    `known` is a file of Zinker's own that names the shelves there are, so that one that is out of reach is not
    taken for a new one; `notify` is told of a new one. Raises `Refused` for one that is not where it was, and
    `Damaged`.
    """

    def __init__(
        self,
        storage: Storage,
        changes: Path,
        known: Path | None = None,
        notify: Callable[[str], None] = lambda text: None,
        mode: int | None = PRIVATE,
        aside: "Shelf | None" = None,
    ) -> None:
        """Open a shelf; the record of changes is in the folder `changes`, on a disk that can be flushed.

        What is kept on another machine has a shelf `aside`, on this one: what changes that are under way need is
        there until they have ended, and follows then.
        """
        self.storage, self.aside, self._notify = storage, aside, notify
        self.objects = Objects(storage)
        self.records = Versions(storage)
        self.page = Page(storage, known, notify)
        self.changes = ChangeLog(changes, self.lock, mode, notify, storage if aside is not None else None)

    def subjects(self) -> list[str]:
        """Return the subjects of which versions are kept."""
        return self.records.subjects()

    def versions(self, subject: str) -> list[Version]:
        """Return the kept versions of a subject, the oldest first; damaged ones say so."""
        return self.records.all(subject)

    def has(self, subject: str, number: int) -> bool:
        """Tell whether a version of that number is kept."""
        if self.aside is None:
            return number in self.records.numbers(subject)
        return self.aside.has(subject, number) or self.records.one(subject, number) is not None

    def newest(self, subject: str, fits: Callable[[Version], bool]) -> Version | None:
        """Return the newest version that fits; None for none."""
        found = (one for one in reversed(self.versions(subject)) if not one.problem and fits(one))
        return next(found, None)

    def after(self, version: Version) -> int:
        """Count the versions of the same place that were kept after one, whole."""
        versions = self.versions(version.subject)
        at = next((at for at, one in enumerate(versions) if one.number == version.number), len(versions))
        return sum(one.place == version.place and one.is_asked_for for one in versions[at + 1 :])

    def find(self, subject: str, which: str, place: str = "", machine: str = "") -> Version:
        """Find the version that `which` names: a number, a label, a day (2026-11-20), or `latest`.

        With a place, only versions from there count, with a machine, of that alone: a shelf may be that of many,
        and `here` is another place on each. Fallbacks are found by number only, those of only some
        settings, or of a loss, by number or label. A label that versions of several places have is found with one
        of these places alone. Raises `WrongUsage` if there is none.
        """
        if which.isdecimal():
            one = self.records.one(subject, int(which))
            if one is None and self.aside is not None:
                one = self.aside.records.one(subject, int(which))
            return self._only([one] if one else [], subject, which, place)
        versions = [one for one in self.versions(subject) if one.problem or machine in ("", one.machine)]
        if which == "latest":
            return self._only(_latest(versions, place), subject, which, place)
        versions = [v for v in versions if not v.problem and not v.fallback_of and place in ("", v.place)]
        labelled = [v for v in versions if v.label == which]
        if len({version.home for version in labelled}) > 1:
            named = ", ".join(f"{one.reference} of {place_told(one.place, one.machine)}" for one in labelled)
            then = f"Write the place before it, as in {labelled[0].place}:{subject}@{which}, or its number."
            raise WrongUsage(f"No single {subject}@{which}", f"several versions are called so: {named}", then)
        if not labelled:
            with contextlib.suppress(ValueError):
                day = datetime.date.fromisoformat(which)
                labelled = [v for v in versions if v.is_whole and _day(v.captured) <= day]
        if not labelled:
            labels = [v.label for v in versions if v.label]
            return self._only([], subject, which, place, nearest(which, labels))
        return self._only(labelled[-1:], subject, which, place)

    def _parts_before(self, subject: str, place: str) -> Iterator[PartRecord]:
        """Yield the parts of the newest versions: of a place, and of any; those of profile files do not count."""
        versions = [one for one in self.versions(subject) if not (one.problem or one.is_file)]
        own = [one for one in versions if one.place == place][: -_LOOKED_BACK - 1 : -1]
        for version in dict.fromkeys([*own, *versions[: -_LOOKED_BACK - 1 : -1]]):
            with contextlib.suppress(Damaged):
                yield from self.records.record(version).profile.parts

    def open(self, version: Version) -> Profile:
        """Open the profile of a version, with the label and the note that it has now; raises `Damaged`."""
        if self.aside is not None and self.aside.has(version.subject, version.number):
            return self.aside.open(version)
        if version.is_file:
            profile = self.records.open_file(version)
        else:
            record = self.records.record(version)
            profile = Profile(Path(version.reference), Members(record, self.objects))
        said = msgspec.structs.replace(profile.manifest, label=version.label, note=version.note)
        profile.manifest = said
        return profile

    def keep(
        self,
        subject: str,
        build: Callable[["ProfileBuilder"], Manifest],
        place: str = "",
        move: bool = False,
        number: int = 0,
    ) -> Kept:
        """Build a profile and put it on the shelf under the next number, or one that was reserved for it.

        What it has of versions that are there, of its `place` above all, is not kept a second time. With `move`,
        its label is taken from the version that has it. Raises `Refused` where the shelf cannot be written; nothing
        is on it then.
        """
        from zinker.profiles.writing import ProfileBuilder

        with self._writing() as batch:
            target = Target(self.objects, batch, subject, self._parts_before(subject, place))
            with contextlib.closing(ProfileBuilder(target)) as builder:
                manifest = build(builder)
            return Kept(self._commit(target, manifest, move=move, number=number), manifest)

    def keep_fallback(
        self, subject: str, build: Callable[["ProfileBuilder"], Manifest], place: str
    ) -> Version:
        """Keep what was there before a change, where a lost line does not reach. Raises what `keep` does."""
        if self.aside is None:
            return self.keep(subject, build, place).version
        with self._unwritable():
            self.page.make()
            number = self.records.reserve(subject)
        return self.aside.keep(subject, build, place, number=number).version

    def close(self, change: Change) -> None:
        """Write down how a change ended; what is aside of it follows. Raises `OSError`."""
        self.changes.close(change)
        self.follow()

    def follow(self) -> None:
        """Bring to the shelf what changes that have ended have left aside; what fails is left to a later run."""
        if self.aside is None or not self.changes.has_aside():
            return
        try:
            with self.aside.lock():
                for change in self.changes.ended_aside():
                    self._follow(self.aside, change.subject, change.fallback)
                    self.changes.send(change)
                self._follow_others(self.aside)
                if not self.aside.storage.writers():
                    needed = {
                        one
                        for version in _all(self.aside)
                        for one in self.aside.records.record(version).objects
                    }
                    for sha256 in set(self.aside.objects.all()) - needed:
                        self.aside.objects.delete(sha256)
        except (OSError, ZinkerError) as error:
            why = reason(error) if isinstance(error, OSError) else error.why
            what = "What was there before a change, and its record, are on this machine only"
            self._notify(f"{what}, and follow with the next run: {why}.")

    def _follow(self, aside: "Shelf", subject: str, number: int) -> None:
        """Bring a version from aside to the number that was reserved for it."""
        version = aside.records.one(subject, number)
        if version is not None:
            with contextlib.closing(aside.open(version)) as profile:
                self.take(profile, number, is_reserved=True)
            aside.forget(version)

    def _follow_others(self, aside: "Shelf") -> None:
        """Bring what was kept before changes that never began, as their runs were cut off: not lately."""
        known = {(change.subject, change.fallback) for change in self.changes.open_ones()}
        now = datetime.datetime.now().astimezone()
        for version in _all(aside):
            age = now - datetime.datetime.fromisoformat(version.captured)
            if (version.subject, version.number) not in known and age > _SOON:
                self._follow(aside, version.subject, version.number)

    def twin(self, manifest: Manifest, label: str = "", note: str = "") -> Version | None:
        """Return the newest version of a place, if nothing has changed since and it can be called so."""
        newest = self.newest(
            manifest.subject,
            lambda one: (
                not one.fallback_of
                and not one.partial
                and (one.place, one.machine) == (manifest.place, manifest.machine)
            ),
        )
        if newest is None or newest.label not in ("", label or newest.label):
            return None
        if newest.note not in ("", note or newest.note):
            return None
        try:
            with contextlib.closing(self.open(newest)) as profile:
                is_same = _plain(profile.manifest) == _plain(manifest)
            # What is damaged or missing is kept anew: then it is no twin that could stand for this one.
            is_sound = newest.is_file or all(map(self.objects.is_kept, self.records.record(newest).objects))
        except Damaged:
            return None
        return newest if is_same and is_sound else None

    def take(self, profile: Profile, number: int = 0, origin: str = "", is_reserved: bool = False) -> Version:
        """Keep a profile from elsewhere as it is, under that number where it was never given, else the next.

        One that `is_reserved` is for it. `origin` says what it was there. Raises `Refused` where the shelf cannot
        be written, and `Damaged` where the profile is.
        """
        from zinker.profiles.writing import carry

        about = profile.manifest
        with self._writing() as batch:
            before = self._parts_before(about.subject, about.place)
            target = Target(self.objects, batch, about.subject, before)
            carry(profile, target)
            return self._commit(target, about, number=number, origin=origin, is_reserved=is_reserved)

    def copy_out(self, version: Version, path: Path) -> None:
        """Write a version to a profile file or folder, as it would have been exported there; raises `Damaged`."""
        from zinker.profiles.writing import carry, profile_file, profile_folder

        written = profile_file if path.suffix == SUFFIX else profile_folder
        with contextlib.closing(self.open(version)) as profile, written(path) as builder:
            carry(profile, builder.target)

    def tidy(self) -> None:
        """Sweep what runs that are over have left of what they began to write."""
        with self._unwritable(), self.lock():
            self.storage.writers()

    def forget(self, version: Version) -> None:
        """Take off the shelf what this run has put there itself; its number is not given again."""
        with self.lock():
            self.records.remove(version.subject, [version.number])

    def say(
        self,
        version: Version,
        label: str | None = None,
        note: str | None = None,
        looked: str | None = None,
        move: bool = False,
    ) -> Version:
        """Give a version another label or note, or say when it was found to be what is there.

        With `move`, a label is taken from the version that has it. Raises `Refused` for one that another version
        has, otherwise, and where the shelf cannot be written.
        """
        told = {"label": label, "note": note, "looked": looked}
        new = {name: text for name, text in told.items() if text is not None}
        with self._unwritable(), self.lock() if label else contextlib.nullcontext():
            self.page.make()
            other = self._label_taken(version.subject, label or "", version.home, version.number, move)
            now = self.records.say(version, lambda marks: msgspec.structs.replace(marks, **new))
            if other is not None:
                self.records.say(other, lambda marks: msgspec.structs.replace(marks, label=""))
            return now

    def labelled(self, subject: str, label: str, home: str) -> Version | None:
        """Return the version from a `model.names.home_of` that has a label; None for none."""
        fits = (one for one in self.versions(subject) if one.label == label and one.home == home)
        return next(fits, None)

    def identical(self, subject: str, identity: str) -> Version | None:
        """Return the version that is a copy of one elsewhere; None for none."""
        return next((one for one in self.versions(subject) if one.identity == identity), None)

    @contextlib.contextmanager
    def lock(self) -> Iterator[None]:
        """Hold the shelf against other runs; raises `Refused` if one does not let go of it."""
        self.page.make()
        try:
            with self.storage.hold(PATIENCE):
                yield
        except Busy:
            why = f"another run of Zinker has held the shelf {self.storage.told} for {PATIENCE:.0f} seconds"
            raise Refused("Not done", why, "Wait for it to end and run this again.") from None

    def check_label(self, subject: str, label: str, home: str) -> None:
        """Raise `Refused` if a version of that home has the label already, `WrongUsage` if it cannot be one."""
        check_name(label)
        self._label_taken(subject, label, home)

    def _label_taken(
        self, subject: str, label: str, home: str, own: int = 0, move: bool = False
    ) -> Version | None:
        """Return the other version of a home that has a label; raises `Refused` where it is not to be moved."""
        taken = self.labelled(subject, label, home) if label else None
        if taken is None or taken.number == own:
            return None
        if not move:
            why = f"{taken.reference} has the label {label} already"
            then = f"Choose another label, or add --move to take it from {taken.reference}."
            raise Refused("Not kept", why, then)
        return taken

    @contextlib.contextmanager
    def _writing(self) -> Iterator[Batch]:
        """Begin to write, in a way that nothing that this run relies on is removed meanwhile."""
        with self._unwritable(), contextlib.ExitStack() as stack:
            with self.lock():
                self.storage.writers()  # sweeps what dead runs have left
                self.objects.forget()  # from here on nothing that is there goes
                stack.callback(self.objects.forget)
                batch = stack.enter_context(self.storage.batch())
            yield batch

    @contextlib.contextmanager
    def _unwritable(self) -> Iterator[None]:
        try:
            yield
        except OSError as error:
            why = f"the shelf {self.storage.told} cannot be written: {reason(error)}"
            then = f"{remedy(error)}, or choose another shelf in zinker.toml, and run this again."
            raise Refused("Not kept", why, then) from None

    def _commit(
        self,
        target: Target,
        manifest: Manifest,
        move: bool = False,
        number: int = 0,
        origin: str = "",
        is_reserved: bool = False,
    ) -> Version:
        """Put what was built under its number, when all of it is on the disk and has been read back."""
        target.batch.settle()
        self.objects.forget()
        record = msgspec.structs.replace(target.record(manifest), copy_of=origin)
        self._check_kept(target)
        with self.lock() if manifest.label else contextlib.nullcontext():
            home = home_of(manifest.place, manifest.machine)
            other = self._label_taken(record.subject, manifest.label, home, move=move)
            put = self.records.fill if is_reserved else self.records.add
            version = put(record, number)
            if other is not None:
                self.records.say(other, lambda marks: msgspec.structs.replace(marks, label=""))
        with contextlib.suppress(OSError):  # it is there to be quick, and made anew where it is missing
            self.records.write_index(record.subject)
        return version

    def _check_kept(self, target: Target) -> None:
        """Read back what is new; raises `Refused` where it cannot be read."""
        new = list(target.new)
        check = partial(self.objects.check, is_new=True)
        with contextlib.ExitStack() as stack:
            side_by_side = min(self.storage.side_by_side, len(new))
            each: Callable[..., Iterator[str]] = map
            if side_by_side > 1:
                from concurrent.futures import ThreadPoolExecutor

                each = stack.enter_context(ThreadPoolExecutor(side_by_side)).map
            for why in filter(None, each(check, new)):
                for one in new:  # the next run is not to rely on it
                    self.objects.delete(one)
                raise Refused(
                    "Not kept", f"what was written cannot be read back: {why}", "Report this, please."
                )

    def _only(
        self, versions: list[Version], subject: str, which: str, place: str, near: Sequence[str] = ()
    ) -> Version:
        if not versions:
            at = f" from {place}" if place else ""
            hint = f"Did you mean {' or '.join(f'{subject}@{label}' for label in near)}? " if near else ""
            kept = f"{hint}`zinker list {subject}` shows what is kept."
            why = f"no version {which} of {subject}{at} is kept on the shelf {self.storage.told}"
            is_any = bool(self.records.numbers(subject))
            then = kept if is_any else "Nothing of it is kept yet; `zinker export` keeps it."
            raise WrongUsage(f"No {subject}@{which}", why, then)
        version = versions[0]
        if version.problem:
            raise Damaged(
                "Profile not read",
                version.problem,
                f"Name the version you mean; `zinker list {subject}` shows them.",
            )
        if place and version.place != place:
            why = f"it was taken at {version.place}, not at {place}"
            raise WrongUsage(f"No {place}:{subject}@{which}", why, f"`zinker list {subject}` shows all.")
        return version


def _all(shelf: Shelf) -> Iterator[Version]:
    """Yield all versions of a small shelf that can be read."""
    for subject in shelf.subjects():
        yield from (version for version in shelf.versions(subject) if not version.problem)


def check_name(label: str) -> None:
    """Raise `WrongUsage` for what cannot be a label."""
    if label.isdecimal() or label == "latest" or set(label) & set("@:/\\"):
        why = "a label is not a number, not `latest`, and has none of @ : / \\ in it"
        raise WrongUsage(f"No label {label}", why, "Choose another one.")


def _plain(manifest: Manifest) -> Manifest:
    """Return what a profile says of itself, but for when and by what it was captured, and what it is called."""
    return msgspec.structs.replace(
        manifest, captured="", label="", note="", written_by="", while_running=False, user=""
    )


def _latest(versions: Sequence[Version], place: str) -> list[Version]:
    """Return the newest whole version of a place.

    A damaged one may be the one that is meant; an older one is never taken for it unsaid.
    """
    damaged: list[Version] = []
    for version in reversed(versions):
        if version.problem:
            damaged.append(version)
        elif version.is_asked_for and place in ("", version.place):
            return damaged[:1] or [version]
    return damaged[:1]


def _day(captured: str) -> datetime.date:
    """Return the day a profile was captured, where the technician is."""
    return datetime.datetime.fromisoformat(captured).astimezone().date()

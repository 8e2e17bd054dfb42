"""A shelf in a folder, every version a whole profile file.

    shelf.json                          {"format": 1}
    .lock                               held while a number is given out
    subjects/<subject>/<number>.zinker  the versions
    changes/<number>/                   what was done with them (changes.py)

A version appears under its number when all of it is on the disk. Numbers count up by subject and are never
given twice; nothing on the shelf is ever overwritten.
"""

import contextlib
import datetime
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import msgspec
from filelock import Timeout

from zinker.disk.files import (
    PRIVATE,
    close_to_others,
    commit_part,
    lock,
    make_folders,
    own_part,
    sweep_own_parts,
    write_file,
)
from zinker.model.errors import Damaged, Refused, WrongUsage, ZinkerError, reason
from zinker.model.names import nearest
from zinker.model.plain_json import decode, encode
from zinker.model.profile import Manifest
from zinker.profiles.layout import SUFFIX
from zinker.profiles.reading import Profile, open_profile
from zinker.profiles.writing import ProfileBuilder, profile_part
from zinker.shelf.changes import ChangeLog

FORMAT = 1
# How long another run may hold the shelf, in seconds, before this one gives up.
PATIENCE = 60.0


class Version(msgspec.Struct, frozen=True):
    """A kept version. `problem` says why its profile cannot be read; `manifest` is None then."""

    subject: str
    number: int
    path: Path
    size: int
    manifest: Manifest | None
    problem: str = ""

    @property
    def reference(self) -> str:
        """What to type for it."""
        return f"{self.subject}@{self.number}"


class Shelf:
    """A shelf in a folder, made when something is first put on it.

    `known` is a file of Zinker's own that names the shelves there are, so that one that is out of reach is not
    taken for a new one; `notify` is told of a new one. Raises `Refused` for one that is not where it was, and
    `Damaged`.
    """

    def __init__(
        self,
        folder: Path,
        known: Path | None = None,
        notify: Callable[[str], None] = lambda text: None,
        is_shared: bool = False,
    ) -> None:
        """Open the shelf in a folder; one that is shared is as readable as the folder is."""
        self.folder, self._mode = folder, None if is_shared else PRIVATE
        self.changes = ChangeLog(folder / "changes", self.lock, self._mode, notify)
        self._known, self._notify = known, notify
        self._check_format()

    def subjects(self) -> list[str]:
        """Return the subjects of which versions are kept."""
        folder = self.folder / "subjects"
        return sorted(path.name for path in folder.iterdir()) if folder.is_dir() else []

    def versions(self, subject: str) -> list[Version]:
        """Return the kept versions of a subject, the oldest first; damaged ones say so."""
        return [self._version(subject, number) for number in self._numbers(subject)]

    def newest(self, subject: str, fits: Callable[[Manifest], bool]) -> Version | None:
        """Return the newest version whose manifest fits, without opening those before it; None for none."""
        for number in reversed(self._numbers(subject)):
            version = self._version(subject, number)
            if version.manifest is not None and fits(version.manifest):
                return version
        return None

    def after(self, version: Version) -> int:
        """Count the versions of the same place that were kept after one, whole."""
        about = version.manifest
        newer = (
            self._version(version.subject, n) for n in self._numbers(version.subject) if n > version.number
        )
        known = (one.manifest for one in newer if one.manifest)
        return sum(
            about is not None
            and one.place == about.place
            and not (one.fallback_of or one.partial or one.lost)
            for one in known
        )

    def find(self, subject: str, which: str, place: str = "") -> Version:
        """Find the version that `which` names: a number, a label, a day (2026-11-20), or `latest`.

        With a place, only versions from there count. Fallbacks are found by number only, those of only some
        settings, or of a loss, by number or label.
        Raises `WrongUsage` if there is none.
        """
        if which.isdecimal():
            versions = [self._version(subject, int(which))] if int(which) in self._numbers(subject) else []
            return self._only(versions, subject, which, place)
        if which == "latest":
            return self._only(self._latest(subject, place), subject, which, place)
        versions = [v for v in self.versions(subject) if v.manifest and not v.manifest.fallback_of]
        if place:
            versions = [v for v in versions if v.manifest and v.manifest.place == place]
        whole = [v for v in versions if v.manifest and _is_whole(v.manifest)]
        labelled = [v for v in versions if v.manifest and v.manifest.label == which]
        if not labelled:
            with contextlib.suppress(ValueError):
                day = datetime.date.fromisoformat(which)
                labelled = [v for v in whole if v.manifest and _day(v.manifest) <= day]
        if not labelled:
            labels = [v.manifest.label for v in versions if v.manifest and v.manifest.label]
            return self._only([], subject, which, place, nearest(which, labels))
        return self._only(labelled[-1:], subject, which, place)

    def _latest(self, subject: str, place: str) -> list[Version]:
        """Return the newest whole version, without opening those before it.

        A damaged one may be the one that is meant; an older one is never taken for it unsaid.
        """
        damaged: list[Version] = []
        for number in reversed(self._numbers(subject)):
            version = self._version(subject, number)
            about = version.manifest
            if about is None:
                damaged.append(version)
            elif _is_whole(about) and not about.fallback_of and place in ("", about.place):
                return damaged[:1] or [version]
        return damaged[:1]

    def open(self, version: Version) -> Profile:
        """Open the profile of a version; raises `Damaged`."""
        return open_profile(version.path)

    def keep(self, subject: str, build: Callable[[ProfileBuilder], Manifest]) -> Version:
        """Build a profile and put it on the shelf under the next number.

        Raises `Refused` where the shelf cannot be written; nothing is on it then.
        """
        folder = self.folder / "subjects" / subject
        try:
            self._make()
            make_folders(folder, self._mode)
            sweep_own_parts(folder)
            return self._keep(folder, build)
        except OSError as error:
            why = f"the shelf {self.folder} cannot be written: {reason(error)}"
            then = "Make room or choose another shelf in zinker.toml, and run this again."
            raise Refused("Not kept", why, then) from None

    def _keep(self, folder: Path, build: Callable[[ProfileBuilder], Manifest]) -> Version:
        # Every run builds under a name of its own; only the number is given out under the lock.
        part = own_part(folder)
        try:
            with profile_part(part, folder / "the new version", self._mode) as builder:
                manifest = build(builder)
                builder.close()
            with self.lock():
                self._check_label(folder.name, manifest.label)
                number = self._next_number(folder)
                target = folder / f"{number}{SUFFIX}"
                commit_part(part, target)
        finally:
            part.unlink(missing_ok=True)
        return Version(folder.name, number, target, target.stat().st_size, manifest)

    def forget(self, version: Version) -> None:
        """Take off the shelf what this run has put there itself; its number is not given again."""
        with self.lock():
            version.path.unlink(missing_ok=True)

    @contextlib.contextmanager
    def lock(self) -> Iterator[None]:
        """Hold the shelf against other runs; raises `Refused` if one does not let go of it."""
        self._make()
        try:
            with lock(self.folder / ".lock", PATIENCE):
                yield
        except Timeout:
            why = f"another run of Zinker has held the shelf {self.folder} for {PATIENCE:.0f} seconds"
            raise Refused("Not done", why, "Wait for it to end and run this again.") from None

    def check_label(self, subject: str, label: str) -> None:
        """Raise `Refused` if a version has that label already, `WrongUsage` if it cannot be one."""
        if label.isdecimal() or label == "latest" or set(label) & set("@:/\\"):
            why = "a label is not a number, not `latest`, and has none of @ : / \\ in it"
            raise WrongUsage(f"No label {label}", why, "Choose another one.")
        self._check_label(subject, label)

    def _check_label(self, subject: str, label: str) -> None:
        if not label:
            return
        taken = [v for v in self.versions(subject) if v.manifest and v.manifest.label == label]
        if taken:
            why = f"{taken[0].reference} has the label {label} already"
            raise Refused("Not kept", why, "Choose another label.")

    def _make(self) -> None:
        if not (self.folder / "shelf.json").exists():
            if self._known is not None and not self.folder.parent.is_dir():
                why = f"{self.folder.parent} is not there, in which the shelf {self.folder} would be"
                raise Refused(
                    "Nothing done", why, "Plug in or mount what it is on, or name another in zinker.toml."
                )
            make_folders(self.folder, self._mode)
            write_file(self.folder / "shelf.json", b'{"format": 1}\n', self._mode)
            self._notify(f"A new shelf has been made: {self.folder}")
        self._close_to_others()
        self._remember()

    def _close_to_others(self) -> None:
        """Close what other accounts of this machine could read, unless the shelf is theirs, too."""
        kept = [path for name in ("subjects", "changes") if (path := self.folder / name).is_dir()]
        closed = [path for path in kept if self._mode is not None and close_to_others(path)]
        if closed:
            then = "with `shared = true` in zinker.toml it is as open as its folder"
            self._notify(
                f"The shelf {self.folder} could be read by others, and is closed to them now; {then}"
            )

    def _remember(self) -> None:
        """Note that there is a shelf in this folder, where nothing stands against writing that down."""
        shelves = self._shelves()
        if self._known is not None and str(self.folder) not in shelves:
            with contextlib.suppress(OSError, UnicodeEncodeError):
                make_folders(self._known.parent)
                write_file(self._known, encode([*shelves, str(self.folder)], indent=2))

    def _shelves(self) -> list[str]:
        """Return the folders in which there have been shelves."""
        try:
            return decode(self._known.read_bytes(), list[str]) if self._known else []
        except (OSError, ValueError):
            return []

    def _check_format(self) -> None:
        path = self.folder / "shelf.json"
        try:
            if not path.exists():
                if str(self.folder) in self._shelves():
                    why = f"{self.folder} was a shelf, and there is none now"
                    then = (
                        f"Plug in or mount what it is on. For a new one there, take it out of {self._known}."
                    )
                    raise Refused("Nothing done", why, then)
                return
            self._remember()
            number = msgspec.json.decode(path.read_bytes())["format"]
        except (OSError, msgspec.DecodeError, KeyError, TypeError) as error:
            why = reason(error) if isinstance(error, OSError) else "it is damaged"
            raise Damaged("Shelf not read", f"{path}: {why}", "Check that the shelf is all there.") from None
        if number != FORMAT:
            why = f"{self.folder} has the format {number}, and this Zinker reads {FORMAT}"
            raise Damaged("Shelf not read", why, "Use a newer Zinker.")

    def _numbers(self, subject: str) -> list[int]:
        folder = self.folder / "subjects" / subject
        names = [path.stem for path in folder.glob(f"*{SUFFIX}")] if folder.is_dir() else []
        return sorted(int(name) for name in names if name.isdecimal())

    def _next_number(self, folder: Path) -> int:
        """Count on from the highest number ever given, which stands in a file: versions may be thinned out."""
        counter = folder / "last-number"
        last = int(counter.read_text()) if counter.exists() else 0
        number = max([last, *self._numbers(folder.name)]) + 1
        write_file(counter, f"{number}\n".encode(), self._mode)
        return number

    def _version(self, subject: str, number: int) -> Version:
        path = self.folder / "subjects" / subject / f"{number}{SUFFIX}"
        size = path.stat().st_size
        try:
            profile = open_profile(path)
        except ZinkerError as error:
            return Version(subject, number, path, size, None, error.why)
        profile.close()
        return Version(subject, number, path, size, profile.manifest)

    def _only(
        self, versions: list[Version], subject: str, which: str, place: str, near: Sequence[str] = ()
    ) -> Version:
        if not versions:
            at = f" from {place}" if place else ""
            hint = f"Did you mean {' or '.join(f'{subject}@{label}' for label in near)}? " if near else ""
            kept = f"{hint}`zinker list {subject}` shows what is kept."
            why = f"no version {which} of {subject}{at} is kept on the shelf {self.folder}"
            then = kept if self._numbers(subject) else "Nothing of it is kept yet; `zinker export` keeps it."
            raise WrongUsage(f"No {subject}@{which}", why, then)
        version = versions[0]
        if version.manifest is None:
            raise Damaged(
                "Profile not read",
                version.problem,
                f"Name the version you mean; `zinker list {subject}` shows them.",
            )
        if place and version.manifest.place != place:
            why = f"it was taken at {version.manifest.place}, not at {place}"
            raise WrongUsage(f"No {place}:{subject}@{which}", why, f"`zinker list {subject}` shows all.")
        return version


def _is_whole(manifest: Manifest) -> bool:
    """Tell whether a profile has all there was, as far as is known."""
    return not manifest.partial and not manifest.lost


def _day(manifest: Manifest) -> datetime.date:
    """Return the day a profile was captured, where the technician is."""
    return datetime.datetime.fromisoformat(manifest.captured).astimezone().date()

"""The versions on a shelf: what each is made of, what has been said of it since, and an index of them all.

    subjects/<subject>/<number>.json         a version: its profile.json, and the objects it is made of; or that it
                                             is still to come, from the machine that reserved its number
    subjects/<subject>/<number>.<n>.json     what was said of it afterwards: label, note, when nothing had changed
    subjects/<subject>/<number>.zinker       a version as format 1 kept it: a whole profile file
    subjects/<subject>/last-number.json      the highest number of those that were removed
    subjects/<subject>/index.json            what lists tell of all of them

None of the first two is ever changed; of what was said, the highest <n> counts. So the names alone say whether the
index still fits: what it does not have, or has otherwise, is read anew. It can be removed at any time.
"""

import contextlib
import datetime
import hashlib
import os
import re
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import NamedTuple

import msgspec

from zinker.model.errors import Damaged, ZinkerError, reason
from zinker.model.names import home_of
from zinker.model.plain_json import encode, schema_of
from zinker.model.profile import Manifest
from zinker.profiles.layout import SUFFIX
from zinker.profiles.reading import Profile, open_file
from zinker.shelf.record import checked, stamped
from zinker.shelf.storage import Storage

FORMAT = 2
_NAME = re.compile(r"(\d+)(?:\.(\d+))?(\.json|\.zinker)", re.ASCII)
_SUBJECT = re.compile(r"[^./\\:@][^/\\:@]*")
# So many versions may be missing in the index before it is written anew, and so small a share of them.
_FEW, _SHARE = 16, 20


class Marks(msgspec.Struct, frozen=True, omit_defaults=True):
    """What was said of a version: by its profile first, by its keeper later."""

    label: str = ""
    note: str = ""
    # When it was last found that nothing had changed at its place since (RFC 3339).
    looked: str = ""


class File(msgspec.Struct, frozen=True, array_like=True):
    """An object that a version is made of besides its settings, and its size in bytes."""

    sha256: str
    size: int


class Record(msgspec.Struct, frozen=True, omit_defaults=True):
    """A version as it stands on the shelf; `stored` is how many bytes it added to what was there."""

    format: int
    subject: str
    profile: Manifest
    files: tuple[File, ...] = ()
    sealed: File | None = None
    stored: int = 0
    # What it was called where it was copied from; the numbers of copies say nothing about their order.
    copy_of: str = ""

    @property
    def size(self) -> int:
        """How many bytes it has in full."""
        others = [*self.files, *([self.sealed] if self.sealed else [])]
        return sum(part.size for part in self.profile.parts) + sum(file.size for file in others)

    @property
    def objects(self) -> Iterator[str]:
        """The digests of all that it is made of."""
        yield from (part.sha256 for part in self.profile.parts)
        yield from (file.sha256 for file in self.files)
        if self.sealed:
            yield self.sealed.sha256


class Version(msgspec.Struct, frozen=True, omit_defaults=True):
    """A kept version, as the index has it. `problem` says why it cannot be read; nothing else is known then.

    Sizes are in bytes: `size` of the whole profile, `stored` of what it added to the shelf.
    """

    subject: str
    number: int
    place: str = ""
    machine: str = ""
    captured: str = ""
    settings: int = 0
    size: int = 0
    stored: int = 0
    application_version: str = ""
    label: str = ""
    note: str = ""
    looked: str = ""
    fallback_of: int = 0
    partial: bool = False
    lost: int = 0
    while_running: bool = False
    # The same for copies of it on other shelves, whatever their number and label.
    identity: str = ""
    # How often something was said of it.
    said: int = 0
    # Kept as format 1 had it: as a whole profile file.
    is_file: bool = False
    # What it was called where it was copied from.
    copy_of: str = ""
    problem: str = ""

    @property
    def reference(self) -> str:
        """What to type for it."""
        return f"{self.subject}@{self.number}"

    @property
    def home(self) -> str:
        """What tells whether another one is from the same place."""
        return home_of(self.place, self.machine)

    @property
    def known(self) -> str:
        """When it was last known to be what is there (RFC 3339)."""
        return self.looked or self.captured

    @property
    def is_whole(self) -> bool:
        """Whether it has all there was, as far as is known."""
        return not self.problem and not self.partial and not self.lost

    @property
    def is_asked_for(self) -> bool:
        """Whether somebody asked for it, and it has all there was."""
        return self.is_whole and not self.fallback_of


class _Last(msgspec.Struct, frozen=True):
    number: int


class _Index(msgspec.Struct, frozen=True):
    format: int
    versions: tuple[Version, ...]


class _Names(NamedTuple):
    """How a version is kept, and how often something was said of it."""

    suffix: str
    said: int


class _Reserved(msgspec.Struct, frozen=True):
    """What stands under a number that was given, and whose version is still to come; no two are the same."""

    format: int
    subject: str
    reserved: str


class _NotYet(ValueError):
    """A number was given, and its version is still to come."""


class Versions:
    """The versions on a shelf, subject by subject."""

    def __init__(self, storage: Storage) -> None:
        self._storage = storage
        self._known: dict[str, dict[int, Version]] = {}

    def subjects(self) -> list[str]:
        """Return the subjects of which versions are kept."""
        return sorted(name for name in self._storage.names("subjects") if not name.startswith("."))

    def numbers(self, subject: str) -> list[int]:
        """Return the numbers that are there, in order."""
        return sorted(self._names(subject))

    def all(self, subject: str) -> list[Version]:
        """Return the versions of a subject, the oldest first; damaged ones say so."""
        names = self._names(subject)
        known = self._known.get(subject)
        if known is None:
            known = self._known[subject] = self._index(subject) if len(names) > 1 else {}
        fresh = {
            number: known[number]
            for number, (_, said) in names.items()
            if number in known and known[number].said == said
        }
        missing = sorted(names.keys() - fresh.keys())
        for number in missing:
            version = self._read(subject, number, names[number])
            if version and not version.problem:
                known[number] = version
            if version:
                fresh[number] = version
        return _in_order([fresh[number] for number in sorted(fresh)])

    def one(self, subject: str, number: int) -> Version | None:
        """Return one version, read anew; None if there is none."""
        names = self._names(subject).get(number)
        return self._read(subject, number, names) if names else None

    def record(self, version: Version) -> Record:
        """Return what a version is made of; raises `Damaged`."""
        try:
            return self._record(version.subject, version.number)
        except (OSError, ValueError) as error:
            raise _damaged(version.reference, error) from None

    def _record(self, subject: str, number: int) -> Record:
        data = self._bytes(_name(subject, number))
        if b'"reserved":"' in data[:200]:
            raise _NotYet("its version is still to come, from the machine that reserved it")
        record = checked(data, Record)
        if (record.format, record.subject) != (FORMAT, subject):
            raise ValueError(f"it is of format {record.format}, and of {record.subject}")
        return record

    def open_file(self, version: Version) -> Profile:
        """Open a version that is a whole profile file; raises `Damaged`."""
        return self._opened(version.subject, version.number)

    def add(self, record: Record, number: int = 0) -> Version:
        """Put a version under a number that was never given, the wanted one or the next.

        A number is given to one run only. Raises `OSError`, and `Damaged` where it is not known which were given.
        """
        record = msgspec.structs.replace(record, stored=record.stored + len(stamped(record)))
        data, last = stamped(record), self.last(record.subject)
        if number <= last or not self._storage.put_new(_name(record.subject, number), data):
            number = max([last, *self._names(record.subject)]) + 1
            while not self._storage.put_new(_name(record.subject, number), data):
                number += 1
        return _version(number, record)

    def reserve(self, subject: str) -> int:
        """Give out the next number, to one run only; its version is to `fill` it. Raises `OSError`."""
        data = stamped(_Reserved(FORMAT, subject, os.urandom(16).hex()))
        number = max([self.last(subject), *self._names(subject)]) + 1
        while not self._storage.put_new(_name(subject, number), data):
            number += 1
        return number

    def fill(self, record: Record, number: int) -> Version:
        """Put a version under a number that was reserved for it; raises `OSError`."""
        record = msgspec.structs.replace(record, stored=record.stored + len(stamped(record)))
        self._storage.put(_name(record.subject, number), stamped(record))
        return _version(number, record)

    def say(self, version: Version, change: Callable[[Marks], Marks]) -> Version:
        """Say something of a version from now on; what another run says at the same time is not lost.

        Raises `Damaged` where the version cannot be read, or is not there any more.
        """
        while True:
            now = self.one(version.subject, version.number)
            if now is None or now.problem:
                raise _damaged(
                    version.reference, ValueError(now.problem if now else "it is not there any more")
                )
            marks = change(Marks(now.label, now.note, now.looked))
            if self._storage.put_new(_name(now.subject, now.number, now.said + 1), stamped(marks)):
                break
        for number in range(max(1, now.said - 5), now.said + 1):
            self._storage.delete(_name(version.subject, version.number, number))
        return _marked(now, marks, now.said + 1)

    def remove(self, subject: str, numbers: list[int]) -> None:
        """Remove versions; their numbers are not given again."""
        names = self._names(subject)
        if max(numbers, default=0) > self.last(subject):
            self._storage.put(f"{_folder(subject)}/last-number.json", stamped(_Last(max(numbers))))
        for number in numbers:
            if number in names:
                # What was said of it goes last: otherwise it would have another label for a moment.
                self._storage.delete(f"{_folder(subject)}/{number}{names[number].suffix}")
                for said in range(1, names[number].said + 1):
                    self._storage.delete(_name(subject, number, said))

    def mend(
        self, version: Version, source: "Versions", has: Callable[[Iterable[str]], bool]
    ) -> Version | None:
        """Take a damaged version's page from another shelf that has the same one; returns it as it is then.

        It is the same where the index knew it by its identity, or where it was copied there from here, and all that
        it is made of is here, which `has` tells of some digests. Returns None, and changes nothing, otherwise.
        """
        known = self._index(version.subject).get(version.number)
        others = [one for one in source.all(version.subject) if not (one.problem or one.is_file)]
        if known is not None:
            same = [one for one in others if one.identity == known.identity][-1:]
        else:
            same = [one for one in others if one.copy_of == version.reference]
            same = [one for one in same if has(source.record(one).objects)]
        if len(same) != 1:
            return None
        record = source.record(same[0])
        # What it was called elsewhere counts here where it is from there.
        record = msgspec.structs.replace(record, copy_of=known.copy_of if known is not None else "")
        self._storage.put(_name(version.subject, version.number), stamped(record))
        told = known or same[0]
        said = self._names(version.subject)[version.number].said
        if said:
            marks = Marks(told.label, told.note, told.looked)
            self._storage.put(_name(version.subject, version.number, said), stamped(marks))
        return self.one(version.subject, version.number)

    def sweep(self) -> None:
        """Remove what was said of versions that are not there any more; raises `OSError`."""
        for subject in self.subjects():
            names = self._names(subject)
            for name in self._storage.names(_folder(subject)):
                parts = _NAME.fullmatch(name)
                if parts and parts[2]:
                    kept = names.get(int(parts[1]))
                    if kept is None or int(parts[2]) < kept.said:
                        self._storage.delete(f"{_folder(subject)}/{name}")

    def write_index(self, subject: str, is_wanted: bool = False) -> None:
        """Write the index anew, where too much is missing in it or that is wanted; raises `OSError`."""
        versions = [version for version in self.all(subject) if not version.problem]
        held = self._index(subject)
        missing = sum(held.get(one.number) != one for one in versions)
        if is_wanted or missing > max(_FEW, len(versions) // _SHARE):
            self._storage.put(f"{_folder(subject)}/index.json", stamped(_Index(FORMAT, tuple(versions))))

    def index_problem(self, subject: str) -> str:
        """Say what is wrong with the index, or ""; it is made anew from the versions."""
        if "index.json" not in self._storage.names(_folder(subject)):
            return ""
        held = self._index(subject)
        fresh = {number: self._read(subject, number, names) for number, names in self._names(subject).items()}
        pairs = [(version, fresh.get(number)) for number, version in held.items()]
        wrong = [now for held, now in pairs if now and now.said == held.said and now != held]
        return "it does not say what is there" if wrong or (fresh and not held) else ""

    def last(self, subject: str) -> int:
        """Return the highest number of those that were removed; raises `Damaged`."""
        names = self._storage.names(_folder(subject))
        try:
            if "last-number.json" in names:
                return checked(self._bytes(f"{_folder(subject)}/last-number.json"), _Last).number
            return int(self._bytes(f"{_folder(subject)}/last-number")) if "last-number" in names else 0
        except (OSError, ValueError) as error:
            raise _damaged(f"the last number of {subject}", error) from None

    def _names(self, subject: str) -> dict[int, _Names]:
        found: dict[int, str] = {}
        said: dict[int, int] = {}
        for name in self._storage.names(_folder(subject)):
            parts = _NAME.fullmatch(name)
            if parts and parts[2]:
                said[int(parts[1])] = max(said.get(int(parts[1]), 0), int(parts[2]))
            elif parts:
                found[int(parts[1])] = parts[3]
        return {number: _Names(suffix, said.get(number, 0)) for number, suffix in found.items()}

    def _index(self, subject: str) -> dict[int, Version]:
        try:
            index = checked(self._bytes(f"{_folder(subject)}/index.json"), _Index)
        except (OSError, ValueError):
            return {}
        return {version.number: version for version in index.versions} if index.format == FORMAT else {}

    def _read(self, subject: str, number: int, names: _Names) -> Version | None:
        """Read a version anew; None for one that is removed meanwhile."""
        now: _Names | None = names
        while now is not None:
            try:
                return self._read_as(subject, number, now)
            except (
                FileNotFoundError
            ) as error:  # something was said of it, or it went, after its folder was read
                before, now = now, self._names(subject).get(number)
                if now == before:
                    return Version(subject, number, problem=_damaged(f"{subject}@{number}", error).why)
            except ZinkerError as error:
                return Version(subject, number, problem=error.why)
            except _NotYet:
                return None
            except (OSError, ValueError) as error:
                return Version(subject, number, problem=_damaged(f"{subject}@{number}", error).why)
        return None

    def _read_as(self, subject: str, number: int, names: _Names) -> Version:
        if names.suffix == SUFFIX:
            with contextlib.closing(self._opened(subject, number)) as profile:
                record, size = Record(FORMAT, subject, profile.manifest), profile.size
            stored = self._storage.size(f"{_folder(subject)}/{number}{SUFFIX}")
            version = msgspec.structs.replace(
                _version(number, record), size=size, stored=stored, is_file=True
            )
        else:
            version = _version(number, self._record(subject, number))
        if not names.said:
            return version
        return _marked(version, checked(self._bytes(_name(subject, number, names.said)), Marks), names.said)

    def _opened(self, subject: str, number: int) -> Profile:
        name = f"{_folder(subject)}/{number}{SUFFIX}"
        return open_file(Path(self._storage.told, name), lambda: self._storage.open(name))

    def _bytes(self, name: str) -> bytes:
        with self._storage.open(name) as file:
            return file.read()


def schema() -> dict[str, object]:
    """Return the JSON Schema (2020-12) of the page of a version."""
    return schema_of(Record, "Zinker shelf: the page of a version")


def identity_of(manifest: Manifest) -> str:
    """Return what a profile is known by, whatever it is labelled."""
    plain = msgspec.structs.replace(manifest, label="", note="")
    return hashlib.sha256(encode(plain)).hexdigest()


def _version(number: int, record: Record) -> Version:
    """Return a version as the index has it; raises `ValueError` where its date is none."""
    about = record.profile
    datetime.datetime.fromisoformat(about.captured)
    return Version(
        record.subject,
        number,
        about.place,
        about.machine,
        about.captured,
        about.settings,
        record.size,
        record.stored,
        about.application_version,
        about.label,
        about.note,
        "",
        about.fallback_of,
        about.partial,
        about.lost,
        about.while_running,
        identity_of(about),
        copy_of=record.copy_of,
    )


def _in_order(versions: list[Version]) -> list[Version]:
    """Return versions in the order of their numbers, and copies where they belong by when they were captured."""
    if not any(version.copy_of for version in versions):
        return versions
    found: list[Version] = []
    for version in versions:
        at = len(found)
        if version.copy_of:
            while at and not found[at - 1].problem and _instant(found[at - 1]) > _instant(version):
                at -= 1
        found.insert(at, version)
    return found


def _instant(version: Version) -> datetime.datetime:
    return datetime.datetime.fromisoformat(version.captured).astimezone()


def _marked(version: Version, marks: Marks, said: int) -> Version:
    datetime.datetime.fromisoformat(marks.looked or version.captured)
    return msgspec.structs.replace(
        version, label=marks.label, note=marks.note, looked=marks.looked, said=said
    )


def _damaged(reference: str, error: Exception) -> Damaged:
    why = reason(error) if isinstance(error, OSError) else str(error)
    then = "Use another version; `zinker check --from SHELF` mends it from another shelf that has it."
    return Damaged("Profile not read", f"{reference} is damaged: {why}", then)


def _folder(subject: str) -> str:
    if not _SUBJECT.fullmatch(subject):
        raise Damaged("Not read", f"{subject[:80]!a} is no name of a subject", "Name another one.")
    return f"subjects/{subject}"


def _name(subject: str, number: int, said: int = 0) -> str:
    return f"{_folder(subject)}/{number}.{said}.json" if said else f"{_folder(subject)}/{number}.json"

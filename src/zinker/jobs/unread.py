"""Captures while nobody looks: files that are as they were when they were last read are not read again.

A file is known by its size, its times of change, its inode and its rights. One that had changed within a minute
before it was read is read again the next time: a second change may have left no other time, as on file systems that
count in steps of two seconds, and for what programs write through memory. Whatever is no file is read.

    looks/<digest of place, subject and shelf>.json
"""

import contextlib
import datetime
import hashlib
import time
from pathlib import Path

import msgspec

import zinker
from zinker.disk.files import make_folders, write_file
from zinker.jobs.capture.selection import select
from zinker.jobs.exporting import Exported, answering, export
from zinker.jobs.place_lock import at_place
from zinker.jobs.session import Session
from zinker.jobs.setup import Setup
from zinker.model.errors import Damaged
from zinker.model.names import home_of
from zinker.model.plain_json import decode, encode
from zinker.shelf.shelf import Version
from zinker.stores.home import NoHome, StoreError

# So long before it was read, in nanoseconds, a file must have been left alone to be known by its looks.
_SETTLED = 60_000_000_000


class _Look(msgspec.Struct, frozen=True):
    """What everything looked like when it was read for a version, and what it was read by."""

    version: int
    identity: str
    read_by: str
    files: dict[str, dict[str, str]]


def capture_unread(setup: Setup, place: str, subject: str) -> Exported:
    """Capture a subject as `export` does; where all its files look as they did then, say so without reading them.

    Raises what `export` does.
    """
    path = _path(setup, place, subject)
    with answering(setup, subject.partition("/")[0], place), at_place(setup, place):
        files = _files(setup, place, subject)
        known = _known(path) if files is not None else None
        if known is not None and known.files == files and known.read_by == _read_by(setup, place, subject):
            version = _still_newest(setup, place, subject, known)
            if version is not None:
                now = datetime.datetime.now().astimezone().isoformat(timespec="seconds")
                said = setup.shelf.say(version, looked=now)
                manifest = setup.shelf.records.record(version).profile
                return Exported(manifest, version=said, is_known=True)
        began = time.time_ns()
        done = export(setup, subject, place)
        if files is not None and done.version is not None and done.is_complete and _is_settled(files, began):
            look = _Look(done.version.number, done.version.identity, _read_by(setup, place, subject), files)
            with contextlib.suppress(OSError):  # it only saves time
                make_folders(path.parent)
                write_file(path, encode(look))
        else:
            path.unlink(missing_ok=True)
        return done


def _files(setup: Setup, place: str, subject: str) -> dict[str, dict[str, str]] | None:
    """Return what the files of each part look like; None where a part has to be read to be known."""
    name, _, instance = subject.partition("/")
    described = setup.catalogue.find(name)
    session = Session(setup, setup.place(place), described)
    found: dict[str, dict[str, str]] = {}
    for part in select(described, (), (), instance).parts:
        try:
            looks = session.home(part).glance()
        except NoHome as error:
            looks = {"": error.why}
        except (OSError, StoreError):
            return None
        if looks is None:
            return None
        found[part.id] = looks
    return found


def _is_settled(files: dict[str, dict[str, str]], now: int) -> bool:
    """Tell whether none of some files had just been changed, at a time in nanoseconds."""
    times = (
        int(text)
        for looks in files.values()
        for document, look in looks.items()
        if document
        for text in look.split(" ", 2)[:2]
    )
    return all(then < now - _SETTLED for then in times)


def _read_by(setup: Setup, place: str, subject: str) -> str:
    """Return what else a capture depends on: Zinker itself, what describes the subject, and the place."""
    described = setup.catalogue.find(subject.partition("/")[0])
    live = setup.place(place)
    said = (zinker.__version__, encode(described), live.machine, live.system, live.user, live.own_folders())
    return hashlib.sha256(repr(said).encode(errors="surrogateescape")).hexdigest()


def _known(path: Path) -> _Look | None:
    try:
        return decode(path.read_bytes(), _Look)
    except (OSError, ValueError):
        return None


def _still_newest(setup: Setup, place: str, subject: str, look: _Look) -> Version | None:
    """Return the version that a look was at, if it is still the newest of its place and can be read."""
    home = home_of(place, setup.place(place).machine)
    id = subject.partition("/")[0]
    newest = setup.shelf.newest(id, lambda one: one.home == home and not one.fallback_of and not one.partial)
    if newest is None or (newest.number, newest.identity) != (look.version, look.identity):
        return None
    try:
        objects = setup.shelf.records.record(newest).objects
        is_sound = newest.is_file or all(map(setup.shelf.objects.is_kept, objects))
    except Damaged:
        return None
    return newest if is_sound else None


def _path(setup: Setup, place: str, subject: str) -> Path:
    what = "\n".join((setup.shelf.storage.told, place, subject))
    return setup.own_folder / "looks" / f"{hashlib.sha256(what.encode()).hexdigest()[:24]}.json"

"""Reads the live settings of a subject at a place into a profile."""

import datetime
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import NamedTuple

import msgspec

import zinker
from zinker.jobs.homes import Home, NoHome, begin, finish, instance_of, open_home
from zinker.jobs.setup import Setup
from zinker.jobs.withholding import Withholder
from zinker.model.errors import WrongUsage, reason
from zinker.model.profile import FORMAT, ByteStream, Manifest, Problem
from zinker.model.setting import Leaf, head, text_of
from zinker.places.place import Place
from zinker.profiles.sealing import Lock, Where
from zinker.profiles.writing import ChangedWhileRead, ProfileBuilder
from zinker.stores.files import FileHome
from zinker.stores.reading import Reading, StoreError
from zinker.subjects.catalogue import unknown
from zinker.subjects.subject import Part, Subject

# Called with what is being done, how many documents are done, and how many there are.
Progress = Callable[[str, int, int], None]


# How many documents are read before it is their turn; each may be large.
_AHEAD = 2
# How often a document is read again that changes while it is captured.
_TRIES = 3


def no_progress(what: str, done: int, total: int) -> None:
    """Say nothing."""


class Selection(msgspec.Struct, frozen=True):
    """Which parts of a subject are meant, and which instance ("" for all)."""

    parts: tuple[Part, ...]
    instance: str = ""

    def has(self, part: Part, document: str) -> bool:
        """Tell whether a document of a part is meant."""
        return not self.instance or instance_of(part, document) == self.instance


def select(
    subject: Subject, parts: tuple[str, ...], without: tuple[str, ...], instance: str = ""
) -> Selection:
    """Choose parts by name; without names, all. Raises `WrongUsage` for a name that no part has."""
    for id in (*parts, *without):
        if subject.find_part(id) is None:
            known = [part.id for part in subject.part]
            raise unknown("part", id, known, f"The parts of {subject.id} are {', '.join(known)}.")
    chosen = [part for part in subject.part if (not parts or part.id in parts) and part.id not in without]
    if not chosen:
        raise WrongUsage("Nothing chosen", "every part was left out", "Leave fewer out.")
    return Selection(tuple(chosen), instance)


def capture(
    setup: Setup,
    place: Place,
    subject: Subject,
    selection: Selection,
    builder: ProfileBuilder,
    progress: Progress | None = None,
    locks: tuple[Lock, ...] = (),
    is_fallback: bool = False,
) -> Manifest:
    """Read the chosen parts into a builder; returns what the profile says about itself.

    Secrets are sealed in for `locks`; those of a fallback for this machine.

    What cannot be read is named in its `problems`, and the rest is read all the same.
    """
    withholder = Withholder(setup.home, seals=bool(locks) or is_fallback)
    problems: list[Problem] = []
    progress = progress or setup.progress
    begin(place, selection.parts, progress)
    for part in selection.parts:
        with builder.part(part.id, part.name, part.store, part.device_bound):
            found = _documents(place, part, selection, builder, problems, progress)
            for at, read in _read_ahead(found):
                _capture(builder, part, at, read, withholder, problems)
    finish(place)
    progress("", 0, 0)
    locks = (withholder.lock,) if is_fallback else locks
    is_sealed = bool(locks and withholder.secrets)
    if is_sealed:
        builder.seal(withholder.secrets, locks)
    return Manifest(
        format=FORMAT,
        subject=subject.id,
        title=subject.title,
        place=place.name,
        machine=place.machine,
        captured=datetime.datetime.now().astimezone().isoformat(timespec="seconds"),
        user=place.user,
        system=place.system,
        application_version=application_version(place, subject),
        while_running=bool(place.running(subject.application.processes)),
        withheld=len(withholder.secrets),
        sealed=tuple(dict.fromkeys(lock.kind for lock in locks)) if is_sealed else (),
        folders=place.own_folders(),
        parts=tuple(builder.parts),
        problems=tuple(problems),
        written_by=f"Zinker {zinker.__version__}",
    )


class _At(NamedTuple):
    home: Home
    document: str


def _documents(
    place: Place,
    part: Part,
    selection: Selection,
    builder: ProfileBuilder,
    problems: list[Problem],
    progress: Progress,
) -> Iterator[_At]:
    try:
        home = open_home(place, part)
        documents = [name for name in home.documents() if selection.has(part, name)]
    except NoHome:
        builder.mark_homeless()  # a subject may have homes that only some kinds of place have
        return
    except (OSError, StoreError) as error:
        why = reason(error) if isinstance(error, OSError) else error.why
        problems.append(Problem(part.id, "", "", why))
        return
    for number, document in enumerate(documents):
        progress(part.name, number, len(documents))
        yield _At(home, document)


def _read_ahead(found: Iterable[_At]) -> Iterator[tuple[_At, Callable[[], Reading]]]:
    """Yield each document with what reads it; the files of the next ones are read and hashed meanwhile."""
    with ThreadPoolExecutor(_AHEAD) as pool:
        waiting: deque[tuple[_At, Callable[[], Reading]]] = deque()
        for at in found:
            read: Callable[[], Reading] = partial(at.home.read, at.document)
            if isinstance(at.home, FileHome):
                read = pool.submit(at.home.read, at.document, as_rows=True).result
            waiting.append((at, read))
            if len(waiting) > _AHEAD:
                yield waiting.popleft()
        yield from waiting


def _capture(
    builder: ProfileBuilder,
    part: Part,
    at: _At,
    read: Callable[[], Reading],
    withholder: Withholder,
    problems: list[Problem],
) -> None:
    """Read a document into a builder, and read it again where it changes in between."""
    for attempt in range(1, _TRIES + 1):
        try:
            reading = read() if attempt == 1 else at.home.read(at.document)
            _add(builder, part, withholder.withhold(part, reading), problems)
            return
        except ChangedWhileRead as error:
            if attempt == _TRIES:
                problems.append(Problem(part.id, at.document, "", f"{error.why}, {_TRIES} times"))


def _add(builder: ProfileBuilder, part: Part, reading: Reading, problems: list[Problem]) -> None:
    if reading.is_readable:
        content = reading.content
        size, sha256 = (content.size, content.sha256) if content else (0, "")
        line = head(reading.document, reading.format, size, sha256, reading.about)
        if reading.blocks is None:
            builder.add(line, reading.leaves, content)
        else:
            builder.add_blocks(line, reading.blocks(), content)
    for trouble in (*reading.troubles, *reading.later):
        carried = reading.is_readable and not trouble.address and not trouble.withheld
        where = (part.id, reading.document, trouble.address)
        problems.append(Problem(*where, trouble.why, carried, trouble.withheld))


def application_version(place: Place, subject: Subject) -> str:
    """Return the version the application has written into its settings, or "" if nobody knows."""
    at = subject.application.version
    part = at and subject.find_part(at.part)
    if not at or not part:
        return ""
    try:
        home: Home = open_home(place, part)
        readings = [home.read(document) for document in home.documents()]
    except (NoHome, OSError, StoreError):
        return ""
    found = (reading.leaves_at([at.address]) for reading in readings)
    return next((text_of(leaves[at.address]) for leaves in found if leaves), "")


class Live:
    """Live settings just read; a `Snapshot` without attachments. Close it, or use it as a context."""

    def __init__(self, setup: Setup, place: Place, subject: Subject, selection: Selection) -> None:
        self._builder = ProfileBuilder()
        self.manifest = capture(setup, place, subject, selection, self._builder)

    def pieces(self, part: str) -> Iterator[bytes]:
        """Yield the encoded settings of a part, sorted, many lines at a time."""
        return self._builder.pieces(part) if self.manifest.part(part) else iter(())

    def lines(self, part: str) -> Iterator[bytes]:
        """Yield the encoded settings of a part, sorted."""
        return self._builder.lines(part) if self.manifest.part(part) else iter(())

    @property
    def secrets(self) -> dict[Where, Leaf]:
        """None: what is live keeps its secrets."""
        return {}

    @property
    def removals(self) -> dict[tuple[str, str], tuple[str, ...]]:
        """None: what is live removes nothing."""
        return {}

    def attachment(self, sha256: str) -> ByteStream:
        """Live settings have no attachments: their files are at the place."""
        raise KeyError(sha256)

    def close(self) -> None:
        """Let go of what was read."""
        self._builder.close()

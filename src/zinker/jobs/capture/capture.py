"""Reads the live settings of a subject at a place into a profile."""

import datetime
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor, wait
from functools import partial
from typing import TYPE_CHECKING, NamedTuple

import msgspec

import zinker
from zinker.jobs.capture.selection import Selection
from zinker.jobs.progress import UNKNOWN
from zinker.jobs.session import Session, why_not
from zinker.model.file_state import FileState
from zinker.model.profile import FORMAT, Manifest, Problem
from zinker.model.rows import Block
from zinker.model.setting import WHOLE, decode_line, text_of
from zinker.profiles.sealing import Lock, cannot_seal
from zinker.profiles.writing import ChangedWhileRead, ProfileBuilder, TooLong
from zinker.stores.home import Home, NoHome, StoreError
from zinker.stores.reading import Reading
from zinker.subjects.subject import Part

if TYPE_CHECKING:
    from zinker.jobs.capture.sharing import Sharing

# How many documents are read before it is their turn; each may be large.
_AHEAD, _AHEAD_FAR = 2, 4
# How often a document is read again that changes while it is captured.
_TRIES = 3
_TOLD_AFTER = 5_000  # settings
_TOLD = 5  # files that have what no profile holds


def capture(
    session: Session,
    selection: Selection,
    builder: ProfileBuilder,
    locks: tuple[Lock, ...] = (),
    is_fallback: bool = False,
    sharing: "Sharing | None" = None,
) -> Manifest:
    """Read the chosen parts into a builder; returns what the profile says about itself.

    Secrets are sealed in for `locks`; those of a fallback for this machine, if it can encrypt. With `sharing`, it
    is for strangers.

    What cannot be read is named in its `problems`, and the rest is read all the same.
    """
    return _Capture(session, selection, builder, sharing).run(locks, is_fallback)


class _At(NamedTuple):
    home: Home
    document: str


class _Capture:
    """One capture, and what has come of it so far."""

    def __init__(
        self, session: Session, selection: Selection, builder: ProfileBuilder, sharing: "Sharing | None"
    ) -> None:
        self._session, self._selection, self._builder = session, selection, builder
        self._progress, self._sharing = session.setup.progress, sharing
        self._withholder = session.withholder
        self._problems: list[Problem] = []
        self._given: list[str] = []

    def run(self, locks: tuple[Lock, ...], is_fallback: bool) -> Manifest:
        session, builder = self._session, self._builder
        self._withholder = session.setup.withholder(seals=bool(locks) or is_fallback)
        homes = self._begin()
        for part in self._selection.parts:
            with builder.part(part.id, part.name, part.store, part.device_bound):
                for at, read in _read_ahead(self._documents(part)):
                    self._document(part, at, read)
        for home in homes:
            home.finish()
        if self._given and not is_fallback:
            told, more = ", ".join(self._given[:_TOLD]), len(self._given) - _TOLD
            told += f" and {more} more" if more > 0 else ""
            session.setup.notify(f"What no profile holds, and stays with the file that is there: {told}.")
        self._progress("", 0, 0)
        locks = (self._withholder.lock,) if is_fallback else locks
        is_sealed = bool(locks and self._withholder.secrets) and not (is_fallback and cannot_seal())
        if is_sealed:
            builder.seal(self._withholder.secrets, locks)
        about = self._manifest(tuple(dict.fromkeys(lock.kind for lock in locks)) if is_sealed else ())
        return self._sharing.about(about) if self._sharing else about

    def _manifest(self, sealed: tuple[str, ...]) -> Manifest:
        session, place, subject = self._session, self._session.place, self._session.subject
        return Manifest(
            format=FORMAT,
            subject=subject.id,
            title=subject.title,
            place=place.name,
            machine=place.machine,
            captured=datetime.datetime.now().astimezone().isoformat(timespec="seconds"),
            user=place.user,
            system=place.system,
            application_version=self._version() or session.version,
            while_running=bool(place.running(subject.application.processes)),
            withheld=len(self._withholder.secrets),
            sealed=sealed,
            folders=place.own_folders(),
            parts=tuple(self._builder.parts),
            problems=tuple(self._problems),
            written_by=f"Zinker {zinker.__version__}",
        )

    def _version(self) -> str:
        """Return the application's version, where the part that tells it has just been captured."""
        at = self._session.subject.application.version
        if at is None or all(part.id != at.part for part in self._selection.parts):
            return ""
        wanted = msgspec.json.encode(at.address)
        for piece in self._builder.pieces(at.part):
            if wanted in piece:
                found = map(decode_line, (line for line in piece.split(b"\n") if wanted in line))
                version = next((text_of(one.leaf) for one in found if one.address == at.address), "")
                if version:
                    self._session.__dict__["version"] = version  # it need not be looked for again
                    return version
        return ""

    def _begin(self) -> list[Home]:
        """Begin to read what is read side by side; returns all homes there are."""
        parts = [part for part in self._selection.parts if not self._session.why_no_home(part)]
        homes: list[Home] = []
        for part in parts:
            try:
                homes.append(self._session.home(part))
            except (OSError, StoreError):
                continue  # it is told when it is this part's turn
        waiting = homes
        while waiting:
            begun = waiting[0].begin(waiting, self._progress)
            waiting = [home for home in waiting if home not in begun]
        return homes

    def _documents(self, part: Part) -> Iterator[_At]:
        try:
            home = self._session.home(part)
            known = self._session.documents[part.id] = list(home.documents())
            documents = [name for name in known if self._selection.has(part, name)]
        except NoHome:
            self._builder.mark_homeless()  # a subject may have homes that only some kinds of place have
            return
        except (OSError, StoreError) as error:
            self._problems.append(Problem(part.id, "", "", why_not(error)))
            return
        for number, document in enumerate(documents):
            self._progress(part.name, number, len(documents))
            yield _At(home, document)

    def _document(self, part: Part, at: _At, read: Callable[[], Reading]) -> None:
        """Read a document into the builder, and read it again where it changes in between."""
        for attempt in range(1, _TRIES + 1):
            try:
                reading = read() if attempt == 1 else at.home.read(at.document)
                self._session.remember(part, reading)
                if reading.given:
                    self._given.append(f"{at.document} ({', '.join(reading.given)})")
                guarded = self._withholder.withhold(part, reading)
                self._add(part, self._sharing.shared(part, guarded) if self._sharing else guarded)
                return
            except ChangedWhileRead as error:
                if attempt == _TRIES:
                    why = f"{error.why}, {_TRIES} times"
                    self._problems.append(Problem(part.id, at.document, "", why))

    def _told(self, part: Part, blocks: Iterable[Block]) -> Iterator[Block]:
        """Say now and then how many settings of a document have been read; how many there are, it does not know."""
        done = told = 0
        for block in blocks:
            yield block
            done += len(block)
            if done - told >= _TOLD_AFTER:
                told = done
                self._progress(part.name, done, UNKNOWN)

    def _add(self, part: Part, reading: Reading) -> None:
        if reading.is_readable:
            try:
                if reading.blocks is None:
                    self._builder.add(reading.head, reading.leaves, reading.content)
                else:
                    blocks = self._told(part, reading.blocks())
                    self._builder.add_blocks(reading.head, blocks, reading.content)
            except TooLong:
                self._add_whole(part, reading)
        for trouble in (*reading.troubles, *reading.later):
            carried = reading.is_readable and not trouble.address and not trouble.withheld
            where = (part.id, reading.document, trouble.address)
            self._problems.append(Problem(*where, trouble.why, carried, trouble.withheld))

    def _add_whole(self, part: Part, reading: Reading) -> None:
        """Add a document with a setting that is too long as the file that it is, if it is one."""
        why = "one of its settings is longer than a profile can have"
        file = reading.file
        if file is not None and reading.content is not None:
            whole = FileState(WHOLE, file.size, file.sha256, file.mode)
            self._builder.add(whole.head(reading.document), {}, reading.content)
        self._problems.append(Problem(part.id, reading.document, "", why, carried=file is not None))


def _waited(future: "Future[Reading]") -> Reading:
    """Wait for what is being read; a signal that comes just before the waiting begins is seen all the same."""
    while not wait([future], timeout=1.0).done:
        pass
    return future.result()


def _read_ahead(found: Iterable[_At]) -> Iterator[tuple[_At, Callable[[], Reading]]]:
    """Yield each document with what reads it; the files of the next ones are read and hashed meanwhile."""
    pool = ThreadPoolExecutor(_AHEAD_FAR)  # begins as many as are needed
    try:
        waiting: deque[tuple[_At, Callable[[], Reading]]] = deque()
        for at in found:
            read: Callable[[], Reading] = partial(at.home.read, at.document)
            if at.home.traits.reads_ahead:
                read = partial(_waited, pool.submit(at.home.read, at.document))
            waiting.append((at, read))
            if len(waiting) > (_AHEAD_FAR if at.home.is_far else _AHEAD):
                yield waiting.popleft()
        yield from waiting
    finally:
        pool.shutdown(wait=False, cancel_futures=True)

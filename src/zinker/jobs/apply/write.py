"""Writing a plan at a place: prepare all of it, put it in its place, read it back. It knows no journal."""

import contextlib
from collections.abc import Callable, Iterable, Iterator

from zinker.jobs.plan.order import waves
from zinker.jobs.plan.result import new_content, opened
from zinker.jobs.session import Session
from zinker.model.address import folded
from zinker.model.errors import NotWritable, Refused, reason
from zinker.model.file_state import FileState, is_same
from zinker.model.plan import DocumentChange, LeftAlone
from zinker.model.profile import Snapshot
from zinker.model.setting import WITHHELD, Leaf
from zinker.stores.home import Changed, Home, New, Step, Writing
from zinker.stores.reading import Reading
from zinker.subjects.subject import Part

Changes = tuple[DocumentChange, ...]


class Staged:
    """A plan of which everything is prepared, and nothing is in its place yet."""

    def __init__(self, session: Session, source: Snapshot, changes: Changes) -> None:
        """Prepare all changes; raises `Refused`, and leaves nothing behind then."""
        self._session, self._source, self._changes = session, source, changes
        self._writings: dict[str, Writing] = {}
        try:
            session.expect(change for change in changes if session.home_of(change).is_far)
            for change in changes:
                home = session.home_of(change)
                if change.part not in self._writings:
                    self._writings[change.part] = home.writing()
                with _naming(change):
                    self._writings[change.part].stage(change, _new(session, source, change, home))
            for writing in self._writings.values():
                writing.flush()
        except BaseException:
            for writing in self._writings.values():
                writing.discard()
            raise

    def commit(self) -> list[LeftAlone]:
        """Put everything in its place; returns what was refused.

        Raises `Refused` with the name of the document, and `StoreError`: some may be in their places by then.
        """
        left: list[LeftAlone] = []
        done = 0
        parts = {part for part in self._writings if self._session.home(self._session.part(part)).is_far}
        for wave in waves(self._session.subject, self._changes, parts):
            self._session.setup.progress("Writing", done, len(self._changes))
            done += len(wave)
            with _naming(wave[0]):
                refusals = self._writings[wave[0].part].commit(wave)
            left += [_refused(change, error) for change, error in refusals]
        for writing in self._writings.values():
            writing.settle()
        return left


@contextlib.contextmanager
def _naming(change: DocumentChange) -> Iterator[None]:
    """Name the document in what goes wrong with it; raises `Refused`."""
    document = change.document
    try:
        yield
    except NotWritable as error:
        raise Refused("Nothing changed", f"{document}: {error.why}") from error
    except OSError as error:
        raise Refused("Nothing changed", f"{document}: {reason(error)}") from error
    except UnicodeError as error:
        raise Refused("Nothing changed", f"{document!a}: its name cannot be written here") from error


def _new(session: Session, source: Snapshot, change: DocumentChange, home: Home) -> New:
    """Return what a document is to be; raises `Changed` where it is not as the plan saw it."""
    part = session.part(change.part)
    if not home.traits.has_files:
        return New(
            steps=lambda: _steps(change, source),
            is_as_seen=lambda address, now, before: session.withholder.marked(part, address, now) == before,
        )
    live = home.read(change.document) if change.before is not None else None
    now = session.withholder.withhold(part, live).file if live is not None else None
    if not is_same(now, change.before):
        raise Changed(change.document)
    after = change.after or FileState()
    content: Iterable[bytes] = ()
    if change.action != "remove" and not after.link and not after.is_folder:
        content = new_content(session, part, change, live, source)
    given = after.mode or ("600" if after.is_secret else "")
    mode = int(given, 8) & 0o777 if given and change.action in ("create", "replace") else None
    return New(content, seen=live.seen if live else None, mode=mode)


def _steps(change: DocumentChange, source: Snapshot) -> Iterator[Step]:
    return (Step(item.address, item.before, opened(item, change, source)) for item in change.items)


def _refused(change: DocumentChange, error: NotWritable) -> LeftAlone:
    return LeftAlone(change.part, change.document, error.address, error.why, reason="refused")


def write_again(session: Session, source: Snapshot, changes: Changes) -> list[LeftAlone]:
    """Write without a journal of its own, for taking back what a journal holds already."""
    return Staged(session, source, changes).commit()


def sweep(session: Session, changes: Changes) -> None:
    """Remove what was prepared and not put in its place; raises `OSError`."""
    for change in changes:
        session.home_of(change).sweep(change)


def rescue(session: Session, changes: Changes) -> None:
    """Put back what somebody had saved in the very instant in which a run that was cut off took its place."""
    for change in changes:
        home = session.home_of(change)
        if home.traits.has_files and change.before is not None:
            part = session.part(change.part)
            now = session.read(part, change.document).file if home.has(change.document) else None
            # Before anything has taken its place, what stands beside it is ours, perhaps in part.
            if is_same(now, change.after):
                home.rescue(change, _is_known(session, part, change))


def _is_known(session: Session, part: Part, change: DocumentChange) -> Callable[[Reading], bool]:
    def is_ours(reading: Reading) -> bool:
        file = session.withholder.withhold(part, reading).file
        return is_same(file, change.before) or is_same(file, change.after)

    return is_ours


def read_back(session: Session, changes: Changes, refused: list[LeftAlone]) -> list[LeftAlone]:
    """Read everything again and return what is not as it was to be, apart from what was refused."""
    known = {item.where for item in refused}
    session.expect(changes)
    found = [wrong for change in changes for wrong in _wrong(session, change)]
    return [
        item for item in found if item.where not in known and item.where._replace(address="") not in known
    ]


def _wrong(session: Session, change: DocumentChange) -> Iterator[LeftAlone]:
    """Yield what of a document is not as it was to be."""
    part, home = session.part(change.part), session.home_of(change)
    traits = home.traits
    if change.action == "remove":
        if traits.drops_documents and home.has(change.document):
            yield _otherwise(change, "", "it is still there")
        if traits.drops_documents or not home.has(change.document):
            return
    reading = home.read(change.document)
    # A digest says nothing about secrets, which are compared by their fingerprints.
    secrets = tuple(item for item in change.items if item.after is not None and item.after.type == WITHHELD)
    if change.after is not None and not secrets and is_same(reading.file, change.after):
        return
    reading = session.withholder.withhold(part, reading)
    is_wanted = any(item.after is not None for item in change.items)
    if not reading.is_readable and reading.troubles and change.after is None and is_wanted:
        yield _otherwise(change, "", f"it cannot be read back: {reading.troubles[0].why}")
        return
    items = change.items
    if change.after is not None:
        if is_same(reading.file, change.after):
            items = secrets
        elif reading.file is None or not reading.file.identity or change.after.is_whole:
            yield _otherwise(change, "", _why_otherwise(reading.file, change.after))
            return
    # In a registry the case of names does not count.
    fold = folded if traits.folds_case else str
    emptied = _emptied(change)
    leaves = reading.leaves_at([*(item.address for item in items), *emptied], fold)
    for key, address in emptied.items():
        if leaves.get(fold(key)) == Leaf("key", None):
            yield _otherwise(change, address, "its key is still there, empty")
    for item in items:
        if leaves.get(fold(item.address)) != item.after:
            yield _otherwise(change, item.address, "read back, it does not have the value that was written")


def _emptied(change: DocumentChange) -> dict[str, str]:
    """Return the keys that values are taken out of, each with one such value; what is to stay empty is left out."""
    gone = (item.address for item in change.items if item.after is None)
    keys = {f"{address.rpartition('/')[0]}/": address for address in gone}
    kept = {item.address for item in change.items if item.after is not None}
    return {key: address for key, address in keys.items() if key not in kept and len(key) > 1}


def _why_otherwise(now: FileState | None, wanted: FileState) -> str:
    """Say in what a file that was read back is not as it was to be."""
    if now is None or not now.identity:
        return "it cannot be read back"
    if now.identity == wanted.identity:
        return f"read back, its permissions are {now.mode}, not {wanted.mode}"
    return "read back, it is another file"


def _otherwise(change: DocumentChange, address: str, why: str) -> LeftAlone:
    return LeftAlone(change.part, change.document, address, why, reason="not-as-written")

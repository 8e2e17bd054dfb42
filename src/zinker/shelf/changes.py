"""The record of changes, which is also the journal: it is on the disk before anything at a place changes.

    changes/<number>/change.json      who changed what, when, and how it ended
    changes/<number>/documents.json   every document and setting, with the value before and after
    changes/<number>/round.json       of a round: what its members, changes/<number>.1 and so on, were to do

All end with a digest of their own (record.py), and the first has that of the second, so that nothing is undone by
a record that is not what was written. Those of format 1 have none, and are read as they are.

A change whose state is `open` while its place is not held was cut off: the next run finishes it or takes it
back. It is found through the file `changes/open/<number>`, so that looking for one costs a single listing.
"""

import contextlib
import os
import shutil
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

import msgspec

from zinker.disk.announce import announce
from zinker.disk.files import PRIVATE, flush_folder, make_folders, open_own, write_file
from zinker.disk.windows import exact
from zinker.model.change import Change, ChangeId, RoundRecord
from zinker.model.errors import Damaged, NoAnswer, Refused, WrongUsage, reason, remedy
from zinker.model.plain_json import decode
from zinker.model.plan import DocumentChange
from zinker.shelf.record import checked, digest, is_stamped, stamped
from zinker.shelf.storage import Storage

FORMAT = 2


class ChangeLog:
    """The changes recorded on a shelf."""

    def __init__(
        self,
        folder: Path,
        lock: Callable[[], contextlib.AbstractContextManager[None]],
        mode: int | None = PRIVATE,
        notify: Callable[[str], None] = lambda text: None,
        there: Storage | None = None,
    ) -> None:
        """Open the record in a folder; `notify` is told of what in it is damaged.

        Where the shelf is kept on another machine, the folder has what is under way or has not followed yet, and
        the rest is `there`. What is in the folder counts.
        """
        self._folder, self._lock, self._mode, self._notify = Path(exact(str(folder))), lock, mode, notify
        self._there = there
        self._damaged: set[ChangeId] = set()
        # What was read last: how a change ended can be written down without a line.
        self._read: dict[ChangeId, Change] = {}

    def reserve(self) -> int:
        """Give out the next number, to one run only; raises `Refused` where the shelf cannot be written."""
        try:
            with self._lock():
                number = max([0, *(id.number for id in self._ids())]) + 1
                while self._there is not None and not self._there.put_new(
                    f"changes/{number}/reserved", f"{os.urandom(16).hex()}\n".encode()
                ):
                    number += 1
                make_folders(self._folder / str(number), self._mode)
        except OSError as error:
            raise _unwritable(error) from None
        return number

    def begin(self, change: Change, documents: tuple[DocumentChange, ...]) -> Change:
        """Write down what is about to be done; returns it as it is written down.

        Raises `Refused` where the shelf cannot be written.
        """
        folder = self._folder / str(change.id)
        data = stamped(_Documents(change.number, documents, change.member))
        change = msgspec.structs.replace(change, documents_sha256=digest(data))
        try:
            make_folders(self._folder / "open", self._mode)
            make_folders(folder, self._mode)  # that of a member is not reserved
            write_file(folder / "documents.json", data, self._mode)
            self._write(change)
            # From here on the change counts as begun. Its mark holds nothing, so it needs no staging.
            mark = self._folder / "open" / str(change.id)
            announce("create", mark)
            os.close(open_own(mark, os.O_WRONLY | os.O_CREAT, 0o644))
            flush_folder(self._folder / "open")
        except OSError as error:
            raise _unwritable(error) from None
        return change

    def close(self, change: Change) -> None:
        """Write down how a change ended, also with the change that it undid; raises `OSError`.

        Until the last step the change counts as open, so this can be cut off and done again.
        """
        self._write(change)
        if change.undoes:
            self._mark_undone(change)
        mark = self._folder / "open" / str(change.id)
        announce("unlink", mark)
        mark.unlink(missing_ok=True)

    def has_aside(self) -> bool:
        """Tell whether something in the folder may have to follow."""
        return bool(_ids_in(self._folder)) if self._folder.is_dir() else False

    def ended_aside(self) -> list[Change]:
        """Return the changes in the folder that have ended, the oldest first."""
        written = [id for id in _ids_in(self._folder) if (self._folder / str(id) / "change.json").exists()]
        known = (change for change in map(self._one, written) if change is not None)
        return [change for change in known if change.state != "open"]

    def send(self, change: Change) -> None:
        """Send the record of a change that has ended; it is in the folder no more then. Raises `OSError`."""
        if self._there is None:
            return
        for number in dict.fromkeys((str(change.number), str(change.id))):
            own = self._folder / number
            # The page of a change is last: without it, what is there counts for nothing yet.
            names = [
                name for name in ("round.json", "documents.json", "change.json") if (own / name).exists()
            ]
            if "change.json" in names and self._is_undone_there(change):
                names.remove("change.json")
            for name in names:
                self._there.put(f"changes/{number}/{name}", (own / name).read_bytes())
        (self._folder / str(change.id) / "change.json").unlink(missing_ok=True)
        shutil.rmtree(self._folder / str(change.id), ignore_errors=True)

    def _is_undone_there(self, change: Change) -> bool:
        """Tell whether another machine has undone a change since it was sent from here."""
        if self._there is None or change.state == "undone":
            return False
        name = f"changes/{change.id}/change.json"
        with contextlib.suppress(FileNotFoundError, ValueError), self._there.open(name) as file:
            return checked(file.read(), Change).state == "undone"
        return False

    def _mark_undone(self, change: Change) -> None:
        try:
            undone = self.get(change.undoes_id)
        except NoAnswer:
            if change.undoes_id not in self._read:
                raise
            undone = self._read[change.undoes_id]
        if change.state in ("done", "partly"):
            by = {"undone_by": change.number, "undone_by_member": change.member}
            self._write(msgspec.structs.replace(undone, state="undone", **by))
        elif undone.undone_by_id == change.id:
            state = "partly" if any(item.wanted for item in undone.left) else "done"
            self._write(msgspec.structs.replace(undone, state=state, undone_by=0, undone_by_member=0))

    def open_ones(self) -> list[Change]:
        """Return the changes that were begun and not closed, the oldest first."""
        folder = self._folder / "open"
        if not folder.is_dir():
            return []
        return [self.get(id) for id in _ids_in(folder)]

    def all(self) -> list[Change]:
        """Return all changes, the oldest first, but for those whose record is damaged: these are told once."""
        ids = self._ids()
        if self._there is None or len(ids) <= 1:
            return [change for id in ids if (change := self._one(id)) is not None]
        from concurrent.futures import ThreadPoolExecutor

        with ThreadPoolExecutor(min(self._there.side_by_side, len(ids))) as pool:
            return [change for change in pool.map(self._one, ids) if change is not None]

    def _one(self, id: ChangeId) -> Change | None:
        """Return a change; None for one that was not written down, or is damaged, which is told once."""
        try:
            return self.get(id)
        except WrongUsage:
            return None
        except Damaged as error:
            if id not in self._damaged:
                self._notify(f"Change {id} is left out: {error.why}")
            self._damaged.add(id)
            return None

    def members(self, number: int) -> list[Change]:
        """Return those members of a round's change that were begun, in their order; raises `Damaged`."""
        return [
            self.get(id) for id in self._ids() if id.number == number and id.member and self._is_written(id)
        ]

    def begin_round(self, record: RoundRecord) -> None:
        """Write down what a round is about to do; raises `Refused` where the shelf cannot be written."""
        try:
            write_file(self._round(record.number), stamped(record, indent=2), self._mode)
        except OSError as error:
            raise _unwritable(error) from None

    def round(self, number: int) -> RoundRecord | None:
        """Return what a round's change was to do; None for the change of no round. Raises `Damaged`."""
        path = self._round(number)
        try:
            record = checked(self._bytes(path), RoundRecord)
            if record.format > FORMAT or record.number != number:
                raise ValueError(f"its format is {record.format}, and its number {record.number}")
            return record
        except (FileNotFoundError, NotADirectoryError):
            return None
        except (OSError, ValueError) as error:
            raise _damaged(path, error) from None

    def _round(self, number: int) -> Path:
        return self._folder / str(number) / "round.json"

    def count(self) -> int:
        """Return how many changes are recorded."""
        return sum(map(self._is_written, self._ids()))

    def damaged(self) -> Iterator[tuple[ChangeId, str]]:
        """Read all records; yields those that are not what was written, and why."""
        for id in self._ids():
            try:
                if self._is_written(id):
                    self.documents(self.get(id))
                elif not id.member:
                    self.round(id.number)
            except Damaged as error:
                yield id, error.why

    def get(self, id: ChangeId) -> Change:
        """Return one change; raises `WrongUsage` if there is none, and `Damaged`."""
        path = self._folder / str(id) / "change.json"
        try:
            data = self._bytes(path)
            change = checked(data, Change) if is_stamped(data) else decode(data, Change)
            if change.format > FORMAT or (change.format > 1 and not is_stamped(data)) or change.id != id:
                raise ValueError(
                    f"its format is {change.format}, and it is not what such a record looks like"
                )
            self._read[id] = change
            return change
        except FileNotFoundError:
            why = "no change of that number is on the shelf"
            then = "Every import says the number of its change; `undo` alone takes the newest."
            raise WrongUsage(f"No change {id}", why, then) from None
        except (OSError, ValueError) as error:
            raise _damaged(path, error) from None

    def documents(self, change: Change) -> tuple[DocumentChange, ...]:
        """Return what a change did, document by document; raises `Damaged`."""
        path = self._folder / str(change.id) / "documents.json"
        try:
            data = self._bytes(path)
            if not change.documents_sha256:
                from zinker.shelf.record_1 import read_documents

                return read_documents(data)
            if digest(data) != change.documents_sha256:
                raise ValueError("it does not have the digest that it was written with")
            return checked(data, _Documents).documents
        except (OSError, ValueError) as error:
            raise _damaged(path, error) from None

    def _bytes(self, path: Path) -> bytes:
        """Return what is in a file of the folder, or there; raises `OSError`."""
        try:
            return path.read_bytes()
        except (FileNotFoundError, NotADirectoryError):
            if self._there is None:
                raise
        with self._there.open(f"changes/{path.parent.name}/{path.name}") as file:
            return file.read()

    def _write(self, change: Change) -> None:
        make_folders(self._folder / str(change.id), self._mode)
        write_file(self._folder / str(change.id) / "change.json", stamped(change, indent=2), self._mode)

    def _ids(self) -> list[ChangeId]:
        here = _ids_in(self._folder) if self._folder.is_dir() else []
        there = self._there.names("changes") if self._there is not None else []
        return sorted({*here, *_ids_of(there)})

    def _is_written(self, id: ChangeId) -> bool:
        # A run that was cut off while writing it down had not begun to change anything.
        if (self._folder / str(id) / "change.json").exists():
            return True
        with contextlib.suppress(FileNotFoundError, NotADirectoryError):
            return self._there is not None and self._there.size(f"changes/{id}/change.json") > 0
        return False


def _ids_in(folder: Path) -> list[ChangeId]:
    """Return the changes by which something in a folder is called, in their order."""
    return sorted(_ids_of(path.name for path in folder.iterdir()))


def _ids_of(names: Iterable[str]) -> Iterator[ChangeId]:
    """Yield the changes that some names are."""
    for name in names:
        with contextlib.suppress(ValueError):
            yield ChangeId.of(name)


class _Documents(msgspec.Struct):
    """The content of `documents.json`."""

    change: int
    documents: tuple[DocumentChange, ...]
    member: int = 0


def _damaged(path: Path, error: Exception) -> Damaged:
    why = reason(error) if isinstance(error, OSError) else f"it is damaged: {error}"
    return Damaged("Change not read", f"{path}: {why}", "Restore it from another copy of the shelf.")


def _unwritable(error: OSError) -> Refused:
    why = f"the change could not be written down on the shelf: {reason(error)}"
    return Refused("Nothing changed", why, f"{remedy(error)}, and run this again.")

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
from collections.abc import Callable, Iterator
from pathlib import Path

import msgspec

from zinker.disk.announce import announce
from zinker.disk.files import PRIVATE, flush_folder, make_folders, open_own, write_file
from zinker.disk.windows import exact
from zinker.model.change import Change, ChangeId, RoundRecord
from zinker.model.errors import Damaged, Refused, WrongUsage, reason
from zinker.model.plain_json import decode
from zinker.model.plan import DocumentChange
from zinker.shelf.record import digest, is_sealed, opened, sealed
from zinker.shelf.record_1 import read_documents

FORMAT = 2


class ChangeLog:
    """The changes recorded on a shelf."""

    def __init__(
        self,
        folder: Path,
        lock: Callable[[], contextlib.AbstractContextManager[None]],
        mode: int | None = PRIVATE,
        notify: Callable[[str], None] = lambda text: None,
    ) -> None:
        """Open the record in a folder; `notify` is told of what in it is damaged."""
        self._folder, self._lock, self._mode, self._notify = Path(exact(str(folder))), lock, mode, notify
        self._damaged: set[ChangeId] = set()

    def reserve(self) -> int:
        """Give out the next number, to one run only; raises `Refused` where the shelf cannot be written."""
        try:
            with self._lock():
                number = max([0, *(id.number for id in self._ids())]) + 1
                make_folders(self._folder / str(number), self._mode)
        except OSError as error:
            raise _unwritable(error) from None
        return number

    def begin(self, change: Change, documents: tuple[DocumentChange, ...]) -> Change:
        """Write down what is about to be done; returns it as it is written down.

        Raises `Refused` where the shelf cannot be written.
        """
        folder = self._folder / str(change.id)
        data = sealed(_Documents(change.number, documents, change.member))
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

    def _mark_undone(self, change: Change) -> None:
        undone = self.get(change.undoes_id)
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
        found: list[Change] = []
        for id in self._ids():
            try:
                if self._is_written(id):
                    found.append(self.get(id))
            except Damaged as error:
                if id not in self._damaged:
                    self._notify(f"Change {id} is left out: {error.why}")
                self._damaged.add(id)
        return found

    def members(self, number: int) -> list[Change]:
        """Return those members of a round's change that were begun, in their order; raises `Damaged`."""
        return [
            self.get(id) for id in self._ids() if id.number == number and id.member and self._is_written(id)
        ]

    def begin_round(self, record: RoundRecord) -> None:
        """Write down what a round is about to do; raises `Refused` where the shelf cannot be written."""
        try:
            write_file(self._round(record.number), sealed(record, indent=2), self._mode)
        except OSError as error:
            raise _unwritable(error) from None

    def round(self, number: int) -> RoundRecord | None:
        """Return what a round's change was to do; None for the change of no round. Raises `Damaged`."""
        path = self._round(number)
        try:
            record = opened(path.read_bytes(), RoundRecord)
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
            data = path.read_bytes()
            change = opened(data, Change) if is_sealed(data) else decode(data, Change)
            if change.format > FORMAT or (change.format > 1 and not is_sealed(data)) or change.id != id:
                raise ValueError(
                    f"its format is {change.format}, and it is not what such a record looks like"
                )
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
            data = path.read_bytes()
            if not change.documents_sha256:
                return read_documents(data)
            if digest(data) != change.documents_sha256:
                raise ValueError("it does not have the digest that it was written with")
            return opened(data, _Documents).documents
        except (OSError, ValueError) as error:
            raise _damaged(path, error) from None

    def _write(self, change: Change) -> None:
        write_file(self._folder / str(change.id) / "change.json", sealed(change, indent=2), self._mode)

    def _ids(self) -> list[ChangeId]:
        return _ids_in(self._folder) if self._folder.is_dir() else []

    def _is_written(self, id: ChangeId) -> bool:
        # A run that was cut off while writing it down had not begun to change anything.
        return (self._folder / str(id) / "change.json").exists()


def _ids_in(folder: Path) -> list[ChangeId]:
    """Return the changes by which something in a folder is called, in their order."""
    found = []
    for path in folder.iterdir():
        with contextlib.suppress(ValueError):
            found.append(ChangeId.of(path.name))
    return sorted(found)


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
    return Refused("Nothing changed", why, "Make room on the shelf and run this again.")

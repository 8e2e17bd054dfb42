"""The record of changes, which is also the journal: it is on the disk before anything at a place changes.

    changes/<number>/change.json      who changed what, when, and how it ended
    changes/<number>/documents.json   every document and setting, with the value before and after

Both end with a digest of their own (record.py), and the first has that of the second, so that nothing is undone by
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
from zinker.model.change import Change
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
        self._damaged: set[int] = set()

    def reserve(self) -> int:
        """Give out the next number, to one run only; raises `Refused` where the shelf cannot be written."""
        try:
            with self._lock():
                number = max([0, *self._numbers()]) + 1
                make_folders(self._folder / str(number), self._mode)
        except OSError as error:
            raise _unwritable(error) from None
        return number

    def begin(self, change: Change, documents: tuple[DocumentChange, ...]) -> Change:
        """Write down what is about to be done; returns it as it is written down.

        Raises `Refused` where the shelf cannot be written.
        """
        folder = self._folder / str(change.number)
        data = sealed(_Documents(change.number, documents))
        change = msgspec.structs.replace(change, documents_sha256=digest(data))
        try:
            make_folders(self._folder / "open", self._mode)
            write_file(folder / "documents.json", data, self._mode)
            self._write(change)
            # From here on the change counts as begun. Its mark holds nothing, so it needs no staging.
            mark = self._folder / "open" / str(change.number)
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
        mark = self._folder / "open" / str(change.number)
        announce("unlink", mark)
        mark.unlink(missing_ok=True)

    def _mark_undone(self, change: Change) -> None:
        undone = self.get(change.undoes)
        if change.state in ("done", "partly"):
            self._write(msgspec.structs.replace(undone, state="undone", undone_by=change.number))
        elif undone.undone_by == change.number:
            state = "partly" if any(item.wanted for item in undone.left) else "done"
            self._write(msgspec.structs.replace(undone, state=state, undone_by=0))

    def open_ones(self) -> list[Change]:
        """Return the changes that were begun and not closed, the oldest first."""
        folder = self._folder / "open"
        if not folder.is_dir():
            return []
        numbers = sorted(int(path.name) for path in folder.iterdir() if path.name.isdecimal())
        return [self.get(number) for number in numbers]

    def all(self) -> list[Change]:
        """Return all changes, the oldest first, but for those whose record is damaged: these are told once."""
        found: list[Change] = []
        for number in self._numbers():
            try:
                if self._is_written(number):
                    found.append(self.get(number))
            except Damaged as error:
                if number not in self._damaged:
                    self._notify(f"Change {number} is left out: {error.why}")
                self._damaged.add(number)
        return found

    def count(self) -> int:
        """Return how many changes are recorded."""
        return len(self._numbers())

    def damaged(self) -> Iterator[tuple[int, str]]:
        """Read all records; yields the numbers of those that are not what was written, and why."""
        for number in self._numbers():
            try:
                if self._is_written(number):
                    self.documents(self.get(number))
            except Damaged as error:
                yield number, error.why

    def get(self, number: int) -> Change:
        """Return one change; raises `WrongUsage` if there is none, and `Damaged`."""
        path = self._folder / str(number) / "change.json"
        try:
            data = path.read_bytes()
            change = opened(data, Change) if is_sealed(data) else decode(data, Change)
            if (
                change.format > FORMAT
                or (change.format > 1 and not is_sealed(data))
                or change.number != number
            ):
                raise ValueError(
                    f"its format is {change.format}, and it is not what such a record looks like"
                )
            return change
        except FileNotFoundError:
            why = "no change of that number is on the shelf"
            then = "Every import says the number of its change; `undo` alone takes the newest."
            raise WrongUsage(f"No change {number}", why, then) from None
        except (OSError, ValueError) as error:
            raise _damaged(path, error) from None

    def documents(self, change: Change) -> tuple[DocumentChange, ...]:
        """Return what a change did, document by document; raises `Damaged`."""
        path = self._folder / str(change.number) / "documents.json"
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
        write_file(self._folder / str(change.number) / "change.json", sealed(change, indent=2), self._mode)

    def _numbers(self) -> list[int]:
        if not self._folder.is_dir():
            return []
        return sorted(int(path.name) for path in self._folder.iterdir() if path.name.isdecimal())

    def _is_written(self, number: int) -> bool:
        # A run that was cut off while writing it down had not begun to change anything.
        return (self._folder / str(number) / "change.json").exists()


class _Documents(msgspec.Struct):
    """The content of `documents.json`."""

    change: int
    documents: tuple[DocumentChange, ...]


def _damaged(path: Path, error: Exception) -> Damaged:
    why = reason(error) if isinstance(error, OSError) else f"it is damaged: {error}"
    return Damaged("Change not read", f"{path}: {why}", "Restore it from another copy of the shelf.")


def _unwritable(error: OSError) -> Refused:
    why = f"the change could not be written down on the shelf: {reason(error)}"
    return Refused("Nothing changed", why, "Make room on the shelf and run this again.")

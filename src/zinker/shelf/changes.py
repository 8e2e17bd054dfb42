"""The record of changes, which is also the journal: it is on the disk before anything at a place changes.

    changes/<number>/change.json      who changed what, when, and how it ended
    changes/<number>/documents.json   every document and setting, with the value before and after

A change whose state is `open` while nobody holds its place was cut off: the next run finishes it or takes it
back. It is found through the file `changes/open/<number>`, so that looking for one costs a single listing.
"""

import contextlib
from collections.abc import Callable
from pathlib import Path

import msgspec

from zinker.model.change import Change
from zinker.model.errors import Damaged, Refused, WrongUsage, reason
from zinker.model.plain_json import decode, encode
from zinker.model.plan import DocumentPlan
from zinker.stores.atomic import flush_folder, write_file

FORMAT = 1


class ChangeLog:
    """The changes recorded on a shelf."""

    def __init__(self, folder: Path, lock: Callable[[], contextlib.AbstractContextManager[None]]) -> None:
        self._folder = folder
        self._lock = lock

    def reserve(self) -> int:
        """Give out the next number, to one run only; raises `Refused` where the shelf cannot be written."""
        try:
            with self._lock():
                number = max([0, *self._numbers()]) + 1
                (self._folder / str(number)).mkdir(parents=True)
        except OSError as error:
            raise _unwritable(error) from None
        return number

    def begin(self, change: Change, documents: tuple[DocumentPlan, ...]) -> None:
        """Write down what is about to be done; raises `Refused` where the shelf cannot be written."""
        folder = self._folder / str(change.number)
        try:
            (self._folder / "open").mkdir(exist_ok=True)
            write_file(folder / "documents.json", encode(documents))
            self._write(change)
            # From here on the change counts as begun. Its mark holds nothing, so it needs no staging.
            (self._folder / "open" / str(change.number)).touch()
            flush_folder(self._folder / "open")
        except OSError as error:
            raise _unwritable(error) from None

    def close(self, change: Change) -> None:
        """Write down how a change ended, also with the change that it undid; raises `OSError`.

        Until the last step the change counts as open, so this can be cut off and done again.
        """
        self._write(change)
        if change.undoes:
            self._mark_undone(change)
        (self._folder / "open" / str(change.number)).unlink(missing_ok=True)

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
        """Return all changes, the oldest first."""
        return [self.get(number) for number in self._numbers() if self._is_written(number)]

    def get(self, number: int) -> Change:
        """Return one change; raises `WrongUsage` where there is none, and `Damaged`."""
        path = self._folder / str(number) / "change.json"
        try:
            return decode(path.read_bytes(), Change)
        except FileNotFoundError:
            why = "no change of that number is on the shelf"
            then = "Every import says the number of its change; `undo` alone takes the newest."
            raise WrongUsage(f"No change {number}", why, then) from None
        except (OSError, ValueError) as error:
            raise Damaged("Change not read", f"{path} is damaged: {error}", "Restore the shelf.") from None

    def documents(self, change: Change) -> tuple[DocumentPlan, ...]:
        """Return what a change did, document by document."""
        path = self._folder / str(change.number) / "documents.json"
        try:
            return decode(path.read_bytes(), tuple[DocumentPlan, ...])
        except (OSError, ValueError) as error:
            raise Damaged("Change not read", f"{path} is damaged: {error}", "Restore the shelf.") from None

    def _write(self, change: Change) -> None:
        write_file(self._folder / str(change.number) / "change.json", encode(change, indent=2))

    def _numbers(self) -> list[int]:
        if not self._folder.is_dir():
            return []
        return sorted(int(path.name) for path in self._folder.iterdir() if path.name.isdecimal())

    def _is_written(self, number: int) -> bool:
        # A run that was cut off while writing it down had not begun to change anything.
        return (self._folder / str(number) / "change.json").exists()


def _unwritable(error: OSError) -> Refused:
    why = f"the change could not be written down on the shelf: {reason(error)}"
    return Refused("Nothing changed", why, "Make room on the shelf and run this again.")

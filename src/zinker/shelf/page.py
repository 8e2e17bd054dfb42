"""The first page of a shelf, `shelf.json`: whether there is one, of which format, and whether it is in reach."""

import contextlib
from collections.abc import Callable, Iterator
from pathlib import Path

from zinker.disk.files import make_folders, write_file
from zinker.model.errors import Damaged, Refused, reason
from zinker.model.plain_json import decode, encode
from zinker.shelf.storage import SEAL, Forged, Storage
from zinker.shelf.versions import FORMAT

_NAME = "shelf.json"
_PAGE = b'{"format": 2}\n'
_OLD_PAGE = b'{"format": 1}\n'


class Page:
    """The page of a shelf; `known` is a file of Zinker's own that names the shelves there have been."""

    def __init__(self, storage: Storage, known: Path | None, notify: Callable[[str], None]) -> None:
        """Look at the page; raises `Refused` for a shelf that is out of reach, and `Damaged`."""
        self._storage, self._known, self._notify = storage, known, notify
        self._is_old = self._is_damaged = False
        self._is_made = self._look()

    def make(self) -> None:
        """Have a shelf that can be written to; raises `OSError`, `Damaged`, `Refused` for one out of reach."""
        if self._is_damaged:
            why = f"{self._storage.told}/{_NAME} is damaged"
            raise Damaged("Nothing done", why, "`zinker check` writes it anew.")
        if not self._is_made:
            absence = self._storage.absence() if self._known is not None else ""
            if absence:
                then = "Plug in or mount what it is on, or name another in zinker.toml."
                raise Refused("Nothing done", absence, then)
        for told in self._storage.prepare():
            self._notify(told)
        if not self._is_made:
            # Of two runs, one has made it.
            if self._storage.put_new(_NAME, _PAGE):
                self._notify(f"A new {self._storage.noun} has been made: {self._storage.told}")
        elif self._is_old:
            self._storage.put(_NAME, _PAGE)
            self._notify(
                f"The shelf {self._storage.told} was begun by an earlier Zinker. What is kept there from now on is "
                "for this one and newer ones; what is there already stays as it is."
            )
        self._is_made, self._is_old = True, False
        self._remember()

    def problems(self) -> Iterator[tuple[str, str, str]]:
        """Look at the page byte by byte; yields what is wrong with it, and from what it was written anew.

        There is one thing only that can stand on it, where there are versions.
        """
        with contextlib.suppress(Forged):
            if not self._is_made or self._read() in (_PAGE, _OLD_PAGE):
                return
        mended = ""
        if self._storage.names("subjects"):
            with contextlib.suppress(OSError):  # where it cannot be written, it is only said
                self._storage.put(_NAME, _PAGE)
                self._is_damaged, mended = False, "what is kept"
        yield _NAME, f"it is not {_PAGE.decode().strip()} and a line end", mended

    def _look(self) -> bool:
        told = self._storage.told
        try:
            data = self._read()
            if data is None and self._storage.names(SEAL):
                then = 'Say in zinker.toml what opens it: seal = "passphrase", or the path of its key file.'
                raise Refused("Shelf not opened", f"{told} is sealed", then)
            if data is None and told in self._shelves():
                data = self._read()  # another run may have made it between the two looks
                if data is None:
                    why = f"{told} was a shelf, and there is none now"
                    then = (
                        f"Plug in or mount what it is on. For a new one there, take it out of {self._known}."
                    )
                    raise Refused("Nothing done", why, then)
            if data is None:
                return False
            self._remember()
            number = decode(data, dict)["format"]
        except OSError as error:
            then = "Check that the shelf is all there."
            raise Damaged("Shelf not read", f"{told}/{_NAME}: {reason(error)}", then) from None
        except (ValueError, KeyError):  # what is kept can be read all the same
            self._notify(f"{told}/{_NAME} is damaged; `zinker check` writes it anew.")
            self._is_damaged = True
            return True
        self._is_old = number == 1
        if number not in (1, FORMAT):
            why = f"{told} has the format {number}, and this Zinker reads up to {FORMAT}"
            raise Damaged("Shelf not read", why, "Use a newer Zinker.")
        return True

    def _read(self) -> bytes | None:
        """Return what stands on it, or None where there is none: one look, since others may make it meanwhile."""
        try:
            with self._storage.open(_NAME) as file:
                return file.read()
        except (FileNotFoundError, NotADirectoryError):
            return None

    def _remember(self) -> None:
        """Note that there is a shelf, where nothing stands against writing that down."""
        shelves = self._shelves()
        if self._known is not None and self._storage.told not in shelves:
            with contextlib.suppress(OSError, UnicodeEncodeError):
                make_folders(self._known.parent)
                write_file(self._known, encode([*shelves, self._storage.told], indent=2))

    def _shelves(self) -> list[str]:
        """Return the shelves that there have been."""
        try:
            return decode(self._known.read_bytes(), list[str]) if self._known else []
        except (OSError, ValueError):
            return []

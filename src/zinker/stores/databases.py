"""SQLite files at a place: read as they stand without touching them, and written in one transaction.

A database may be in use, with what was committed last in a write-ahead log beside it. Reading takes a copy of
both and lets SQLite put it together there; nothing is opened, locked or made at the place. Writing goes through
SQLite's own online backup, which takes the locks, is whole or not at all, and is seen by whoever has it open.
"""

import contextlib
import shutil
import sqlite3
from pathlib import Path

from zinker.disk.scratch import scratch_folder
from zinker.disk.tree import Folder, Seen, seen
from zinker.formats.sqlite import plain_header
from zinker.model.errors import DocumentError

# What SQLite keeps beside a database: its rollback journal and its write-ahead log.
_BESIDE = ("-journal", "-wal")
_PATIENCE = 5.0  # seconds to wait for a lock of somebody else


def read_database(folder: Folder, name: str) -> bytes:
    """Return a database with everything that is committed in it; raises `OSError` and `DocumentError`.

    Raises `BlockingIOError` where it changes again and again while it is copied.
    """
    with scratch_folder() as scratch:
        copy = scratch / "database"
        for _ in range(5):
            before = _looks(folder, name)
            for end in ("", *_BESIDE):
                Path(f"{copy}{end}").unlink(missing_ok=True)
                if before[end] is not None:
                    with folder.open(name + end) as source, Path(f"{copy}{end}").open("xb") as target:
                        shutil.copyfileobj(source, target)
            if _looks(folder, name) == before:
                return _put_together(copy)
    raise BlockingIOError(f"{folder.path / name} changed again and again while it was read")


def _looks(folder: Folder, name: str) -> dict[str, Seen | None]:
    found: dict[str, Seen | None] = {}
    for end in ("", *_BESIDE):
        try:
            found[end] = seen(folder.stat(name + end))
        except FileNotFoundError:
            if not end:
                raise
            found[end] = None
    return found


def _put_together(copy: Path) -> bytes:
    with copy.open("rb") as file:
        if file.read(16) != b"SQLite format 3\0":
            raise DocumentError("it is no SQLite database")
    try:
        with contextlib.closing(sqlite3.connect(copy)) as database:
            database.execute("SELECT count(*) FROM sqlite_master").fetchone()
            return plain_header(database.serialize())
    except sqlite3.Error as error:
        raise DocumentError(f"SQLite: {error}") from None


def write_database(source: Path, target: Path) -> None:
    """Make a database the same as another one, in one transaction; raises `OSError` where it is refused."""
    try:
        with (
            contextlib.closing(sqlite3.connect(source)) as staged,
            contextlib.closing(sqlite3.connect(target, timeout=_PATIENCE)) as live,
        ):
            live.execute("PRAGMA synchronous = FULL")
            # One step: either all pages are in one transaction, or none is written.
            live.execute("BEGIN IMMEDIATE").close()
            live.rollback()
            staged.backup(live, pages=-1)
    except sqlite3.OperationalError as error:
        raise BlockingIOError(f"the database is in use: {error}") from None
    except sqlite3.Error as error:
        raise OSError(f"SQLite: {error}") from None

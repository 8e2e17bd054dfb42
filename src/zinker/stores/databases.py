"""SQLite files at a place: read as they stand without touching them, and written in one transaction.

A database may be in use, with what was committed last in a write-ahead log beside it. Reading puts both together
in memory; nothing is opened by SQLite, locked or made at the place, and no copy of it lies on a disk. Writing goes
through SQLite's own online backup, which takes the locks, is whole or not at all, and is seen by whoever has it
open.
"""

import contextlib
import sqlite3
from pathlib import Path

from zinker.disk.folder import Folder, Seen, seen
from zinker.formats.sqlite import plain_header
from zinker.formats.sqlite_logs import put_together
from zinker.model.errors import DocumentError

# What SQLite keeps beside a database: its rollback journal and its write-ahead log.
_BESIDE = ("-journal", "-wal")
_PATIENCE = 5.0  # seconds to wait for a lock of somebody else


def read_database(folder: Folder, name: str) -> bytes:
    """Return a database with everything that is committed in it; raises `OSError` and `DocumentError`.

    Raises `BlockingIOError` where it changes again and again while it is read.
    """
    for _ in range(5):
        before = _looks(folder, name)
        data, journal, log = (_read(folder, name + end) if before[end] else b"" for end in ("", *_BESIDE))
        if _looks(folder, name) == before:
            whole = plain_header(put_together(data, journal, log))
            _check(whole)
            return whole
    raise BlockingIOError(f"{folder.path / name} changed again and again while it was read")


def _check(data: bytes) -> None:
    """Raise `DocumentError` for what SQLite cannot open; as it is, it can still be carried."""
    if not data.startswith(b"SQLite format 3\0"):
        raise DocumentError("it is no SQLite database")
    try:
        with contextlib.closing(sqlite3.connect(":memory:")) as database:
            database.deserialize(data)
            database.execute("SELECT count(*) FROM sqlite_master").fetchone()
    except sqlite3.Error as error:
        raise DocumentError(f"SQLite: {error}") from None


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


def _read(folder: Folder, name: str) -> bytes:
    with folder.open(name) as file:
        return file.read()


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

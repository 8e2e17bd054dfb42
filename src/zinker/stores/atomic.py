"""Writing files so that a reader, or a power cut, finds the old one or the new one and nothing else.

The rule: write beside the target under a name ending in `.zinker-part`, flush it to the disk, rename it over
the target, flush the folder. A name with that ending is nobody's document; whoever finds one may delete it.
"""

import contextlib
import errno
import hashlib
import itertools
import os
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import IO

PART_SUFFIX = ".zinker-part"
CHUNK = 1024 * 1024
# From so many files on, working on all of them at once takes less time than one by one.
_MANY = 100


def part_path(target: Path) -> Path:
    """Return where the new content of a file is written first: short, hidden, the same every time."""
    digest = hashlib.sha256(os.fsencode(target.name)).hexdigest()[:16]
    return target.with_name(f".{digest}{PART_SUFFIX}")


def open_part(path: Path) -> IO[bytes]:
    """Open a new file for writing, readable for its owner alone so far; raises `OSError`."""
    # Exclusive: whatever comes to stand there now, a link above all, was put there by somebody else.
    flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0)
    try:
        descriptor = os.open(path, flags, 0o600)
    except FileExistsError:
        path.unlink()  # what a run that was cut off has left
        descriptor = os.open(path, flags, 0o600)
    return os.fdopen(descriptor, "w+b")


def write_part(target: Path, chunks: Iterable[bytes], mode: int | None = None, flush: bool = True) -> Path:
    """Write the new content of a file beside it, flushed to the disk, with the file's own mode and owner.

    `mode` holds other permission bits that it is to have. Without `flush`, `flush_files` is to follow.

    Raises `OSError`, and leaves nothing behind then.
    """
    path = part_path(target)
    try:
        with open_part(path) as file:
            for chunk in chunks:
                file.write(chunk)
            file.flush()
            if flush:
                os.fsync(file.fileno())
        take_looks(path, target, mode)
    except BaseException:
        path.unlink(missing_ok=True)
        raise
    return path


def take_looks(path: Path, target: Path, mode: int | None = None) -> None:
    """Give a new file the mode and owner of the one it replaces, or those usual in its folder."""
    try:
        looks = target.stat()
        usual = looks.st_mode & 0o7777
    except FileNotFoundError:
        looks = target.parent.stat()
        usual = looks.st_mode & 0o666
    try:
        path.chmod(usual if mode is None else mode)
    except OSError as error:  # a disk without modes keeps its own
        if mode is not None and error.errno not in (errno.EPERM, errno.EACCES, errno.ENOTSUP):
            raise
    with contextlib.suppress(OSError):
        if hasattr(os, "chown") and os.geteuid() == 0:
            os.chown(path, looks.st_uid, looks.st_gid)


def commit_part(path: Path, target: Path) -> None:
    """Rename a written part over its target and flush the folder."""
    path.replace(target)
    flush_folder(target.parent)


def write_file(target: Path, data: bytes) -> None:
    """Replace a small file as a whole; raises `OSError`, and the old one stands then."""
    commit_part(write_part(target, [data]), target)


def flush_files(paths: Sequence[Path]) -> None:
    """Flush files to the disk: a few of them one by one, many at once where the operating system has that."""
    if len(paths) > _MANY and hasattr(os, "sync"):
        os.sync()
        return
    for path in paths:
        if path.is_file() and not path.is_symlink():
            with path.open("rb+") as file:
                os.fsync(file.fileno())


def flush_folder(folder: Path) -> None:
    """Flush a folder's entries to the disk, where the operating system has that (not on Windows)."""
    with contextlib.suppress(OSError):
        descriptor = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)


def make_folders(folder: Path) -> list[Path]:
    """Make a folder with those above it; returns the ones that were missing, the highest first.

    On a disk that belongs to somebody else (a dead workstation's, opened by an administrator) they get the
    owner of the folder they are made in.
    """
    missing = list(itertools.takewhile(lambda path: not path.exists(), (folder, *folder.parents)))
    for path in reversed(missing):
        path.mkdir(exist_ok=True)
        with contextlib.suppress(OSError):
            if hasattr(os, "chown") and os.geteuid() == 0:
                looks = path.parent.stat()
                os.chown(path, looks.st_uid, looks.st_gid)
        flush_folder(path.parent)
    return missing[::-1]


def chunks_of(path: Path) -> Iterator[bytes]:
    """Yield the content of a file in pieces of 1 MiB."""
    with path.open("rb") as file:
        while chunk := file.read(CHUNK):
            yield chunk

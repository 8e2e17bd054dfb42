"""Zinker's own files: a reader, or a power cut, finds the old one or the new one and nothing else.

The rule: write beside the target under a name of `part_name`, flush it to the disk, rename it over the target,
flush the folder. Such a name is no document; it may be deleted.

They are readable by their owner alone, whatever the folder and the umask, unless a `mode` of None is asked for:
then they are as readable as the folder they are made in.

Run by an administrator in somebody's stead, everything belongs to whom the folder belongs to that it is made in, so
that everyone can still reach what is theirs.
"""

import contextlib
import errno
import hashlib
import itertools
import os
import platform
import re
import stat
import threading
from collections.abc import Callable, Iterable, Iterator
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import IO, TYPE_CHECKING

from zinker.disk.announce import announce
from zinker.disk.attributes import give, is_root, set_mode
from zinker.disk.held import is_in_the_way, once_free
from zinker.disk.windows import IS_WINDOWS, open_shared
from zinker.model.names import nearest
from zinker.model.system import asked

if TYPE_CHECKING:
    from filelock import FileLock

PART_SUFFIX = ".zinker-part"
CHUNK = 1024 * 1024
PRIVATE = 0o600
_OWN_PART = re.compile(rf"\.([0-9a-f]{{8}})-(\d+)(?:-\d+)?{re.escape(PART_SUFFIX)}", re.ASCII)
_PART = re.compile(rf"\.[0-9a-f]{{16}}{re.escape(PART_SUFFIX)}", re.ASCII)


def part_name(name: str) -> str:
    """Return the name under which the new content of a file is written: short, hidden, the same every time."""
    return f".{hashlib.sha256(os.fsencode(name)).hexdigest()[:16]}{PART_SUFFIX}"


def is_part(name: str) -> bool:
    """Tell whether a name is one of `part_name`."""
    return _PART.fullmatch(name) is not None


def part_path(target: Path) -> Path:
    """Return where the new content of a file is written first."""
    return target.with_name(part_name(target.name))


def open_part(path: Path) -> IO[bytes]:
    """Open a new file for writing, readable for its owner alone so far; raises `OSError`."""
    announce("create", path)
    # Exclusive: whatever comes to stand there now, a link above all, was put there by somebody else.
    flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0)
    try:
        descriptor = os.open(path, flags, 0o600)
    except FileExistsError:
        path.unlink()  # what a run that was cut off has left
        descriptor = os.open(path, flags, 0o600)
    return os.fdopen(descriptor, "w+b")


def write_part(target: Path, chunks: Iterable[bytes], mode: int | None = PRIVATE) -> Path:
    """Write the new content of a file beside it, flushed to the disk, with the file's own mode and owner.

    Raises `OSError`, and leaves nothing behind then.
    """
    path = part_path(target)
    try:
        with open_part(path) as file:
            for chunk in chunks:
                file.write(chunk)
            finish_part(file, target, mode)
    except BaseException:
        path.unlink(missing_ok=True)
        raise
    return path


def finish_part(file: IO[bytes], target: Path, mode: int | None = PRIVATE) -> None:
    """Flush an open file, and give it mode and owner of the one it replaces; a new one has `mode`."""
    file.flush()
    os.fsync(file.fileno())
    try:
        looks = target.stat()
        usual = looks.st_mode & 0o7777
    except FileNotFoundError:
        looks = target.parent.stat()
        usual = looks.st_mode & 0o666 if mode is None else mode
    give(file.fileno(), looks)
    set_mode(file.fileno(), usual)


def put_in_place(path: Path, target: Path) -> None:
    """Rename a written part over its target, once nobody has that open who stands in the way."""
    announce("rename", target)
    once_free(lambda: path.replace(target), is_in_the_way)


def commit_part(path: Path, target: Path) -> None:
    """Rename a written part over its target and flush the folder."""
    put_in_place(path, target)
    flush_folder(target.parent)


def remove_file(path: Path) -> None:
    """Remove a file, once nobody has it open who stands in the way; one that is not there is no error."""
    announce("unlink", path)
    once_free(lambda: path.unlink(missing_ok=True), is_in_the_way)


def commit_new(
    path: Path, target: Path, alone: Callable[[], AbstractContextManager[object]] = nullcontext
) -> bool:
    """Give a written part its name unless there is one of that name; tells whether it did.

    Of several runs that try, one succeeds; on a file system without links, of those that are `alone` by a lock.
    """
    try:
        if IS_WINDOWS:
            path.rename(target)  # never over another one there
            return True
        os.link(path, target)
    except FileExistsError:
        return False
    except OSError:  # no links on this file system, as on sticks
        with alone():
            if target.exists():
                return False
            path.replace(target)
        return True
    path.unlink(missing_ok=True)
    return True


def write_file(target: Path, data: bytes, mode: int | None = PRIVATE) -> None:
    """Replace a small file as a whole; raises `OSError`, and the old one stands then."""
    commit_part(write_part(target, [data], mode), target)


def open_own(path: Path, flags: int, mode: int = 0o600) -> int:
    """Open a file of Zinker's own, and give one that is new to whom its folder belongs to; raises `OSError`."""
    is_new = bool(flags & os.O_CREAT) and not path.exists()
    descriptor = os.open(path, flags | getattr(os, "O_BINARY", 0), mode)
    if is_new:
        give(descriptor, path.parent.stat())
    return descriptor


def lock(path: Path, patience: float) -> "FileLock":
    """Return a lock in a file, which is made if need be; raises `OSError`.

    Taking it waits for `patience` seconds, and raises `TimeoutError` then.
    """
    from filelock import FileLock  # most of what takes a second look only reads, and starts without it

    make_folders(path.parent)
    if is_root() and not path.exists():
        os.close(open_own(path, os.O_RDWR | os.O_CREAT, 0o644))
    # A round plans in one thread and lets go of its places in another.
    return FileLock(path, timeout=patience, thread_local=False)


def own_part(folder: Path) -> Path:
    """Return a name in a folder for something that this thread builds, and no other; see `sweep_own_parts`."""
    return folder / f".{_machine()}-{os.getpid()}-{threading.get_ident()}{PART_SUFFIX}"


def sweep_own_parts(folder: Path) -> None:
    """Remove what runs on this machine that are dead have left of what they built in a folder."""
    from zinker.disk.scratch import is_running

    with contextlib.suppress(OSError):
        for name in os.listdir(folder):
            found = _OWN_PART.fullmatch(name)
            if found and found[1] == _machine() and not is_running(int(found[2])):
                (folder / name).unlink(missing_ok=True)


def _machine() -> str:
    return hashlib.sha256(asked(platform.node).encode()).hexdigest()[:8]


def open_regular(path: Path) -> IO[bytes]:
    """Open a regular file for reading, in nobody's way; raises `OSError`, and never waits for a pipe."""
    descriptor = open_shared(os.fspath(path)) if IS_WINDOWS else os.open(path, os.O_RDONLY | os.O_NONBLOCK)
    try:
        kind = stat.S_IFMT(os.fstat(descriptor).st_mode)
        if kind == stat.S_IFDIR:
            raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR), os.fspath(path))
        if kind != stat.S_IFREG:
            raise OSError(errno.ENODEV, "it is not a file, but a pipe or a device", os.fspath(path))
        return os.fdopen(descriptor, "rb")
    except BaseException:
        os.close(descriptor)
        raise


def read_regular(path: Path) -> bytes:
    """Return the content of a file; raises `OSError`, also where it is no regular file."""
    with open_regular(path) as file:
        return file.read()


def flush_folder(folder: Path) -> None:
    """Flush a folder's entries to the disk, where the operating system has that (not on Windows)."""
    with contextlib.suppress(OSError):
        descriptor = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)


def make_folders(folder: Path, mode: int | None = PRIVATE) -> list[Path]:
    """Make a folder with those above it; returns the ones that were missing, the highest first.

    They get the owner of the folder they are made in, and are for that one alone unless the mode is None.
    """
    missing = list(itertools.takewhile(lambda path: not path.exists(), (folder, *folder.parents)))
    for path in reversed(missing):
        path.mkdir(mode=0o777 if mode is None else 0o700, exist_ok=True)
        with contextlib.suppress(OSError):
            looks = path.parent.stat()
            if mode is None:
                path.chmod(looks.st_mode & 0o7777)
            if is_root() and (looks.st_uid or looks.st_gid):
                os.chown(path, looks.st_uid, looks.st_gid)
        flush_folder(path.parent)
    return missing[::-1]


def is_open_to_others(path: Path) -> bool:
    """Tell whether other accounts may read a file, where modes say that (not on Windows); raises `OSError`."""
    return os.name == "posix" and bool(stat.S_IMODE(path.stat().st_mode) & 0o077)


def close_to_others(folder: Path) -> bool:
    """Take other accounts' rights to one's own folder; tells whether they had any."""
    looks = folder.stat()
    is_open = os.name == "posix" and bool(looks.st_mode & 0o077) and looks.st_uid == os.geteuid()
    if is_open:
        folder.chmod(looks.st_mode & 0o7700)
    return is_open


def chunks_of(path: Path) -> Iterator[bytes]:
    """Yield the content of a file in pieces of 1 MiB."""
    with open_regular(path) as file:
        while chunk := file.read(CHUNK):
            yield chunk


def nearest_path(path: Path) -> str:
    """Return a question after the file or folder that was probably meant, " Did you mean X?", or ""."""
    there = path.absolute()
    missing = there
    while not there.exists() and there != there.parent:
        missing, there = there, there.parent
    try:
        names = os.listdir(there) if there.is_dir() else []
    except OSError:
        return ""
    near = nearest(missing.name, names)[:1]
    return f"Did you mean {there / near[0]}? " if near else ""

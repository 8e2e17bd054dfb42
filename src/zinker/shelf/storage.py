"""Where a shelf is kept: files of bytes under names such as `objects/ab/…`, none of which is ever seen half.

`Storage` is all that the shelf asks for. `FolderStorage` is a folder: on a disk, a share or a stick.
"""

import contextlib
import os
import shutil
from collections.abc import Iterator
from contextlib import AbstractContextManager
from pathlib import Path
from typing import IO, Protocol

from zinker.disk.alive import alive, ended
from zinker.disk.announce import announce
from zinker.disk.attributes import give, set_mode
from zinker.disk.files import (
    PRIVATE,
    close_to_others,
    commit_new,
    flush_folder,
    lock,
    make_folders,
    open_part,
    open_regular,
    put_in_place,
    remove_file,
)
from zinker.disk.windows import exact

LOCK = ".lock"
# Where a sealed shelf has its keys, each sealed itself.
SEAL = "seal"
# How the address of a share begins.
SMB = "smb://"
# How those of object storage do, and what people call what they name first.
KINDS = {"s3": "bucket", "az": "container", "gs": "bucket"}
_WRITING = "writing"
# So many new files are flushed at a time.
_TOGETHER = 128


def is_address(named: str) -> bool:
    """Tell whether a shelf is named that is on object storage."""
    kind, is_one, _ = named.partition("://")
    return bool(is_one) and kind in KINDS


class Busy(Exception):
    """Another run holds what was to be held, and did not let go of it."""


class Forged(ValueError):
    """What is read is not what was written: it was changed where it is kept."""


class Batch(Protocol):
    """Files that are written together: none is there under its name before `settle`, all are afterwards."""

    def sink(self, name: str) -> AbstractContextManager[IO[bytes]]:
        """Open a new file for writing; raises `OSError`, and nothing of it is left then."""
        ...

    def settle(self) -> None:
        """Flush what was written, and give it its names; raises `OSError`."""
        ...

    def settle_new(self) -> bool:
        """Do so with one file, unless there is one of its name by now; tells whether there was not."""
        ...


class Storage(Protocol):
    """Names are relative and have slashes; everything raises `OSError`."""

    # What people call it, and what is kept there.
    told: str
    noun: str = "shelf"
    # Where it is on this machine, None for elsewhere.
    folder: Path | None
    # So many questions are asked at once, where each takes its time to be answered.
    side_by_side: int = 1
    # Whether all names of a folder are told about as soon as a few are looked for.
    lists_fast: bool = True

    def absence(self) -> str:
        """Say why it cannot be made where it should be, "" if it can."""
        ...

    def prepare(self) -> Iterator[str]:
        """Make it, if need be, and close it to whom it is not for; yields what is to be told of that."""
        ...

    def names(self, folder: str) -> list[str]:
        """Return the names in a folder, in no order; none where there is no such folder."""
        ...

    def size(self, name: str) -> int:
        """Return how many bytes a file has; raises `FileNotFoundError`."""
        ...

    def open(self, name: str) -> IO[bytes]:
        """Open a file for reading; raises `FileNotFoundError`. Of a sealed one, reading raises `Forged`, too."""
        ...

    def put(self, name: str, data: bytes) -> None:
        """Write a small file, in place of one that may be there; it is on the disk then."""
        with self.batch() as batch:
            with batch.sink(name) as sink:
                sink.write(data)
            batch.settle()

    def put_new(self, name: str, data: bytes) -> bool:
        """Write a small file, unless there is one of that name; tells whether it did. One run only succeeds."""
        with self.batch() as batch:
            with batch.sink(name) as sink:
                sink.write(data)
            return batch.settle_new()

    def delete(self, name: str) -> None:
        """Remove a file; one that is not there is no error."""
        ...

    def batch(self) -> AbstractContextManager[Batch]:
        """Begin to write files together; while that lasts, `writers` counts it."""
        ...

    def writers(self) -> int:
        """Sweep what dead runs have begun to write, and count the batches of others that are under way."""
        ...

    def hold(self, patience: float) -> AbstractContextManager[None]:
        """Hold the storage against other runs that hold it; raises `Busy` after so many seconds."""
        ...

    def free(self) -> int | None:
        """Return how many bytes there is room for; None where there is no end of it."""
        ...

    def problems(self) -> Iterator[tuple[str, str, str]]:
        """Look at what it has of its own; yields what of it is damaged, why, and what it was mended from, or ""."""
        yield from ()


class FolderStorage(Storage):
    """A folder. Files in it are for their owner alone, or with a mode of None as readable as the folder is."""

    def __init__(self, folder: Path, mode: int | None = PRIVATE) -> None:
        self.folder: Path | None = folder
        # Names on a shelf are long, and Windows takes no path of over 259 characters as it is.
        self._folder, self._mode, self.told = Path(exact(str(folder))), mode, str(folder)
        self._made: set[Path] = set()
        self._own: Path | None = None
        self._is_held = False
        self._count = 0

    def absence(self) -> str:
        """Say why it cannot be made: what it would be in is not there."""
        if self._folder.parent.is_dir():
            return ""
        return f"{Path(self.told).parent} is not there, in which the shelf {self.told} would be"

    def prepare(self) -> Iterator[str]:
        """Make it, and close what other accounts of this machine could read, unless it is theirs, too."""
        make_folders(self._folder, self._mode)
        kept = [
            path
            for name in ("subjects", "objects", "changes", SEAL)
            if (path := self._folder / name).is_dir()
        ]
        if [path for path in kept if self._mode is not None and close_to_others(path)]:
            then = "with `shared = true` in zinker.toml it is as open as its folder"
            yield f"The shelf {self.told} could be read by others, and is closed to them now; {then}"

    def names(self, folder: str) -> list[str]:
        """Return the names in a folder."""
        try:
            return [entry.name for entry in os.scandir(self._folder / folder)]
        except (FileNotFoundError, NotADirectoryError):
            return []

    def size(self, name: str) -> int:
        """Return how many bytes a file has."""
        return (self._folder / name).stat().st_size

    def open(self, name: str) -> IO[bytes]:
        """Open a file for reading."""
        return open_regular(self._folder / name)

    def delete(self, name: str) -> None:
        """Remove a file."""
        remove_file(self._folder / name)

    @contextlib.contextmanager
    def batch(self) -> Iterator["_FolderBatch"]:
        """Begin to write files together, in a folder of their own; whoever has its lock is alive.

        One that is begun while another is under way is in the same folder.
        """
        if self._own is not None:
            with contextlib.closing(_FolderBatch(self, self._own, self._mode)) as batch:
                yield batch
            return
        make_folders(self._folder / _WRITING, self._mode)
        while True:
            own = self._folder / _WRITING / os.urandom(8).hex()
            with alive(own.with_suffix(".lock")) as is_ours:
                if not is_ours:
                    continue  # swept before it was locked
                make_folders(own, self._mode)
                self._own = own
                try:
                    with contextlib.closing(_FolderBatch(self, own, self._mode)) as batch:
                        yield batch
                finally:
                    self._own = None
                    shutil.rmtree(own, ignore_errors=True)
                return

    def writers(self) -> int:
        """Sweep what dead runs have begun to write, and count the batches of others that are under way."""
        own = self._own.name if self._own is not None else ""
        names = {name.partition(".")[0] for name in self.names(_WRITING)} - {own}
        return sum(not self._swept(self._folder / _WRITING / name) for name in sorted(names))

    def _swept(self, begun: Path) -> bool:
        """Remove what a run that is over has begun; tells whether it is over."""
        try:
            with ended(begun.with_suffix(".lock")) as is_over:
                if is_over:
                    shutil.rmtree(begun, ignore_errors=True)
                return is_over
        except OSError:
            return False

    def next_part(self, folder: Path) -> Path:
        """Return a name in a folder for what is written next."""
        self._count += 1
        return folder / str(self._count)

    @contextlib.contextmanager
    def hold(self, patience: float) -> Iterator[None]:
        """Hold the folder against other runs that hold it; who holds it already goes on."""
        if self._is_held:
            yield
            return
        try:
            with lock(self._folder / LOCK, patience):
                self._is_held = True
                try:
                    yield
                finally:
                    self._is_held = False
        except TimeoutError:
            raise Busy from None

    def free(self) -> int:
        """Return how many bytes there is room for."""
        there = self._folder.absolute()
        while not there.exists():
            there = there.parent
        return shutil.disk_usage(there).free

    def _target(self, name: str) -> Path:
        target = self._folder / name
        if target.parent not in self._made:
            make_folders(target.parent, self._mode)
            self._made.add(target.parent)
        return target


class _FolderBatch:
    """Files beside their places until all are on the disk: flushing them together costs one wait, not one each."""

    def __init__(self, storage: FolderStorage, folder: Path, mode: int | None) -> None:
        self._storage, self._folder, self._mode = storage, folder, mode
        self._staged: list[tuple[Path, Path]] = []
        self._open: list[IO[bytes]] = []

    @contextlib.contextmanager
    def sink(self, name: str) -> Iterator[IO[bytes]]:
        """Open a new file for writing."""
        part = self._storage.next_part(self._folder)
        target = self._storage._target(name)  # noqa: SLF001 - they are one
        file = open_part(part)
        try:
            yield file
            looks = target.parent.stat()
            give(file.fileno(), looks)
            set_mode(file.fileno(), looks.st_mode & 0o666 if self._mode is None else self._mode)
            file.flush()
        except BaseException:
            file.close()
            part.unlink(missing_ok=True)
            raise
        self._staged.append((part, target))
        self._open.append(file)
        if len(self._open) >= _TOGETHER:
            self._flush()

    def settle(self) -> None:
        """Flush what was written, and give it its names."""
        self._flush()
        for part, target in self._staged:
            put_in_place(part, target)
        self._end()

    def settle_new(self) -> bool:
        """Do so with one file, unless there is one of its name by now; tells whether there was not."""
        self._flush()
        ((part, target),) = self._staged
        announce("rename", target)
        done = commit_new(part, target, lambda: self._storage.hold(60.0))
        self._end()
        return done

    def close(self) -> None:
        """Let go of what was not settled."""
        while self._open:
            self._open.pop().close()

    def _flush(self) -> None:
        """Flush what is written by now; the disk has had time to begin with it."""
        while self._open:
            with self._open.pop() as file:
                os.fsync(file.fileno())

    def _end(self) -> None:
        for folder in {target.parent for _, target in self._staged}:
            flush_folder(folder)
        self._staged.clear()

"""One folder of a place, held open: everything in it is reached by its name there.

Relative to a descriptor (openat(2) and its kin) where the system has them, so that no link can be put in the way
meanwhile; elsewhere by path, after a look. Whoever has folders elsewhere, as on another workstation, makes a class
like this one.
"""

import contextlib
import errno
import os
import stat
import weakref
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Any

from zinker.disk.announce import announce
from zinker.disk.attributes import attributes, give, is_root, set_mode, take_over
from zinker.disk.swap import exchange, rename_new
from zinker.disk.windows import clear_read_only, exact, is_held, is_link, open_shared

_BINARY = getattr(os, "O_BINARY", 0)
HAS_DESCRIPTORS = hasattr(os, "O_NOFOLLOW") and hasattr(os, "O_DIRECTORY") and os.open in os.supports_dir_fd
SEARCH = getattr(os, "O_PATH", os.O_RDONLY)  # who may go through a folder need not be allowed to list it

# What tells whether a file is still the one that was looked at: device, inode, size, and the times of the last
# change of its content and of anything else, in nanoseconds.
Seen = tuple[int, int, int, int, int]


class Astray(OSError):
    """A link leads where nothing is read or written; `why` says where."""

    def __init__(self, why: str) -> None:
        super().__init__(why)
        self.why = why


def seen(looks: os.stat_result) -> Seen:
    """Return what tells whether a file is still the one that was looked at."""
    return (looks.st_dev, looks.st_ino, looks.st_size, looks.st_mtime_ns, looks.st_ctime_ns)


class Folder:
    """One folder, held open; `parts` are the names on the way to it from the top, links resolved."""

    def __init__(self, path: Path, parts: tuple[str, ...], descriptor: int | None) -> None:
        self.path, self.parts = path, parts
        self.descriptor = descriptor
        if descriptor is not None:
            weakref.finalize(self, os.close, descriptor)

    @property
    def can_be_held(self) -> bool:
        """Whether a file that a program has open cannot be replaced: only Windows has that."""
        return self.descriptor is None

    @property
    def has_modes(self) -> bool:
        """Whether files in here have permission bits that count."""
        return os.name == "posix"

    def _at(self, name: str) -> tuple[str, dict[str, Any]]:
        """Return how the functions of `os` are told of a name in here."""
        if self.descriptor is None:
            return exact(os.fspath(self.path / name)), {}
        return name, {"dir_fd": self.descriptor}

    def looks(self) -> os.stat_result:
        """Return what there is to know of the folder itself."""
        return self._own().stat() if self.descriptor is None else os.fstat(self.descriptor)

    def _own(self) -> Path:
        return Path(exact(os.fspath(self.path)))

    def stat(self, name: str) -> os.stat_result:
        """Return what there is to know of a name, a link itself included; raises `OSError`."""
        path, at = self._at(name)
        return os.stat(path, follow_symlinks=False, **at)

    def has(self, name: str) -> bool:
        """Tell whether something has that name."""
        try:
            self.stat(name)
        except (FileNotFoundError, NotADirectoryError):
            return False
        return True

    def is_held(self, name: str) -> bool:
        """Tell whether another program holds a file open so that it cannot be replaced: only Windows has that."""
        return self.descriptor is None and is_held(self._at(name)[0])

    def closed(self) -> str:
        """Say why nothing can be written in here, or ""."""
        if os.access(self.path, os.W_OK | os.X_OK):
            return ""
        read_only = hasattr(os, "statvfs") and os.statvfs(self.path).f_flag & os.ST_RDONLY
        return "the disk is read-only" if read_only else f"no right to write in {self.path}"

    def listed(self, name: str) -> os.stat_result | None:
        """Return what the last listing has told of a name, where it tells what `stat` would."""
        return None

    def looks_after(self, name: str) -> os.stat_result | None:
        """Return what there was to know of a file right after it had been read, where that came with it."""
        return None

    def looks_of(self, file: IO[bytes]) -> os.stat_result:
        """Return what there is to know of a file of this folder that is open."""
        return os.fstat(file.fileno())

    def identity(self) -> tuple[int, int]:
        """Return what tells whether it is still the same folder."""
        looks = self.looks()
        return looks.st_dev, looks.st_ino

    def attributes(self, name: str, looks: os.stat_result) -> list[str]:
        """Return the names of the attributes that somebody has given to a file, of which this is known."""
        return attributes(os.fspath(self.path / name))

    def readlink(self, name: str) -> str:
        """Return the text of a link; raises `OSError`."""
        path, at = self._at(name)
        return os.readlink(path, **at)

    def child(self, name: str) -> "Folder":
        """Hold a folder in here open; raises `OSError`, also for a link."""
        path, at = self._at(name)
        if self.descriptor is None:
            looks = os.stat(path, follow_symlinks=False)
            if not stat.S_ISDIR(looks.st_mode) or is_link(looks):
                raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), path)
            return Folder(self.path / name, (*self.parts, name), None)
        flags = SEARCH | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
        return Folder(self.path / name, (*self.parts, name), os.open(path, flags, **at))

    def open(self, name: str) -> IO[bytes]:
        """Open a regular file for reading; raises `OSError`, and never waits for a pipe."""
        path, at = self._at(name)
        if self.descriptor is None and not stat.S_ISREG(self.stat(name).st_mode):
            raise Astray("it is not a file")
        if self.descriptor is None:
            descriptor = open_shared(path)
        else:
            descriptor = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, **at)
        try:
            if not stat.S_ISREG(os.fstat(descriptor).st_mode):
                raise Astray("it is not a file")
            return os.fdopen(descriptor, "rb")
        except BaseException:
            os.close(descriptor)
            raise

    def entries(self) -> Iterator[tuple[str, int]]:
        """Yield names in here, each with what it is: the bits of `stat.S_IFMT`. Raises `OSError`."""
        if self.descriptor is None:
            listed: Any = os.scandir(self._own())
        else:
            own = os.open(".", os.O_RDONLY | os.O_DIRECTORY, dir_fd=self.descriptor)
            try:
                listed = os.scandir(own)  # has a descriptor of its own
            finally:
                os.close(own)
        with listed:
            for entry in listed:
                if entry.is_symlink() or (
                    self.descriptor is None and is_link(entry.stat(follow_symlinks=False))
                ):
                    yield entry.name, stat.S_IFLNK
                elif entry.is_dir(follow_symlinks=False):
                    yield entry.name, stat.S_IFDIR
                elif entry.is_file(follow_symlinks=False):
                    yield entry.name, stat.S_IFREG
                else:
                    yield entry.name, stat.S_IFIFO

    # What changes something. A file is made for its owner alone; who makes it says what else it is to be.

    def create(self, name: str) -> IO[bytes]:
        """Make a file that is not there yet, for writing; raises `OSError`."""
        path, at = self._at(name)
        announce("create", self.path / name)
        # Exclusive: whatever comes to stand there now, a link above all, was put there by somebody else.
        flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0) | _BINARY
        return os.fdopen(os.open(path, flags, 0o600, **at), "w+b")

    def link(self, name: str, to: str) -> None:
        """Make a symbolic link; it belongs to whom this folder belongs to. Raises `OSError`."""
        path, at = self._at(name)
        announce("link", self.path / name)
        os.symlink(to, path, **at)
        looks = self.looks()
        if is_root() and (looks.st_uid or looks.st_gid):
            with contextlib.suppress(OSError):
                os.chown(path, looks.st_uid, looks.st_gid, follow_symlinks=False, **at)

    def make(self, name: str, mode: int | None = None) -> "Folder":
        """Make a folder; it belongs to whom this one belongs to, and is as open as it. Raises `OSError`."""
        path, at = self._at(name)
        announce("make", self.path / name)
        looks = self.looks()
        os.mkdir(path, stat.S_IMODE(looks.st_mode) & 0o777 if mode is None else mode, **at)
        made = self.child(name)
        if is_root() and (looks.st_uid or looks.st_gid):
            with contextlib.suppress(OSError):
                os.chown(path, looks.st_uid, looks.st_gid, follow_symlinks=False, **at)
        return made

    def unlink(self, name: str) -> None:
        """Remove a file or link; nothing happens if there is none. Raises `OSError`."""
        path, at = self._at(name)
        announce("unlink", self.path / name)
        with contextlib.suppress(FileNotFoundError):
            if self.descriptor is None:
                clear_read_only(path)
            os.unlink(path, **at)

    def rmdir(self, name: str) -> None:
        """Remove an empty folder; raises `OSError`."""
        path, at = self._at(name)
        announce("rmdir", self.path / name)
        os.rmdir(path, **at)

    def replace(self, old: str, new: str) -> None:
        """Rename, over what has the new name; raises `OSError`."""
        announce("rename", self.path / new)
        if self.descriptor is None:
            target = self._at(new)[0]
            was_read_only = self.has(new) and clear_read_only(target)
            try:
                os.replace(self._at(old)[0], target)
            except OSError:
                if was_read_only:
                    os.chmod(target, stat.S_IREAD)
                raise
        else:
            os.replace(old, new, src_dir_fd=self.descriptor, dst_dir_fd=self.descriptor)

    def exchange(self, one: str, other: str) -> bool:
        """Swap what two names stand for; tells whether the system can. Raises `OSError`."""
        announce("rename", self.path / other)
        return exchange(self._at(one)[0], self._at(other)[0], self.descriptor)

    def rename_new(self, old: str, new: str) -> None:
        """Rename where the new name is free; raises `FileExistsError`, and `OSError`."""
        announce("rename", self.path / new)
        rename_new(self._at(old)[0], self._at(new)[0], self.descriptor)

    def dress(self, name: str, file: IO[bytes], mode: int | None) -> None:
        """Give a new file mode, owner and attributes of the one it is to replace, or those usual in here."""
        try:
            with self.open(name) as old:
                take_over(old.fileno(), file.fileno(), mode)
                return
        except OSError:  # there is none, or a link, a folder, or what may not be read
            pass
        looks = self.looks()
        give(file.fileno(), looks)
        set_mode(file.fileno(), looks.st_mode & 0o666 if mode is None else mode, mode is not None)

    def flush_file(self, file: IO[bytes]) -> None:
        """Have a new file reach the disk, where that is not done for all of them together."""
        file.flush()
        if not HAS_DESCRIPTORS:  # what is open for reading alone cannot be flushed there
            os.fsync(file.fileno())

    def flush(self) -> None:
        """Flush the names in here to the disk, where the system has that."""
        if self.descriptor is None:
            return
        with contextlib.suppress(OSError):
            own = os.open(".", os.O_RDONLY, dir_fd=self.descriptor)
            try:
                os.fsync(own)
            finally:
                os.close(own)

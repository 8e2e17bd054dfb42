"""A place's folders, held open: what is below is reached name by name, and no link is followed unseen.

A link is followed only within the tree, and only to what belongs to whoever made it; links that the administrator
made count as the system's own. An absolute link counts from the top. Everything is done relative to descriptors
(openat(2) and its kin) where the system has them, so that no link can be put in the way meanwhile; elsewhere by
path, after a look.
"""

import contextlib
import errno
import os
import shutil
import stat
import weakref
from collections import OrderedDict
from collections.abc import Iterator, Sequence
from pathlib import Path
from threading import RLock
from typing import IO, Any, NamedTuple

from zinker.disk.announce import announce
from zinker.disk.attributes import attributes, give, is_root, set_mode, take_over
from zinker.disk.swap import exchange, rename_new
from zinker.disk.windows import clear_read_only, exact, is_held, is_link, open_shared

_MOST_LINKS = 40  # as many as Linux follows
_BINARY = getattr(os, "O_BINARY", 0)
HAS_DESCRIPTORS = hasattr(os, "O_NOFOLLOW") and hasattr(os, "O_DIRECTORY") and os.open in os.supports_dir_fd
_SEARCH = getattr(os, "O_PATH", os.O_RDONLY)  # who may go through a folder need not be allowed to list it

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
        flags = _SEARCH | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
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


class Reached(NamedTuple):
    """Where something stands: in a folder, held open, under a name; `led` is its path if links led to it."""

    folder: Folder
    name: str
    led: str = ""

    @property
    def path(self) -> Path:
        """Its path, for messages."""
        return self.folder.path / self.name

    def stat(self) -> os.stat_result:
        """Return what there is to know of it, a link itself included; raises `OSError`."""
        return self.folder.stat(self.name)

    def seen(self) -> Seen | None:
        """Return what tells whether it is still the same, or None where there is nothing; raises `OSError`."""
        try:
            return seen(self.stat())
        except FileNotFoundError:
            return None


class Tree:
    """All that is below a folder. `top` may be reached through links: it is named by the technician."""

    held_open = 16  # folders; there are many trees, and a process may have few descriptors
    # How many requests are under way at once where each takes an answer; 0 where none does.
    side_by_side = 0
    # Whether new files are flushed all together.
    flushes_later = HAS_DESCRIPTORS

    def __init__(self, top: Path) -> None:
        self.top = top
        self._known: OrderedDict[tuple[str, ...], Folder] = OrderedDict()
        self._lock = RLock()  # files are read ahead in other threads

    def reach(self, path: Path, follow: bool, base: Path | None = None) -> Reached:
        """Return where a path of the tree stands; a link at its end is only followed if that is wanted.

        Below the `base`, no folder on the way may be a link. What is at the end need not exist. Raises `Astray` for
        links that lead where they may not, and `OSError`.
        """
        *above, name = self._names(path)
        folder = self.folder(above, len(self._names(base)) if base is not None else len(above))
        found = self._end(folder, name, 0) if follow else Reached(folder, name)
        asked, real = (*above, name), (*found.folder.parts, found.name)
        return found if real == tuple(asked) else found._replace(led=os.fspath(found.path))

    def folder(self, names: Sequence[str], followed: int | None = None) -> Folder:
        """Hold the folder of that path from the top open; raises `Astray` and `OSError`.

        Links are followed in the first names, so many as `followed` says, or in all of them.
        """
        at, wanted = len(names), tuple(names)
        with self._lock:
            while at and wanted[:at] not in self._known:
                at -= 1
            folder = self._known[wanted[:at]] if at else self._open_top()
            for end in range(at + 1, len(wanted) + 1):
                if followed is not None and end > followed:
                    self._check_plain(folder, wanted[end - 1])
                folder = self._step(folder, wanted[end - 1], 0)
                self._hold(wanted[:end], folder)
        return folder

    def nearest(self, path: Path, base: Path) -> Folder:
        """Return the folder of a path, or the nearest of those above it that is there; raises as `reach` does."""
        names, plain = self._names(path), len(self._names(base))
        for end in range(len(names) + 1):
            try:
                folder = self.folder(names[:end], plain)
            except FileNotFoundError:
                break
        return folder

    def make_folders(self, path: Path, mode: int | None = None) -> list[Path]:
        """Make a folder with those above it; returns the ones that were missing, the highest first.

        Raises `Astray` and `OSError`.
        """
        made: list[Path] = []
        names = self._names(path)
        with self._lock:
            for end in range(1, len(names) + 1):
                try:
                    self.folder(names[:end])
                except FileNotFoundError:
                    above = self.folder(names[: end - 1])
                    if above.has(names[end - 1]):
                        raise  # a link that leads nowhere
                    self._hold(tuple(names[:end]), above.make(names[end - 1], mode))
                    above.flush()
                    made.append(above.path / names[end - 1])
        return made

    def anew(self) -> "Tree":
        """Return the same tree with nothing held open."""
        return Tree(self.top)

    def exists(self, path: Path) -> bool:
        """Tell whether something is at a path, a link itself included."""
        return os.path.lexists(path)

    def is_folder(self, path: Path) -> bool:
        """Tell whether a folder is at a path."""
        return path.is_dir()

    def room(self, folder: Path) -> tuple[object, int, str]:
        """Return which disk a folder is, or would be, on, how many bytes are free there, and its name."""
        return room_at(folder)

    def longest(self, folder: Path) -> tuple[int, int]:
        """Return how many bytes a name and a path may have on the disk of a folder."""
        while not os.path.exists(folder):
            folder = folder.parent
        return _limit(folder, "PC_NAME_MAX", 255), _limit(folder, "PC_PATH_MAX", 4096)

    def forget(self) -> None:
        """Let go of the folders that are held open: who reaches them next looks again."""
        with self._lock:
            self._known.clear()

    def _check_plain(self, at: Folder, name: str) -> None:
        """Raise `Astray` for a link where there has to be a folder."""
        if is_link(at.stat(name)):
            raise Astray(f"{at.path / name} is a link, and stands in the way")

    def _names(self, path: Path) -> list[str]:
        return list(path.relative_to(self.top).parts)

    def _hold(self, names: tuple[str, ...], folder: Folder) -> None:
        self._known[names] = folder
        if len(self._known) > self.held_open:
            self._known.popitem(last=False)

    def _open_top(self) -> Folder:
        descriptor = os.open(self.top, _SEARCH | os.O_DIRECTORY | os.O_CLOEXEC) if HAS_DESCRIPTORS else None
        return Folder(self.top, (), descriptor)

    def _step(self, at: Folder, name: str, links: int) -> Folder:
        """Return the folder of a name in another one, through links that may be followed."""
        if name in ("", "."):
            return at
        if name == "..":
            return self.folder(at.parts[:-1])
        looks = at.stat(name)
        if not is_link(looks):
            return at.child(name)
        folder, names = self._target(at, name, links)
        try:
            for other in names:
                folder = self._step(folder, other, links + 1)
        except FileNotFoundError:
            raise Astray(f"{at.path / name} is a link to {at.readlink(name)}, which is not there") from None
        _check_owner(at, name, looks, folder.looks(), folder.path)
        return folder

    def _end(self, at: Folder, name: str, links: int) -> Reached:
        """Return where a name in a folder ends, through links that may be followed."""
        try:
            looks = at.stat(name)
        except FileNotFoundError:
            return Reached(at, name)
        if not is_link(looks):
            return Reached(at, name)
        folder, names = self._target(at, name, links)
        *above, last = names or ["."]
        try:
            for other in above:
                folder = self._step(folder, other, links + 1)
        except FileNotFoundError:
            raise Astray(f"it is a link to {at.readlink(name)}, which is not there") from None
        if last in ("", ".", ".."):
            raise Astray(f"it is a link to the folder {folder.path}")
        found = self._end(folder, last, links + 1)
        try:
            there = found.stat()
        except FileNotFoundError:
            there = found.folder.looks()
        _check_owner(at, name, looks, there, found.path)
        return found

    def _target(self, at: Folder, name: str, links: int) -> tuple[Folder, list[str]]:
        """Return the folder that a link counts from, and the names it has from there."""
        if links >= _MOST_LINKS:
            raise OSError(errno.ELOOP, os.strerror(errno.ELOOP), os.fspath(at.path / name))
        text = at.readlink(name)
        if os.name == "nt":
            text = text.removeprefix("\\\\?\\")
            drive, text = os.path.splitdrive(text)
            if drive and drive.casefold() != self.top.drive.casefold():
                raise Astray(f"it is a link to {drive}, which is another disk")
            text = text.replace("\\", "/")
        names = [part for part in text.split("/") if part not in ("", ".")]
        return (self.folder(()) if text.startswith("/") else at), names


def room_at(folder: Path) -> tuple[object, int, str]:
    """Return the same of a folder that nobody need be kept out of."""
    there = folder.absolute()
    while not there.exists():
        there = there.parent
    return there.stat().st_dev, shutil.disk_usage(there).free, str(there)


def _limit(folder: Path, what: str, usual: int) -> int:
    try:
        return os.pathconf(folder, what)
    except (AttributeError, OSError, ValueError):  # Windows, and disks that do not say
        return usual


def _check_owner(at: Folder, name: str, link: os.stat_result, target: os.stat_result, path: Path) -> None:
    """Raise `Astray` for a link to what belongs to somebody else; the administrator's are the system's own."""
    if link.st_uid not in (0, target.st_uid):
        why = f"{at.path / name} is a link to {path}, which belongs to somebody else"
        raise Astray(why)

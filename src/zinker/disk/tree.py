"""A place's folders, held open: what is below is reached name by name, and no link is followed unseen.

A link is followed only within the tree, and only to what belongs to whoever made it; links that the administrator
made count as the system's own. An absolute link counts from the top. Everything is done relative to descriptors
(openat(2) and its kin) where the system has them, so that no link can be put in the way meanwhile; elsewhere by
path, after a look.
"""

import errno
import os
from collections import OrderedDict
from collections.abc import Sequence
from pathlib import Path
from threading import RLock
from typing import NamedTuple

from zinker.disk.folder import HAS_DESCRIPTORS, SEARCH, Astray, Folder, Seen, seen
from zinker.disk.room import longest, room_at
from zinker.disk.windows import is_link

_MOST_LINKS = 40  # as many as Linux follows


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
        self._bases: dict[Path, tuple[str, ...]] = {}
        self._lock = RLock()  # files are read ahead in other threads

    def reach(self, path: Path, follow: bool) -> Reached:
        """Return where a path of the tree stands; a link at its end is only followed if that is wanted.

        What is at the end need not exist. Raises `Astray` for links that lead where they may not, and `OSError`.
        """
        *above, name = self._names(path)
        return self._reached(tuple(above), len(above), name, follow)

    def below(self, base: Path, path: str, follow: bool) -> Reached:
        """Return where a path below a folder of the tree stands, as `reach` does; names are parted by `/`.

        Below the `base`, no folder on the way may be a link.
        """
        plain = self._bases.get(base)
        if plain is None:  # ten thousand files are reached some times each
            plain = self._bases[base] = tuple(self._names(base))
        *above, name = path.split("/")
        return self._reached((*plain, *above), len(plain), name, follow)

    def _reached(self, above: tuple[str, ...], followed: int, name: str, follow: bool) -> Reached:
        folder = self.folder(above, followed)
        found = self._end(folder, name, 0) if follow else Reached(folder, name)
        is_plain = found.name == name and found.folder.parts == above
        return found if is_plain else found._replace(led=os.fspath(found.path))

    def folder(self, names: Sequence[str], followed: int | None = None) -> Folder:
        """Hold the folder of that path from the top open; raises `Astray` and `OSError`.

        Links are followed in the first names, so many as `followed` says, or in all of them.
        """
        at, wanted = len(names), tuple(names)
        with self._lock:
            if at and (known := self._known.get(wanted)):
                return known
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
            if tuple(names) in self._known:
                return made
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
        return longest(folder)

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
        descriptor = os.open(self.top, SEARCH | os.O_DIRECTORY | os.O_CLOEXEC) if HAS_DESCRIPTORS else None
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


def _check_owner(at: Folder, name: str, link: os.stat_result, target: os.stat_result, path: Path) -> None:
    """Raise `Astray` for a link to what belongs to somebody else; the administrator's are the system's own."""
    if link.st_uid not in (0, target.st_uid):
        why = f"{at.path / name} is a link to {path}, which belongs to somebody else"
        raise Astray(why)

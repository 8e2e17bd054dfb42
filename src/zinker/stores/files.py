"""Settings in files: finding the documents of a part, and reading them; `file_writing` replaces them.

Everything at the place is reached through `disk.tree`: links are followed only where they lead to what belongs to
the same owner, and to nothing outside the place.
"""

import contextlib
import os
import re
import stat
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from functools import cached_property, partial
from pathlib import Path, PurePosixPath
from typing import IO, TYPE_CHECKING

import msgspec

from zinker import formats
from zinker.disk.attributes import is_root
from zinker.disk.files import is_part, part_name
from zinker.disk.folder import Folder, seen
from zinker.disk.tree import Reached, Tree
from zinker.disk.windows import IS_WINDOWS, given, is_link
from zinker.model.errors import DocumentError, reason
from zinker.model.file_state import FileState
from zinker.model.plan import DocumentChange
from zinker.model.setting import WHOLE
from zinker.model.system import System, system_kind
from zinker.stores.file_content import beginning_of, content_of, read_bytes
from zinker.stores.file_roots import DATABASE, Root, instance_in, root_of, roots_of
from zinker.stores.home import (
    Candidates,
    Closed,
    Home,
    Offers,
    PartShape,
)
from zinker.stores.patterns import expression, forbidden, is_without, walk
from zinker.stores.reading import Reading, Trouble

if TYPE_CHECKING:
    from zinker.stores.file_writing import FileWriting

# A document that is taken apart is held in memory; a larger one is carried whole.
LARGEST_DOCUMENT = 256 * 1024 * 1024
# How often a file is read again that changes while it is read.
_TRIES = 3
# Names and paths no longer than this, in characters, are too long for no disk.
_SURELY_SHORT = (60, 240)


class FileHome(Home):
    """The files of one part, each a document; `top` is the place's own root, or its tree, `system` its system."""

    def __init__(
        self,
        top: Path | Tree,
        roots: tuple[Root, ...],
        system: System = "linux",
        reader: formats.Reader | None = None,
    ) -> None:
        self.roots, self.system = roots, system
        self._tree = top if isinstance(top, Tree) else Tree(top)
        self._reader = reader or formats.Reader()
        self._missing: dict[Path, int] = {}  # how many folders would have to be made, by folder
        self._closed: dict[tuple[str, str], str] = {}  # why nothing can be written there, by home and folder
        # What is being read of another machine before it is asked for.
        self._pool = ThreadPoolExecutor(self._tree.side_by_side) if self._tree.side_by_side else None
        self._ahead: dict[str, Future[Reading]] = {}
        self._held: dict[str, Future[bool]] = {}
        # What there was to know of each when it was read last, where it takes an answer to know it.
        self._last: dict[str, os.stat_result] = {}

    @property
    def is_far(self) -> bool:
        """Whether they are on another machine."""
        return self._tree.side_by_side > 0

    def expect(self, documents: Iterable[str]) -> None:
        """Look anew at the folders on the way, which may have been swapped for others; begin to read from afar."""
        self._tree.forget()
        self._ahead.clear()
        if self._pool is not None:
            self._ahead |= {name: self._pool.submit(self._looked_at, name) for name in documents}

    def documents(self) -> list[str]:
        """Return the names of the documents there are, sorted; links among them are kept, not followed.

        Raises `OSError` where a folder cannot be listed.
        """
        self._tree.forget()
        return sorted(name for root in self.roots for name in self._documents(root))

    def glance(self) -> dict[str, str] | None:
        """Return size, times of change, inode and rights of each file; None for databases, which have logs beside.

        The times come first, in nanoseconds: of the content, and of what there is to know of it.
        """
        if self.is_far or any(root.is_database for root in self.roots):
            return None
        found: dict[str, str] = {}
        for document in self.documents():
            at = self.reach(document)
            if at.folder.has(f"{at.name}-wal") or at.folder.has(f"{at.name}-journal"):
                return None
            looks = at.stat()
            times = f"{looks.st_mtime_ns} {looks.st_ctime_ns}"
            found[document] = f"{times} {looks.st_size} {looks.st_ino} {looks.st_mode:o} {at.led}"
        return found

    def _documents(self, root: Root) -> list[str]:
        prefix = f"{root.id}:" if root.id else ""
        try:
            if root.is_wild:
                base = self._folder(root.base)
                return [prefix + name for name in walk(base, root.pattern, root.without)]
            at = self._tree.reach(root.base / root.pattern, follow=False)
        except (FileNotFoundError, NotADirectoryError):
            return []
        return [prefix + (root.called or root.pattern)] if at.folder.has(at.name) else []

    def _folder(self, base: Path) -> Folder:
        return self._tree.folder(base.relative_to(self._tree.top).parts)

    def where(self) -> list[str]:
        """Return the homes, for people."""
        return [str(root.base / root.pattern) for root in self.roots]

    def has(self, document: str) -> bool:
        """Tell whether there is a document of that name."""
        try:
            at = self.reach(document, follow=False)
            return at.folder.has(at.name)
        except OSError:  # what stands in the way is told by `closed`
            return False

    def unfit(self, document: str) -> str:
        """Say why this part can have no document of that name, or ""; the names in a profile are hostile."""
        root, name = self._root(document)
        path = PurePosixPath(name)
        is_safe = name == str(path) and not path.is_absolute() and ".." not in path.parts
        fits = (
            expression(root.pattern).fullmatch(name) and not is_without(root.without, name)
            if root.is_wild
            else name == (root.called or root.pattern)
        )
        if not is_safe or not fits or is_part(path.name):
            return "the subject has no document of that name here"
        try:
            os.fsencode(name)
        except UnicodeEncodeError:
            return "its name has half a character in it, which no disk can hold"
        # What is sent to another machine is taken apart there as Windows does.
        return forbidden(name, "windows" if IS_WINDOWS or self._tree.side_by_side else self.system)

    def format_of(self, document: str) -> str:
        """Return the format that the subject file says a document has, or "" where it does not."""
        return self._root(document)[0].format

    def instance(self, document: str) -> str:
        """Return the instance a document belongs to, or "" if the part has none."""
        return instance_in(self.roots, document)

    def taken_for(self, document: str) -> str:
        """Return what the system takes a document's name for: one of any case, where case is nothing."""
        return document if self.system == "linux" else document.casefold()

    def reach(self, document: str, follow: bool | None = None) -> Reached:
        """Return where a document stands. A part of one file may be kept elsewhere through a link.

        Raises `OSError`, and `Astray` for a link that leads where it may not.
        """
        root, name = self._root(document)
        follow = not root.is_wild if follow is None else follow
        return self._tree.below(root.base, root.below(name), follow)

    def leads_out(self, document: str, link: str) -> bool:
        """Tell whether a link with this target would lead out of the folder of its part."""
        root, _ = self._root(document)
        if not root.is_wild or PurePosixPath(link).is_absolute() or re.match(r"[A-Za-z]:|\\", link):
            return True
        path = os.path.normpath(os.path.join(os.path.dirname(self._path(document)), link))  # noqa: PTH118, PTH120
        return Path(os.path.normpath(root.base)) not in Path(path).parents

    def read(self, document: str) -> Reading:
        """Read one document; what cannot be read or taken apart is said in the reading, never raised."""
        ahead = self._ahead.pop(document, None)
        return ahead.result() if ahead is not None else self._looked_at(document)

    def _looked_at(self, document: str) -> Reading:
        try:
            for attempt in range(_TRIES):
                at = self.reach(document)
                looks = (at.folder.listed(at.name) if not attempt else None) or at.stat()
                reading = self._read(document, at, looks)
                after = at.folder.looks_after(at.name)
                now = seen(after) if after is not None else at.seen()
                if self._pool is not None:
                    self._last[document] = looks
                if not stat.S_ISREG(looks.st_mode) or now == seen(looks):
                    return msgspec.structs.replace(reading, seen=now, led=at.led, given=tuple(given(looks)))
            why = "it changed again and again while it was read; close the application that writes it"
        except FileNotFoundError:
            why = self._dangling(document) or "it does not exist"
        except OSError as error:
            why = reason(error)
        return Reading(document, "", troubles=(Trouble("", why),))

    def _read(self, document: str, at: Reached, looks: os.stat_result) -> Reading:
        if is_link(looks):  # `reach` has followed the one that a part of one file may be
            return Reading(document, WHOLE, file=FileState(link=at.folder.readlink(at.name)))
        if stat.S_ISDIR(looks.st_mode):
            return Reading(document, WHOLE, file=FileState(is_folder=True))
        root, _ = self._root(document)
        with at.folder.open(at.name) as file:
            own = at.folder.looks_of(file)
            has_mode = at.folder.has_modes and self.system != "windows"
            mode = f"{own.st_mode & 0o777:o}" if has_mode else ""
            format = root.format or formats.guess(document, beginning_of(file))
            troubles: tuple[Trouble, ...] = ()
            if format != WHOLE and own.st_size > LARGEST_DOCUMENT:
                troubles = (Trouble("", f"it is too large to be read as {format}"),)
            elif format != WHOLE:
                try:
                    data = _read_database(at) if format == DATABASE else file.read()
                    return read_bytes(document, format, data, root.dialect, mode, self._reader)
                except DocumentError as error:
                    troubles = (Trouble("", f"it cannot be read as {format.upper()}: {error}"),)
            content = content_of(file, own.st_size, partial(self._reopened, document, own))
        state = FileState(WHOLE, content.size, content.sha256, mode)
        return Reading(document, WHOLE, content=content, troubles=troubles, file=state)

    def _dangling(self, document: str) -> str:
        """Say where a link leads that a document is, or ""."""
        with contextlib.suppress(OSError):
            at = self.reach(document, follow=False)
            return f"it is a link to {at.folder.readlink(at.name)}, which is not there"
        return ""

    def _reopened(self, document: str, looks: os.stat_result) -> IO[bytes]:
        """Open a file again that was too large to be held; raises `OSError` where it is another one by now."""
        at = self.reach(document)
        file = at.folder.open(at.name)
        if os.path.samestat(at.folder.looks_of(file), looks):
            return file
        file.close()
        raise OSError(f"{document} has been replaced while it was read")

    def closed(self, document: str) -> Closed | None:
        """Say why a document could not be written or removed, or None if nothing is seen to prevent it."""
        if self._tree.side_by_side and self._root(document)[0].is_database:
            then = "Write it on that machine itself, or add --leave-unwritable to leave it alone."
            return Closed(str(self._path(document)), "a database is not written over the network", then)
        held = self._held.pop(document, None)
        if held.result() if held is not None else self._is_held(document):
            then = "Close that program and run this again, or add --leave-unwritable to leave it alone."
            return Closed(str(self._path(document)), "another program holds it open", then, is_held=True)
        why = self._why_closed(document)
        then = "Get the right to write there, or add --leave-unwritable to leave it alone."
        return Closed(str(self._path(document)), why, then) if why else None

    def foresee(self, documents: Iterable[str]) -> None:
        """Begin to ask, side by side, whether some documents can be written."""
        if self._pool is not None:
            self._held = {name: self._pool.submit(self._is_held, name) for name in documents}

    def _is_held(self, document: str) -> bool:
        if self._root(document)[0].is_database:  # it is written to, not replaced
            return False
        with contextlib.suppress(OSError):
            at = self.reach(document)
            return at.folder.can_be_held and at.folder.is_held(at.name)
        return False

    def _why_closed(self, document: str) -> str:
        root, name = self._root(document)
        folder = root.id, name.rpartition("/")[0]
        if folder not in self._closed:
            self._closed[folder] = self._why_folder_closed(document)
        if self._closed[folder]:
            return self._closed[folder]
        try:
            at = self.reach(document)
            if self._mounts and os.fspath(at.path) in self._mounts:
                return "something is mounted there"
        except (FileNotFoundError, NotADirectoryError):
            pass
        except OSError as error:
            return reason(error)
        path = self._path(document)
        names = document.split("/")
        if len(document) < _SURELY_SHORT[0] and len(os.fspath(path)) < _SURELY_SHORT[1]:
            return ""
        most_name, most_path = self._tree.longest(path.parent)
        if max(map(len, map(os.fsencode, names))) > most_name or len(os.fsencode(path)) > most_path:
            return "its name is too long for this disk"
        return ""

    @cached_property
    def _mounts(self) -> frozenset[str]:
        """The paths on which something is mounted, where the system tells (proc(5))."""
        try:
            lines = Path("/proc/self/mountinfo").read_text(errors="surrogateescape").splitlines()
        except OSError:
            return frozenset()
        points = (line.split(" ")[4] for line in lines)
        return frozenset(
            re.sub(r"\\([0-7]{3})", lambda code: chr(int(code[1], 8)), point) for point in points
        )

    def _why_folder_closed(self, document: str) -> str:
        """Say why nothing can be written in the folder of a document, or where it would be made, or ""."""
        path = self._path(document)
        try:
            folder = self._tree.nearest(path.parent, self._root(document)[0].base)
        except NotADirectoryError as error:
            return f"{error.filename or path.parent} is not a folder"
        except OSError as error:
            return reason(error)
        return folder.closed()

    def room(self, document: str) -> tuple[object, int, str] | None:
        """Return which disk a document is, or would be, on, how many bytes are free there, and its name."""
        return self._tree.room(self._path(document).parent)

    def missing_folders(self, document: str) -> int:
        """Count the folders that would have to be made for a document."""
        first = folder = self._path(document).parent
        count = 0
        while first not in self._missing and not self._tree.exists(folder):
            count, folder = count + 1, folder.parent
        return self._missing.setdefault(first, count)

    def depth(self, document: str) -> int:
        """Count the folders between a document and the folder of its part."""
        root, name = self._root(document)
        return root.below(name).count("/") if root.is_wild else 0

    def beside(self, document: str, machine: str, place: str) -> Iterator[str]:
        """Yield names that say which machine a file is from; none where the part is a single file."""
        if not self._root(document)[0].is_wild:
            return
        path = PurePosixPath(document)
        plain = "".join(letter if letter.isalnum() or letter in "-_." else "-" for letter in machine)
        for number in ("", *(f"-{count}" for count in range(2, 1000))):
            yield str(path.with_name(f"{path.stem}-from-{plain or 'the-profile'}{number}{path.suffix}"))

    def notes(self, change: DocumentChange) -> list[str]:
        """Say what else happens when a file is replaced or removed: to its links, names and attributes."""
        if change.before is None:
            return []
        try:
            at = self.reach(change.document)
            looks = self._last.get(change.document) or at.stat()
            own = at.folder.attributes(at.name, looks)
        except OSError:
            return []
        return list(_notes(change, at, looks, own))

    def writing(self) -> "FileWriting":
        """Begin to write a change: everything is staged beside its place, and put there by renaming."""
        from zinker.stores.file_writing import FileWriting

        return FileWriting(self.roots, self._tree.anew())

    def sweep(self, change: DocumentChange) -> None:
        """Remove what a run that was cut off left beside a document, and folders it made for nothing."""
        with contextlib.suppress(FileNotFoundError, NotADirectoryError, UnicodeEncodeError):
            at = self.reach(change.document)
            at.folder.unlink(part_name(at.name))
            if not at.folder.has(at.name):
                from zinker.stores.file_writing import remove_folders

                remove_folders(self._tree, at.folder, change.new_folders)

    def rescue(self, change: DocumentChange, is_ours: Callable[[Reading], bool]) -> None:
        """Put back what a run that was cut off had just taken from its place, unless it `is_ours`.

        That is what stood there when the new file, or nothing, took its place; if an application had saved it in
        that instant, it is in no fallback.
        """
        try:
            at = self.reach(change.document)
            aside = Reached(at.folder, part_name(at.name))
            if not aside.folder.has(aside.name):
                return
            reading = self._read(change.document, aside, aside.stat())
        except (OSError, UnicodeEncodeError):
            return
        if is_ours(reading):
            return
        if at.folder.has(at.name):
            at.folder.replace(aside.name, at.name)
        else:
            at.folder.rename_new(aside.name, at.name)

    def _root(self, document: str) -> tuple[Root, str]:
        return root_of(self.roots, document)

    def _path(self, document: str) -> Path:
        root, name = self._root(document)
        return root.base / root.below(name)


def open_home(place: Offers, part: PartShape, candidates: Candidates, reader: formats.Reader) -> FileHome:
    """Return the files of a part; raises `NoHome`."""
    far = place.tree()
    roots = roots_of(place, candidates, far)
    top = place.top
    if top is None or any(not root.base.is_relative_to(top) for root in roots):
        top = Path(roots[0].base.anchor)
    return FileHome(far or top, roots, system_kind(place.system), reader)


def _notes(change: DocumentChange, at: Reached, looks: os.stat_result, given: list[str]) -> Iterator[str]:
    name = change.document
    if at.led:
        yield f"{name} is a link to {at.led}; that file is written, and the link stays."
    if is_link(looks) or stat.S_ISDIR(looks.st_mode):
        return
    if looks.st_nlink > 1:
        others = looks.st_nlink - 1
        told = "another name (a hard link)" if others == 1 else f"{others} other names (hard links)"
        yield f"{name} has {told}, under which the old file stays."
    if change.action == "remove" and given:
        yield f"{name} has attributes that no profile holds ({', '.join(given)}): undoing brings it back without."
    elif not is_root():
        own = [attribute for attribute in given if attribute.startswith(("trusted.", "security."))]
        if own:
            yield f"{name} has attributes that only an administrator can keep: {', '.join(own)}."
        if change.action != "remove" and hasattr(os, "geteuid") and looks.st_uid != os.geteuid():
            yield f"{name} belongs to somebody else, and will belong to whoever runs this."


def _read_database(at: Reached) -> bytes:
    from zinker.stores.databases import read_database  # most runs need no SQLite

    return read_database(at.folder, at.name)

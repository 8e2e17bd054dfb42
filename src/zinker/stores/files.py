"""Settings in files: finding the documents of a part, reading them, and replacing them whole or not at all."""

import hashlib
import io
import os
import re
import stat
from collections.abc import Iterable
from dataclasses import dataclass
from functools import partial
from pathlib import Path, PurePosixPath

from zinker import formats
from zinker.formats.dialect import PLAIN, Dialect
from zinker.model.errors import DocumentError, reason
from zinker.model.rows import blocks_of
from zinker.model.setting import WHOLE
from zinker.stores.atomic import (
    PART_SUFFIX,
    chunks_of,
    flush_folder,
    make_folders,
    part_path,
    write_part,
)
from zinker.stores.patterns import expression, forbidden, is_wild, walk
from zinker.stores.reading import BEGINNING, Content, Reading, Trouble

# A document that is taken apart is held in memory; a larger one is carried whole.
LARGEST_DOCUMENT = 256 * 1024 * 1024
DATABASE = "sqlite"
# How often a file is read again that changes while it is read.
_TRIES = 3
_BEGINNING = 4096
# Files up to this size, in bytes, are read once and held while they are captured; a few are at a time.
_HELD = 8 * 1024 * 1024
# Names and paths no longer than this, in characters, are too long for no disk.
_SURELY_SHORT = (60, 240)


@dataclass(frozen=True)
class Root:
    """One home of a part: the files below `base` whose path fits `pattern` (see zinker.stores.patterns).

    `id` is "" for the first home of a part; the documents of the others are called `id:path`. A home of one
    file may have its document `called` otherwise, so that it has the same name where the file has another.
    """

    base: Path
    pattern: str
    format: str = ""
    dialect: Dialect = PLAIN
    id: str = ""
    called: str = ""

    @property
    def is_wild(self) -> bool:
        """Whether there may be more than one file."""
        return is_wild(self.pattern)

    def documents(self) -> list[str]:
        """Return the names of the documents there are; raises `OSError`."""
        prefix = f"{self.id}:" if self.id else ""
        if self.is_wild:
            return [prefix + name for name in walk(self.base, self.pattern)]
        name = self.called or self.pattern
        return [prefix + name] if os.path.lexists(self.base / self.pattern) else []

    def below(self, name: str) -> str:
        """Return the path of a document below `base`."""
        return name if self.is_wild else self.pattern


@dataclass(frozen=True)
class FileHome:
    """The files of one part, each a document; `system` is that of the place: windows, macos or linux."""

    roots: tuple[Root, ...]
    system: str = "linux"

    def documents(self) -> list[str]:
        """Return the names of the documents there are, sorted; links among them are kept, not followed.

        Raises `OSError` where a folder cannot be listed.
        """
        return sorted(name for root in self.roots for name in root.documents())

    def where(self) -> list[str]:
        """Return the homes, for people."""
        return [str(root.base / root.pattern) for root in self.roots]

    def has(self, document: str) -> bool:
        """Tell whether there is a document of that name."""
        return os.path.lexists(self._path(document))

    def unfit(self, document: str) -> str:
        """Say why this part can have no document of that name, or ""; the names in a profile are hostile."""
        root, name = self._root(document)
        path = PurePosixPath(name)
        is_safe = name == str(path) and not path.is_absolute() and ".." not in path.parts
        fits = (
            expression(root.pattern).fullmatch(name)
            if root.is_wild
            else name == (root.called or root.pattern)
        )
        if (
            not is_safe
            or not fits
            or document.endswith(PART_SUFFIX)
            or (os.name == "nt" and re.search(r"[\\:]", name))
        ):
            return "the subject has no document of that name here"
        return forbidden(name, self.system)

    def format_of(self, document: str) -> str:
        """Return the format that the subject file says a document has, or "" where it does not."""
        return self._root(document)[0].format

    def instance(self, document: str) -> str:
        """Return the instance a document belongs to, or "" if the part has none."""
        root, name = self._root(document)
        found = expression(root.pattern).fullmatch(name)
        return found.groupdict().get("instance", "") if found else ""

    def path(self, document: str) -> Path:
        """Return the path of a document. A part of one file may be kept elsewhere through a link."""
        root, _ = self._root(document)
        path = self._path(document)
        return path if root.is_wild else Path(os.path.realpath(path))

    def escapes(self, document: str) -> bool:
        """Tell whether links on the way to a document lead out of the folder of its part."""
        root, _ = self._root(document)
        if not root.is_wild:
            return False
        base = Path(os.path.realpath(root.base))
        target = self.path(document)
        return base not in Path(os.path.realpath(target.parent), target.name).parents

    def leads_out(self, document: str, link: str) -> bool:
        """Tell whether a link with this target would lead out of the folder of its part."""
        root, _ = self._root(document)
        if not root.is_wild or PurePosixPath(link).is_absolute() or re.match(r"[A-Za-z]:|\\", link):
            return True
        path = os.path.normpath(os.path.join(os.path.dirname(self._path(document)), link))  # noqa: PTH118, PTH120
        return Path(os.path.normpath(root.base)) not in Path(path).parents

    def read(self, document: str, as_rows: bool = False) -> Reading:
        """Read one document; what cannot be read or taken apart is said in the reading, never raised.

        With `as_rows`, the settings of a file are in `blocks`: that is faster, where all of them are wanted.
        """
        path = self.path(document)
        try:
            for _ in range(_TRIES):
                looks = path.lstat()
                reading = self._read(document, path, looks, as_rows)
                if not stat.S_ISREG(looks.st_mode) or _same(looks, path.lstat()):
                    return reading
            why = "it changed again and again while it was read; close the application that writes it"
        except OSError as error:
            why = reason(error)
        return Reading(document, "", troubles=(Trouble("", why),))

    def _read(self, document: str, path: Path, looks: os.stat_result, as_rows: bool) -> Reading:
        if stat.S_ISLNK(looks.st_mode):  # `path` has followed the one that a part of one file may be
            return Reading(document, WHOLE, about={"link": os.fspath(path.readlink())})
        if stat.S_ISDIR(looks.st_mode):
            return Reading(document, WHOLE, about={"folder": True})
        if not stat.S_ISREG(looks.st_mode):
            return Reading(document, "", troubles=(Trouble("", "it is not a file"),))
        root, _ = self._root(document)
        about: dict[str, str | bool] = {"mode": f"{looks.st_mode & 0o777:o}"} if os.name == "posix" else {}
        format = root.format or formats.guess(document, _beginning(path))
        if format == WHOLE:
            return Reading(document, WHOLE, content=_content(path), about=about)
        if looks.st_size > LARGEST_DOCUMENT:
            trouble = Trouble("", f"it is too large to be read as {format}")
            return Reading(document, WHOLE, content=_content(path), troubles=(trouble,), about=about)
        try:
            data = _read_database(path) if format == DATABASE else path.read_bytes()
        except DocumentError as error:
            trouble = Trouble("", f"it cannot be read as {format.upper()}: {error}")
            return Reading(document, WHOLE, content=_content(path), troubles=(trouble,), about=about)
        return read_bytes(document, format, data, root.dialect, about, as_rows)

    def obstacle(self, document: str, known: dict[Path, str] | None = None) -> str:
        """Say why a document could not be written or removed, or "" if nothing is seen to prevent it.

        What is found out about its folder is kept in `known`, for others in it.
        """
        path = self._path(document)
        names, folder = document.split("/"), path.parent
        if known is None or folder not in known:
            known = {} if known is None else known
            known[folder] = (
                "a link on the way leads out of its folder" if self.escapes(document) else _why_closed(folder)
            )
        if known[folder] or (len(document) < _SURELY_SHORT[0] and len(os.fspath(path)) < _SURELY_SHORT[1]):
            return known[folder]
        while not os.path.exists(folder):
            folder = folder.parent
        is_long = max(map(len, map(os.fsencode, names))) > _limit(folder, "PC_NAME_MAX", 255)
        if is_long or len(os.fsencode(path)) > _limit(folder, "PC_PATH_MAX", 4096):
            return "its name is too long for this disk"
        return ""

    def stage(self, document: str, chunks: Iterable[bytes], mode: int | None = None) -> "StagedFile":
        """Write the new content of a document beside it, without touching it; raises `OSError`.

        It may not have reached the disk yet. `mode` holds the permission bits of a file that is new; one that is
        replaced keeps its own without it.
        """
        target = self.path(document)
        made = make_folders(target.parent)
        try:
            is_database = self._root(document)[0].format == DATABASE and target.exists()
            return StagedFile(target, write_part(target, chunks, mode, flush=False), made, is_database)
        except BaseException:
            _remove_folders(made)
            raise

    def stage_link(self, document: str, link: str) -> "StagedFile":
        """Make a link beside the place where it is to be; raises `OSError`."""
        target = self.path(document)
        made = make_folders(target.parent)
        try:
            part = part_path(target)
            part.unlink(missing_ok=True)
            os.symlink(link, part)  # noqa: PTH211 - its text is kept exactly
        except BaseException:
            _remove_folders(made)
            raise
        return StagedFile(target, part, made)

    def stage_folder(self, document: str) -> "StagedFile":
        """Prepare for an empty folder; raises `OSError`."""
        target = self.path(document)
        return StagedFile(target, target, make_folders(target.parent))

    def missing_folders(self, document: str, known: dict[Path, int] | None = None) -> int:
        """Count the folders that would have to be made for a document; what is found out is kept in `known`."""
        known = {} if known is None else known
        first = folder = self.path(document).parent
        count = 0
        while first not in known and not os.path.exists(folder):
            count, folder = count + 1, folder.parent
        return known.setdefault(first, count)

    def is_wild(self, document: str) -> bool:
        """Tell whether there may be others beside a document."""
        return self._root(document)[0].is_wild

    def depth(self, document: str) -> int:
        """Count the folders between a document and the folder of its part."""
        root, name = self._root(document)
        return root.below(name).count("/") if root.is_wild else 0

    def remove(self, document: str, folders: int = 0) -> None:
        """Remove a document, and as many of the folders above it, if nothing else is in them."""
        path = self.path(document)
        if path.is_dir() and not path.is_symlink():
            path.rmdir()
        else:
            path.unlink(missing_ok=True)
        _remove_folders([*path.parents][:folders][::-1])
        if path.parent.exists():
            flush_folder(path.parent)

    def sweep(self, document: str, folders: int = 0) -> None:
        """Remove what a run that was cut off left beside a document, and folders it made for nothing."""
        path = self.path(document)
        part_path(path).unlink(missing_ok=True)
        if not os.path.lexists(path):
            _remove_folders([*path.parents][:folders][::-1])

    def _root(self, document: str) -> tuple[Root, str]:
        """Return the home of a document, and its name there."""
        id, colon, name = document.partition(":")
        further = next((root for root in self.roots if root.id == id), None) if colon and id else None
        return (further, name) if further else (self.roots[0], document)

    def _path(self, document: str) -> Path:
        root, name = self._root(document)
        return root.base / root.below(name)


@dataclass(frozen=True)
class StagedFile:
    """A document's new content, on the disk but not in its place yet."""

    target: Path
    path: Path
    made: list[Path]
    is_database: bool = False

    def commit(self) -> None:
        """Put it in its place; raises `OSError`. Whoever does that flushes its folder afterwards."""
        if self.path == self.target:
            self.target.mkdir(exist_ok=True)
        elif self.is_database:
            from zinker.stores.databases import write_database

            write_database(self.path, self.target)
            self.path.unlink(missing_ok=True)
        else:
            self.path.replace(self.target)

    def discard(self) -> None:
        """Forget it, with the folders that were made for it."""
        if self.path != self.target:
            self.path.unlink(missing_ok=True)
        _remove_folders(self.made)


def read_bytes(
    document: str,
    format: str,
    data: bytes,
    dialect: Dialect = PLAIN,
    about: dict[str, str | bool] | None = None,
    as_rows: bool = False,
) -> Reading:
    """Read a document from its bytes; one that breaks its format is carried whole, with the reason.

    With `as_rows`, the settings are in `blocks`.
    """
    content = _held(data)
    about = about or {}
    if format == WHOLE:
        return Reading(document, WHOLE, content=content, about=about)
    try:
        if as_rows and formats.has_rows(format):
            rows = formats.read_rows(format, data, dialect)
            blocks = partial(blocks_of, rows)
            return Reading(document, format, {}, content, about=about, dialect=dialect, blocks=blocks)
        leaves = formats.read(format, data, dialect)
    except DocumentError as error:
        trouble = Trouble("", f"it cannot be read as {format.upper()}: {error}")
        return Reading(document, WHOLE, content=content, troubles=(trouble,), about=about)
    return Reading(document, format, leaves, content, about=about, dialect=dialect)


def _why_closed(folder: Path) -> str:
    """Say why nothing can be written in a folder, or in the one that it would be made in, or ""."""
    while not os.path.exists(folder):
        folder = folder.parent
    if not folder.is_dir():
        return f"{folder} is not a folder"
    if not os.access(folder, os.W_OK | os.X_OK):
        read_only = hasattr(os, "statvfs") and os.statvfs(folder).f_flag & os.ST_RDONLY
        return "the disk is read-only" if read_only else f"no right to write in {folder}"
    return ""


def _same(one: os.stat_result, other: os.stat_result) -> bool:
    return (one.st_mtime_ns, one.st_size, one.st_ino) == (other.st_mtime_ns, other.st_size, other.st_ino)


def _read_database(path: Path) -> bytes:
    from zinker.stores.databases import read_database  # most runs need no SQLite

    return read_database(path)


def _beginning(path: Path) -> bytes:
    with path.open("rb") as file:
        return file.read(_BEGINNING)


def _content(path: Path) -> Content:
    if path.stat().st_size <= _HELD:
        return _held(path.read_bytes())
    size, digest, beginning = 0, hashlib.sha256(), b""
    for chunk in chunks_of(path):
        beginning = beginning or chunk[:BEGINNING]
        digest.update(chunk)
        size += len(chunk)
    return Content(size, digest.hexdigest(), lambda: path.open("rb"), beginning)


def _held(data: bytes) -> Content:
    sha256 = hashlib.sha256(data).hexdigest()
    return Content(len(data), sha256, lambda: io.BytesIO(data), data[:BEGINNING], is_held=True)


def _limit(folder: Path, what: str, usual: int) -> int:
    """Return how many bytes a name or a path may have on the disk of a folder."""
    try:
        return os.pathconf(folder, what)
    except (AttributeError, OSError, ValueError):  # Windows, and disks that do not say
        return usual


def _remove_folders(folders: list[Path]) -> None:
    for folder in reversed(folders):
        try:
            folder.rmdir()
        except FileNotFoundError:
            continue
        except OSError:
            return  # somebody uses it by now

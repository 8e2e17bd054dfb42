"""Settings in files: finding the documents of a part, reading them, and replacing them whole or not at all."""

import hashlib
import io
import os
import re
import stat
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from zinker import formats
from zinker.model.errors import DocumentError, reason
from zinker.model.setting import WHOLE
from zinker.stores.atomic import (
    PART_SUFFIX,
    chunks_of,
    commit_part,
    flush_folder,
    make_folders,
    part_path,
    write_part,
)
from zinker.stores.reading import Content, Reading, Trouble

# A document that is taken apart is held in memory; a larger one is carried whole.
LARGEST_DOCUMENT = 256 * 1024 * 1024
_WILD = re.compile(r"\*|\?|\{instance\}")


@dataclass(frozen=True)
class FileHome:
    """The files of one part: those below `base` whose path fits `pattern`, each a document.

    `pattern` is relative, with `/`: `*` and `?` stand for characters of one name, `**` for any folders,
    `{instance}` for one name or a piece of it.
    """

    base: Path
    pattern: str
    format: str = ""

    def documents(self) -> list[str]:
        """Return the names of the documents there are, sorted; links among them are named, not followed.

        Raises `OSError` where a folder cannot be listed.
        """
        if not _WILD.search(self.pattern):
            path = self.base / self.pattern
            return [self.pattern] if os.path.lexists(path) else []
        expression = _expression(self.pattern)
        return sorted(name for name in _walk(self.base) if expression.fullmatch(name))

    def has(self, document: str) -> bool:
        """Tell whether there is a document of that name."""
        return os.path.lexists(self.base / document)

    def fits(self, document: str) -> bool:
        """Tell whether a name is one that this part could have; the names in a profile are hostile."""
        path = PurePosixPath(document)
        is_safe = document == str(path) and not path.is_absolute() and ".." not in path.parts
        return (
            is_safe
            and not re.search(r"[\\\0:]" if os.name == "nt" else r"\0", document)
            and not document.endswith(PART_SUFFIX)
            and bool(_expression(self.pattern).fullmatch(document))
        )

    def instance(self, document: str) -> str:
        """Return the instance a document belongs to, or "" if the part has none."""
        found = _expression(self.pattern).fullmatch(document)
        return found.groupdict().get("instance", "") if found else ""

    def format_of(self, document: str) -> str:
        """Return the format a document is read in."""
        return self.format or formats.guess(document)

    def path(self, document: str) -> Path:
        """Return the path of a document. A part of one file may be kept elsewhere through a link."""
        path = self.base / document
        return path if _WILD.search(self.pattern) else Path(os.path.realpath(path))

    def escapes(self, document: str) -> bool:
        """Tell whether links on the way to a document lead out of the folder of its part."""
        if not _WILD.search(self.pattern):
            return False
        base = Path(os.path.realpath(self.base))
        target = self.path(document)
        return (
            os.path.islink(target) or base not in Path(os.path.realpath(target.parent), target.name).parents
        )

    def read(self, document: str) -> Reading:
        """Read one document; what cannot be read or taken apart is said in the reading, never raised."""
        path = self.path(document)
        format = self.format_of(document)
        if path.is_symlink():  # `path` has followed the one that a part of one file may be
            return Reading(document, "", troubles=(Trouble("", "it is a link, which is not followed"),))
        try:
            if not stat.S_ISREG(path.stat().st_mode):
                return Reading(document, "", troubles=(Trouble("", "it is not a file"),))
            if format == WHOLE:
                return Reading(document, WHOLE, content=_content(path))
            if path.stat().st_size > LARGEST_DOCUMENT:
                why = f"it is too large to be read as {format}"
                return Reading(document, WHOLE, content=_content(path), troubles=(Trouble("", why),))
            data = path.read_bytes()
        except OSError as error:
            return Reading(document, "", troubles=(Trouble("", reason(error)),))
        return read_bytes(document, format, data)

    def obstacle(self, document: str) -> str:
        """Say why a document could not be written or removed, or "" if nothing is seen to prevent it."""
        if self.escapes(document):
            return "a link on the way leads out of its folder"
        folder = self.path(document).parent
        while not os.path.exists(folder):
            folder = folder.parent
        names, path = document.split("/"), os.fsencode(self.path(document))
        longest = _limit(folder, "PC_NAME_MAX", 255)
        if max(map(len, map(os.fsencode, names))) > longest or len(path) > _limit(
            folder, "PC_PATH_MAX", 4096
        ):
            return "its name is too long for this disk"
        if not folder.is_dir():
            return f"{folder} is not a folder"
        if not os.access(folder, os.W_OK | os.X_OK):
            read_only = hasattr(os, "statvfs") and os.statvfs(folder).f_flag & os.ST_RDONLY
            return "the disk is read-only" if read_only else f"no right to write in {folder}"
        return ""

    def stage(self, document: str, chunks: Iterable[bytes]) -> "StagedFile":
        """Write the new content of a document beside it, without touching it; raises `OSError`."""
        target = self.path(document)
        made = make_folders(target.parent)
        try:
            return StagedFile(target, write_part(target, chunks), made)
        except BaseException:
            _remove_folders(made)
            raise

    def missing_folders(self, document: str) -> int:
        """Count the folders that would have to be made for a document."""
        return sum(not os.path.exists(folder) for folder in self.path(document).parents)

    def remove(self, document: str, folders: int = 0) -> None:
        """Remove a document, and as many of the folders above it, if nothing else is in them."""
        path = self.path(document)
        path.unlink(missing_ok=True)
        _remove_folders([*path.parents][:folders][::-1])
        if path.parent.exists():
            flush_folder(path.parent)

    def sweep(self, document: str, folders: int = 0) -> None:
        """Remove what a run that was cut off left beside a document, and folders it made for nothing."""
        path = self.path(document)
        part_path(path).unlink(missing_ok=True)
        if not path.exists():
            _remove_folders([*path.parents][:folders][::-1])


@dataclass(frozen=True)
class StagedFile:
    """A document's new content, on the disk but not in its place yet."""

    target: Path
    path: Path
    made: list[Path]

    def commit(self) -> None:
        """Put it in its place; raises `OSError`."""
        commit_part(self.path, self.target)

    def discard(self) -> None:
        """Forget it, with the folders that were made for it."""
        self.path.unlink(missing_ok=True)
        _remove_folders(self.made)


def read_bytes(document: str, format: str, data: bytes) -> Reading:
    """Read a document from its bytes; one that breaks its format is carried whole, with the reason."""
    content = Content(len(data), hashlib.sha256(data).hexdigest(), lambda: io.BytesIO(data))
    if format == WHOLE:
        return Reading(document, WHOLE, content=content)
    try:
        return Reading(document, format, formats.read(format, data), content)
    except DocumentError as error:
        trouble = Trouble("", f"it cannot be read as {format.upper()}: {error}")
        return Reading(document, WHOLE, content=content, troubles=(trouble,))


def _content(path: Path) -> Content:
    size, digest = 0, hashlib.sha256()
    for chunk in chunks_of(path):
        digest.update(chunk)
        size += len(chunk)
    return Content(size, digest.hexdigest(), lambda: path.open("rb"))


def _walk(base: Path) -> Iterator[str]:
    """Yield the files and links below a folder, relative, with `/`; sockets, pipes and devices hold nothing."""
    if not base.is_dir():
        return
    waiting = [("", os.fspath(base))]
    while waiting:
        prefix, folder = waiting.pop()
        with os.scandir(folder) as entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    waiting.append((f"{prefix}{entry.name}/", entry.path))
                elif entry.is_symlink() or (entry.is_file() and not entry.name.endswith(PART_SUFFIX)):
                    yield prefix + entry.name


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


def _expression(pattern: str) -> re.Pattern[str]:
    """Translate a pattern; an instance is named once and has the same value everywhere in the path."""
    pieces, seen = [], False
    for piece in re.split(r"(\*\*/?|\*|\?|\{instance\})", pattern):
        if piece == "{instance}":
            pieces.append("(?P=instance)" if seen else "(?P<instance>[^/]+)")
            seen = True
        else:
            wild = {"**/": "(?:.*/)?", "**": ".*", "*": "[^/]*", "?": "[^/]"}
            pieces.append(wild.get(piece, re.escape(piece)))
    return re.compile("".join(pieces), re.DOTALL)

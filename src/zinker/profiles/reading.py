"""Reading profiles. A profile may come from a stranger: every name, size and digest is checked."""

import datetime
import hashlib
import os
import stat
import zipfile
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO, Any, Protocol

from zinker.disk.files import CHUNK, nearest_path, open_regular
from zinker.model.errors import Damaged, WrongUsage, reason
from zinker.model.file_state import FileState
from zinker.model.plain_json import decode, fitted
from zinker.model.profile import FORMAT, Manifest, Snapshot
from zinker.model.setting import decode_line
from zinker.profiles.layout import (
    HIGHEST_RATIO,
    LARGEST_LINE,
    LARGEST_MANIFEST,
    LARGEST_PACKED,
    LARGEST_SEALED,
    MANIFEST,
    SEALED,
    SUFFIX,
    attachment_member,
    is_member,
    settings_member,
)
from zinker.profiles.sealing import Lock, unseal

_WHAT = "Profile not read"
_THEN = "Use another copy of it, or another version; `zinker list` shows what is kept."
# A place in the file that there is not raises OSError or ValueError.
_BROKEN = (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, OSError, ValueError)


class Container(Protocol):
    """The members of a profile, checked by name and kind."""

    def open(self, name: str) -> IO[bytes]:
        """Open a member; raises `KeyError` and `OSError`."""
        ...

    def size(self, name: str) -> int:
        """Return how many bytes a member has; raises `KeyError` and `OSError`."""
        ...

    def total(self) -> int:
        """Return how many bytes all members have."""
        ...

    def unlike(self, name: str, other: "Container") -> tuple[set[bytes], set[bytes]] | None:
        """Return the lines of a member that are not in another's, and those of the other, if that is known."""
        ...

    def close(self) -> None:
        """Let go of what is open."""
        ...


class Profile(Snapshot):
    """A profile that is read; a `Snapshot`. Raises `Damaged` wherever it is not what it says it is."""

    def __init__(self, path: Path, container: Container) -> None:
        self.path = path
        self._container = container
        self.manifest = self._read_manifest()
        self.secrets = {}

    def pieces(self, part: str) -> Iterator[bytes]:
        """Yield the lines of a part; size, number and digest have been checked when the last piece is out."""
        record = self.manifest.part(part)
        if record is None:
            return
        digest, size, count = hashlib.sha256(), 0, 0
        with self._open(settings_member(part)) as stream:
            rest = b""
            while data := self._read(stream, part):
                whole, end, more = data.rpartition(b"\n")
                if not end:
                    rest += data
                    if len(rest) > LARGEST_LINE:
                        raise self._damaged(f"the settings of the part {part} have a line without end")
                    continue
                piece, rest = b"".join((rest, whole, end)), more
                digest.update(piece)
                size += len(piece)
                if size > record.size:  # a bomb, perhaps; it is refused below
                    rest = b""
                    break
                count += piece.count(b"\n")
                yield piece
            if rest:
                raise self._damaged(f"the settings of the part {part} are cut off")
        if (size, count, digest.hexdigest()) != (
            record.size,
            record.documents + record.settings,
            record.sha256,
        ):
            raise self._damaged(f"the settings of the part {part} are not those it was written with")

    def unlike(self, other: Snapshot, part: str) -> tuple[list[bytes], list[bytes]] | None:
        """Return the lines of a part that are not in another profile, and those of the other, if that is known."""
        if not isinstance(other, Profile):
            return None
        found = self._container.unlike(settings_member(part), other._container)
        if found is None:
            return None
        return _sorted(found[0]), _sorted(found[1])

    @property
    def size(self) -> int:
        """How many bytes it has, unpacked."""
        return self._container.total()

    def attachment_size(self, sha256: str) -> int:
        """Return how many bytes a whole file has, by the profile's own directory; raises `Damaged`."""
        name = attachment_member(sha256)
        try:
            return self._container.size(name) if is_member(name) else -1
        except (KeyError, OSError):
            raise self._damaged(f"{name} is missing") from None

    def attachment(self, sha256: str) -> "Verified":
        """Open a whole file; its digest has been checked when its end has been read."""
        size = self.attachment_size(sha256)
        return Verified(self._open(attachment_member(sha256)), sha256, size, self._damaged)

    def unseal(self, lock: Lock) -> None:
        """Open the secrets that are sealed in; raises `Refused` where the lock does not fit."""
        self.secrets = unseal(self.sealed_data(), lock)

    def sealed_data(self) -> bytes:
        """Return the secrets as they are sealed in."""
        with self._open(SEALED) as stream:
            try:
                data = stream.read(LARGEST_SEALED + 1)
            except _BROKEN as error:
                raise self._damaged(f"{SEALED} cannot be unpacked: {error}") from None
        if len(data) > LARGEST_SEALED:
            raise self._damaged(f"{SEALED} is too large")
        return data

    def verify(self) -> None:
        """Read everything, settings and whole files; raises `Damaged` if any of it is not what it was."""
        for sha256 in self.attachments():
            with self.attachment(sha256) as stream:
                while stream.read(CHUNK):
                    pass  # the digest is checked at the end

    def attachments(self) -> list[str]:
        """Read all settings, and return the whole files that they name, each once; raises `Damaged`."""
        seen: dict[str, None] = {}
        for part in self.manifest.parts:
            for piece in self.pieces(part.id):
                if b'","","' in piece:
                    lines = (line for line in piece.split(b"\n") if b'","","' in line)
                    heads = (setting for setting in map(decode_line, lines) if setting.is_head)
                    seen |= {sha256: None for head in heads if (sha256 := FileState.of(head).sha256)}
        return list(seen)

    def close(self) -> None:
        """Let go of the file."""
        self._container.close()

    def _read(self, stream: IO[bytes], part: str) -> bytes:
        try:
            return stream.read(CHUNK)
        except _BROKEN as error:
            raise self._damaged(f"the settings of the part {part} cannot be unpacked: {error}") from None

    def _open(self, name: str) -> IO[bytes]:
        if not is_member(name):
            raise self._damaged(f"it names an attachment {name[:80]!a}, which no profile can have")
        try:
            return self._container.open(name)
        except KeyError:
            raise self._damaged(f"{name} is missing") from None
        except OSError as error:
            raise self._damaged(f"{name}: {reason(error)}") from None
        except _BROKEN as error:
            raise self._damaged(f"{name} cannot be unpacked: {error}") from None

    def _read_manifest(self) -> Manifest:
        with self._open(MANIFEST) as stream:
            try:
                data = stream.read(LARGEST_MANIFEST + 1)
            except _BROKEN as error:
                raise self._damaged(f"{MANIFEST} cannot be unpacked: {error}") from None
        try:
            loose = decode(data, dict)
            self._check_format(loose)
            manifest = fitted(loose, Manifest)
            datetime.datetime.fromisoformat(manifest.captured)
        except (ValueError, RecursionError) as error:
            raise self._damaged(f"{MANIFEST} is not a profile's: {error}") from None
        for part in manifest.parts:
            if not is_member(settings_member(part.id)):
                raise self._damaged(f"it has a part with the name {part.id!a}")
        return manifest

    def _check_format(self, loose: dict[str, Any]) -> None:
        number = loose.get("format")
        if isinstance(number, int) and number > FORMAT:
            writer = str(loose.get("written_by") or "a newer Zinker")[:40]
            why = f"{self.path} has the format {number}, and this Zinker reads up to {FORMAT}"
            raise Damaged(_WHAT, why, f"It was written by {writer}: use that version or a newer one.")

    def _damaged(self, why: str) -> Damaged:
        if self.path.is_dir():
            command = f"`zinker check {self.path}`"
            then = f"If it was edited or merged, {command} says what differs, and with --accept takes it as it is."
            return Damaged(_WHAT, f"{self.path} is not as it was written: {why}", then)
        return Damaged(_WHAT, f"{self.path} is damaged: {why}", _THEN)


def _sorted(lines: set[bytes]) -> list[bytes]:
    return [line for _, line in sorted((decode_line(line).key, line) for line in lines)]


class Verified:
    """A stream that checks, at its end, that it was what it should be; enough of a file for copying."""

    def __init__(self, stream: IO[bytes], sha256: str, size: int, damaged: Any) -> None:
        self._stream, self._sha256, self._left, self._damaged = stream, sha256, size, damaged
        self._digest = hashlib.sha256()

    def read(self, size: int = -1, /) -> bytes:
        """Read; raises `Damaged` at the end of a stream with another digest."""
        try:
            data = self._stream.read(size)
        except _BROKEN as error:
            raise self._damaged(f"attachment {self._sha256[:8]} cannot be unpacked: {error}") from None
        self._digest.update(data)
        self._left -= len(data)
        if self._left < 0:
            raise self._damaged(f"attachment {self._sha256[:8]} is longer than it was")
        if (not data or size < 0) and self._digest.hexdigest() != self._sha256:
            raise self._damaged(f"attachment {self._sha256[:8]} is not the file it was")
        return data

    def __enter__(self) -> "Verified":
        return self

    def __exit__(self, *_: object) -> None:
        self._stream.close()


def is_profile(path: Path) -> bool:
    """Tell whether a path looks like a profile, without reading it."""
    return (path.suffix == SUFFIX and path.is_file()) or (path / MANIFEST).is_file()


def open_profile(path: Path) -> Profile:
    """Open a profile file or folder.

    Raises `WrongUsage` if there is none, and `Damaged` for one that is damaged, hostile or too new.
    """
    try:
        if path.is_dir():
            return Profile(path, _Folder(path))
    except OSError as error:
        raise Damaged(_WHAT, f"{path}: {reason(error)}", _THEN) from None
    try:
        return open_file(path, lambda: open_regular(path))
    except FileNotFoundError:
        raise WrongUsage(_WHAT, f"{path} does not exist", nearest_path(path) + "Check the path.") from None


def open_file(path: Path, open: Callable[[], IO[bytes]]) -> Profile:
    """Open a profile file, which errors call `path`, where it is; raises `Damaged` and `FileNotFoundError`."""
    try:
        return Profile(path, _ZipFile(path, open()))
    except FileNotFoundError:
        raise
    except OSError as error:
        raise Damaged(_WHAT, f"{path}: {reason(error)}", _THEN) from None
    except (*_BROKEN, ValueError) as error:
        why = f"{path} is damaged or cut off: {str(error).lower() or 'it ends too early'}"
        raise Damaged(_WHAT, why, _THEN) from None


def _hostile(path: Path, why: str) -> Damaged:
    return Damaged("Profile refused", f"{path} {why}", "Do not use it; ask whoever gave it to you.")


class _ZipFile:
    """The members of a profile file."""

    def __init__(self, path: Path, file: IO[bytes]) -> None:
        self._file = file
        try:
            self._zip = zipfile.ZipFile(self._file)
            self._check(path)
        except BaseException:
            self._file.close()
            raise

    def _check(self, path: Path) -> None:
        members = self._zip.infolist()
        names = [member.filename for member in members]
        for member in members:
            self._check_member(path, member)
        if len(set(names)) < len(names):
            raise _hostile(path, "holds the same name twice")
        starts = {member.header_offset for member in members}
        if len(starts) < len(members) or sum(m.compress_size for m in members) > self._file.seek(0, 2):
            raise _hostile(path, "has members that lie on top of each other, as a bomb does")

    def _check_member(self, path: Path, member: zipfile.ZipInfo) -> None:
        # `orig_filename` is the name before zipfile made it harmless.
        if not is_member(member.orig_filename) or member.filename != member.orig_filename:
            climbs = ".." in member.orig_filename.replace("\\", "/").split("/")
            word = "climbs out of its folder" if climbs else "is not part of any profile"
            raise _hostile(path, f"holds a name that {word}: {member.orig_filename[:80]!a}")
        kind = stat.S_IFMT(member.external_attr >> 16)
        if kind not in (0, stat.S_IFREG):
            raise _hostile(path, f"holds {member.filename}, which is not a file but a link or a device")
        if member.flag_bits & 1:
            raise _hostile(path, f"holds {member.filename}, which is encrypted")
        if member.file_size > max(LARGEST_PACKED, HIGHEST_RATIO * member.compress_size):
            size = f"{member.file_size / 1e6:,.0f} MB"
            raise _hostile(path, f"holds {member.filename}, which would unpack to {size}: a bomb")
        if member.filename == MANIFEST and member.file_size > LARGEST_MANIFEST:
            raise _hostile(path, f"has a {MANIFEST} of {member.file_size:,} bytes")

    def open(self, name: str) -> IO[bytes]:
        stream = self._zip.open(name)
        # Whatever is large is checked by its SHA-256; computing its CRC as well takes a third as long again.
        if name.startswith(("settings/", "attachments/")):
            stream._expected_crc = None  # type: ignore[attr-defined]
        return stream

    def size(self, name: str) -> int:
        return self._zip.getinfo(name).file_size

    def total(self) -> int:
        return sum(member.file_size for member in self._zip.infolist())

    def unlike(self, name: str, other: Container) -> None:
        return None

    def close(self) -> None:
        self._zip.close()
        self._file.close()


class _Folder:
    """The members of a profile folder; other files in it are ignored."""

    def __init__(self, path: Path) -> None:
        self._path = path

    def _check(self, name: str) -> None:
        path = self._path / name
        try:
            looks = path.lstat()
        except FileNotFoundError:
            raise KeyError(name) from None
        folder = self._path / Path(name).parent
        if not stat.S_ISREG(looks.st_mode) or folder.is_symlink():
            raise _hostile(self._path, f"holds {name}, which is not a file but a link or a device")
        if name == MANIFEST and looks.st_size > LARGEST_MANIFEST:
            raise _hostile(self._path, f"has a {MANIFEST} of {looks.st_size:,} bytes")

    def size(self, name: str) -> int:
        self._check(name)
        return (self._path / name).lstat().st_size

    def unlike(self, name: str, other: Container) -> None:
        return None

    def total(self) -> int:
        members = [path.relative_to(self._path).as_posix() for path in self._path.glob("**/*")]
        return sum(self.size(name) for name in members if is_member(name))

    def open(self, name: str) -> IO[bytes]:
        self._check(name)
        flags = os.O_RDONLY | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_BINARY", 0)
        return os.fdopen(os.open(self._path / name, flags), "rb")

    def close(self) -> None:
        pass

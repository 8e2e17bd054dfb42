"""Writing profiles: settings are spooled part by part, whole files go straight to where they are kept."""

import contextlib
import hashlib
import io
import os
import shutil
import tempfile
import zipfile
import zlib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import IO, Protocol

import msgspec

from zinker.disk.files import (
    CHUNK,
    PART_SUFFIX,
    PRIVATE,
    commit_part,
    finish_part,
    flush_folder,
    make_folders,
    open_own,
    open_part,
    part_path,
)
from zinker.disk.sorted_rows import SortedRows
from zinker.model.errors import Damaged, Refused, reason
from zinker.model.profile import Manifest, PartRecord
from zinker.model.rows import Block, encode_rows
from zinker.model.setting import Leaf, Setting, encode_lines
from zinker.profiles.deflating import Deflater
from zinker.profiles.layout import (
    HIGHEST_RATIO,
    LARGEST_LINE,
    LARGEST_PACKED,
    LARGEST_SEALED,
    MANIFEST,
    SEALED,
    attachment_member,
    encode_manifest,
    is_member,
    settings_member,
)
from zinker.profiles.reading import Profile, open_profile
from zinker.profiles.sealing import Lock, Secrets, seal
from zinker.stores.reading import Content

_SAMPLE = 4096
_BATCH = 10_000  # settings encoded at a time
_LARGE = 1024 * 1024  # from here on, members are packed fast rather than small
_SPOOL = 8 * 1024 * 1024


class ChangedWhileRead(Refused):
    """A file is not what it was when its digest was taken."""

    def __init__(self, why: str) -> None:
        super().__init__("Not captured", why, "Close the application that writes it and run this again.")


class TooLong(Exception):
    """A setting of a document is longer than a line of a profile may be."""


class Sink(Protocol):
    """What bytes are written to."""

    def write(self, data: bytes, /) -> object:
        """Take bytes."""
        ...


class Target(Protocol):
    """Where the members of a profile go."""

    def has(self, name: str, size: int) -> bool:
        """Tell whether a whole file is kept there already; then it needs not be put."""
        ...

    def put(self, name: str, size: int, stream: IO[bytes], sha256: str, is_own: bool = False) -> None:
        """Keep one member; raises `OSError`, and `Refused` where the digest is not that of the stream.

        What `is_own` has just been written by us, and is not checked again.
        """
        ...


class NoTarget:
    """Keeps nothing: for settings that are only looked at."""

    def has(self, name: str, size: int) -> bool:
        """Nothing is kept, and nothing needs to be put."""
        return True

    def put(self, name: str, size: int, stream: IO[bytes], sha256: str, is_own: bool = False) -> None:
        """Forget the member."""


class ZipTarget:
    """A profile file: ZIP as in ISO/IEC 21320-1, with nothing in it that depends on time or machine."""

    def __init__(self, file: IO[bytes]) -> None:
        self._zip = zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED)

    def has(self, name: str, size: int) -> bool:
        """Nothing is in it before it is put there."""
        return False

    def put(self, name: str, size: int, stream: IO[bytes], sha256: str, is_own: bool = False) -> None:
        """Add a member."""
        member = zipfile.ZipInfo(name)  # the date is 1980-01-01
        member.create_system = 0
        member.external_attr = 0
        is_attachment = name.startswith("attachments/")
        is_plain = is_attachment and (size > LARGEST_PACKED or not _is_packable(stream))
        member.compress_type = zipfile.ZIP_STORED if is_plain else zipfile.ZIP_DEFLATED
        member._compresslevel = 1 if size > _LARGE else 6  # type: ignore[attr-defined]
        start = self._zip.start_dir
        try:
            with self._zip.open(member, "w", force_zip64=size > 2**31) as sink:
                if size > _LARGE and not is_plain:
                    sink._compressor = Deflater(1)  # type: ignore[attr-defined]
                copy_member(name, stream, sink, "" if is_own else sha256)
        except ChangedWhileRead:
            self._forget(member, start)
            raise
        if not is_plain and member.file_size > max(LARGEST_PACKED, HIGHEST_RATIO * member.compress_size):
            self._forget(member, start)  # honest, but packed so well that it would be taken for a bomb
            stream.seek(0)
            member.compress_type = zipfile.ZIP_STORED
            with self._zip.open(member, "w", force_zip64=size > 2**31) as sink:
                copy_member(name, stream, sink, "" if is_own else sha256)

    def _forget(self, member: zipfile.ZipInfo, start: int) -> None:
        """Remove the member written last, as if it had never been begun."""
        self._zip.filelist.remove(member)
        del self._zip.NameToInfo[member.filename]
        self._zip.start_dir = start
        assert self._zip.fp is not None  # noqa: S101 - it is open until the end
        self._zip.fp.seek(start)
        self._zip.fp.truncate()

    def close(self) -> None:
        """Write the directory of members."""
        self._zip.close()

    def abandon(self) -> None:
        """Write nothing more; otherwise the directory would be written when the object is let go of."""
        self._zip.fp = None


class FolderTarget:
    """A profile folder, as version control holds it; nothing in it but a profile's members is touched.

    All members are written aside first. Then they are put in their places, `profile.json` last, so that a
    folder left half-way does not pass for a profile: it would not have the digests that it says.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._aside = folder / PART_SUFFIX
        shutil.rmtree(self._aside, ignore_errors=True)
        self._names: list[str] = []

    def has(self, name: str, size: int) -> bool:
        """Nothing is in it before it is put there."""
        return False

    def put(self, name: str, size: int, stream: IO[bytes], sha256: str, is_own: bool = False) -> None:
        """Write a member aside."""
        target = self._aside / name
        make_folders(target.parent)
        try:
            with os.fdopen(open_own(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL), "wb") as sink:
                copy_member(name, stream, sink, "" if is_own else sha256)
                sink.flush()
                os.fsync(sink.fileno())
        except ChangedWhileRead:
            target.unlink()
            raise
        self._names.append(name)

    def close(self) -> None:
        """Put all members in their places, and remove those of an earlier profile."""
        for name in ("settings", "attachments"):
            if (self._folder / name).is_symlink():
                why = f"{self._folder / name} is a link, and might lead anywhere"
                raise Refused("Not exported", why, "Remove it, or choose another folder.")
        for name in self._names:
            target = self._folder / name
            target.parent.mkdir(mode=0o700, exist_ok=True)
            (self._aside / name).replace(target)
        there = (*self._folder.glob("settings/*"), *self._folder.glob("attachments/*"))
        for path in (self._folder / SEALED, *there):
            name = path.relative_to(self._folder).as_posix()
            if is_member(name) and name not in self._names and path.exists():
                path.unlink()
        self.abandon()
        flush_folder(self._folder)

    def abandon(self) -> None:
        """Remove what was written aside."""
        shutil.rmtree(self._aside, ignore_errors=True)


class ProfileBuilder:
    """Takes settings part by part, in order, and puts a profile together."""

    def __init__(self, target: Target | None = None) -> None:
        self.target: Target = target or NoTarget()
        self._spools: dict[str, IO[bytes]] = {}
        self._attached: set[str] = set()
        self._sealed = b""
        self.parts: list[PartRecord] = []
        self._digest = hashlib.sha256()

    @contextlib.contextmanager
    def part(self, id: str, title: str, store: str, device_bound: bool) -> Iterator[None]:
        """Open a part; documents are added while it is open."""
        self._spools[id] = tempfile.SpooledTemporaryFile(max_size=_SPOOL)  # noqa: SIM115
        self._digest = hashlib.sha256()
        self.parts.append(PartRecord(id, title, store, 0, 0, 0, "", device_bound))
        yield
        size = self._spools[id].tell()
        self.parts[-1] = msgspec.structs.replace(self.parts[-1], size=size, sha256=self._digest.hexdigest())

    def mark_homeless(self) -> None:
        """Note that the place has no home for the part that is open."""
        self.parts[-1] = msgspec.structs.replace(self.parts[-1], homeless=True)

    def add(self, head: Setting, leaves: dict[str, Leaf], content: Content | None) -> None:
        """Add one document; documents come sorted by name.

        Raises `ChangedWhileRead`, and adds nothing, where the content is not what its digest says any more, and
        `TooLong` where a setting is longer than a profile can have.
        """
        self._attach(head, content)
        with self._document(head, len(leaves)) as spool:
            name, addresses = head.document, sorted(leaves)
            for at in range(0, len(addresses), _BATCH):
                batch = addresses[at : at + _BATCH]
                settings = [Setting(name, one, (leaf := leaves[one]).type, leaf.value) for one in batch]
                self._write(spool, encode_lines(settings))

    @contextlib.contextmanager
    def _document(self, head: Setting, settings: int) -> Iterator[IO[bytes]]:
        """Open a document of the part that is open; raises `TooLong`, and nothing of it is there then."""
        record = self.parts[-1]
        spool = self._spools[record.id]
        start, digest = spool.tell(), self._digest.copy()
        try:
            self._write(spool, encode_lines([head]))
            yield spool
        except TooLong:
            spool.seek(start)
            spool.truncate()
            self._digest = digest
            raise
        self.parts[-1] = msgspec.structs.replace(
            record, documents=record.documents + 1, settings=record.settings + settings
        )

    def _attach(self, head: Setting, content: Content | None) -> None:
        if content is not None and content.sha256 not in self._attached:
            member, size = attachment_member(content.sha256), content.size
            if not self.target.has(member, size):
                with _opened(head.document, content) as stream:
                    self.target.put(member, size, stream, content.sha256, content.is_held)
            self._attached.add(content.sha256)

    def add_blocks(self, head: Setting, blocks: Iterable[Block], content: Content | None = None) -> None:
        """Add one document whose settings come in blocks, in any order; raises as `add` does."""
        self._attach(head, content)
        rows = SortedRows()
        for block in blocks:
            rows.add(block)
        self.add_sorted(head, rows)

    def add_sorted(self, head: Setting, sorted_rows: SortedRows) -> None:
        """Add one document whose settings are sorted already."""
        with self._document(head, sorted_rows.count) as spool:
            for rows in sorted_rows.blocks():
                self._write(spool, encode_rows(head.document, rows))

    def seal(self, secrets: Secrets, locks: tuple[Lock, ...]) -> None:
        """Put secrets into the profile so that each of the locks opens them.

        Raises `Refused` for more than a profile may have: it would not be read.
        """
        data = seal(secrets, locks)
        if len(data) > LARGEST_SEALED:
            why = (
                f"the secrets are {len(data):,} bytes when sealed, and a profile may have {LARGEST_SEALED:,}"
            )
            raise Refused("Not captured", why, "Choose fewer parts with --part, or leave some --without.")
        self._sealed = data

    def carry_sealed(self, data: bytes) -> None:
        """Put secrets in as another profile has them sealed."""
        self._sealed = data

    def _write(self, spool: IO[bytes], lines: bytes) -> None:
        if len(lines) > LARGEST_LINE and max(map(len, lines.split(b"\n"))) > LARGEST_LINE:
            raise TooLong
        self._digest.update(lines)
        spool.write(lines)

    def finish(self, manifest: Manifest) -> None:
        """Put the settings and then `profile.json`, whose `parts` are `self.parts`."""
        if self._sealed:
            sealed = io.BytesIO(self._sealed)
            self.target.put(SEALED, len(self._sealed), sealed, hashlib.sha256(self._sealed).hexdigest())
        for record in manifest.parts:
            spool = self._spools[record.id]
            spool.seek(0)
            self.target.put(settings_member(record.id), record.size, spool, record.sha256, is_own=True)
        data = encode_manifest(manifest)
        self.target.put(MANIFEST, len(data), io.BytesIO(data), hashlib.sha256(data).hexdigest())

    def pieces(self, part: str) -> Iterator[bytes]:
        """Yield the lines of a part just built, many at a time."""
        spool = self._spools[part]
        spool.seek(0)
        while piece := spool.read(CHUNK):
            yield piece + spool.readline()

    def lines(self, part: str) -> Iterator[bytes]:
        """Yield the lines of a part just built."""
        for piece in self.pieces(part):
            yield from piece[:-1].split(b"\n")

    def close(self) -> None:
        """Let go of the spooled settings."""
        for spool in self._spools.values():
            spool.close()


@contextlib.contextmanager
def profile_part(part: Path, target: Path, mode: int | None = PRIVATE) -> Iterator[ProfileBuilder]:
    """Build a profile file under the name `part`, to be renamed to `target` by whoever asked; else it goes.

    It is read back before it is left there: raises `Refused` where that fails.
    """
    try:
        with open_part(part) as file:
            zipped = ZipTarget(file)
            try:
                yield ProfileBuilder(zipped)
                zipped.close()
            finally:
                zipped.abandon()
            finish_part(file, target, mode)
        check_readable(part, target)
    except BaseException:
        part.unlink(missing_ok=True)
        raise


@contextlib.contextmanager
def profile_file(path: Path) -> Iterator[ProfileBuilder]:
    """Build a profile file; it appears under its name when all of it is on the disk, or not at all."""
    part = part_path(path)
    with profile_part(part, path) as builder:
        yield builder
    commit_part(part, path)


def check_readable(path: Path, name: Path) -> None:
    """Read a profile that has just been written; raises `Refused` where it cannot be read."""
    try:
        with contextlib.closing(open_profile(path)) as profile:
            profile.verify()
    except Damaged as error:
        why = error.why.replace(str(path), str(name))
        raise Refused(
            "Not kept", f"what was written cannot be read back: {why}", "Report this, please."
        ) from None


@contextlib.contextmanager
def profile_folder(path: Path) -> Iterator[ProfileBuilder]:
    """Build a profile folder, new or in place of an earlier profile; other files in it are left alone."""
    is_new = not path.exists()
    make_folders(path)
    target = FolderTarget(path)
    try:
        yield ProfileBuilder(target)
        target.close()
        check_readable(path, path)
    except BaseException:
        target.abandon()
        if is_new:
            shutil.rmtree(path, ignore_errors=True)
        raise


def carry(profile: Profile, target: Target) -> None:
    """Put all of a profile into a target, as it is; raises `Damaged` where it is not what it was written as."""
    about = profile.manifest
    for sha256 in profile.attachments():
        member, size = attachment_member(sha256), profile.attachment_size(sha256)
        if not target.has(member, size):
            with (
                profile.attachment(sha256) as stream,
                _spooled(iter(lambda: stream.read(CHUNK), b"")) as spool,
            ):
                target.put(member, size, spool, sha256, is_own=True)
    if about.sealed:
        data = profile.sealed_data()
        target.put(SEALED, len(data), io.BytesIO(data), hashlib.sha256(data).hexdigest())
    for part in about.parts:
        with _spooled(profile.pieces(part.id)) as spool:
            target.put(settings_member(part.id), part.size, spool, part.sha256, is_own=True)
    data = encode_manifest(about)
    target.put(MANIFEST, len(data), io.BytesIO(data), hashlib.sha256(data).hexdigest())


@contextlib.contextmanager
def _spooled(pieces: Iterator[bytes]) -> Iterator[IO[bytes]]:
    with tempfile.SpooledTemporaryFile(max_size=_SPOOL) as spool:
        for piece in pieces:
            spool.write(piece)
        spool.seek(0)
        yield spool


def _opened(document: str, content: Content) -> IO[bytes]:
    try:
        return content.open()
    except OSError as error:
        raise ChangedWhileRead(f"{document}: {reason(error)}") from None


def _is_packable(stream: IO[bytes]) -> bool:
    """Tell from its beginning whether a file is worth packing; pictures and archives are packed already."""
    sample = stream.read(_SAMPLE)
    stream.seek(0)
    return not sample or len(zlib.compress(sample, 1)) < 0.9 * len(sample)


def copy_member(name: str, stream: IO[bytes], sink: Sink, sha256: str) -> None:
    """Copy a member; raises `Refused` and `Damaged` where it does not have the digest, unless that is empty."""
    digest = hashlib.sha256()
    while chunk := _piece(name, stream):
        if sha256:
            digest.update(chunk)
        sink.write(chunk)
    if sha256 and digest.hexdigest() != sha256:
        if isinstance(stream, io.BufferedReader):
            raise ChangedWhileRead(f"{stream.name} changed while it was read")
        raise Damaged("Not written", f"{name} does not have the digest it should have")


def _piece(name: str, stream: IO[bytes]) -> bytes:
    try:
        return stream.read(CHUNK)
    except OSError as error:
        raise Refused("Not captured", f"{getattr(stream, 'name', name)}: {reason(error)}") from None

"""The members of a profile as a shelf has them: where they go, and where they come from."""

import io
from collections.abc import Iterator
from typing import IO

from zinker.disk.files import CHUNK
from zinker.model.profile import Manifest, PartRecord
from zinker.profiles.layout import MANIFEST, SEALED, encode_manifest
from zinker.profiles.reading import Container
from zinker.shelf.objects import Objects
from zinker.shelf.storage import Batch
from zinker.shelf.versions import FORMAT, File, Record

# Of the settings that those of a new version may stand on, so many are tried.
_TRIED = 2


class Target:
    """Where the members of a profile go: to the objects of a shelf."""

    def __init__(self, objects: Objects, batch: Batch, subject: str, before: Iterator[PartRecord]) -> None:
        """Begin a version of a subject; `before` are the parts of earlier ones, on which it may stand."""
        self._objects, self.batch, self._subject = objects, batch, subject
        self._before = before
        self._files: list[File] = []
        self._sealed: File | None = None
        self._stored = 0
        # The digests of what was not there before.
        self.new: dict[str, None] = {}
        self._bases: dict[str, dict[str, None]] | None = None

    def has(self, name: str, size: int) -> bool:
        """Tell whether a whole file is on the shelf already; the version refers to it then."""
        sha256 = name.rpartition("/")[2]
        if not self._objects.is_kept(sha256):
            return False
        self._files.append(File(sha256, size))
        return True

    def put(self, name: str, size: int, stream: IO[bytes], sha256: str, is_own: bool = False) -> None:
        """Keep one member, unless an earlier version has it, too."""
        kind = name.partition("/")[0]
        if kind == MANIFEST:
            return  # it stands in the record
        if sha256 in self.new:
            stored = 0
        elif kind == "settings":
            stored = self._put_settings(name, size, stream, sha256)
        else:
            from zinker.profiles.writing import copy_member

            checked = "" if is_own else sha256
            stored = self._objects.keep_file(
                self.batch, sha256, lambda sink: copy_member(name, stream, sink, checked)
            )
        if stored:
            self.new[sha256] = None
        self._stored += stored
        if kind == SEALED:
            self._sealed = File(sha256, size)
        elif kind != "settings":
            self._files.append(File(sha256, size))

    def _put_settings(self, name: str, size: int, stream: IO[bytes], sha256: str) -> int:
        def pieces() -> Iterator[bytes]:
            stream.seek(0)
            while piece := stream.read(CHUNK):
                yield piece + stream.readline()

        bases = self._bases_of(name.partition("/")[2].removesuffix(".jsonl"))
        return self._objects.keep_settings(self.batch, sha256, pieces, size, bases)

    def _bases_of(self, part: str) -> list[str]:
        """Return the settings that a part had before, the newest first."""
        if self._bases is None:
            self._bases = {}
            for record in self._before:
                self._bases.setdefault(record.id, {})[record.sha256] = None
        return [sha256 for sha256 in self._bases.get(part, {}) if self._objects.has(sha256)][:_TRIED]

    def record(self, manifest: Manifest) -> Record:
        """Return what has been put, as a version."""
        return Record(FORMAT, self._subject, manifest, tuple(self._files), self._sealed, self._stored)


class Members:
    """The members of a version, as a profile has them."""

    def __init__(self, record: Record, objects: Objects) -> None:
        self._objects, self._size = objects, record.size
        self._page = encode_manifest(record.profile)
        self._files = {f"attachments/{file.sha256}": file for file in record.files}
        self._files |= {f"settings/{p.id}.jsonl": File(p.sha256, p.size) for p in record.profile.parts}
        self._files |= {SEALED: record.sealed} if record.sealed else {}

    def open(self, name: str) -> IO[bytes]:
        """Open a member."""
        if name == MANIFEST:
            return io.BytesIO(self._page)
        return self._objects.open(self._files[name].sha256)

    def size(self, name: str) -> int:
        """Return how many bytes a member has."""
        return len(self._page) if name == MANIFEST else self._files[name].size

    def total(self) -> int:
        """Return how many bytes all members have."""
        return self._size

    def unlike(self, name: str, other: Container) -> tuple[set[bytes], set[bytes]] | None:
        """Return the lines of a member that are not in another's, and those of the other, if that is known."""
        if not isinstance(other, Members) or other._objects is not self._objects:  # noqa: SLF001 - one of us
            return None
        return self._objects.unlike(self._files[name].sha256, other._files[name].sha256)  # noqa: SLF001

    def close(self) -> None:
        """Nothing is held open."""

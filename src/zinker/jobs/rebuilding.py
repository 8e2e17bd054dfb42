"""A profile folder that was edited or merged by hand: what of it is not as it was written, and a profile of it.

In such a folder, what `profile.json` says of sizes and digests is not believed, and every line is checked. What was
edited among the settings is edited in the copy of the file, too, so that both say the same.
"""

import hashlib
import io
from collections.abc import Iterator
from itertools import groupby
from pathlib import Path
from typing import IO, NamedTuple

import msgspec

from zinker import formats
from zinker.disk.files import read_regular
from zinker.formats.dialect import PLAIN
from zinker.formats.leaves import Edit
from zinker.jobs.setup import Setup
from zinker.model.errors import Damaged, DocumentError, NotWritable, WrongUsage, reason
from zinker.model.file_state import FileState
from zinker.model.plain_json import decode, fitted
from zinker.model.profile import FORMAT, Manifest, Problem
from zinker.model.setting import GONE, KEY_GONE, WITHHELD, Leaf, Setting, decode_line
from zinker.profiles.layout import MANIFEST, SEALED, attachment_member, is_member, settings_member
from zinker.profiles.writing import ProfileBuilder
from zinker.stores.file_roots import dialect_of
from zinker.stores.reading import Content
from zinker.subjects.subject import Part

_WHAT = "Profile not read"
_CONFLICT = (b"<<<<<<<", b"=======", b">>>>>>>", b"|||||||")


class Merged(NamedTuple):
    """A member of a profile folder that is not as `profile.json` says."""

    member: str
    why: str


def merged(path: Path) -> Iterator[Merged]:
    """Yield what in a profile folder is not as its `profile.json` says; raises `Damaged` and `WrongUsage`."""
    source = _Edited(path)
    for record in source.manifest.parts:
        member, data = settings_member(record.id), source.read(settings_member(record.id))
        if hashlib.sha256(data).hexdigest() != record.sha256:
            lines, were = data.count(b"\n"), record.documents + record.settings
            count = f"{lines:,} lines" if lines == were else f"{lines:,} lines, where {were:,} were written"
            yield Merged(member, f"its digest is another one: it has {count}")
    named = {FileState.of(one).sha256 for part in source.manifest.parts for one in source.heads(part.id)}
    for sha256 in sorted(named - {""}):
        try:
            source.open(sha256)
        except Damaged as error:
            yield Merged(attachment_member(sha256), error.why)


def rebuild(setup: Setup, path: Path, builder: ProfileBuilder) -> Manifest:
    """Build a profile from a folder that may have been edited; raises `Damaged` and `WrongUsage`."""
    source = _Edited(path)
    about = source.manifest
    known = about.subject in setup.catalogue.files()
    subject = setup.catalogue.find(about.subject) if known else None
    problems: list[Problem] = []
    for record in about.parts:
        part = subject.find_part(record.id) if subject else None
        with builder.part(record.id, record.title, record.store, record.device_bound):
            if record.homeless:
                builder.mark_homeless()
            for document, group in groupby(source.settings(record.id), key=lambda one: one.document):
                found = _document(setup, source, part, list(group))
                problems += [Problem(record.id, document, *why) for why in found.problems]
                builder.add(found.head, found.leaves, found.content)
    sealed = source.sealed()
    if sealed:
        builder.carry_sealed(sealed)
    manifest = msgspec.structs.replace(
        about,
        parts=tuple(builder.parts),
        problems=(*about.problems, *problems),
        sealed=about.sealed if sealed else (),
    )
    builder.finish(manifest)
    return manifest


class _Document(NamedTuple):
    head: Setting
    leaves: dict[str, Leaf]
    content: Content | None
    problems: list[tuple[str, str]]  # addresses, and why the copy of the file cannot have what they say


def _document(setup: Setup, source: "_Edited", part: Part | None, lines: list[Setting]) -> _Document:
    head, *settings = lines
    if not head.is_head:
        raise _damaged(f"it has settings of {head.document}, and no line that opens it")
    state = FileState.of(head)
    leaves = {setting.address: setting.leaf for setting in settings}
    if not state.sha256:
        return _Document(head, leaves, None, [])
    if state.is_whole:
        content = Content(state.size, state.sha256, lambda: source.open(state.sha256))
        return _Document(head, leaves, content, [])
    with source.open(state.sha256) as stream:
        data = stream.read()
    try:
        data = _as_said(setup, part, state.format, head.document, data, leaves)
    except (NotWritable, DocumentError) as error:
        why = getattr(error, "address", ""), f"the copy of the file cannot have it, and is left out: {error}"
        return _Document(
            msgspec.structs.replace(state, sha256="", size=0).head(head.document), leaves, None, [why]
        )
    sha256 = hashlib.sha256(data).hexdigest()
    state = msgspec.structs.replace(state, size=len(data), sha256=sha256)
    content = Content(len(data), sha256, lambda: io.BytesIO(data), is_held=True)
    return _Document(state.head(head.document), leaves, content, [])


def _as_said(
    setup: Setup, part: Part | None, format: str, document: str, data: bytes, leaves: dict[str, Leaf]
) -> bytes:
    """Return the copy of a file with what its settings say; raises `NotWritable` and `DocumentError`."""
    dialect = dialect_of(part, document) if part else PLAIN
    held = formats.read(format, data, dialect)
    edits = []
    for address in sorted({*held, *leaves}):
        wanted = leaves.get(address)
        is_out = wanted is not None and wanted.type in (WITHHELD, GONE, KEY_GONE)
        if not is_out and wanted != held.get(address):
            edits.append(Edit(address, wanted))
    return formats.edit(format, data, edits, dialect, setup.reader) if edits else data


class _Edited:
    """A profile folder that somebody has edited or merged; every line of it is checked."""

    def __init__(self, path: Path) -> None:
        self._path = path
        if not path.is_dir():
            why = f"{path} is no profile folder, and only such a folder can be edited"
            raise WrongUsage(_WHAT, why, "Name a folder with a profile.json in it.")
        data = self.read(MANIFEST)
        for number, line in enumerate(data.split(b"\n"), 1):
            self._check_merged(MANIFEST, number, line)
        try:
            self.manifest = fitted(decode(data, dict), Manifest)
        except (ValueError, RecursionError) as error:
            raise _damaged(f"{path / MANIFEST} is not a profile's: {error}") from None
        if self.manifest.format != FORMAT:
            raise _damaged(f"{path} has the format {self.manifest.format}, and this Zinker reads {FORMAT}")

    def settings(self, part: str, /) -> Iterator[Setting]:
        member = settings_member(part)
        if not is_member(member):
            raise _damaged(f"it has a part with the name {part!a}")
        found: dict[tuple[str, str], tuple[int, Setting]] = {}
        for number, line in enumerate(self.read(member).split(b"\n"), 1):
            self._check_merged(member, number, line)
            if not line.strip():
                continue
            try:
                setting = decode_line(line.rstrip(b"\r"))
            except Damaged:
                raise _damaged(f"{self._path / member}, line {number}: it is no setting") from None
            first, known = found.setdefault(setting.key, (number, setting))
            if known != setting:
                why = f"the lines {first} and {number} are of one setting, and differ"
                raise _damaged(f"{self._path / member}: {why}")
        yield from (setting for _, (_, setting) in sorted(found.items()))

    def heads(self, part: str) -> Iterator[Setting]:
        """Yield the opening lines of the documents of a part."""
        return (setting for setting in self.settings(part) if setting.is_head)

    def open(self, sha256: str) -> IO[bytes]:
        member = attachment_member(sha256)
        if not is_member(member):
            raise _damaged(f"it names an attachment {member[:80]!a}, which no profile can have")
        data = self.read(member)
        if hashlib.sha256(data).hexdigest() != sha256:
            raise _damaged(f"{self._path / member} is not the file it was; take it from an earlier state")
        return io.BytesIO(data)

    def sealed(self) -> bytes:
        return self.read(SEALED) if self.manifest.sealed else b""

    def read(self, member: str) -> bytes:
        """Return a member."""
        try:
            return read_regular(self._path / member)
        except OSError as error:
            raise _damaged(f"{self._path / member}: {reason(error)}") from None

    def _check_merged(self, member: str, number: int, line: bytes) -> None:
        if line.startswith(_CONFLICT):
            why = f"{self._path / member}, line {number}: two branches differ here, and nothing was chosen"
            raise Damaged(_WHAT, why, "Keep one of them, and take the marks out.")


def _damaged(why: str) -> Damaged:
    return Damaged(_WHAT, why, "Correct that, and run this again.")

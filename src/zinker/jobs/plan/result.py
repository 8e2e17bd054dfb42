"""The bytes a document would have after a change, computed the same way for planning and for writing."""

import base64
from collections.abc import Iterator

import msgspec

from zinker import formats
from zinker.disk.files import CHUNK
from zinker.formats.leaves import Edit, Leaves
from zinker.jobs.secrets.detect import secrets_in
from zinker.jobs.secrets.rest import without_secrets
from zinker.jobs.session import Session
from zinker.model.errors import Damaged, DocumentError, NotWritable, reason
from zinker.model.file_state import FileState
from zinker.model.plan import DocumentChange, LeftAlone, SettingChange
from zinker.model.profile import ByteStream, Snapshot
from zinker.model.rows import address_of, leaf_of
from zinker.model.setting import WHOLE, WITHHELD, Leaf
from zinker.model.where import Where
from zinker.stores.file_content import read_bytes
from zinker.stores.file_roots import dialect_of
from zinker.stores.reading import Reading
from zinker.subjects.subject import Part


def new_content(
    session: Session, part: Part, change: DocumentChange, live: Reading | None, source: Snapshot
) -> Iterator[bytes]:
    """Yield the bytes a change gives a document.

    `live` is the document at the place, with its secrets, which it keeps. Raises `NotWritable`, `Damaged`
    and `OSError`.
    """
    after = change.after or FileState()
    if change.action == "edit":
        yield _edited(session, change, live, source)
    elif after.is_secret:
        yield _secret_file(change, source)
    elif after.is_whole:
        with source.attachment(change.source) as stream:
            yield from _chunks(stream)
    else:
        with source.attachment(change.source) as stream:
            data = stream.read()
        data = _as_it_was(session, part, change, source, data)
        edits = _own_secrets(part, change, live, source) | _brought(change, source)
        moved = [Edit(item.moved_from, None) for item in change.items if item.moved_from.startswith("/")]
        made = [*(Edit(address, leaf) for address, leaf in edits.items()), *moved]
        yield _without_withheld(session, part, change, source, data, made)


def _without_withheld(
    session: Session, part: Part, change: DocumentChange, source: Snapshot, data: bytes, edits: list[Edit]
) -> bytes:
    """Return a file with some edits made, and without the secrets that are nowhere: they would be empty there."""
    after, dialect, reader = (
        change.after or FileState(),
        dialect_of(part, change.document),
        session.setup.reader,
    )
    made = {edit.address for edit in edits}
    document = change.origin or change.document
    absent = [a for a in session.withheld(source, change.part, document) if a not in made]
    there = reader.read(after.format, data, dialect) if absent else {}
    gone = [Edit(address, None) for address in absent if address in there]
    try:
        return formats.edit(after.format, data, [*edits, *gone], dialect, reader)
    except NotWritable as error:
        if error.address not in absent:
            raise
        if session.empty_secrets:
            return formats.edit(after.format, data, edits, dialect, reader)
        why = f"it would be wrong without {error.address}, a secret that was withheld ({error.why})"
        raise NotWritable("", f"{why}; --empty-secrets leaves it empty there") from None


def _as_it_was(session: Session, part: Part, change: DocumentChange, source: Snapshot, data: bytes) -> bytes:
    """Return a file with the secrets that no settings are, comments say, where the source has it sealed in.

    It is only that if it is the same without its secrets: what a plan shows is what is written.
    """
    leaf = source.secrets.get(Where(change.part, change.origin or change.document))
    if leaf is None or leaf.type != WHOLE:
        return data
    format, dialect = (change.after or FileState()).format, dialect_of(part, change.document)
    try:
        whole = base64.b64decode(leaf.value, validate=True)
        secret = secrets_in(part, formats.read(format, whole, dialect))
        is_it = without_secrets(format, whole, dialect, session.setup.reader, secret)[0] == data
    except (ValueError, TypeError, DocumentError, NotWritable):
        return data
    return whole if is_it else data


def _edited(session: Session, change: DocumentChange, live: Reading | None, source: Snapshot) -> bytes:
    if live is None or live.content is None:
        raise NotWritable("", "it is not there any more")
    known = session.results.get(change.where)
    if known is not None and known[0] == live.content.sha256 and known[1] == change.items:
        return known[2]
    with live.content.open() as stream:
        edits = [Edit(item.address, opened(item, change, source)) for item in change.items]
        data = formats.edit(live.format, stream.read(), edits, live.dialect, session.setup.reader)
    session.remember_result(change, live.content.sha256, data)
    return data


def _own_secrets(part: Part, change: DocumentChange, live: Reading | None, source: Snapshot) -> Leaves:
    """Return the secrets that a document keeps, or that a new one gets, where they could be opened."""
    if live is not None:
        gone = {item.address for item in change.items if item.after is None}
        return {a: leaf for a, leaf in secrets_in(part, leaves_of(live)).items() if a not in gone}
    name = (part.id, change.origin or change.document)
    return {where[2]: leaf for where, leaf in source.secrets.items() if where[:2] == name and where[2]}


def leaves_of(reading: Reading) -> Leaves:
    """Return the settings of a document, also of one that has them as rows."""
    if reading.blocks is None:
        return reading.leaves
    return {address_of(row): leaf_of(row) for block in reading.blocks() for row in block}


def _brought(change: DocumentChange, source: Snapshot) -> dict[str, Leaf | None]:
    """Return the values that are not those in the file that the profile holds."""
    return {
        item.address: opened(item, change, source)
        for item in change.items
        if item.translated is not None
        or item.moved_from
        or (item.after is not None and item.after.type == WITHHELD)
    }


def opened(item: SettingChange, change: DocumentChange, source: Snapshot) -> Leaf | None:
    """Return the value a change gives a setting; plans hold no secrets, so these come from their source."""
    if item.after is not None and item.after.type == WITHHELD:
        where = Where(change.part, change.origin or change.document, item.address)
        return source.secrets.get(where, item.after)  # one that is never given back stays what it is
    return item.after


def _secret_file(change: DocumentChange, source: Snapshot) -> bytes:
    leaf = source.secrets[Where(change.part, change.origin or change.document)]
    try:
        return base64.b64decode(leaf.value, validate=True)
    except (ValueError, TypeError):
        raise Damaged("Not imported", f"what is sealed in for {change.document} is no file") from None


def _chunks(stream: ByteStream) -> Iterator[bytes]:
    while chunk := stream.read(CHUNK):
        yield chunk


def with_result(
    session: Session, part: Part, change: DocumentChange, live: Reading | None, source: Snapshot
) -> tuple[DocumentChange | None, list[LeftAlone]]:
    """Complete the change of a file with the state it would leave, dropping what cannot be written.

    None is returned where nothing is left of it.
    """
    left: list[LeftAlone] = []
    if change.is_whole and (change.after is None or change.after.is_whole):
        return change, left
    while change.items or change.is_whole:
        try:
            data = b"".join(new_content(session, part, change, live, source))
            format = live.format if change.action == "edit" and live is not None else _format(change)
            mode = change.after.mode if change.is_whole and change.after else ""
            dialect = dialect_of(part, change.document)
            reader = session.setup.reader
            reading = read_bytes(change.document, format, data, dialect, mode, reader=reader)
            return msgspec.structs.replace(
                change, after=session.withholder.withhold(part, reading).file
            ), left
        except NotWritable as error:
            kept = tuple(item for item in change.items if item.address != error.address)
            left.append(LeftAlone(*change.where[:2], error.address, error.why, reason="unfit"))
            if len(kept) == len(change.items):
                return None, left
            change = msgspec.structs.replace(change, items=kept)
        except OSError as error:
            left.append(LeftAlone(*change.where, reason(error), reason="unreadable"))
            return None, left
    return None, left


def _format(change: DocumentChange) -> str:
    return change.after.format if change.after else ""

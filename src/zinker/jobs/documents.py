"""The bytes a document would have after a plan, computed the same way for planning and for writing."""

from collections.abc import Iterator

from zinker import formats
from zinker.formats.leaves import Edit
from zinker.jobs.homes import dialect_of
from zinker.jobs.withholding import is_secret
from zinker.model.errors import NotWritable
from zinker.model.plan import DocumentPlan
from zinker.model.profile import ByteStream, Snapshot
from zinker.model.setting import WHOLE
from zinker.stores.atomic import CHUNK
from zinker.stores.reading import Reading
from zinker.subjects.subject import Part


def new_content(part: Part, plan: DocumentPlan, live: Reading | None, source: Snapshot) -> Iterator[bytes]:
    """Yield the bytes the plan gives a document.

    `live` is the document at the place, with its secrets, which it keeps. Raises `NotWritable`, `Damaged`
    and `OSError`.
    """
    if plan.action == "edit":
        if live is None or live.content is None:
            raise NotWritable("", "it is not there any more")
        with live.content.open() as stream:
            edits = [Edit(item.address, item.after) for item in plan.items]
            yield formats.edit(live.format, stream.read(), edits, live.dialect)
        return
    with source.attachment(plan.source) as stream:
        if plan.format in ("", WHOLE):
            yield from _chunks(stream)
            return
        data = stream.read()
    edits = [Edit(item.address, item.after) for item in plan.items if item.translated is not None]
    if live is not None:
        secret = {address: leaf for address, leaf in live.leaves.items() if is_secret(part, address)}
        edits += [Edit(address, leaf) for address, leaf in secret.items()]
    yield formats.edit(plan.format, data, edits, dialect_of(part, plan.document))


def _chunks(stream: ByteStream) -> Iterator[bytes]:
    while chunk := stream.read(CHUNK):
        yield chunk

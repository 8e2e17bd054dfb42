"""The bytes a document would have after a plan, computed the same way for planning and for writing."""

import base64
from collections.abc import Iterator

from zinker import formats
from zinker.formats.leaves import Edit
from zinker.jobs.homes import dialect_of
from zinker.jobs.secrecy import secrets_in
from zinker.model.errors import Damaged, NotWritable
from zinker.model.plan import DocumentPlan, PlanItem
from zinker.model.profile import ByteStream, Snapshot
from zinker.model.setting import WHOLE, WITHHELD, Leaf, is_secret_file
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
            edits = [Edit(item.address, opened(item, plan, source)) for item in plan.items]
            yield formats.edit(live.format, stream.read(), edits, live.dialect)
        return
    if is_secret_file(plan.about):
        yield _secret_file(plan, source)
        return
    with source.attachment(plan.source) as stream:
        if plan.format in ("", WHOLE):
            yield from _chunks(stream)
            return
        data = stream.read()
    brought = {item.address: opened(item, plan, source) for item in plan.items if _is_brought(item)}
    if live is not None:
        gone = {item.address for item in plan.items if item.after is None}
        found = secrets_in(part, live.leaves).items()
        own = {address: leaf for address, leaf in found if address not in gone}
    else:
        own = {
            where[2]: leaf
            for where, leaf in source.secrets.items()
            if where[:2] == (part.id, plan.origin or plan.document)
        }
    edits = [Edit(address, leaf) for address, leaf in {**own, **brought}.items()]
    edits += [Edit(item.moved_from, None) for item in plan.items if item.moved_from.startswith("/")]
    yield formats.edit(plan.format, data, edits, dialect_of(part, plan.document))


def opened(item: PlanItem, plan: DocumentPlan, source: Snapshot) -> Leaf | None:
    """Return the value a plan gives a setting; plans hold no secrets, so these come from their source."""
    if item.after is not None and item.after.type == WITHHELD:
        return source.secrets[plan.part, plan.origin or plan.document, item.address]
    return item.after


def _secret_file(plan: DocumentPlan, source: Snapshot) -> bytes:
    leaf = source.secrets[plan.part, plan.origin or plan.document, ""]
    try:
        return base64.b64decode(leaf.value, validate=True)
    except (ValueError, TypeError):
        raise Damaged("Not imported", f"what is sealed in for {plan.document} is no file") from None


def _is_brought(item: PlanItem) -> bool:
    """Whether a value is not the one in the file that the profile holds."""
    if item.translated is not None or item.moved_from:
        return True
    return item.after is not None and item.after.type == WITHHELD


def _chunks(stream: ByteStream) -> Iterator[bytes]:
    while chunk := stream.read(CHUNK):
        yield chunk

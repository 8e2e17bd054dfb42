"""What a plan would write, but something else counts: a policy of the machine has another value for it."""

from collections.abc import Iterable

import msgspec

from zinker.jobs.secrets.detect import holds_secret
from zinker.jobs.session import Session
from zinker.model.address import folded
from zinker.model.plan import DocumentChange, SettingChange
from zinker.stores.home import NoHome, Overruled, StoreError
from zinker.subjects.subject import Part


def with_overruled(session: Session, documents: Iterable[DocumentChange]) -> tuple[DocumentChange, ...]:
    """Return documents with what counts instead of the settings that would be written, and by what."""
    return tuple(_told(session, change) for change in documents)


def _told(session: Session, change: DocumentChange) -> DocumentChange:
    part = session.subject.find_part(change.part)
    if part is None or not part.policies:
        return change
    try:
        found = {folded(one.address): one for one in session.home(part).overruled(change.document)}
    except (NoHome, OSError, StoreError):
        return change  # the reading of it has told why
    items = tuple(_item(session, part, item, found.get(folded(item.address))) for item in change.items)
    return msgspec.structs.replace(change, items=items)


def _item(session: Session, part: Part, item: SettingChange, by: Overruled | None) -> SettingChange:
    if by is None or by.leaf == item.after:
        return item
    leaf = session.withholder.mark(by.leaf) if holds_secret(part, item.address, by.leaf) else by.leaf
    return msgspec.structs.replace(item, counts=leaf, counts_by=by.where)

"""What is shown when somebody is asked: what can be chosen from a plan, and a conflict."""

from collections.abc import Iterator

import msgspec

from zinker.jobs.plan.conflicts import Conflict
from zinker.model.plan import Plan
from zinker.model.where import Where
from zinker.reports.change import documents
from zinker.reports.entries import document_entry, setting_entry, value_text
from zinker.reports.page import PLANNED, Block, Entry, Paragraph
from zinker.reports.words import count
from zinker.subjects.subject import Subject


class Choice(msgspec.Struct, frozen=True):
    """What is chosen or not: a setting, or a document as a whole; under the title of its part."""

    where: Where
    part: str
    document: str
    entry: Entry


def choices(plan: Plan, subject: Subject) -> Iterator[Choice]:
    """Yield what can be chosen from a plan, in its order and as it shows it."""
    base = plan.base if plan.base != plan.origin else ""
    shown = documents(plan.documents, subject, base, titles=plan.titles)
    for change, section in zip(plan.documents, shown, strict=True):
        if change.is_whole:
            entry = section.entries[0]
            if change.items and not section.is_whole:
                entry = document_entry(change.word, change.document, count(len(change.items), "setting"))
            yield Choice(change.where, section.part, section.document, entry)
            continue
        for item, entry in zip(change.items, section.entries, strict=True):
            where = change.where._replace(address=item.address)
            yield Choice(where, section.part, section.document, entry)


def conflict_blocks(conflict: Conflict) -> Iterator[Block]:
    """Yield what is there, what would come, and what it was when the place was last kept."""
    part, document, item = conflict.part, conflict.document, conflict.item
    yield Paragraph(f"{part.name}, {document.document}: something else is there.", "strong")
    if item is None:
        yield Paragraph(f"{count(document.count, 'setting')} would be written.", indent=2)
        return
    was = value_text(item.kept) if item.kept is not None else "not there"
    notes = [f"when it was last kept, it was {was}"] if item.since else []
    yield setting_entry(item.word, part, item.address, item.before, item.after, PLANNED, notes)

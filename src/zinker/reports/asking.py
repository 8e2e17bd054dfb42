"""What is shown when somebody is asked: a line of the checklist, and a conflict."""

from collections.abc import Iterator

from zinker.jobs.plan.conflicts import Conflict
from zinker.model.plan import DocumentChange, SettingChange
from zinker.reports.entries import setting_entry, value_text
from zinker.reports.page import PLANNED, Block, Entry, Paragraph
from zinker.reports.words import count, title
from zinker.subjects.subject import Subject


def choice(document: DocumentChange, item: SettingChange | None, subject: Subject) -> Entry:
    """Return what can be chosen or left: a setting, or a document as a whole."""
    part = subject.find_part(document.part)
    name = part.name if part else document.part
    if item is None:
        return Entry(document.word, f"{name}, {document.document}")
    becomes = value_text(item.after) or "gone"
    return Entry(item.word, f"{name}: {title(part, item.address)} becomes {becomes}")


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

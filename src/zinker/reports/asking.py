"""What is shown when somebody is asked: a line of the checklist, and a conflict."""

from collections.abc import Iterator

from rich.text import Text

from zinker.jobs.plan.conflicts import Conflict
from zinker.model.plan import DocumentChange, SettingChange
from zinker.reports.lines import PLANNED, setting_lines, value_text
from zinker.reports.words import count, cut, title, visible
from zinker.subjects.subject import Subject


def entry_text(
    number: int, mark: str, document: DocumentChange, item: SettingChange | None, subject: Subject, width: int
) -> Text:
    """Return a line of the checklist: its number, whether it would be written, and what it is."""
    part = subject.find_part(document.part)
    name = part.name if part else document.part
    line = Text(f"{number:>4}  {mark}  ")
    word = item.word if item else document.word
    line.append(f"{word:<9}", style=word)
    what = f"{name}, {visible(document.document)}"
    if item is not None:
        what = f"{name}: {title(part, item.address)} becomes {value_text(item.after) or 'gone'}"
    return line.append(cut(what, width - 22))


def conflict_text(conflict: Conflict, width: int) -> Iterator[Text]:
    """Yield what is there, what would come, and what it was when the place was last kept."""
    part, document, item = conflict.part, conflict.document, conflict.item
    yield Text(f"{part.name}, {visible(document.document)}: something else is there.", style="bold")
    if item is None:
        yield Text(f"  {count(document.count, 'setting')} would be written.")
        return
    yield from setting_lines(item.word, part, item.address, item.before, item.after, width, PLANNED)
    if item.since:
        was = value_text(item.kept) if item.kept is not None else "not there"
        yield Text(cut(f"{'':<13}when it was last kept, it was {was}", width), style="bright_black")

"""The record of changes: a list of them, and one with everything it wrote."""

from collections.abc import Container, Iterator, Mapping, Sequence
from typing import Any

import msgspec

from zinker.model.change import Change, ChangeId
from zinker.model.plan import DocumentChange
from zinker.reports.change import change_rows, document_json, documents, left_rows
from zinker.reports.entries import GAP, reasons
from zinker.reports.page import HAPPENED, Block, Facts, Page, Paragraph, Table
from zinker.reports.report import Report
from zinker.reports.words import count, when
from zinker.subjects.subject import Subject

_STATES = {
    "open": "cut off",
    "done": "",
    "partly": "some left",
    "taken-back": "failed, taken back",
    "undone": "undone",
    "as-it-is": "cut off, left as it was",
}


def changes_report(
    changes: Sequence[Change], without_fallback: Container[ChangeId], rounds: Mapping[int, str]
) -> Report:
    """Return the changes, the oldest first, each with from what, by whom, and how it ended.

    `rounds` are what those are called that have members.
    """
    rows = tuple(
        (
            str(change.id),
            when(change.started),
            f"{change.kind}, {rounds[change.number]}" if change.number in rounds else change.kind,
            f"{change.told_place}: {change.subject}",
            change.source,
            "; ".join(
                (f"{count(change.items, 'setting')} by {change.who}", *_ended(change, without_fallback))
            ),
        )
        for change in changes
    )
    head = ("change", "when", "what", "where", "from", "what came of it")
    table = Table(head, rows, beneath=frozenset(head[4:]))
    body = (table,) if rows else (Paragraph("Nothing has been changed yet."),)
    data = changes_json(changes, without_fallback)
    return Report(Page("Record of changes", "", Facts(()), (), body), lambda: data, lambda: data)


def _ended(change: Change, without_fallback: Container[ChangeId]) -> Iterator[str]:
    """Yield what there is to say of a change that was not simply done."""
    if change.adopted_from:
        yield f"taken over from {change.adopted_from}"
    if ended := f"undone by change {change.undone_by_id}" if change.undone_by_id else _STATES[change.state]:
        yield ended
    if change.id in without_fallback:
        yield "its fallback has gone, so that it can no longer be undone"


def changes_json(changes: Sequence[Change], without_fallback: Container[ChangeId]) -> list[dict[str, Any]]:
    """Return the changes for programs, with whether each can be undone as far as the shelf goes."""
    return [
        {
            **msgspec.to_builtins(one),
            "undoable": one.state in ("done", "partly") and one.id not in without_fallback,
        }
        for one in changes
    ]


def change_report(change: Change, written: tuple[DocumentChange, ...], subject: Subject | None) -> Report:
    """Return one change with everything that it wrote, and how it ended."""
    title = subject.title if subject else change.subject
    facts = [("from", change.source), ("by", f"{change.who} on {change.machine}, {when(change.started)}")]
    if change.adopted_from:
        facts.append(("", f"taken over from {change.adopted_from}"))
    name = f"Change {change.id}: {change.kind} at {change.told_place}, {title}"
    page = Page("Change", name, Facts(tuple(facts)), (), change_body(change, written, subject))
    return Report(
        page, lambda: change_json(change, written), lambda: change_rows_of(change, written, subject)
    )


def change_body(
    change: Change, written: tuple[DocumentChange, ...], subject: Subject | None
) -> Iterator[Block]:
    """Yield everything that a change wrote, and how it ended."""
    yield from documents(written, subject, verbs=HAPPENED)
    yield GAP
    if change.left:
        yield reasons("Left alone:", change.left, subject)
    if change.fallback:
        yield Paragraph(f"What was there before is kept as {change.subject}@{change.fallback}.")
    words = {
        "done": f"All of it was written and read back. To take it back: zinker undo {change.id}",
        "partly": f"The rest was written and read back. To take it back: zinker undo {change.id}",
        "taken-back": "It failed or was cut off, and was taken back.",
        "undone": f"It was undone by change {change.undone_by_id}.",
        "open": "It was cut off; the next run at its place puts that right.",
        "as-it-is": "It was cut off, and the place was left as it was.",
    }
    yield Paragraph(words[change.state], "strong")


def change_json(change: Change, written: tuple[DocumentChange, ...]) -> dict[str, Any]:
    """Return one change with everything that it wrote, for programs."""
    return {"change": change, "written": [document_json(document) for document in written]}


def change_rows_of(
    change: Change, written: tuple[DocumentChange, ...], subject: Subject | None
) -> Iterator[dict[str, Any]]:
    """Yield how a change ended, and every setting that it wrote, a row each."""
    yield {
        "what": change.state,
        "subject": change.subject,
        "title": f"change {change.id}, {change.kind}",
        "before": change.told_place,
        "after": change.source,
        "note": f"by {change.who} on {change.machine}, {change.started}",
    }
    yield from change_rows(written, subject)
    yield from left_rows(change.subject, change.left)

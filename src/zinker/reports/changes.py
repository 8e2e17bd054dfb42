"""The record of changes: a list of them, and one with everything it wrote."""

from collections.abc import Container, Iterator, Sequence
from typing import Any

import msgspec
from rich.text import Text

from zinker.model.change import Change
from zinker.model.plan import DocumentChange
from zinker.reports.change import document_json, documents_text
from zinker.reports.lines import HAPPENED, heading, left_out, place_lines, plain
from zinker.reports.words import count, cut, visible, when
from zinker.subjects.subject import Subject

_STATES = {
    "open": "cut off",
    "done": "",
    "partly": "some left",
    "taken-back": "failed, taken back",
    "undone": "undone",
    "as-it-is": "cut off, left as it was",
}


def changes_json(changes: Sequence[Change], without_fallback: Container[int]) -> list[dict[str, Any]]:
    """Return the changes for programs, with whether each can be undone as far as the shelf goes."""
    return [
        {
            **msgspec.to_builtins(one),
            "undoable": one.state in ("done", "partly") and one.number not in without_fallback,
        }
        for one in changes
    ]


def changes_text(changes: Sequence[Change], without_fallback: Container[int], width: int) -> Iterator[Text]:
    """Yield the changes, the oldest first, each with from what, by whom, and how it ended."""
    if not changes:
        yield plain("Nothing has been changed yet.")
        return
    yield heading(f"{'change':>6}  {'when':<16}  {'what':<8}  where")
    for change in changes:
        where = f"{change.told_place}: {change.subject}"
        what = f"{change.number:>6}  {when(change.started)}  {change.kind:<8}  {where}"
        yield Text(cut(what, width))
        ended = _STATES[change.state]
        if change.undone_by:
            ended = f"undone by change {change.undone_by}"
        if change.number in without_fallback:
            ended = f"{ended}; its fallback has gone, so that it can no longer be undone"
        taken_over = f"taken over from {visible(change.adopted_from)}" if change.adopted_from else ""
        lines = [
            visible(change.source),
            f"{count(change.items, 'setting')} by {visible(change.who)}",
            "; ".join(filter(None, (taken_over, ended))),
        ]
        for line in filter(None, lines):
            yield Text(cut(f"{'':<8}{line}", width), style="bright_black")


def change_text(
    change: Change, documents: tuple[DocumentChange, ...], subject: Subject | None, width: int
) -> Iterator[Text]:
    """Yield one change with everything that it wrote, and how it ended."""
    title = subject.title if subject else change.subject
    yield heading(f"Change {change.number}: {change.kind} at {change.told_place}, {title}")
    yield plain(f"from: {visible(change.source)}")
    yield plain(f"by:   {visible(change.who)} on {change.machine}, {when(change.started)}")
    if change.adopted_from:
        yield plain(f"      taken over from {visible(change.adopted_from)}")
    yield from documents_text(documents, subject, width, verbs=HAPPENED)
    yield plain("")
    if change.left:
        yield left_out("Left alone:")
    yield from place_lines(change.left, subject)
    if change.fallback:
        yield plain(f"What was there before is kept as {change.subject}@{change.fallback}.")
    words = {
        "done": f"All of it was written and read back. To take it back: zinker undo {change.number}",
        "partly": f"The rest was written and read back. To take it back: zinker undo {change.number}",
        "taken-back": "It failed or was cut off, and was taken back.",
        "undone": f"It was undone by change {change.undone_by}.",
        "open": "It was cut off; the next run at its place puts that right.",
        "as-it-is": "It was cut off, and the place was left as it was.",
    }
    yield heading(words[change.state])


def change_json(change: Change, documents: tuple[DocumentChange, ...]) -> dict[str, Any]:
    """Return one change with everything that it wrote, for programs."""
    return {"change": change, "written": [document_json(document) for document in documents]}

"""Plans and what came of them, as text and as JSON."""

from collections.abc import Iterator
from typing import Any

from rich.text import Text

from zinker.jobs.applying import Outcome
from zinker.model.plan import DocumentPlan, LeftAlone, Plan
from zinker.reports.comparison import leaf_json
from zinker.reports.lines import (
    PLANNED,
    Block,
    blocks_text,
    file_line,
    heading,
    left_out,
    place_line,
    plain,
    setting_lines,
    value_text,
)
from zinker.reports.words import count, cut, visible
from zinker.subjects.subject import Part, Subject


def plan_text(plan: Plan, subject: Subject, width: int) -> Iterator[Text]:
    """Yield a plan line by line: all that would be written, then what would be left alone."""
    yield heading(plan.title)
    yield plain(f"from: {visible(plan.source)}\nto:   {plan.place}")
    yield from blocks_text(_block(subject.find_part(d.part), d, width) for d in plan.documents)
    yield plain("")
    if plan.translations:
        yield plain("Translated for this place:")
    for old, new in plan.translations:
        yield plain(f"  {visible(old)} becomes {visible(new)}")
    yield from _left_text("Left alone:", plan.left, subject)
    for objection in plan.objections:
        yield left_out(f"Would be refused now: {objection.why}\n  {objection.then}")
    if plan.documents:
        alike = f"; {count(plan.alike, 'setting is', 'settings are')} alike already" if plan.alike else ""
        documents = count(len(plan.documents), "document")
        yield heading(f"{count(plan.count, 'setting')} in {documents} to be written{alike}.")


def _block(part: Part | None, plan: DocumentPlan, width: int) -> Block:
    words = {"create": "new", "remove": "gone"}
    name = part.name if part else plan.part
    shown = list(plan.items)
    lines: list[Text] = []
    if plan.action in words:
        item = plan.items[0] if plan.items else None
        leaf = (item.after or item.before) if item else None
        lines.append(file_line(words[plan.action], plan.document, len(plan.items), leaf, width))
        shown = [item for item in plan.items if item.translated is not None]
    for item in shown:
        lines += setting_lines(item.word, part, item.address, item.before, item.after, width, PLANNED)
        if item.beneath is not None:
            lines.append(
                Text(cut(f"{'':<13}beneath it is {value_text(item.beneath)}", width), style="bright_black")
            )
    return Block(name, plan.document, lines, is_file=plan.action in words)


def _left_text(head: str, left: tuple[LeftAlone, ...], subject: Subject) -> Iterator[Text]:
    if left:
        yield left_out(head)
    for item in left:
        yield place_line(subject.find_part(item.part), item.part, item.document, item.address, item.why)


def outcome_text(outcome: Outcome, subject: Subject) -> Iterator[Text]:
    """Yield what was done, what was not, and how to take it back."""
    change = outcome.change
    if change is None:
        words = {
            "alike": "Nothing to write: everything is as it should be.",
            "declined": "Nothing was changed.",
            "previewed": "Nothing was changed: this was a preview.",
        }
        if outcome.state == "alike" and not outcome.is_complete:
            yield from _left_text("Nothing could be written:", outcome.left, subject)
            return
        yield heading(words[outcome.state])
        return
    missed = sum(1 for item in outcome.left if item.wanted and item not in outcome.plan.left)
    verbs = {"import": "Imported into", "reset": "Reset at"}
    verb = verbs.get(change.kind, f"Change {change.undoes} undone at")
    done = count(outcome.plan.count - missed, "setting")
    yield plain("")
    yield heading(f"{verb} {change.place}: {done} written and read back.")
    yield from _left_text("Not written:", tuple(i for i in outcome.left if i.wanted), subject)
    yield plain(
        f"This is change {change.number}; before it, all this was kept as {change.subject}@{change.fallback}."
    )
    yield plain(f"To take it back: zinker undo {change.number}")


def outcome_json(outcome: Outcome) -> dict[str, Any]:
    """Return plan and outcome for programs."""
    plan = outcome.plan
    return {
        "state": outcome.state,
        "subject": plan.subject,
        "place": plan.place,
        "source": plan.source,
        "settings": plan.count,
        "alike": plan.alike,
        "plan": [_document_json(document) for document in plan.documents],
        "left": outcome.left or plan.left,
        "objections": plan.objections,
        "change": outcome.change,
    }


def _document_json(plan: DocumentPlan) -> dict[str, Any]:
    return {
        "part": plan.part,
        "document": plan.document,
        "action": plan.action,
        "settings": [
            {
                "what": item.word,
                "address": item.address,
                "before": leaf_json(item.before),
                "after": leaf_json(item.after),
                "in_profile": leaf_json(item.translated or item.after),
                **({"beneath": leaf_json(item.beneath)} if item.beneath is not None else {}),
            }
            for item in plan.items
        ],
    }

"""Plans and what came of them, as text and as JSON."""

from collections.abc import Iterator
from textwrap import wrap
from typing import Any

from rich.text import Text

from zinker.jobs.applying import Outcome
from zinker.model.plan import DocumentPlan, LeftAlone, Plan, PlanItem
from zinker.model.policy import Titles
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
    titled,
    value_text,
)
from zinker.reports.words import count, cut, visible
from zinker.subjects.subject import Part, Subject


def plan_text(plan: Plan, subject: Subject, width: int) -> Iterator[Text]:
    """Yield a plan line by line: all that would be written, then what would be left alone."""
    yield heading(plan.title)
    yield plain(f"from: {visible(plan.source)}\nto:   {plan.place}")
    # Where nothing has changed at the place but by the profile, or the profile is the last kept one, that says it.
    tells_since = not plan.source.startswith(f"{plan.base},") and plan.base != ""
    if plan.base and plan.documents:
        yield plain(f"last kept from there: {plan.base}")
    base = plan.base if tells_since else ""
    yield from documents_text(plan.documents, subject, width, base, titles=plan.titles)
    yield plain("")
    yield from (left_out(line) for remark in plan.remarks for line in wrap(visible(remark), width))
    if plan.translations:
        yield plain("Translated for this place:")
    for old, new in plan.translations:
        yield plain(f"  {visible(old)} becomes {visible(new)}")
    yield from _left_text("Left alone:", plan.left, subject)
    if plan.objections:
        yield left_out("Would be refused now:")
    for objection in plan.objections:
        text = f"{visible(objection.why)} {objection.then}"
        yield from (plain(line) for line in wrap(text, width, initial_indent="  ", subsequent_indent="    "))
    if plan.documents:
        alike = f"; {count(plan.alike, 'setting is', 'settings are')} alike already" if plan.alike else ""
        documents = count(len(plan.documents), "document")
        yield heading(f"{count(plan.count, 'setting')} in {documents} to be written{alike}.")


def documents_text(
    documents: tuple[DocumentPlan, ...],
    subject: Subject | None,
    width: int,
    base: str = "",
    verbs: tuple[str, str] = PLANNED,
    titles: Titles | None = None,
) -> Iterator[Text]:
    """Yield what would be, or was, written, document by document; told against `base`, the last kept version."""
    parts = {part.id: part for part in subject.part} if subject else {}
    known = titles or {}
    yield from blocks_text(
        _block(titled(parts.get(d.part), d.document, known), d, width, base, verbs) for d in documents
    )


def _block(part: Part | None, plan: DocumentPlan, width: int, base: str, verbs: tuple[str, str]) -> Block:
    words = {"create": "new", "remove": "gone"}
    name = part.name if part else plan.part
    shown = list(plan.items)
    lines: list[Text] = []
    word = words.get(plan.action, "")
    head = next((item for item in plan.items if not item.address), None)
    if part is not None and part.store == "tenant" and head is not None:
        word = head.word
        count_of = len(plan.items) - 1
        lines.append(file_line(word, plan.document, count_of, None, width, "tenant"))
        shown = [item for item in plan.items if item.translated is not None or item.moved_from]
    elif word:
        item = plan.items[0] if plan.items else None
        leaf = (item.after or item.before) if item else None
        lines.append(file_line(word, plan.document, len(plan.items), leaf, width))
        shown = [item for item in plan.items if item.translated is not None or item.moved_from]
        if plan.origin:
            lines.append(_note(f"beside the one that is there; in the profile it is {plan.origin}", width))
    for item in shown:
        what = "moved" if item.moved_from and item.before is None else item.word
        lines += setting_lines(what, part, item.address, item.before, item.after, width, verbs)
        if item.moved_from:
            lines.append(_note(f"in the profile it is at {item.moved_from}", width))
        if base and (since := _since(item, base)):
            lines.append(_note(since, width))
        if item.beneath is not None:
            lines.append(_note(f"beneath it is {value_text(item.beneath)}", width))
    return Block(name, plan.document, lines, is_file=bool(word))


def _note(text: str, width: int) -> Text:
    return Text(cut(f"{'':<13}{visible(text)}", width), style="bright_black")


def _since(item: PlanItem, base: str) -> str:
    """Say who has changed a setting since the place was last kept."""
    if item.since == "here":
        return f"changed here since {base}"
    if item.since == "both":
        was = f"it was {value_text(item.kept)}" if item.kept is not None else "it was not there"
        return f"changed on both sides: in {base}, {was}"
    return ""


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
    verbs = {"import": "Imported into", "reset": "Reset at", "transfer": "Transferred to"}
    verb = verbs.get(change.kind, f"Change {change.undoes} undone at")
    done = count(outcome.plan.count - missed, "setting")
    yield plain("")
    yield heading(f"{verb} {change.place}: {done} written and read back.")
    yield from _left_text("Not written:", tuple(i for i in outcome.left if i.wanted), subject)
    yield plain(
        f"This is change {change.number}; before it, all this was kept as {change.subject}@{change.fallback}."
    )
    if change.adopted_from:
        yield plain(f"Taken over from {visible(change.adopted_from)}.")
    yield plain(f"To take it back: zinker undo {change.number}")
    if outcome.afterwards:
        yield heading("What is left to do:")
    for step in outcome.afterwards:
        yield plain(f"  {visible(step)}")


def record_text(outcome: Outcome) -> Iterator[Text]:
    """Yield who did it and when, for the paperwork."""
    change = outcome.change
    if change is not None:
        yield plain(f"Change {change.number} at {change.place} ({change.place_machine}): {change.kind}")
        yield plain(f"by {visible(change.who)} on {change.machine}, {change.started} to {change.finished}")
        yield plain("")


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
        "plan": [document_json(document) for document in plan.documents],
        "left": outcome.left or plan.left,
        "objections": plan.objections,
        "last_kept": plan.base,
        "translations": [{"from": old, "to": new} for old, new in plan.translations],
        "remarks": plan.remarks,
        "afterwards": outcome.afterwards,
        "change": outcome.change,
    }


def document_json(plan: DocumentPlan) -> dict[str, Any]:
    """Return what would be, or was, done to a document, for programs."""
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
                **({"since": item.since, "kept": leaf_json(item.kept)} if item.since else {}),
                **({"moved_from": item.moved_from} if item.moved_from else {}),
                **({"beneath": leaf_json(item.beneath)} if item.beneath is not None else {}),
            }
            for item in plan.items
        ],
    }

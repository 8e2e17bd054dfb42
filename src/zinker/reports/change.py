"""Plans and what came of them, as text and as JSON."""

from collections.abc import Iterator
from functools import partial
from textwrap import wrap as _wrap
from typing import Any

from rich.text import Text

from zinker.jobs.apply.carry_out import Outcome
from zinker.model.file_state import FileState
from zinker.model.plan import DocumentChange, LeftAlone, Plan, SettingChange, Since
from zinker.model.policy import Titles
from zinker.model.setting import USUAL_MODES
from zinker.reports.comparison import leaf_json
from zinker.reports.lines import (
    PLANNED,
    Block,
    blocks_text,
    file_line,
    heading,
    left_out,
    place_lines,
    plain,
    setting_lines,
    titled,
    value_text,
)
from zinker.reports.summary import is_long, summary_text
from zinker.reports.words import UNCUT, ago, count, cut, size, visible
from zinker.subjects.subject import Part, Subject

# Words stay whole, so that what is copied from a terminal is a path that exists.
wrap = partial(_wrap, break_long_words=False, break_on_hyphens=False)


def plan_text(plan: Plan, subject: Subject, width: int, full: bool = True) -> Iterator[Text]:
    """Yield a plan line by line: all that would be written, then what would be left alone.

    A long one is summed up unless it is to be `full`, or is written into a file, where nothing is cut.
    """
    yield heading(plan.title)
    yield plain(f"from: {visible(plan.source)}")
    yield from _age_text(plan)
    yield plain(f"to:   {plan.told_place}")
    # No need to say who changed what if the profile is the last kept one itself.
    tells_since = plan.base not in ("", plan.origin)
    if plan.base and plan.documents:
        yield plain(f"last kept from there: {plan.base}")
    base = plan.base if tells_since else ""
    if full or width == UNCUT or not is_long(plan.documents):
        yield from documents_text(plan.documents, subject, width, base, titles=plan.titles)
    else:
        yield from summary_text(plan.documents, subject, width)
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
    yield from _only_here(plan) if plan.documents else ()
    if plan.documents:
        alike = f"; {count(plan.alike, 'setting is', 'settings are')} alike already" if plan.alike else ""
        documents = count(len(plan.documents), "document")
        yield heading(f"{count(plan.count, 'setting')} in {documents} to be written{alike}.")


def _age_text(plan: Plan) -> Iterator[Text]:
    """Yield a line on how old the source of a plan is, and what has come since."""
    taken, there = plan.versions
    told = [f"captured {ago(plan.captured)}"] if plan.captured else []
    if told and taken and there and taken != there:
        told[0] += f" from {visible(taken)}"
    if plan.newer:
        told.append(count(plan.newer, "newer version"))
    if taken and there and taken != there:
        told.append(f"{visible(there)} is here")
    if told:
        yield plain(f"      {'; '.join(told)}")


def documents_text(
    documents: tuple[DocumentChange, ...],
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


def _block(part: Part | None, change: DocumentChange, width: int, base: str, verbs: tuple[str, str]) -> Block:
    name = part.name if part else change.part
    lines: list[Text] = []
    if not change.is_whole:
        lines += (line for item in change.items for line in _item(part, item, width, base, verbs))
        return Block(name, change.document, lines)
    is_replaced = change.action == "replace"
    if is_replaced:
        sides = (change.before, change.after)
        if not change.items or any(state is not None and state.is_whole for state in sides):
            before, after = (state.head("").leaf if state else None for state in sides)
            lines += setting_lines("changed", part, "", before, after, width, verbs)
    else:  # a document that comes or goes is one line, with what is not the profile's own
        lines += [
            file_line(change.word, change.document, _what_of(change), width, part.store if part else "")
        ]
    if change.origin:
        lines.append(_note(f"beside the one that is there; in the profile it is {change.origin}", width))
    if base and (since := _since(change.since, base, _file_text(change.kept) if change.kept else "")):
        lines.append(_note(since, width))
    for item in change.items:
        if is_replaced or item.translated is not None or item.moved_from:
            lines += _item(part, item, width, base, verbs)
    return Block(name, change.document, lines, is_file=not is_replaced)


def _what_of(change: DocumentChange) -> str:
    """Say how much comes or goes."""
    state = change.before if change.action == "remove" else change.after
    if state is None or not state.is_whole:
        return count(len(change.items), "setting")
    mode = f", mode {state.mode}" if state.mode and state.mode not in USUAL_MODES else ""
    return (size(state.size) if state.sha256 else _file_text(state)) + mode


def _file_text(state: FileState) -> str:
    return value_text(state.head("").leaf)


def _item(
    part: Part | None, item: SettingChange, width: int, base: str, verbs: tuple[str, str]
) -> Iterator[Text]:
    what = "moved" if item.moved_from and item.before is None else item.word
    yield from setting_lines(what, part, item.address, item.before, item.after, width, verbs)
    if item.moved_from:
        yield _note(f"in the profile it is at {item.moved_from}", width)
    if base and (since := _since(item.since, base, value_text(item.kept))):
        yield _note(since, width)
    if item.beneath is not None:
        yield _note(f"beneath it is {value_text(item.beneath)}", width)


def _note(text: str, width: int) -> Text:
    return Text(cut(f"{'':<13}{visible(text)}", width), style="bright_black")


def _since(since: Since, base: str, kept: str) -> str:
    """Say who has changed something since the place was last kept."""
    if since == "here":
        return f"changed here since {base}"
    if since == "both":
        was = f"it was {kept}" if kept else "it was not there"
        return f"changed on both sides: in {base}, {was}"
    return ""


def _left_text(head: str, left: tuple[LeftAlone, ...], subject: Subject) -> Iterator[Text]:
    if left:
        yield left_out(head)
    yield from place_lines(left, subject)


def outcome_text(outcome: Outcome, subject: Subject) -> Iterator[Text]:
    """Yield what was done, what was not, and how to take it back."""
    change = outcome.change
    if change is None:
        words = {
            "alike": f"Nothing to write: {_as_it_is(outcome.plan)}.",
            "declined": "Nothing was changed.",
            "previewed": "Nothing was changed: this was a preview.",
        }
        if outcome.state == "previewed" and not outcome.plan.documents:
            yield plain(words["alike"])
            yield from _only_here(outcome.plan)
        if outcome.state == "alike" and not outcome.is_complete:
            yield from _left_text("Nothing could be written:", outcome.left, subject)
            return
        yield heading(words[outcome.state])
        yield from _only_here(outcome.plan) if outcome.state == "alike" else ()
        return
    missed = sum(1 for item in outcome.left if item.wanted and item not in outcome.plan.left)
    verbs = {"import": "Imported into", "reset": "Reset at", "transfer": "Transferred to"}
    verb = verbs.get(change.kind, f"Change {change.undoes} undone at")
    done = count(outcome.plan.count - missed, "setting")
    yield plain("")
    yield heading(f"{verb} {outcome.plan.told_place}: {done} written and read back.")
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


def _as_it_is(plan: Plan) -> str:
    """Say why nothing is to be written."""
    asked = "what was asked for" if plan.only_here or plan.left else "everything"
    return f"{asked} is as it should be"


def _only_here(plan: Plan) -> Iterator[Text]:
    """Yield a line on what only the place has, where there is something."""
    if plan.only_here:
        is_one = plan.only_here == 1
        stay = (
            "stays as it is; --exact would remove it"
            if is_one
            else "stay as they are; --exact would remove them"
        )
        what = count(plan.only_here, "setting or file", "settings and files")
        yield plain(f"{what} that only {plan.told_place} has {stay}.")


def record_text(outcome: Outcome) -> Iterator[Text]:
    """Yield who did it and when, for the paperwork."""
    change = outcome.change
    if change is not None:
        yield plain(f"Change {change.number} at {outcome.plan.told_place}: {change.kind}")
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
        "only_here": plan.only_here,
        "plan": [document_json(document) for document in plan.documents],
        "left": outcome.left or plan.left,
        "objections": plan.objections,
        "last_kept": plan.base,
        "translations": [{"from": old, "to": new} for old, new in plan.translations],
        "remarks": plan.remarks,
        "afterwards": outcome.afterwards,
        "change": outcome.change,
    }


def document_json(change: DocumentChange) -> dict[str, Any]:
    """Return what would be, or was, done to a document, for programs."""
    about = {
        "before": change.before,
        "after": change.after,
        "origin": change.origin,
        "since": change.since,
        "kept": change.kept,
    }
    return {
        "part": change.part,
        "document": change.document,
        "action": change.action,
        **{name: said for name, said in about.items() if said},
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
            for item in change.items
        ],
    }

"""Plans and what came of them, as a page and as data."""

from collections.abc import Iterable, Iterator
from itertools import chain
from typing import TYPE_CHECKING, Any

from zinker.model.errors import ZinkerError
from zinker.model.file_state import FileState
from zinker.model.plan import DocumentChange, LeftAlone, Plan, SettingChange, Since
from zinker.model.policy import Titles
from zinker.model.setting import USUAL_MODES
from zinker.reports.entries import (
    GAP,
    difference_json,
    document_entry,
    leaf_json,
    reasons,
    setting_entry,
    titled,
    value_text,
)
from zinker.reports.page import PLANNED, Block, Entry, Facts, Page, Paragraph, Section
from zinker.reports.report import Report
from zinker.reports.summary import is_long, summed_up
from zinker.reports.words import ago, count, size
from zinker.subjects.subject import Part, Subject

if TYPE_CHECKING:
    from zinker.jobs.apply.carry_out import Outcome


def outcome_report(outcome: "Outcome", subject: Subject) -> Report:
    """Return a plan and what came of it."""
    plan = plan_page(outcome.plan, subject)
    blocks = [*_record(outcome), *_count(outcome.plan), *outcome_blocks(outcome, subject)]
    body = plan_body(outcome.plan, subject, full=True)
    page = Page(_KINDS[outcome.change is not None], plan.title, plan.facts, tuple(blocks), body)
    return Report(page, lambda: outcome_json(outcome), lambda: outcome_rows(outcome, subject))


def refusal_report(error: ZinkerError) -> Report:
    """Return what was refused, or failed and was taken back."""
    told = {"what": error.what, "why": error.why, "then": error.then}
    lines = tuple(Paragraph(line) for line in str(error).split("\n"))
    page = Page("Change", error.what, Facts(()), lines)
    return Report(page, lambda: {"error": told}, lambda: [told])


_KINDS = {False: "Plan", True: "Change"}


def plan_page(plan: Plan, subject: Subject, full: bool = True) -> Page:
    """Return a plan: all that would be written, then what would be left alone; a long one is summed up."""
    facts = [("from", plan.source), *(("", told) for told in plan_age(plan)), ("to", plan.told_place)]
    last = plan.base if plan.documents else ""
    summary = (Paragraph(f"last kept from there: {last}"),) if last else ()
    body = chain(plan_body(plan, subject, full), _count(plan))
    return Page("Plan", plan.title, Facts(tuple(facts)), summary, body)


def plan_body(plan: Plan, subject: Subject, full: bool) -> Iterator[Block]:
    """Yield all that would be written, and what would be left alone."""
    # No need to say who changed what if the profile is the last kept one itself.
    base = plan.base if plan.base not in ("", plan.origin) else ""
    if full or not is_long(plan.documents):
        yield from documents(plan.documents, subject, base, titles=plan.titles)
    else:
        yield from summed_up(plan.documents, subject)
    yield GAP
    yield from (Paragraph(remark, "left") for remark in plan.remarks)
    if plan.translations:
        yield Paragraph("Translated for this place:")
    for old, new in plan.translations:
        yield Paragraph(f"{old} becomes {new}", indent=2)
    yield from left_blocks("Left alone:", plan.left, subject)
    if plan.objections:
        yield Paragraph("Would be refused now:", "left")
    for objection in plan.objections:
        yield Paragraph(f"{objection.why} {objection.then}", indent=2)
    yield from _only_here(plan) if plan.documents else ()


def _count(plan: Plan) -> Iterator[Block]:
    """Yield how much a plan would write."""
    if plan.documents:
        alike = f"; {count(plan.alike, 'setting is', 'settings are')} alike already" if plan.alike else ""
        many = count(len(plan.documents), "document")
        yield Paragraph(f"{count(plan.count, 'setting')} in {many} to be written{alike}.", "strong")


def plan_age(plan: Plan) -> Iterator[str]:
    """Yield how old the source of a plan is, and what has come since."""
    taken, there = plan.versions
    told = [f"captured {ago(plan.captured)}"] if plan.captured else []
    if told and taken and there and taken != there:
        told[0] += f" from {taken}"
    if plan.newer:
        told.append(count(plan.newer, "newer version"))
    if taken and there and taken != there:
        told.append(f"{there} is here")
    if told:
        yield "; ".join(told)


def documents(
    changes: Iterable[DocumentChange],
    subject: Subject | None,
    base: str = "",
    verbs: tuple[str, str] = PLANNED,
    titles: Titles | None = None,
) -> Iterator[Section]:
    """Yield what would be, or was, written, document by document; told against `base`, the last kept version."""
    parts = {part.id: part for part in subject.part} if subject else {}
    for change in changes:
        yield _section(titled(parts.get(change.part), change.document, titles or {}), change, base, verbs)


def _section(part: Part | None, change: DocumentChange, base: str, verbs: tuple[str, str]) -> Section:
    name = part.name if part else change.part
    entries = [setting_change_entry(part, item, base, verbs) for item in change.items]
    if not change.is_whole:
        return Section(name, change.document, tuple(entries))
    notes = []
    if change.origin:
        notes.append(f"beside the one that is there; in the profile it is {change.origin}")
    if base and (since := _since(change.since, base, _file_text(change.kept) if change.kept else "")):
        notes.append(since)
    if (
        change.action != "replace"
    ):  # a document that comes or goes is one line, with what is not the profile's own
        store = part.store if part else ""
        first = document_entry(change.word, change.document, _what_of(change), store, notes)
        own = (
            entry
            for entry, item in zip(entries, change.items, strict=True)
            if item.translated is not None or item.moved_from
        )
        return Section(name, change.document, (first, *own), inside=tuple(entries), is_whole=True)
    sides = (change.before, change.after)
    if not change.items or any(state is not None and state.is_whole for state in sides):
        before, after = (state.head("").leaf if state else None for state in sides)
        entries.insert(0, setting_entry("changed", part, "", before, after, verbs, notes))
        notes = []
    return Section(name, change.document, tuple(entries), tuple(notes))


def _what_of(change: DocumentChange) -> str:
    """Say how much comes or goes."""
    state = change.before if change.action == "remove" else change.after
    if state is None or not state.is_whole:
        return count(len(change.items), "setting")
    mode = f", mode {state.mode}" if state.mode and state.mode not in USUAL_MODES else ""
    return (size(state.size) if state.sha256 else _file_text(state)) + mode


def _file_text(state: FileState) -> str:
    return value_text(state.head("").leaf)


def setting_change_entry(
    part: Part | None, item: SettingChange, base: str = "", verbs: tuple[str, str] = PLANNED
) -> Entry:
    """Return the entry of a setting that is, or was, to be written; told against `base`, the last kept version."""
    what = "moved" if item.moved_from and item.before is None else item.word
    notes = [f"in the profile it is at {item.moved_from}"] if item.moved_from else []
    if base and (since := _since(item.since, base, value_text(item.kept))):
        notes.append(since)
    if item.counts is not None:
        notes.append(f"will not count: {value_text(item.counts)} does, by {item.counts_by}")
    if item.beneath is not None:
        notes.append(f"beneath it is {value_text(item.beneath)}")
    return setting_entry(what, part, item.address, item.before, item.after, verbs, notes)


def _since(since: Since, base: str, kept: str) -> str:
    """Say who has changed something since the place was last kept."""
    if since == "here":
        return f"changed here since {base}"
    if since == "both":
        was = f"it was {kept}" if kept else "it was not there"
        return f"changed on both sides: in {base}, {was}"
    return ""


def left_blocks(head: str, left: tuple[LeftAlone, ...], subject: Subject) -> Iterator[Block]:
    """Yield what was left alone, with the reasons, where there is something."""
    if left:
        yield reasons(head, left, subject)


def outcome_blocks(outcome: "Outcome", subject: Subject) -> Iterator[Block]:
    """Yield what was done, what was not, and how to take it back."""
    change = outcome.change
    if change is None:
        words = {
            "alike": f"Nothing to write: {_as_it_is(outcome.plan)}.",
            "declined": "Nothing was changed.",
            "previewed": "Nothing was changed: this was a preview.",
        }
        if outcome.state == "previewed" and not outcome.plan.documents:
            yield Paragraph(words["alike"])
            yield from _only_here(outcome.plan)
        if outcome.state == "alike" and not outcome.is_complete:
            yield from left_blocks("Nothing could be written:", outcome.left, subject)
            return
        yield Paragraph(words[outcome.state], "strong")
        yield from _only_here(outcome.plan) if outcome.state == "alike" else ()
        return
    missed = sum(1 for item in outcome.left if item.wanted and item not in outcome.plan.left)
    verbs = {"import": "Imported into", "reset": "Reset at", "transfer": "Transferred to"}
    verb = verbs.get(change.kind, f"Change {change.undoes_id} undone at")
    done = count(outcome.plan.count - missed, "setting")
    yield GAP
    yield Paragraph(f"{verb} {outcome.plan.told_place}: {done} written and read back.", "strong")
    yield from left_blocks("Not written:", tuple(i for i in outcome.left if i.wanted), subject)
    before = f"{change.subject}@{change.fallback}"
    yield Paragraph(f"This is change {change.id}; before it, all this was kept as {before}.")
    if change.adopted_from:
        yield Paragraph(f"Taken over from {change.adopted_from}.")
    yield Paragraph(f"To take it back: zinker undo {change.id}")
    if outcome.afterwards:
        yield Paragraph("What is left to do:", "strong")
    for step in outcome.afterwards:
        yield Paragraph(step, indent=2)


def _as_it_is(plan: Plan) -> str:
    """Say why nothing is to be written."""
    asked = "what was asked for" if plan.only_here or plan.left else "everything"
    return f"{asked} is as it should be"


def _only_here(plan: Plan) -> Iterator[Block]:
    """Yield a line on what only the place has, where there is something."""
    if plan.only_here:
        is_one = plan.only_here == 1
        stay = (
            "stays as it is; --exact would remove it"
            if is_one
            else "stay as they are; --exact would remove them"
        )
        what = count(plan.only_here, "setting or file", "settings and files")
        yield Paragraph(f"{what} that only {plan.told_place} has {stay}.")


def _record(outcome: "Outcome") -> Iterator[Block]:
    """Yield who did it and when, for the paperwork."""
    change = outcome.change
    if change is not None:
        yield Paragraph(f"Change {change.id} at {outcome.plan.told_place}: {change.kind}")
        yield Paragraph(f"by {change.who} on {change.machine}, {change.started} to {change.finished}")


def outcome_json(outcome: "Outcome") -> dict[str, Any]:
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


def outcome_rows(outcome: "Outcome", subject: Subject) -> Iterator[dict[str, Any]]:
    """Yield what was to be written where, every setting of it, what was left out, and what was said besides."""
    plan, change = outcome.plan, outcome.change
    told = f"change {change.id} by {change.who}, {change.started}" if change else ""
    yield {
        "what": outcome.state,
        "subject": plan.subject,
        "title": plan.title,
        "before": plan.told_place,
        "after": plan.source,
        "note": told,
    }
    yield from change_rows(plan.documents, subject, plan.titles)
    yield from left_rows(plan.subject, outcome.left or plan.left)
    said = [*plan.remarks, *(f"{one.why} {one.then}" for one in plan.objections), *outcome.afterwards]
    said += [f"{old} becomes {new}" for old, new in plan.translations]
    yield from ({"what": "note", "subject": plan.subject, "note": text} for text in said)


def change_rows(
    changes: Iterable[DocumentChange], subject: Subject | None, titles: Titles | None = None
) -> Iterator[dict[str, Any]]:
    """Yield every setting and whole file that would be, or was, written, a row each."""
    parts = {part.id: part for part in subject.part} if subject else {}
    for change in changes:
        part = titled(parts.get(change.part), change.document, titles or {})
        where = {"subject": subject.id if subject else "", "part": change.part, "document": change.document}
        sides = (change.before, change.after)
        if change.is_whole and any(state is not None and state.is_whole for state in sides):
            before, after = (leaf_json(state.head("").leaf) if state else None for state in sides)
            yield {"what": change.word, **where, "address": "", "title": "", "before": before, "after": after}
        for item in change.items:
            yield difference_json(change.part, change.document, item, part) | {
                "subject": where["subject"],
                "note": f"in the profile it is at {item.moved_from}" if item.moved_from else "",
            }


def left_rows(subject: str, left: Iterable[LeftAlone]) -> Iterator[dict[str, Any]]:
    """Yield what was left alone, with the reason, a row each."""
    for item in left:
        where = {"part": item.part, "document": item.document, "address": item.address}
        yield {"what": "left alone", "subject": subject, **where, "note": item.why}


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
                **({"counts": leaf_json(item.counts), "by": item.counts_by} if item.counts else {}),
                **({"beneath": leaf_json(item.beneath)} if item.beneath is not None else {}),
            }
            for item in change.items
        ],
    }

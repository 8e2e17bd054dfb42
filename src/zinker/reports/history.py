"""When settings changed, as a page and as data."""

from collections.abc import Iterator
from itertools import groupby
from typing import Any

import msgspec

from zinker.jobs.retracing import History, Step
from zinker.model.difference import Difference
from zinker.model.names import place_told
from zinker.model.where import Where
from zinker.reports.comparison import WORDS
from zinker.reports.entries import difference_json, leaf_json, noun, setting_entry, titled, value_text
from zinker.reports.page import Block, Entry, Facts, Heading, Page, Paragraph, Reasons, Section, Table
from zinker.reports.report import Report
from zinker.reports.words import count, title, when
from zinker.subjects.subject import Part


def history_report(history: History, is_brief: bool = False) -> Report:
    """Return the steps of a subject, the oldest first; a brief one says how much changed in each."""
    first, last = history.versions[0], history.versions[-1]
    facts = Facts(
        (
            ("from", f"{first.reference}, {when(first.captured)}"),
            ("to", f"{last.reference}, {when(last.captured)}"),
        )
    )
    body = () if is_brief else _body(history)
    page = Page("History", history.title, facts, tuple(_summary(history, is_brief)), body)
    return Report(page, lambda: _json(history), lambda: _rows(history))


def _summary(history: History, is_brief: bool) -> Iterator[Block]:
    versions = count(len(history.versions), "version")
    found = sum(len(step.found) for step in history.steps)
    steps = sum(bool(step.found) for step in history.steps)
    if not found:
        yield Paragraph(f"Nothing of what was asked for changed over {versions}.", "strong")
    else:
        times = count(found, "change of a setting", "changes of settings")
        told = f"{times} in {count(steps, 'step')}"
        yield Paragraph(f"{told} over {versions}.", "strong")
    yield from _constant(history)
    if history.left:
        yield Reasons("Not read:", tuple((where, why, 1) for where, why in history.left))
    if is_brief:
        rows = (
            (
                when(step.after.captured),
                f"@{step.before.number} to @{step.after.number}",
                *(f"{step.counts.get(word, 0):,}" for word in WORDS),
                _place(step),
                ", ".join(str(change.id) for change in step.changes),
                step.after.label,
            )
            for step in history.steps
        )
        yield Table(("captured", "versions", *WORDS, "place", "changes", "label"), tuple(rows))


def _constant(history: History) -> Iterator[Block]:
    for (version, id), group in groupby(history.constant, key=lambda one: (one[0], one[1])):
        part = history.described.find_part(id) if history.described else None
        where = place_told(version.place, version.machine)
        yield Paragraph(f"As ever at {where}, as in {version.reference}:")
        for _, _, setting in group:
            name = title(part, setting.address) or f"the whole {noun(part)}"
            at = setting.address if name != setting.address else ""
            yield Entry("", f"{name} ({setting.document})", at, after=value_text(setting))


def _body(history: History) -> Iterator[Block]:
    for step in history.steps:
        if not step.found:
            continue
        label = f" ({step.after.label})" if step.after.label else ""
        since = f"{when(step.before.captured)} to {when(step.after.captured)}"
        yield Heading(f"@{step.before.number} to @{step.after.number}{label} at {_place(step)}, {since}")
        yield from (Paragraph(note, "quiet", indent=2) for note in _notes(history, step))
        for (id, document), group in groupby(step.found, key=lambda one: (one.part, one.document)):
            part = _part(history, id, document)
            entries = tuple(_entry(step, part, one) for one in group)
            yield Section(part.name if part else id, document, entries, level=3)


def _notes(history: History, step: Step) -> Iterator[str]:
    """Yield what else changed in a step."""
    more = step.in_all - len(step.found)
    if more:
        names = ", ".join(_name(history, one) for one in step.others)
        dots = ", …" if more > len(step.others) else ""
        yield f"with {count(more, 'other')}: {names}{dots}"
    for change in step.changes:
        yield f"change {change.id}: {change.kind} by {change.who}, {when(change.started)}"


def _name(history: History, difference: Difference) -> str:
    part = _part(history, difference.part, difference.document)
    return title(part, difference.address) or f"the whole {noun(part)} {difference.document}"


def _entry(step: Step, part: Part | None, one: Difference) -> Entry:
    change = step.authors.get(Where(one.part, one.document, one.address))
    notes = (f"by {change.who}, with change {change.id}",) if change else ()
    return setting_entry(one.word, part, one.address, one.before, one.after, notes=notes)


def _part(history: History, id: str, document: str) -> Part | None:
    part = history.described.find_part(id) if history.described else None
    return titled(part, document, history.titles)


def _place(step: Step) -> str:
    return place_told(step.after.place, step.after.machine)


def _json(history: History) -> dict[str, Any]:
    return {
        "subject": history.subject,
        "versions": [version.reference for version in history.versions],
        "steps": [
            {
                "before": step.before.reference,
                "after": step.after.reference,
                "captured": step.after.captured,
                "place": step.after.place,
                "counts": {word: step.counts.get(word, 0) for word in WORDS},
                "changes": [change.number for change in step.changes],
                "settings": [_setting(history, step, one) for one in step.found],
            }
            for step in history.steps
        ],
        "constant": [
            {"version": version.reference, "part": part, **msgspec.structs.asdict(setting)}
            for version, part, setting in history.constant
        ],
        "not_read": [{"version": where, "why": why} for where, why in history.left],
    }


def _setting(history: History, step: Step, one: Difference) -> dict[str, Any]:
    part = _part(history, one.part, one.document)
    change = step.authors.get(Where(one.part, one.document, one.address))
    wrote = {"change": change.number, "by": change.who} if change else {}
    return difference_json(one.part, one.document, one, part) | wrote


def _rows(history: History) -> Iterator[dict[str, Any]]:
    for step in history.steps:
        for one in step.found:
            yield {
                **_setting(history, step, one),
                "subject": history.subject,
                "place": step.after.place,
                "captured": step.after.captured,
                "versions": f"{step.before.reference} {step.after.reference}",
            }
    for version, part, setting in history.constant:
        where = {"subject": history.subject, "place": version.place, "captured": version.captured}
        of = {"part": part, "document": setting.document, "address": setting.address}
        yield {"what": "as ever", **where, **of, "after": leaf_json(setting.leaf)}
    for version_name, why in history.left:
        yield {"what": "not read", "subject": history.subject, "versions": version_name, "note": why}

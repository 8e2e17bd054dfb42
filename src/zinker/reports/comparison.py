"""A comparison as a page and as data."""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from itertools import groupby
from typing import Any

import msgspec

from zinker.jobs.comparing import Comparison
from zinker.model.difference import Difference
from zinker.model.where import Where
from zinker.reports.entries import (
    GAP,
    difference_json,
    document_entry,
    reasons,
    setting_entry,
    titled,
    whole_text,
)
from zinker.reports.page import Block, Facts, Page, Paragraph, Section, Table
from zinker.reports.report import Report
from zinker.reports.words import count, when

WORDS = ("changed", "new", "gone")


def comparison_report(comparison: Comparison, is_brief: bool = False) -> Report:
    """Return a comparison; a brief one counts by document, and has no settings."""
    facts = Facts((("before", comparison.before), ("after", comparison.after)))
    first = (*_counts(comparison, is_brief), *comparison_tail(comparison))
    page = Page("Comparison", comparison.about.title, facts, first, () if is_brief else sections(comparison))
    return Report(page, lambda: comparison_json(comparison), lambda: comparison_rows(comparison))


def comparison_tail(comparison: Comparison) -> Iterator[Block]:
    """Yield what has to be known besides the differences."""
    yield from _changes(comparison)
    if comparison.uncertain:
        yield reasons("Not compared, because it could not be read:", comparison.uncertain, comparison.subject)
    if comparison.alone:
        yield Paragraph(f"Only one side holds: {', '.join(comparison.alone)}.")


def _counts(comparison: Comparison, by_document: bool = False) -> Iterator[Block]:
    """Yield how many settings are not the same, and where, if that is in several parts."""
    yield Paragraph(summary(comparison.differences, comparison.alike), "strong")
    if comparison.hidden:
        hidden = count(comparison.hidden, "more difference was", "more differences were")
        yield Paragraph(f"{hidden} not asked for.", "left")
    titles = {record.id: record.title for record in comparison.parts}
    tally: dict[tuple[str, ...], Counter[str]] = {}
    for one in comparison.differences:
        named = (titles[one.part], document_name(comparison, one)) if by_document else (titles[one.part],)
        tally.setdefault(named, Counter())[one.word] += 1
    if len(tally) > 1 or (tally and by_document):
        words = [word for word in WORDS if any(counts[word] for counts in tally.values())]
        rows = tuple((*(f"{counts[word]:,}" for word in words), *named) for named, counts in tally.items())
        yield GAP
        yield Table((*words, "part", *(["document"] if by_document else [])), rows)


def _changes(comparison: Comparison) -> Iterator[Block]:
    """Yield the changes that were made with Zinker in between."""
    if not comparison.changes:
        return
    yield GAP
    yield Paragraph("Changed with Zinker in between:")
    rows = (
        (str(one.number), when(one.started), one.kind, f"{one.who} on {one.machine}", one.source)
        for one in comparison.changes
    )
    yield Table(("change", "when", "what", "by", "from"), tuple(rows))


def sections(comparison: Comparison, level: int = 2) -> Iterator[Section]:
    """Yield the differences document by document, under headings of a level."""
    titles = {record.id: record for record in comparison.parts}
    for (part_id, document), group in groupby(comparison.differences, key=lambda d: (d.part, d.document)):
        part = comparison.subject.find_part(part_id) if comparison.subject else None
        record = titles[part_id]
        found = list(group)
        notes = tuple(_last_change(comparison, part_id, document))
        name = document_name(comparison, found[0])
        word = comparison.documents.get((part_id, document))
        named = titled(part, document, comparison.titles)
        entries = tuple(
            setting_entry(d.word, named, d.address, d.before, d.after, notes=_author(comparison, d))
            for d in found
            if d.address or not word
        )
        if word and (part_id, document) not in comparison.renamed:
            leaf = found[0].after or found[0].before
            told = (*notes, *_author(comparison, msgspec.structs.replace(found[0], address="")))
            entry = document_entry(word, name, whole_text(len(found), leaf), record.store, told)
            yield Section(record.title, name, (entry,), inside=entries, is_whole=True, level=level)
            continue
        yield Section(record.title, name, entries, notes, level=level)


def document_name(comparison: Comparison, difference: Difference) -> str:
    """Return what a document is called, and what it was called before."""
    was = comparison.renamed.get((difference.part, difference.document))
    return difference.document if was is None else f"{difference.document} (was called {was})"


def _author(comparison: Comparison, difference: Difference) -> tuple[str, ...]:
    """Say who wrote what is there now, where that was done with Zinker."""
    change = comparison.authors.get(Where(difference.part, difference.document, difference.address))
    if change is None:
        return ()
    return (f"by {change.who}, {when(change.started)}, with change {change.id}",)


def _last_change(comparison: Comparison, part: str, document: str) -> Iterator[str]:
    """Say who changed a policy last, and when, as the service has it."""
    last = comparison.last_changes.get((part, document))
    if last is not None:
        by, at = (f" by {last.by}" if last.by else "", f", {_moment(last.at)}" if last.at else "")
        yield f"last changed{by}{at}"


def _moment(text: str) -> str:
    """Return a point in time as people write it; what is none as it is."""
    try:
        return when(text)
    except ValueError:
        return text


def summary(differences: Sequence[Difference], alike: int) -> str:
    """Say in one sentence what came out."""
    same = count(alike, "setting is", "settings are")
    if not differences:
        return f"No differences: {same} alike."
    words = Counter(difference.word for difference in differences)
    return f"{', '.join(f'{words[word]:,} {word}' for word in WORDS if words[word])}; {same} alike."


def comparison_json(comparison: Comparison) -> dict[str, Any]:
    """Return a comparison for programs."""
    return {
        "subject": comparison.about.subject,
        "before": comparison.before,
        "after": comparison.after,
        "alike": comparison.alike,
        **({"not_asked_for": comparison.hidden} if comparison.hidden else {}),
        "differences": list(_differences(comparison, comparison.differences)),
        "not_compared": comparison.uncertain,
        "on_one_side_only": comparison.alone,
        **({"changes": comparison.changes} if comparison.changes else {}),
    }


def comparison_rows(comparison: Comparison) -> Iterator[dict[str, Any]]:
    """Yield what was compared, every difference, what could not be compared, and how much is alike."""
    yield {
        "what": "compared",
        "subject": comparison.about.subject,
        "title": comparison.about.title,
        "before": comparison.before,
        "after": comparison.after,
        "note": f"{count(comparison.alike, 'setting is', 'settings are')} alike",
    }
    for one in _differences(comparison, comparison.differences):
        last = one.pop("last_changed", None)
        notes = [f"was called {one.pop('was_called')}"] if "was_called" in one else []
        notes += [f"last changed by {last.by}, {last.at}"] if last else []
        notes += [f"by {one['by']}, {one['at']}, with change {one['change']}"] if "change" in one else []
        for name in ("by", "at", "change"):
            one.pop(name, None)
        yield {**one, "subject": comparison.about.subject, "note": "; ".join(notes)}
    for problem in comparison.uncertain:
        yield {
            "what": "not compared",
            "subject": comparison.about.subject,
            "part": problem.part,
            "document": problem.document,
            "address": problem.address,
            "note": problem.why,
        }
    for part in comparison.alone:
        yield {"what": "on one side only", "subject": comparison.about.subject, "part": part}


def _differences(comparison: Comparison, found: Iterable[Difference]) -> Iterator[dict[str, Any]]:
    for difference in found:
        part = comparison.subject.find_part(difference.part) if comparison.subject else None
        part = titled(part, difference.document, comparison.titles)
        where = (difference.part, difference.document)
        change = comparison.authors.get(Where(*where, difference.address))
        was, last = comparison.renamed.get(where), comparison.last_changes.get(where)
        yield difference_json(*where, difference, part) | {
            **({"was_called": was} if was else {}),
            **({"last_changed": last} if last else {}),
            **({"change": change.number, "by": change.who, "at": change.started} if change else {}),
        }

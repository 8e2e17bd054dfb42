"""What changed between two days or labels, over all subjects of a place or of all places: one page."""

from collections import Counter
from collections.abc import Iterator
from typing import Any

from zinker.jobs.comparing import Comparison
from zinker.jobs.period import Period
from zinker.reports.comparison import (
    WORDS,
    comparison_json,
    comparison_rows,
    comparison_tail,
    sections,
    summary,
)
from zinker.reports.entries import GAP
from zinker.reports.page import Block, Facts, Heading, Page, Paragraph, Reasons, Table
from zinker.reports.report import Report


def period_report(period: Period, is_brief: bool = False) -> Report:
    """Return the comparisons of a period, one under the other, with what is not the same in all of them first."""
    facts = Facts((("before", period.before), ("after", period.after)))
    page = Page("Changes", _title(period), facts, tuple(_summary(period)), _body(period, is_brief))
    return Report(page, lambda: _json(period), lambda: _rows(period))


def _title(period: Period) -> str:
    if period.name:
        return period.name[:1].upper() + period.name[1:]
    places = set(period.places)
    return f"All that is kept of {places.pop()[1]}" if len(places) == 1 else "All that is kept"


def _each(period: Period) -> Iterator[tuple[tuple[str, str], Comparison]]:
    """Yield each comparison with its place, and what people call that."""
    return zip(period.places, period.comparisons, strict=True)


def _summary(period: Period) -> Iterator[Block]:
    differences = [one for comparison in period.comparisons for one in comparison.differences]
    alike = sum(comparison.alike for comparison in period.comparisons)
    told = summary(differences, alike) if period.comparisons else "Nothing could be compared."
    yield Paragraph(told, "strong")
    rows = []
    for (_, place), comparison in _each(period):
        words = Counter(one.word for one in comparison.differences)
        counts = (f"{words[word]:,}" for word in WORDS)
        rows.append((*counts, comparison.about.title, place))
    if rows:
        yield GAP
        yield Table((*WORDS, "subject", "place"), tuple(rows))
    if period.left:
        yield Reasons("Not compared:", tuple((where, why, 1) for where, why in period.left))


def _body(period: Period, is_brief: bool) -> Iterator[Block]:
    for (_, place), comparison in _each(period):
        if is_brief or not (comparison.differences or comparison.uncertain or comparison.alone):
            continue
        yield Heading(f"{comparison.about.title} at {place}")
        yield Facts((("before", comparison.before), ("after", comparison.after)))
        yield from comparison_tail(comparison)
        yield from sections(comparison, level=3)


def _json(period: Period) -> dict[str, Any]:
    return {
        "before": period.before,
        "after": period.after,
        "comparisons": [{"place": place, **comparison_json(one)} for (place, _), one in _each(period)],
        "left": [{"what": what, "why": why} for what, why in period.left],
    }


def _rows(period: Period) -> Iterator[dict[str, Any]]:
    for (place, _), comparison in _each(period):
        for row in comparison_rows(comparison):
            yield {"what": row["what"], "place": place, **row}
    for what, why in period.left:
        yield {"what": "not compared", "subject": what, "note": why}

"""A survey as a page and as data: is everything captured, what has changed since, and which place is odd."""

from collections import Counter
from collections.abc import Iterator
from itertools import groupby
from typing import Any

import msgspec

from zinker.jobs.surveying import Cell, Odd, Oddity, State, Survey
from zinker.model.names import place_told
from zinker.reports.entries import GAP, leaf_json, value_text
from zinker.reports.page import Block, Entry, Facts, Heading, Page, Paragraph, Section, Table
from zinker.reports.report import Report
from zinker.reports.words import age, count, when

# How most have it, and how the one that is odd does.
USUAL = ("most", "here")
WORDS: dict[State, str] = {
    "kept": "kept",
    "stale": "stale",
    "never": "never captured",
    "missing": "not there any more",
    "silent": "silent",
    "failed": "not looked at",
}


def survey_report(survey: Survey) -> Report:
    """Return a survey: how much is right, every place and subject, then the odd ones, the oddest first."""
    facts = Facts((("against", survey.against),) if survey.against else ())
    page = Page("Survey", "Every place", facts, tuple(_summary(survey)), _body(survey))
    return Report(page, lambda: _json(survey), lambda: _rows(survey))


def _summary(survey: Survey) -> Iterator[Block]:
    right = sum(cell.is_right for cell in survey.cells)
    total = len(survey.cells)
    if right == total:
        yield Paragraph(f"All {total:,} are captured as they are now.", "strong")
        return
    yield Paragraph(f"{right:,} of {total:,} are captured as they are now.", "strong")
    words = Counter(cell.state for cell in survey.cells if cell.state != "kept")
    told = [f"{number:,} {WORDS[state]}" for state, number in words.items()]
    if changed := sum(bool(cell.changed) for cell in survey.cells):
        told.append(f"{changed:,} changed since")
    if drift := sum(bool(cell.drift) for cell in survey.cells):
        told.append(f"{drift:,} not as {survey.against}")
    if told:
        yield Paragraph(f"{', '.join(told)}.")


def _body(survey: Survey) -> Iterator[Block]:
    yield GAP
    reference = (f"not as {survey.against}",) if survey.against else ()
    head = ("place", "subject", "state", "newest", "age", "changed since", *reference, "")
    cells = sorted(survey.cells, key=lambda cell: cell.is_right)  # what is not right comes first
    yield Table(head, tuple(_row(cell, bool(survey.against)) for cell in cells))
    if survey.oddities:
        yield Heading("Not like the others")
    for oddity in survey.oddities:
        yield from _odd(survey, oddity)


def _row(cell: Cell, has_reference: bool) -> tuple[str, ...]:
    newest = cell.newest
    numbers = (cell.changed, cell.drift) if has_reference else (cell.changed,)
    return (
        cell.place,
        cell.subject,
        WORDS[cell.state],
        f"@{newest.number}, {when(newest.captured)}" if newest else "",
        age(newest.known) if newest else "",
        *("" if number is None else f"{number:,}" for number in numbers),
        cell.why,
    )


def _odd(survey: Survey, oddity: Oddity) -> Iterator[Section]:
    version = oddity.version
    where = place_told(version.place, version.machine)
    part = f"{where}: {survey.subjects.get(oddity.subject, oddity.subject)}, {count(oddity.count, 'setting')}"
    for document, group in groupby(oddity.settings, key=lambda one: (one.part, one.document)):
        yield Section(part, document[1], tuple(map(_odd_entry, group)), level=3)


def _odd_entry(one: Odd) -> Entry:
    word = "gone" if one.own is None else "new" if one.usual is None else "changed"
    usual = None if one.usual is None else value_text(one.usual)
    own = None if one.own is None else value_text(one.own)
    many, total = one.share
    name = one.address or "the whole of it"
    return Entry(word, name, before=usual, after=own, verbs=USUAL, notes=(f"as most: {many:,} of {total:,}",))


def _json(survey: Survey) -> dict[str, Any]:
    return {
        "right": survey.is_right,
        "against": survey.against,
        "cells": [_cell_json(cell) for cell in survey.cells],
        "odd": [
            {
                "subject": one.subject,
                "place": one.version.place,
                "version": one.version.reference,
                "count": one.count,
                "settings": [_odd_json(odd) for odd in one.settings],
            }
            for one in survey.oddities
        ],
    }


def _cell_json(cell: Cell) -> dict[str, Any]:
    told = msgspec.structs.asdict(cell) | {"newest": cell.newest.reference if cell.newest else ""}
    known = cell.newest.known if cell.newest else ""
    return told | {"known": known, "right": cell.is_right}


def _odd_json(odd: Odd) -> dict[str, Any]:
    return {
        "part": odd.part,
        "document": odd.document,
        "address": odd.address,
        "usual": leaf_json(odd.usual),
        "own": leaf_json(odd.own),
        "share": odd.share,
    }


def _rows(survey: Survey) -> Iterator[dict[str, Any]]:
    for cell in survey.cells:
        yield {"what": cell.state, **{k: v for k, v in _cell_json(cell).items() if k != "state"}}
    for one in survey.oddities:
        for odd in one.settings:
            where = {"part": odd.part, "document": odd.document, "address": odd.address}
            sides = {"before": leaf_json(odd.usual), "after": leaf_json(odd.own)}
            yield {"what": "odd", "place": one.version.place, "subject": one.subject, **where, **sides}

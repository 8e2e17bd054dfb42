"""Lists: kept versions, subjects with their homes, places."""

import datetime
from collections.abc import Iterator, Sequence
from itertools import groupby
from typing import TYPE_CHECKING, Any

import msgspec

from zinker.model.names import place_told
from zinker.model.profile import PartRecord
from zinker.reports.page import Block, Facts, Heading, Page, Paragraph, Table
from zinker.reports.report import Report
from zinker.reports.words import age, ago, count, size, when
from zinker.shelf.shelf import Version
from zinker.stores.kinds import traits_of

if TYPE_CHECKING:  # lists of versions need nothing of them
    from zinker.jobs.finding import PartState, PlaceState, SubjectState

_COLUMNS = ("", "captured", "age", "place", "machine", "application", "settings", "size", "added", "label")
_ROOMY = frozenset({"machine", "application"})


def versions_report(versions: Sequence[Version], stale: Sequence[Version] = ()) -> Report:
    """Return the kept versions by subject, newest last, with a word on each that is not an ordinary one.

    `stale` are those that were last right too long ago, and are the newest of their places.
    """
    old = {version.reference for version in stale}

    def data() -> list[dict[str, Any]]:
        return [version_json(version) | {"stale": version.reference in old} for version in versions]

    body = tuple(versions_blocks(versions, stale))
    return Report(Page("Kept versions", "", Facts(()), (), body), data, data)


def versions_blocks(versions: Sequence[Version], stale: Sequence[Version] = ()) -> Iterator[Block]:
    """Yield the kept versions, a table for each subject."""
    now = datetime.datetime.now().astimezone()
    for subject, group in groupby(versions, key=lambda version: version.subject):
        yield Heading(subject, 1 if subject == versions[0].subject else 2)
        yield Table(_COLUMNS, tuple(_version_row(one, now) for one in group), _ROOMY)
    if not versions:
        yield Paragraph("Nothing is kept yet. `zinker export SUBJECT` keeps the first version.")
    for version in stale:
        where = place_told(version.place, version.machine)
        told = f"Warning: the newest version of {version.subject} from {where} is stale"
        yield Paragraph(f"{told}: {version.reference} was last right {ago(version.known)}.", "left")


def _version_row(version: Version, now: datetime.datetime) -> tuple[str, ...]:
    number = f"@{version.number}"
    if version.problem:
        return number, "damaged", *([""] * (len(_COLUMNS) - 3)), version.problem
    fallback = f"before change {version.fallback_of}" if version.fallback_of else ""
    some = "only some of it" if version.partial and not version.note else ""
    some = f"most of @{version.lost} is missing" if version.lost else some
    named = ": ".join(text for text in (version.label, some, fallback or version.note) if text)
    return (
        number,
        when(version.captured),
        age(version.known, now),
        version.machine or "here" if version.place == "here" else version.place,
        version.machine,
        version.application_version,
        f"{version.settings:,}",
        size(version.size),
        size(version.stored),
        named,
    )


def version_json(version: Version) -> dict[str, Any]:
    """Return a kept version for programs."""
    return {"reference": version.reference, **msgspec.to_builtins(version)}


def documents_in(part: "PartRecord | PartState") -> str:
    """Say how many documents a part has, by the name that people have for such."""
    traits = traits_of(part.store)
    nouns = ("document", "documents") if traits.has_files else (traits.noun, traits.nouns)
    return count(part.documents, *nouns)


def subjects_blocks(states: "Sequence[SubjectState]", in_detail: bool) -> Iterator[Block]:
    """Yield subjects, and with detail the homes of their parts."""
    if not states:
        yield Paragraph(
            "No subject files were found. `subjects = [...]` in zinker.toml names folders with some."
        )
        return
    if not in_detail:
        there_first = sorted(states, key=lambda state: not state.is_present)
        rows = tuple(
            (state.id, state.title, "present" if state.is_present else "not there", _running(state))
            for state in there_first
        )
        yield Table(("subject", "title", f"at {place_told(states[0].place)}", ""), rows)
        return
    for state in states:
        yield Heading(
            f"{state.title} ({state.id}) at {place_told(state.place)} {_running(state)}".rstrip(), 1
        )
        if state.instances:
            yield Paragraph(f"instances: {', '.join(state.instances)}", indent=2)
        column = max(14, *(len(part.id) + 2 for part in state.parts))
        for part in state.parts:
            found = part.why or documents_in(part)
            bound = ", bound to its device" if part.device_bound else ""
            yield Paragraph(f"{part.id:<{column}}{part.title}: {found}{bound}", indent=2)
            for home in part.home.split("\n"):
                yield Paragraph(f"{part.store} {home}", "quiet", column + 2)


def mistakes_blocks(file: str, mistakes: Sequence[str]) -> Iterator[Block]:
    """Yield what is wrong with a subject file."""
    if not mistakes:
        yield Paragraph(f"{file} is right.", "strong")
        return
    yield Paragraph(f"{count(len(mistakes), 'mistake')} in {file}:", "strong")
    for mistake in mistakes:
        yield Paragraph(mistake, indent=2)


def _running(state: "SubjectState") -> str:
    return "running" if state.running else ""


def places_blocks(states: "Sequence[PlaceState]") -> Iterator[Block]:
    """Yield the places, when they were captured, and whether they answer."""
    rows = tuple(
        (
            state.name,
            state.kind,
            state.machine,
            state.user,
            state.system,
            ago(state.captured) if state.captured else "never",
            "silent" if state.absence else "answers",
        )
        for state in states
    )
    yield Table(("place", "kind", "machine", "user", "system", "captured", ""), rows)
    for state in states:
        if state.stale:
            yield Paragraph(
                f"Warning: what is kept of {state.name} is stale, from {when(state.captured)}.", "left"
            )
    for state in states:
        if state.absence:
            yield Paragraph(f"{state.name} is silent: {state.absence}", "left")
    signed = [state for state in states if state.signs_in]
    if signed:
        yield Paragraph("Who signs in:", "strong")
    for state in signed:
        yield Paragraph(f"{state.name}: {state.signs_in}", indent=2)

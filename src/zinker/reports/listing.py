"""Lists as text and as JSON: kept versions, settings, subjects, places, and what an export took."""

import json
from collections.abc import Iterator, Sequence
from itertools import groupby
from typing import Any

import msgspec
from rich.text import Text

from zinker.jobs.exporting import Exported
from zinker.jobs.looking import PartState, PlaceState, Shown, SubjectState
from zinker.jobs.secrets.detect import MARK
from zinker.model.names import place_told
from zinker.model.profile import Manifest, PartRecord
from zinker.model.setting import Setting
from zinker.reports.comparison import leaf_json
from zinker.reports.lines import (
    Block,
    blocks_text,
    heading,
    left_out,
    place_lines,
    plain,
    titled,
    value_text,
    with_address,
)
from zinker.reports.words import age, ago, count, cut, size, title, visible, when
from zinker.shelf.shelf import Version
from zinker.stores.kinds import traits_of
from zinker.subjects.subject import Subject

_COLUMNS = ("", "captured", "age", "place", "settings", "size", "added", "label")
_WIDE = ("", "captured", "age", "place", "machine", "application", "settings", "size", "added", "label")
_WIDE_ENOUGH = 110


def table(head: Sequence[str], rows: Sequence[Sequence[str]], width: int) -> Iterator[Text]:
    """Yield rows in aligned columns; the last column is cut at the width."""
    if not rows:
        return
    widths = [max(len(row[at]) for row in (head, *rows)) for at in range(len(head))]
    yield Text("  ".join(f"{cell:<{w}}" for cell, w in zip(head, widths, strict=True)).rstrip(), style="bold")
    for row in rows:
        start = "  ".join(f"{cell:<{w}}" for cell, w in zip(row[:-1], widths, strict=False)) + "  "
        yield Text((start + cut(row[-1], max(12, width - len(start)))).rstrip())


def versions_text(versions: Sequence[Version], width: int, stale: Sequence[Version] = ()) -> Iterator[Text]:
    """Yield the kept versions by subject, newest last, with a word on each that is not an ordinary one.

    `stale` are those that were last right too long ago, and are the newest of their places.
    """
    for subject, group in groupby(versions, key=lambda version: version.subject):
        if subject != versions[0].subject:
            yield plain("")
        yield heading(subject)
        is_wide = width >= _WIDE_ENOUGH
        rows = [_version_row(version, is_wide) for version in group]
        yield from table(_WIDE if is_wide else _COLUMNS, rows, width)
    if not versions:
        yield plain("Nothing is kept yet. `zinker export SUBJECT` keeps the first version.")
    for version in stale:
        where = visible(place_told(version.place, version.machine))
        told = f"Warning: the newest version of {version.subject} from {where} is stale"
        yield left_out(f"{told}: {version.reference} was last right {ago(version.known)}.")


def _version_row(version: Version, is_wide: bool) -> Sequence[str]:
    number = f"@{version.number}"
    if version.problem:
        return number, "damaged", *([""] * (7 if is_wide else 5)), version.problem
    fallback = f"before change {version.fallback_of}" if version.fallback_of else ""
    some = "only some of it" if version.partial and not version.note else ""
    some = f"most of @{version.lost} is missing" if version.lost else some
    named = ": ".join(visible(text) for text in (version.label, some, fallback or version.note) if text)
    place = visible(version.machine or "here" if version.place == "here" else version.place)
    about = (visible(version.machine), visible(version.application_version)) if is_wide else ()
    return (
        number,
        when(version.captured),
        age(version.known),
        place,
        *about,
        f"{version.settings:,}",
        size(version.size),
        size(version.stored),
        named,
    )


def version_json(version: Version) -> dict[str, Any]:
    """Return a kept version for programs."""
    return {"reference": version.reference, **msgspec.to_builtins(version)}


def exported_text(exported: Exported, subject: Subject | None, width: int) -> Iterator[Text]:
    """Yield what an export took, and what it could not take."""
    about = exported.manifest
    where = exported.version.reference if exported.version else str(exported.path)
    version = f" {visible(about.application_version)}" if about.application_version else ""
    yield heading(_kept(exported, where))
    at = f" at {place_told(about.place, about.machine)}" if about.place else ", for others"
    yield plain(f"{about.title}{version}{at}, {when(about.captured)}")
    yield from parts_text(about, width)
    if about.withheld:
        yield plain(_secrets(about))
    if about.while_running:
        numbers = ", ".join(str(process.number) for process in exported.running)
        yield left_out(
            f"Warning: {about.title} is running (process {numbers}) and may not have saved its last changes."
        )
    yield from _before_text(exported)
    missed = [problem for problem in about.problems if not problem.carried]
    carried = [problem for problem in about.problems if problem.carried]
    carries = {part.id for part in about.parts if traits_of(part.store).has_files}
    for head, problems in (
        ("Not captured:", missed),
        ("Carried as a whole file only:", [p for p in carried if p.part in carries]),
        ("Captured, with a reservation:", [p for p in carried if p.part not in carries]),
    ):
        if problems:
            yield left_out(head)
        hint = ", so it is withheld; --with-secrets seals it in"
        told = (msgspec.structs.replace(p, why=p.why + hint) if p.withheld else p for p in problems)
        yield from place_lines(told, subject)
    if exported.room is not None:
        documents = count(sum(part.documents for part in about.parts), "document")
        needs = f"{documents}, {count(about.settings, 'setting')}: about {size(exported.room.size)}"
        yield plain(f"{needs}, of {size(exported.room.free)} free at {visible(exported.room.where)}.")
        yield heading("Nothing was kept: this was a preview.")
    if exported.named:
        yield left_out("Still seems to name a person or a host:")
    yield from place_lines(exported.named, subject)


def _kept(exported: Exported, where: str) -> str:
    if exported.room is not None:
        return "This would be kept:"
    if exported.is_known and exported.version is not None:
        label = f", now labelled {visible(exported.version.label)}" if exported.version.label else ""
        return f"Nothing has changed since {where}{label}; that is noted, and nothing is kept twice."
    return f"Kept as {where}"


def _before_text(exported: Exported) -> Iterator[Text]:
    """Yield what is not as it was in the last version of the place: the application, and what was lost."""
    about, before = exported.manifest, exported.before
    if before is None:
        return
    was, now = before.application_version, about.application_version
    if was and now and was != now:
        yield plain(
            f"When {before.version.reference} was kept, {about.title} was {visible(was)}; now it is {visible(now)}."
        )
    for part in before.lost:
        much = f"{part.gone:,} of {count(part.held, 'setting or file', 'settings and files')}"
        yield left_out(
            f"Most of what {before.version.reference} had in {visible(part.title)} is not there: {much}."
        )
    if before.lost and exported.version is not None:
        latest = f"{about.place}:{about.subject}@latest stays {before.version.reference}"
        yield left_out(
            f"{latest}, which `zinker compare` and `zinker import` take; --loss-is-meant makes this the latest."
        )


def _secrets(about: Manifest) -> str:
    secrets = count(about.withheld, "secret")
    kinds = {"passphrase": "a passphrase", "key": "a key", "machine": "this machine's own"}
    if about.sealed:
        return f"{secrets} sealed in, to be opened with {' or '.join(kinds.get(k, k) for k in about.sealed)}."
    return f"{secrets} withheld; --with-secrets would seal {'it' if about.withheld == 1 else 'them'} in."


def documents_in(part: PartRecord | PartState) -> str:
    """Say how many documents a part has, by the name that people have for such."""
    traits = traits_of(part.store)
    nouns = ("document", "documents") if traits.has_files else (traits.noun, traits.nouns)
    return count(part.documents, *nouns)


def parts_text(about: Manifest, width: int) -> Iterator[Text]:
    """Yield the parts of a profile."""
    unread = {problem.part for problem in about.problems if not problem.document and problem.is_unknown}
    for part in about.parts:
        holds = [documents_in(part)] if traits_of(part.store).drops_documents else []
        holds += [count(part.settings, "setting")] if part.settings else []
        bound = f" (bound to the device {about.machine})" if part.device_bound else ""
        if about.partial and not part.documents:
            continue  # it was not asked for
        none = "could not be read" if part.id in unread else "nothing there"
        nothing = none if not part.documents else ", ".join(holds)
        yield plain(cut(f"  {visible(part.title):<28}  {nothing}{bound}", width))


def shown_text(shown: Shown, width: int) -> Iterator[Text]:
    """Yield settings part by part, document by document."""
    about = shown.manifest
    version = f" {about.application_version}" if about.application_version else ""
    yield heading(f"{visible(about.title)}{visible(version)}")
    yield plain(f"{visible(shown.name)}, {when(about.captured)}")
    yield from blocks_text(_blocks(shown, width))
    yield plain("")
    if shown.rules is None:
        yield heading(f"{count(len(shown.settings), 'setting')}.")
        return
    held, about = len(shown.settings), shown.manifest
    yield heading(f"{count(held, 'secret')} withheld from settings and whole files.")
    if about.withheld > held:
        more = count(about.withheld - held, "file")
        where = "in comments, or in tables that the subject file does not name"
        yield plain(f"What {more} had {where}, was withheld, too.")
    looks = [address or "/" for (_, _, address), rule in shown.rules.items() if not rule.startswith(MARK)]
    if looks:
        none = json.dumps(looks[0], ensure_ascii=False)
        yield plain(
            f"A value that is no secret is named in the subject file, in its part: not_secret = [{none}]"
        )
    if held:
        yield plain(
            "A secret that is missing here can be named in the subject file, in its part: secret = [...]"
        )


def _blocks(shown: Shown, width: int) -> Iterator[Block]:
    for (part_id, document), group in groupby(shown.settings, key=lambda s: (s[0], s[1].document)):
        part = titled(shown.subject.find_part(part_id) if shown.subject else None, document, shown.titles)
        record = shown.manifest.part(part_id)
        settings = [setting for _, setting in group]
        names = [title(part, s.address) if s.address else f"file {visible(s.document)}" for s in settings]
        values = [_said(shown, part_id, setting) for setting in settings]
        titles = part.titles if part else {}
        lines = [
            line
            for name, value, setting in zip(names, values, settings, strict=True)
            for line in _named(name, value, setting.address if setting.address in titles else "", width)
        ]
        is_file = not settings[0].address
        name = record.title if record else part_id
        yield Block(name, document, lines, is_file)


def _said(shown: Shown, part: str, setting: Setting) -> str:
    if shown.rules is not None:
        rule = visible(shown.rules[part, *setting.key])
        return f"by {rule}" if setting.address else rule
    return value_text(setting) + _layer(shown, part, setting)


def _layer(shown: Shown, part: str, setting: Setting) -> str:
    """Say from which layer a value comes, where it is not the user's own."""
    words = shown.layers.get((part, *setting.key), "")
    return f"  ({words})" if words else ""


def _named(name: str, value: str, address: str, width: int) -> Iterator[Text]:
    """Yield a setting with its value, and with the address that is given where it is shown by its title."""
    start = f"  {name:<40}  "
    if len(name) > 40 and len(start) + len(value) > width:
        yield plain(cut(f"  {name}", width))
        start = f"{'':<6}"
    line = plain(start + cut(value, width - len(start)))
    yield from with_address(line, address, width) if address else (line,)


def shown_json(shown: Shown) -> dict[str, Any]:
    """Return settings for programs."""
    return {
        "source": shown.name,
        "profile": shown.manifest,
        "settings": [
            {
                "part": part_id,
                "document": setting.document,
                "address": setting.address,
                "title": _title(shown, part_id, setting),
                **({"rule": shown.rules[part_id, *setting.key]} if shown.rules is not None else {}),
                **({"layer": layer} if (layer := shown.layers.get((part_id, *setting.key))) else {}),
                **(leaf_json(setting) or {}),
            }
            for part_id, setting in shown.settings
        ],
    }


def _title(shown: Shown, part_id: str, setting: Setting) -> str:
    part = titled(shown.subject.find_part(part_id) if shown.subject else None, setting.document, shown.titles)
    return part.titles.get(setting.address, "") if part else ""


def subjects_text(states: Sequence[SubjectState], in_detail: bool, width: int) -> Iterator[Text]:
    """Yield subjects, and with detail the homes of their parts."""
    if not states:
        yield plain("No subject files were found. `subjects = [...]` in zinker.toml names folders with some.")
        return
    if not in_detail:
        rows = [
            (state.id, state.title, "present" if state.is_present else "not there", _running(state))
            for state in states
        ]
        yield from table(("subject", "title", f"at {place_told(states[0].place)}", ""), rows, width)
        return
    for state in states:
        yield heading(f"{state.title} ({state.id}) at {place_told(state.place)} {_running(state)}".rstrip())
        if state.instances:
            yield plain(f"  instances: {', '.join(visible(name) for name in state.instances)}")
        column = max(14, *(len(part.id) + 2 for part in state.parts))
        for part in state.parts:
            found = part.why or documents_in(part)
            bound = ", bound to its device" if part.device_bound else ""
            yield Text(f"  {part.id:<{column}}{part.title}: {found}{bound}")
            for home in part.home.split("\n"):
                yield Text(f"{'':<{column + 2}}{part.store} {home}", style="bright_black")


def mistakes_text(file: str, mistakes: Sequence[str], width: int) -> Iterator[Text]:
    """Yield what is wrong with a subject file."""
    if not mistakes:
        yield heading(f"{visible(file)} is right.")
        return
    yield heading(f"{count(len(mistakes), 'mistake')} in {visible(file)}:")
    for mistake in mistakes:
        yield plain(f"  {visible(mistake)}")


def _running(state: SubjectState) -> str:
    return "running" if state.running else ""


def places_text(states: Sequence[PlaceState], width: int) -> Iterator[Text]:
    """Yield the places and whether they answer."""
    rows = [
        (
            state.name,
            state.kind,
            state.machine,
            state.user,
            state.system,
            "silent" if state.absence else "answers",
        )
        for state in states
    ]
    yield from table(("place", "kind", "machine", "user", "system", ""), rows, width)
    for state in states:
        if state.absence:
            yield left_out(f"{state.name} is silent: {visible(state.absence)}")
    signed = [state for state in states if state.signs_in]
    if signed:
        yield heading("Who signs in:")
    for state in signed:
        yield plain(f"  {state.name}: {visible(state.signs_in)}")

"""What an export took, and what it could not take, as blocks of a page."""

from collections.abc import Iterator

import msgspec

from zinker.jobs.exporting import Exported
from zinker.model.names import place_told
from zinker.model.profile import Manifest
from zinker.reports.entries import reasons
from zinker.reports.listing import documents_in
from zinker.reports.page import Block, Paragraph
from zinker.reports.words import count, size, when
from zinker.stores.kinds import traits_of
from zinker.subjects.subject import Subject


def exported_blocks(exported: Exported, subject: Subject | None) -> Iterator[Block]:
    """Yield what an export took, and what it could not take."""
    about = exported.manifest
    where = exported.version.reference if exported.version else str(exported.path)
    version = f" {about.application_version}" if about.application_version else ""
    yield Paragraph(_kept(exported, where), "strong")
    at = f" at {place_told(about.place, about.machine)}" if about.place else ", for others"
    yield Paragraph(f"{about.title}{version}{at}, {when(about.captured)}")
    yield from _parts(about)
    if about.withheld:
        yield Paragraph(_secrets(about))
    if about.while_running:
        numbers = ", ".join(str(process.number) for process in exported.running)
        running = f"Warning: {about.title} is running (process {numbers})"
        yield Paragraph(f"{running} and may not have saved its last changes.", "left")
    yield from _before(exported)
    yield from _problems(about, subject)
    if exported.room is not None:
        documents = count(sum(part.documents for part in about.parts), "document")
        needs = f"{documents}, {count(about.settings, 'setting')}: about {size(exported.room.size)}"
        free = f"of {size(exported.room.free)} free at" if exported.room.free is not None else "at"
        yield Paragraph(f"{needs}, {free} {exported.room.where}.")
        yield Paragraph("Nothing was kept: this was a preview.", "strong")
    if exported.named:
        yield reasons("Still seems to name a person or a host:", exported.named, subject)


def _problems(about: Manifest, subject: Subject | None) -> Iterator[Block]:
    """Yield what could not be captured, or only as it is."""
    missed = [problem for problem in about.problems if not problem.carried]
    carried = [problem for problem in about.problems if problem.carried]
    carries = {part.id for part in about.parts if traits_of(part.store).has_files}
    for head, problems in (
        ("Not captured:", missed),
        ("Carried as a whole file only:", [p for p in carried if p.part in carries]),
        ("Captured, with a reservation:", [p for p in carried if p.part not in carries]),
    ):
        hint = ", so it is withheld; --with-secrets seals it in"
        told = (msgspec.structs.replace(p, why=p.why + hint) if p.withheld else p for p in problems)
        if problems:
            yield reasons(head, told, subject)


def _kept(exported: Exported, where: str) -> str:
    if exported.room is not None:
        return "This would be kept:"
    if exported.is_known and exported.version is not None:
        label = f", now labelled {exported.version.label}" if exported.version.label else ""
        return f"Nothing has changed since {where}{label}; that is noted, and nothing is kept twice."
    return f"Kept as {where}"


def _before(exported: Exported) -> Iterator[Block]:
    """Yield what is not as it was in the last version of the place: the application, and what was lost."""
    about, before = exported.manifest, exported.before
    if before is None:
        return
    last = before.version.reference
    was, now = before.application_version, about.application_version
    if was and now and was != now:
        yield Paragraph(f"When {last} was kept, {about.title} was {was}; now it is {now}.")
    for part in before.lost:
        much = f"{part.gone:,} of {count(part.held, 'setting or file', 'settings and files')}"
        yield Paragraph(f"Most of what {last} had in {part.title} is not there: {much}.", "left")
    if before.lost and exported.version is not None:
        latest = f"{about.place}:{about.subject}@latest stays {last}"
        which = "which `zinker compare` and `zinker import` take; --loss-is-meant makes this the latest"
        yield Paragraph(f"{latest}, {which}.", "left")


def _secrets(about: Manifest) -> str:
    secrets = count(about.withheld, "secret")
    kinds = {"passphrase": "a passphrase", "key": "a key", "machine": "this machine's own"}
    if about.sealed:
        return f"{secrets} sealed in, to be opened with {' or '.join(kinds.get(k, k) for k in about.sealed)}."
    return f"{secrets} withheld; --with-secrets would seal {'it' if about.withheld == 1 else 'them'} in."


def _parts(about: Manifest) -> Iterator[Block]:
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
        yield Paragraph(f"{part.title:<28}  {nothing}{bound}", indent=2)

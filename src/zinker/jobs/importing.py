"""Import: a profile's settings are put back at a place."""

import contextlib
from collections.abc import Callable, Iterator

import msgspec

from zinker.jobs.access import at_place
from zinker.jobs.applying import Approve, Outcome, Work, carry_out, without_writing
from zinker.jobs.capturing import Live, Progress, Selection, no_progress, select
from zinker.jobs.checking import objections
from zinker.jobs.planning import plan_part
from zinker.jobs.references import Reference, parse_reference
from zinker.jobs.registration import NOBODYS, TextProfile
from zinker.jobs.setup import Setup
from zinker.jobs.sources import Source, kept
from zinker.jobs.withholding import Withholder
from zinker.model.address import tokens
from zinker.model.crosswalk import Crosswalk, between
from zinker.model.errors import Refused, WrongUsage
from zinker.model.plan import DocumentPlan, LeftAlone, Plan
from zinker.model.setting import decode_line
from zinker.places.place import Place
from zinker.profiles.reading import Profile
from zinker.profiles.sealing import Lock
from zinker.subjects.subject import Part, Subject

# Asked, with the kinds of lock that a profile's secrets were sealed for, for one that opens them.
Unlock = Callable[[tuple[str, ...]], Lock]


def import_profile(
    setup: Setup,
    reference: str,
    place: str = "here",
    parts: tuple[str, ...] = (),
    without: tuple[str, ...] = (),
    device_bound: bool = False,
    translate: bool = True,
    overruled: frozenset[str] = frozenset(),
    preview: bool = False,
    approve: Approve = lambda plan: True,
    progress: Progress = no_progress,
    unlock: Unlock | None = None,
) -> Outcome:
    """Put a profile's settings back at a place; what the profile does not know stays as it is.

    With `unlock`, the secrets sealed into the profile are put back, too; otherwise the place keeps its own.

    `approve` is shown the plan and says whether to go on; with `preview`, nothing is changed and the outcome
    holds the plan. `overruled` names checks to leave out (see jobs/checking.py). Parts bound to another
    device are left out unless they are named in `parts`, or `device_bound` is set.

    Raises `WrongUsage`, `Damaged`, `Refused` (nothing was changed) and `Failed` (taken back).
    """
    wanted = parse_reference(reference)
    if wanted.is_live:
        why = f"{reference} means live settings, and an import takes a kept version or a profile"
        raise WrongUsage(
            "Not imported", why, f"Try {wanted.subject}@latest; `zinker list` shows what is kept."
        )
    with kept(setup, wanted) as source:
        if unlock is not None:
            _unseal(setup, source, unlock)
        if source.manifest.subject == NOBODYS:
            key = next(
                (found for part in source.manifest.parts for found in _keys(source, part.id)), "HKEY_..."
            )
            why = f"no subject file describes the keys in {source.name}, such as {key}"
            then = f"`zinker subjects new NAME --home '{key}'` drafts one; then run this again."
            raise WrongUsage("Not imported", why, then)
        subject = setup.catalogue.find(source.manifest.subject)
        selection = _selection(subject, source, parts, without, wanted)
        with at_place(setup, place, look_only=preview) as target:
            bound = [] if device_bound else _bound_elsewhere(selection, source, target, parts)
            chosen = tuple(part for part in selection.parts if part not in bound)
            with contextlib.closing(Live(setup, target, subject, Selection(chosen))) as live:
                plan = _plan(
                    setup, target, subject, Selection(chosen, wanted.instance), live, source, translate
                )
                plan = _completed(plan, target, subject, bound, source, overruled)
                ended = without_writing(plan, "Not imported", preview, approve)
                work = Work(setup, target, subject, source.snapshot)
                return ended or carry_out(work, plan, "import", progress=progress)


def _keys(source: Source, part: str) -> Iterator[str]:
    """Yield the keys of the settings of a part."""
    for line in source.snapshot.lines(part):
        setting = decode_line(line)
        if not setting.is_head:
            yield "\\".join([setting.document, *tokens(setting.address)[:-1]])


def _unseal(setup: Setup, source: Source, unlock: Unlock) -> None:
    """Open the secrets of a profile, with this machine's own key or with what is given."""
    if not source.manifest.sealed:
        then = "Leave --with-secrets out: the place keeps its own then."
        raise Refused("Secrets not opened", f"none are sealed into {source.name}", then)
    own = Withholder(setup.home).lock
    if isinstance(source.snapshot, Profile):
        is_own = own.kind in source.manifest.sealed
        source.snapshot.unseal(own if is_own else unlock(source.manifest.sealed))


def _selection(
    subject: Subject, source: Source, parts: tuple[str, ...], without: tuple[str, ...], wanted: Reference
) -> Selection:
    selection = select(subject, parts, without, wanted.instance)
    there = tuple(part for part in selection.parts if source.manifest.part(part.id))
    missing = [id for id in parts if not source.manifest.part(id)]
    if missing or not there:
        why = f"{source.name}, does not hold the part {', '.join(missing) or 'asked for'}"
        held = ", ".join(part.id for part in source.manifest.parts)
        raise WrongUsage("Not imported", why, f"It holds {held or 'nothing'}.")
    return Selection(there, wanted.instance)


def _bound_elsewhere(
    selection: Selection, source: Source, place: Place, named: tuple[str, ...]
) -> list[Part]:
    """Return the parts that are valid on the old device only, and were not asked for by name."""
    if source.manifest.machine == place.machine:
        return []
    records = {part.id: part for part in source.manifest.parts}
    bound = (p for p in selection.parts if p.device_bound or records[p.id].device_bound)
    return [part for part in bound if part.id not in named]


def _plan(
    setup: Setup,
    place: Place,
    subject: Subject,
    selection: Selection,
    live: Live,
    source: Source,
    translate: bool,
) -> Plan:
    crosswalk = between(source.manifest.folders, place.own_folders()) if translate else Crosswalk()
    documents: list[DocumentPlan] = []
    left: list[LeftAlone] = []
    alike = 0
    for part in selection.parts:
        own = subject.application.version
        version = own.address if own and own.part == part.id else ""
        plan = plan_part(setup, place, part, selection, live, source.snapshot, crosswalk, version)
        documents += plan.documents
        left += plan.left
        alike += plan.alike
    return Plan(
        subject=subject.id,
        title=subject.title,
        place=place.name,
        source=source.name,
        documents=tuple(documents),
        left=tuple(left),
        alike=alike,
        translations=_translations(documents, crosswalk),
        seen={part.id: part.sha256 for part in live.manifest.parts},
    )


def _completed(
    plan: Plan, place: Place, subject: Subject, bound: list[Part], source: Source, overruled: frozenset[str]
) -> Plan:
    """Add to a plan the parts left out for being bound to a device, and what speaks against it."""
    why = f"bound to the device {source.manifest.machine}, so it is left out; --part {{}} takes it along"
    left = [LeftAlone(part.id, "", "", why.format(part.id), wanted=False) for part in bound]
    if isinstance(source.snapshot, TextProfile):
        # What somebody handed over as such a file is meant to be written, all of it.
        problems = source.manifest.problems
        left += [LeftAlone(p.part, p.document, p.address, p.why) for p in problems]
    against = objections(place, subject, source.manifest, plan.documents, overruled)
    return msgspec.structs.replace(plan, left=(*plan.left, *left), objections=tuple(against))


def _translations(documents: list[DocumentPlan], crosswalk: Crosswalk) -> tuple[tuple[str, str], ...]:
    """Return the pairs of folders that a plan makes use of."""
    originals = [i.translated.value for d in documents for i in d.items if i.translated is not None]
    used = {crosswalk.pair_for(original) for original in originals}
    return tuple(pair for pair in crosswalk.folders if pair in used)

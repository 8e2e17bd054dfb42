"""Import: a profile's settings are put back at a place."""

import contextlib
from collections.abc import Callable, Iterator
from typing import NamedTuple

import msgspec

from zinker.jobs.apply.carry_out import Approve, Kind, Outcome, Ready
from zinker.jobs.capture.live import LiveSnapshot
from zinker.jobs.capture.selection import Selection, select
from zinker.jobs.place_lock import at_place
from zinker.jobs.plan.add_ons import against_missing, told_versions, without_told
from zinker.jobs.plan.asked import asked_for, at_addresses
from zinker.jobs.plan.base import with_base
from zinker.jobs.plan.checks import DESPITE_NEEDS, EMPTY_SECRETS, objections, without_unwritable
from zinker.jobs.plan.conflicts import Resolve, replace, resolved
from zinker.jobs.plan.documents import LEAVE_UNWRITABLE, NEW_INSTANCE, Options
from zinker.jobs.plan.named import against_named, move_homes, told_missing
from zinker.jobs.plan.narrow import merged
from zinker.jobs.plan.order import in_order
from zinker.jobs.plan.overruled import with_overruled
from zinker.jobs.plan.part import Sides, plan_part
from zinker.jobs.references import Reference, parse_reference
from zinker.jobs.session import Session
from zinker.jobs.setup import Setup
from zinker.jobs.sources import Source, kept
from zinker.jobs.texts import UNDESCRIBED, TextProfile
from zinker.jobs.translate.instances import as_instance
from zinker.jobs.translate.people import renamed, told_for_whom, with_people
from zinker.jobs.translate.policies import titles_in
from zinker.jobs.translate.rules import World, crosswalk_for
from zinker.jobs.translate.view import Translated
from zinker.model.address import tokens
from zinker.model.crosswalk import Replace, Rules
from zinker.model.errors import Refused, WrongUsage
from zinker.model.plan import DocumentChange, LeftAlone, Plan
from zinker.places.place import Place
from zinker.profiles.reading import Profile
from zinker.profiles.sealing import Lock
from zinker.subjects.subject import Part, Subject

# Asked, with the kinds of lock that a profile's secrets were sealed for, for one that opens them.
Unlock = Callable[[tuple[str, ...]], Lock]
# Shown a plan, returns the plan that is left of it.
Choose = Callable[[Sides, Plan], Plan]


class Answers(NamedTuple):
    """Who answers where an import asks: nobody, by default.

    `resolve` is asked about every conflict, and `choose` may leave items out. With `unlock`, the secrets sealed
    into the profile are put back, too; otherwise the place keeps its own.
    """

    resolve: Resolve = replace
    choose: Choose = lambda sides, plan: plan
    unlock: Unlock | None = None


class Wishes(msgspec.Struct, frozen=True):
    """What of a profile is wanted at a place, and how.

    `parts` and `without` name parts, `documents` are names or patterns, `addresses` are addresses, patterns,
    sections or titles of settings. Parts bound to another device are left out unless they are named in `parts`, or
    `device_bound` is set. With `exact`, what the profile does not have goes from the parts that it holds; with
    `merge`, what has changed at the place since it was last kept stays. Folders are translated unless `translate`
    is off, the rest by the rules of a crosswalk. `instance` is the one to write to, where that is another one.
    `overruled` names checks to leave out (jobs/plan/checks.py). For whom policies count is only written with
    `for_whom`; `prefix` and `suffix` are put around their names.
    """

    parts: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    documents: tuple[str, ...] = ()
    addresses: tuple[str, ...] = ()
    device_bound: bool = False
    exact: bool = False
    merge: bool = False
    translate: bool = True
    rules: Rules | None = None
    instance: str = ""
    overruled: frozenset[str] = frozenset()
    wait: bool = False
    for_whom: bool = False
    prefix: str = ""
    suffix: str = ""


def import_profile(
    setup: Setup,
    reference: str,
    place: str = "here",
    wishes: Wishes | None = None,
    *,
    preview: bool = False,
    approve: Approve = lambda plan: True,
    answers: Answers | None = None,
    kind: Kind = "import",
) -> Outcome:
    """Put a profile's settings back at a place; what the profile does not know stays as it is.

    `approve` is shown the plan and says whether to go on; with `preview`, nothing is changed and the outcome holds
    the plan.

    Raises `WrongUsage`, `Damaged`, `Refused` (nothing was changed) and `Failed` (taken back).
    """
    planned = planned_import(setup, reference, place, wishes, look_only=preview, answers=answers, kind=kind)
    with planned as ready:
        return ready.ended(preview, approve)


@contextlib.contextmanager
def planned_import(
    setup: Setup,
    reference: str,
    place: str = "here",
    wishes: Wishes | None = None,
    *,
    look_only: bool = False,
    answers: Answers | None = None,
    kind: Kind = "import",
) -> Iterator[Ready]:
    """Yield what `import_profile` carries out, ready for that; the place is held meanwhile. Raises as it does."""
    wishes, answers = wishes or Wishes(), answers or Answers()
    wanted = parse_reference(reference)
    if wanted.is_live:
        why = f"{reference} means live settings, and an import takes a kept version or a profile"
        raise WrongUsage(
            "Not imported", why, f"Try {wanted.subject}@latest; `zinker list` shows what is kept."
        )
    with kept(setup, wanted) as source:
        if answers.unlock is not None:
            _unseal(setup, source, answers.unlock)
        _check_source(source, wishes)
        subject = setup.catalogue.find(_subject_id(source, wishes))
        selection = _selection(subject, source, wishes, wanted)
        waited_for = subject.application.processes if wishes.wait else ()
        with at_place(setup, place, look_only=look_only, waited_for=waited_for) as target:
            bound = _bound_elsewhere(selection, source, target, wishes)
            chosen = tuple(part for part in selection.parts if part not in bound)
            session = Session(setup, target, subject, EMPTY_SECRETS in wishes.overruled)
            said: dict[str, str] = {}
            if any(p.named_by for p in chosen) and not selection.documents and not wishes.addresses:
                said = move_homes(session, _translated(session, source, wishes, wanted), chosen)
            with contextlib.closing(LiveSnapshot(session, Selection(chosen))) as live:
                translated = _translated(session, source, wishes, wanted)
                sides = _sides(session, live, translated, wishes)
                _check_names(selection, sides, source)
                instance = wishes.instance or wanted.instance
                written = without_told(subject, chosen)
                plan = _plan(sides, Selection(written, instance, wishes.documents), source)
                plan = _chosen(sides, plan, wishes, answers)
                plan = _completed(sides, plan, bound, source, wishes)
                against = [*plan.objections, *against_named(session, plan, live, said)]
                if plan.documents and DESPITE_NEEDS not in wishes.overruled:
                    against += against_missing(session, source.snapshot, live)
                remarks = (*plan.remarks, *told_versions(session, source.snapshot, live))
                plan = msgspec.structs.replace(plan, objections=tuple(against), remarks=remarks)
                yield Ready(session, sides.source, plan, kind)


def _check_source(source: Source, wishes: Wishes) -> None:
    if source.manifest.subject in UNDESCRIBED:
        key = next((found for part in source.manifest.parts for found in _keys(source, part.id)), "HKEY_...")
        why = f"no subject file describes the keys in {source.name}, such as {key}"
        then = f"`zinker subjects new NAME --home '{key}'` drafts one; then run this again."
        raise WrongUsage("Not imported", why, then)
    if wishes.exact and _tells_some(source):
        why = (
            f"{source.name} holds only some settings, so --exact would remove everything it does not mention"
        )
        raise WrongUsage("Not imported", why, "Leave --exact out.")
    if wishes.exact and wishes.merge:
        why = "--exact makes the place like the profile, and --merge keeps what has changed at the place"
        raise WrongUsage("Not imported", why, "Choose one of them.")


def _subject_id(source: Source, wishes: Wishes) -> str:
    subject = source.manifest.subject
    return wishes.rules.subjects.get(subject, subject) if wishes.rules else subject


def _keys(source: Source, part: str) -> Iterator[str]:
    """Yield the keys of the settings of a part."""
    for setting in source.snapshot.settings(part):
        if not setting.is_head:
            above = tokens(setting.address)[:-1]
            is_path = setting.document.endswith("/")
            yield (
                setting.document + "".join(f"{name}/" for name in above)
                if is_path
                else "\\".join([setting.document, *above])
            )


def _unseal(setup: Setup, source: Source, unlock: Unlock) -> None:
    """Open the secrets of a profile, with this machine's own key or with what is given."""
    if not source.manifest.sealed:
        then = "Leave --with-secrets out: the place keeps its own then."
        raise Refused("Secrets not opened", f"none are sealed into {source.name}", then)
    own = setup.withholder().lock
    if isinstance(source.snapshot, Profile):
        is_own = own.kind in source.manifest.sealed
        source.snapshot.unseal(own if is_own else unlock(source.manifest.sealed))


def _selection(subject: Subject, source: Source, wishes: Wishes, wanted: Reference) -> Selection:
    selection = select(subject, wishes.parts, wishes.without, wanted.instance, wishes.documents)
    moved_to = {move.to_part for move in wishes.rules.move} if wishes.rules else set()
    held = {part.id for part in source.manifest.parts} | moved_to
    there = tuple(part for part in selection.parts if part.id in held)
    missing = [id for id in wishes.parts if id not in held]
    if missing or not there:
        why = f"{source.name} does not hold the part {', '.join(missing) or 'asked for'}"
        known = ", ".join(part.id for part in source.manifest.parts)
        raise WrongUsage("Not imported", why, f"It holds {known or 'nothing'}.")
    return msgspec.structs.replace(selection, parts=there)


def _check_names(selection: Selection, sides: Sides, source: Source) -> None:
    """Raise `WrongUsage` for an instance or a document that is neither in the profile nor at the place."""
    if selection.is_narrow:
        held = [part.id for part in selection.parts if source.manifest.part(part.id)]
        known = [(id, name) for id in held for name in source.snapshot.documents(id)]
        if selection.documents:  # an instance is one of the profile
            known += [(id, name) for (id, _), name in sides.source.crosswalk.renames.items()]
            known += [(part.id, name) for part in selection.parts for name in sides.live.documents(part.id)]
        selection.check(known, source.name)


def _bound_elsewhere(selection: Selection, source: Source, place: Place, wishes: Wishes) -> list[Part]:
    """Return the parts that are valid on the old device only, and were not asked for by name."""
    if wishes.device_bound or source.manifest.machine == place.machine:
        return []
    records = {part.id: part for part in source.manifest.parts}
    bound = (p for p in selection.parts if p.device_bound or (p.id in records and records[p.id].device_bound))
    return [part for part in bound if part.id not in wishes.parts]


def _translated(session: Session, source: Source, wishes: Wishes, wanted: Reference) -> Translated:
    """Return a source as the place would have it."""
    subject = session.subject
    world = World(session.place.name, session.place.own_folders(), session.version)
    crosswalk = crosswalk_for(source.manifest, world, wishes.rules, wishes.translate)
    renames, references = renamed(subject, source.snapshot, wishes.prefix, wishes.suffix)
    if wishes.instance:
        renames |= as_instance(source.snapshot, source.name, subject, wanted.instance, wishes.instance)
    crosswalk = with_people(crosswalk, subject, wishes.rules)
    replaces = (*crosswalk.replaces, *references)
    crosswalk = msgspec.structs.replace(crosswalk, renames=renames, replaces=replaces)
    return Translated(source.snapshot, crosswalk)


def _sides(session: Session, live: LiveSnapshot, translated: Translated, wishes: Wishes) -> Sides:
    subject = session.subject
    own = subject.application.version
    version_at = (own.part, own.address) if own else ("", "")
    titles = titles_in(subject, live, translated) if wishes.addresses else {}
    asked = asked_for(wishes.addresses, titles)
    options = Options(wishes.exact, version_at, for_whom=wishes.for_whom, asked=asked)
    return Sides(session, live, translated, options)


def _plan(sides: Sides, selection: Selection, source: Source) -> Plan:
    session = sides.session
    plans = [plan_part(sides, part, selection) for part in selection.parts]
    documents = in_order(session.subject, (change for plan in plans for change in plan.documents))
    return Plan(
        subject=session.subject.id,
        title=session.subject.title,
        place=session.place.name,
        machine=session.place.machine,
        captured=source.manifest.captured,
        newer=source.newer,
        versions=(source.manifest.application_version, session.version),
        source=source.told,
        origin=source.name,
        documents=tuple(documents),
        left=tuple(left for plan in plans for left in plan.left),
        alike=sum(plan.alike for plan in plans),
        seen={part.id: part.sha256 for part in sides.live.manifest.parts},
        objections=tuple(objection for plan in plans for objection in plan.objections),
        remarks=tuple(remark for plan in plans for remark in plan.remarks),
        fallback_size=sum(plan.held for plan in plans if plan.documents)
        + sum(part.size for part in sides.live.manifest.parts),
        adopted_from=_adopted_from(source, session.place),
        is_production=session.place.is_production,
        titles=titles_in(session.subject, sides.live, sides.source),
        only_here=0 if _tells_some(source) else sum(plan.only_here for plan in plans),
    )


def _tells_some(source: Source) -> bool:
    """Whether nothing follows from what a source does not have."""
    return source.manifest.partial or isinstance(source.snapshot, TextProfile)


def _adopted_from(source: Source, place: Place) -> str:
    machine, user = source.manifest.machine, source.manifest.user
    if not machine or machine == place.machine:
        return ""
    return f"{user} on {machine}" if user else machine


def _chosen(sides: Sides, plan: Plan, wishes: Wishes, answers: Answers) -> Plan:
    """Take out of a plan what was not asked for, and what is not to be overwritten."""
    plan = with_base(sides.session, plan)
    if wishes.addresses:
        known = (sides.source, sides.live)
        plan = at_addresses(sides.session, sides.source, plan, wishes.addresses, known)
    if wishes.merge:
        plan = merged(sides.session, sides.source, plan)
    return answers.choose(sides, resolved(sides, plan, answers.resolve))


def _completed(sides: Sides, plan: Plan, bound: list[Part], source: Source, wishes: Wishes) -> Plan:
    """Add to a plan the parts left out for being bound to a device, and what speaks against it."""
    session = sides.session
    why = f"bound to the device {source.manifest.machine}, so it is left out; --part {{}} takes it along"
    left = [
        LeftAlone(p.id, "", "", why.format(p.id), wanted=False, reason="device")
        for p in bound
        if not wishes.addresses or any(sides.options.asked(p, *s.key) for s in source.snapshot.settings(p.id))
    ]
    if isinstance(source.snapshot, TextProfile):
        # What somebody handed over as such a file is meant to be written, all of it.
        problems = source.manifest.problems
        left += [LeftAlone(p.part, p.document, p.address, p.why, reason="unreadable") for p in problems]
    documents = list(plan.documents)
    if LEAVE_UNWRITABLE in wishes.overruled:
        documents, closed = without_unwritable(session, plan)
        left += closed
    chosen = [part for part in session.subject.part if part.id in plan.seen]
    overruled = wishes.overruled | ({NEW_INSTANCE} if wishes.instance else set())
    plan = msgspec.structs.replace(
        plan,
        documents=with_overruled(session, documents),
        left=(*plan.left, *left),
        translations=_translations(documents, sides.source),
        remarks=(
            *_remarks(session.place, session.subject),
            *plan.remarks,
            *told_missing(session, plan),
            *told_for_whom(chosen, source.snapshot, wishes.for_whom),
        ),
    )
    against = objections(session, source.manifest, plan, overruled)
    return msgspec.structs.replace(plan, objections=against)


def _remarks(place: Place, subject: Subject) -> tuple[str, ...]:
    if place.knows_processes or not subject.application.processes:
        return ()
    what = f"Whether {subject.title} is running at {place.told}, and who is signed in there"
    return (f"{what}, cannot be told from here: see that it is closed.",)


def _translations(documents: list[DocumentChange], source: Translated) -> tuple[tuple[str, str], ...]:
    """Return the replacements that a plan makes use of, and its moves."""
    originals = [i.translated.value for d in documents for i in d.items if i.translated is not None]
    texts = [text for value in originals for text in ([value] if isinstance(value, str) else map(str, value))]
    used: tuple[Replace, ...] = source.crosswalk.used(texts)
    return tuple(dict.fromkeys((rule.from_, rule.to) for rule in used))

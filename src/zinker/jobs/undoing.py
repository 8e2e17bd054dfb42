"""Undo: the plan that takes a change back is made from its record and its fallback, and carried out alike."""

import contextlib
from collections.abc import Callable, Container, Iterator
from functools import partial
from typing import NamedTuple

import msgspec

from zinker.jobs.apply.carry_out import Approve, Outcome, Ready
from zinker.jobs.apply.recover import close, fallback_of
from zinker.jobs.capture.live import LiveSnapshot
from zinker.jobs.capture.selection import Selection
from zinker.jobs.place_lock import at_place
from zinker.jobs.plan.checks import LIVE, objections
from zinker.jobs.plan.overruled import with_overruled
from zinker.jobs.plan.reverse import plan_reverse
from zinker.jobs.session import Session
from zinker.jobs.setup import Setup
from zinker.jobs.together import Plans, Task, Together, carry_out_together
from zinker.jobs.translate.policies import titles_in
from zinker.model.change import Change, ChangeId, RoundRecord
from zinker.model.errors import Damaged, Refused, ZinkerError
from zinker.model.plan import DocumentChange, LeftAlone, Plan
from zinker.model.profile import Snapshot
from zinker.model.where import Where
from zinker.subjects.subject import Subject

ApproveAll = Callable[[Plans], bool]


def undo(
    setup: Setup,
    number: ChangeId | int | None = None,
    overruled: frozenset[str] = frozenset(),
    preview: bool = False,
    approve: Approve = lambda plan: True,
    leave_later: bool = False,
    wait: bool = False,
    live: Container[str] = (),
    approve_all: ApproveAll = lambda plans: True,
) -> Outcome | Together:
    """Take a change back: the one of that number, or the newest that can be; the plan says which it passed over.

    That of a round is taken back as one, the last member of a place first, and `approve_all` is shown the plans;
    a member alone is a change like any other.

    `live` holds the names of places that others depend on, which may be written to. A change whose settings a later
    one has changed, too, is only undone with `leave_later`. What has been changed again since is left alone and
    listed. Raises `Refused` for a change that cannot be undone, with the reason.
    """
    rules = _Rules(overruled, preview, leave_later, wait, live)
    wanted = ChangeId.of(number) if number is not None else None
    if wanted is not None and not wanted.member and (record := setup.shelf.changes.round(wanted.number)):
        return _undo_round(setup, record, rules, approve_all)
    candidates = [_undoable(setup, wanted)] if wanted is not None else _newest_first(setup)
    passed: dict[ChangeId, str] = {}
    of_round = 0
    for change in candidates:
        try:
            with _planned_undo(setup, change, rules, frozenset(passed)) as ready:
                if wanted is None and not ready.plan.documents:
                    left = ready.plan.left
                    passed[change.id] = left[0].why if left else "nothing of it is left to undo"
                    continue
                if wanted is None and change.member:
                    of_round = change.number
                    break
                told = (f"Passed over: change {which}: {why}." for which, why in passed.items())
                plan = msgspec.structs.replace(ready.plan, remarks=(*told, *ready.plan.remarks))
                return ready._replace(plan=plan).ended(preview, approve)
        except _NotPlanned as error:
            if wanted is not None:
                raise error.cause from None
            passed[change.id] = error.cause.why
    if of_round and (record := setup.shelf.changes.round(of_round)):
        return _undo_round(setup, record, rules, approve_all)
    why = "; ".join(f"change {which}: {why}" for which, why in passed.items())
    raise Refused("Nothing undone", why or "nothing on this shelf is left to undo")


class _Rules(NamedTuple):
    """How changes are to be taken back."""

    overruled: frozenset[str]
    preview: bool
    leave_later: bool
    wait: bool
    live: Container[str]


class _NotPlanned(Exception):
    """No plan could be made to take a change back, for this `cause`."""

    def __init__(self, cause: ZinkerError) -> None:
        super().__init__()
        self.cause = cause


def _undo_round(setup: Setup, record: RoundRecord, rules: _Rules, approve: ApproveAll) -> Together:
    """Take back what stands of a round's change."""
    number = record.number
    standing = [one for one in setup.shelf.changes.members(number) if one.state in ("done", "partly")]
    if not standing:
        members = setup.shelf.changes.members(number)
        by = next((one.undone_by_id for one in reversed(members) if one.undone_by), None)
        why = f"it was undone already, by change {by.number}" if by else "nothing of it stands"
        then = f"`zinker undo {by.number}` brings back what change {number} had written." if by else ""
        raise Refused(f"Change {number} not undone", why, then)
    tasks = [
        Task(one.place, one.subject, partial(_member_undone, change=one, rules=rules))
        for one in reversed(standing)
    ]
    return carry_out_together(
        setup,
        record.name,
        "undo",
        f"undo of change {number}",
        tasks,
        preview=rules.preview,
        approve=approve,
    )


@contextlib.contextmanager
def _member_undone(setup: Setup, change: Change, rules: _Rules) -> Iterator[Ready]:
    # The later members of the round are taken back with it.
    later = [one.id for one in setup.shelf.changes.members(change.number) if one.member > change.member]
    try:
        with _planned_undo(setup, change, rules, frozenset(later)) as ready:
            yield ready
    except _NotPlanned as error:
        raise error.cause from None


@contextlib.contextmanager
def _planned_undo(
    setup: Setup, change: Change, rules: _Rules, passed: frozenset[ChangeId]
) -> Iterator[Ready]:
    """Yield what takes a change back, ready for that; its place is held meanwhile. Raises `_NotPlanned`."""
    with contextlib.ExitStack() as stack:
        try:
            overruled = rules.overruled | ({LIVE} if change.place in rules.live else set())
            session = _begin(setup, change, stack, rules, passed)
            fallback, plan = stack.enter_context(_reversed(session, change, overruled))
        except ZinkerError as error:
            raise _NotPlanned(error) from None
        yield Ready(session, fallback, plan, "undo", change.id)


def _begin(
    setup: Setup, change: Change, stack: contextlib.ExitStack, rules: _Rules, passed: frozenset[ChangeId]
) -> Session:
    """Go to the place of a change; raises `Refused` where that, or the change as it stands, cannot be undone."""
    subject = setup.catalogue.find(change.subject)
    names = subject.application.processes if rules.wait else ()
    place = stack.enter_context(at_place(setup, change.place, rules.preview, change.id, names))
    change = _undoable(setup, change.id)  # another run may have been faster
    if not rules.leave_later:
        _check_later(setup, change, subject, passed)
    return Session(setup, place, subject, moved=change.moved)


def leave_as_it_is(setup: Setup, number: ChangeId | int) -> Change:
    """Close a change that was cut off and cannot be put right; its place stays as it is, its fallback is kept.

    Raises `Refused` for a change that is not open, or whose run is not over.
    """
    change = setup.shelf.changes.get(ChangeId.of(number))
    if change not in setup.shelf.changes.open_ones():
        then = "Leave --as-it-is out to take it back."
        raise Refused(f"Change {number} not closed", "it is closed already, or never began", then)
    with at_place(setup, change.place, look_only=True):
        why = "it was cut off, and the place was left as it was"
        documents = _documents(setup, change)
        left = tuple(LeftAlone(*document.where, why, reason="cut-off") for document in documents)
        return close(setup, change, "as-it-is", left)


def _documents(setup: Setup, change: Change) -> tuple[DocumentChange, ...]:
    """Return what a change was to do, as far as its record can be read."""
    try:
        return setup.shelf.changes.documents(change)
    except Damaged:
        return ()


def _check_later(setup: Setup, change: Change, subject: Subject, passed: frozenset[ChangeId]) -> None:
    """Raise `Refused` where later changes, which have not been taken back, touched the same settings.

    Those that were passed over count as taken back: nothing of them is there any more.
    """
    changes = setup.shelf.changes
    touched = set(_touched(changes.documents(change)))
    found: dict[ChangeId, Where] = {}
    for later in changes.all():
        is_same = (later.subject, later.place, later.place_machine) == (
            change.subject,
            change.place,
            change.place_machine,
        )
        # What undid a change that came after this one has only put back what this one wrote.
        is_standing = later.state in ("done", "partly") and not later.undoes_id > change.id
        is_standing = is_standing and later.id not in passed
        if later.id > change.id and is_same and is_standing:
            common = touched.intersection(_touched(changes.documents(later)))
            if common:
                found[later.id] = min(common)
    if found:
        numbers = [str(number) for number in found]
        who = f"change {numbers[0]}" if len(numbers) == 1 else f"the changes {', '.join(numbers)}"
        part_id, document, address = found[max(found)]
        part = subject.find_part(part_id)
        name = part.name if part else part_id
        where = f"{name}, {document}" + (f", {part.titles.get(address, address)}" if part and address else "")
        raise Refused(
            f"Change {change.id} not undone",
            f"{who} touched the same afterwards, such as {where}",
            f"Undo {'that' if len(numbers) == 1 else 'those'} first, the newest first, or add --leave-later to "
            "undo the rest.",
        )


def _touched(documents: tuple[DocumentChange, ...]) -> Iterator[Where]:
    """Yield where something was changed: settings, and documents as a whole."""
    for document in documents:
        for item in document.items:
            yield Where(document.part, document.document, item.address)
        if document.is_whole:
            yield document.where


@contextlib.contextmanager
def _reversed(session: Session, change: Change, overruled: frozenset[str]) -> Iterator[tuple[Snapshot, Plan]]:
    setup, subject = session.setup, session.subject
    documents = setup.shelf.changes.documents(change)
    touched = {document.part for document in documents}
    parts = tuple(part for part in subject.part if part.id in touched)
    with (
        contextlib.closing(fallback_of(setup, change)) as fallback,
        contextlib.closing(LiveSnapshot(session, Selection(parts))) as live,
    ):
        plans, left = plan_reverse(session, documents, fallback)
        plan = Plan(
            subject=subject.id,
            title=subject.title,
            place=session.place.name,
            machine=session.place.machine,
            source=f"undo of change {change.id}",
            documents=with_overruled(session, plans),
            left=tuple(left),
            is_production=session.place.is_production,
            titles=titles_in(subject, live, fallback),
            seen={part.id: part.sha256 for part in live.manifest.parts},
            remarks=tuple(dict.fromkeys(note for one in plans for note in session.home_of(one).notes(one))),
        )
        against = objections(session, fallback.manifest, plan, overruled)
        yield fallback, msgspec.structs.replace(plan, objections=against)


def _newest_first(setup: Setup) -> list[Change]:
    """Return the changes that stand, the newest first."""
    known = reversed(setup.shelf.changes.all())
    return [
        one
        for one in known
        if one.kind != "undo" and one.state in ("done", "partly") and not _elsewhere(setup, one)
    ]


def _undoable(setup: Setup, id: ChangeId) -> Change:
    shelf = setup.shelf
    change = shelf.changes.get(id)
    what = f"Change {id} not undone"
    if _elsewhere(setup, change):
        then = f"Run it on {change.place_machine}, with this shelf."
        raise Refused(what, f"it was made on {change.place_machine}, which is not this machine", then)
    if change.state in ("done", "partly") and not shelf.has(change.subject, change.fallback):
        why = f"its fallback, {change.subject}@{change.fallback}, is not kept any more"
        raise Refused(what, why, "What it wrote stays; import a version that is kept instead.")
    if change.state == "undone":
        by = shelf.changes.get(change.undone_by_id)
        when = by.started[:16].replace("T", " ")
        then = f"`zinker undo {by.id}` brings back what change {id} had written."
        raise Refused(what, f"it was undone already, by change {by.id} on {when}", then)
    if change.state == "taken-back":
        raise Refused(what, "it failed or was cut off, and was taken back then")
    if change.state == "as-it-is":
        raise Refused(what, "it was cut off, and the place was left as it was")
    if change.state == "open" and change not in shelf.changes.open_ones():
        raise Refused(what, "it was cut off before it wrote anything")
    return change


def _elsewhere(setup: Setup, change: Change) -> bool:
    """Tell whether a change was made `here` while here was another machine."""
    return change.place == "here" and change.place_machine != setup.places["here"].machine

"""Undo: the plan that takes a change back is made from its record and its fallback, and carried out alike."""

import contextlib
from collections.abc import Iterator

import msgspec

from zinker.jobs.apply.carry_out import Approve, Outcome, carry_out, without_writing
from zinker.jobs.apply.recover import close, fallback_of
from zinker.jobs.capture.capture import Progress, no_progress
from zinker.jobs.capture.live import LiveSnapshot
from zinker.jobs.capture.selection import Selection
from zinker.jobs.place_lock import at_place
from zinker.jobs.plan.checks import LIVE, objections
from zinker.jobs.plan.reverse import plan_reverse
from zinker.jobs.session import Session
from zinker.jobs.setup import Setup
from zinker.jobs.translate.policies import titles_in
from zinker.model.change import Change
from zinker.model.errors import Damaged, Refused, ZinkerError
from zinker.model.plan import DocumentChange, LeftAlone, Plan
from zinker.model.profile import Snapshot
from zinker.model.where import Where
from zinker.subjects.subject import Subject


def undo(
    setup: Setup,
    number: int | None = None,
    overruled: frozenset[str] = frozenset(),
    preview: bool = False,
    approve: Approve = lambda plan: True,
    leave_later: bool = False,
    wait: bool = False,
    live: str = "",
    progress: Progress = no_progress,
) -> Outcome:
    """Take a change back: the one of that number, or the newest that can be; the plan says which it passed over.

    At a place that others depend on, `live` has to be its name. A change whose settings a later one has changed,
    too, is only undone with `leave_later`. What has been changed again since is left alone and listed. Raises
    `Refused` for a change that cannot be undone, with the reason.
    """
    candidates = [_undoable(setup, number)] if number is not None else _newest_first(setup)
    passed: dict[int, str] = {}
    for change in candidates:
        with contextlib.ExitStack() as stack:
            overruled_too = {LIVE} if live == change.place else set()
            try:
                undoing = _begin(setup, change, stack, preview, wait, leave_later, frozenset(passed))
                fallback, plan = stack.enter_context(_reversed(undoing, change, overruled | overruled_too))
            except ZinkerError as error:
                if number is not None:
                    raise
                passed[change.number] = error.why
                continue
            if number is None and not plan.documents:
                passed[change.number] = plan.left[0].why if plan.left else "nothing of it is left to undo"
                continue
            told = (f"Passed over: change {which}: {why}." for which, why in passed.items())
            plan = msgspec.structs.replace(plan, remarks=(*told, *plan.remarks))
            ended = without_writing(plan, "Not undone", preview, approve)
            return ended or carry_out(undoing, fallback, plan, "undo", change.number, progress)
    why = "; ".join(f"change {which}: {why}" for which, why in passed.items())
    raise Refused("Nothing undone", why or "nothing on this shelf is left to undo")


def _begin(
    setup: Setup,
    change: Change,
    stack: contextlib.ExitStack,
    preview: bool,
    wait: bool,
    leave_later: bool,
    passed: frozenset[int],
) -> Session:
    """Go to the place of a change; raises `Refused` where that, or the change as it stands, cannot be undone."""
    subject = setup.catalogue.find(change.subject)
    names = subject.application.processes if wait else ()
    place = stack.enter_context(at_place(setup, change.place, preview, change.number, names))
    change = _undoable(setup, change.number)  # another run may have been faster
    if not leave_later:
        _check_later(setup, change, subject, passed)
    return Session(setup, place, subject, moved=change.moved)


def leave_as_it_is(setup: Setup, number: int) -> Change:
    """Close a change that was cut off and cannot be put right; its place stays as it is, its fallback is kept.

    Raises `Refused` for a change that is not open, or whose run is not over.
    """
    change = setup.shelf.changes.get(number)
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


def _check_later(setup: Setup, change: Change, subject: Subject, passed: frozenset[int]) -> None:
    """Raise `Refused` where later changes, which have not been taken back, touched the same settings.

    Those that were passed over count as taken back: nothing of them is there any more.
    """
    changes = setup.shelf.changes
    touched = set(_touched(changes.documents(change)))
    found: dict[int, Where] = {}
    for later in changes.all():
        is_same = (later.subject, later.place, later.place_machine) == (
            change.subject,
            change.place,
            change.place_machine,
        )
        # What undid a change that came after this one has only put back what this one wrote.
        is_standing = later.state in ("done", "partly") and not later.undoes > change.number
        is_standing = is_standing and later.number not in passed
        if later.number > change.number and is_same and is_standing:
            common = touched.intersection(_touched(changes.documents(later)))
            if common:
                found[later.number] = min(common)
    if found:
        numbers = [str(number) for number in found]
        who = f"change {numbers[0]}" if len(numbers) == 1 else f"the changes {', '.join(numbers)}"
        part_id, document, address = found[max(found)]
        part = subject.find_part(part_id)
        name = part.name if part else part_id
        where = f"{name}, {document}" + (f", {part.titles.get(address, address)}" if part and address else "")
        raise Refused(
            f"Change {change.number} not undone",
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
            source=f"undo of change {change.number}",
            documents=tuple(plans),
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


def _undoable(setup: Setup, number: int) -> Change:
    shelf = setup.shelf
    change = shelf.changes.get(number)
    what = f"Change {number} not undone"
    if _elsewhere(setup, change):
        then = f"Run it on {change.place_machine}, with this shelf."
        raise Refused(what, f"it was made on {change.place_machine}, which is not this machine", then)
    if change.state in ("done", "partly") and not shelf.has(change.subject, change.fallback):
        why = f"its fallback, {change.subject}@{change.fallback}, is not kept any more"
        raise Refused(what, why, "What it wrote stays; import a version that is kept instead.")
    if change.state == "undone":
        by = shelf.changes.get(change.undone_by)
        when = by.started[:16].replace("T", " ")
        then = f"`zinker undo {by.number}` brings back what change {number} had written."
        raise Refused(what, f"it was undone already, by change {by.number} on {when}", then)
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

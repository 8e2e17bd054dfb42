"""Carrying out a plan: fallback, journal, write, read back, close. The only code that changes a place."""

import contextlib
import datetime
from collections.abc import Callable
from typing import Literal, NamedTuple

import msgspec

from zinker.jobs.apply.next_steps import next_steps
from zinker.jobs.apply.recover import take_back
from zinker.jobs.apply.write import Staged, read_back, sweep
from zinker.jobs.capture.capture import capture
from zinker.jobs.capture.selection import Selection
from zinker.jobs.session import Session
from zinker.model.change import NO_CHANGE, Change, ChangeId
from zinker.model.errors import Damaged, Failed, Refused, ZinkerError, reason
from zinker.model.file_state import is_withheld
from zinker.model.plan import LeftAlone, Plan
from zinker.model.profile import Manifest, Snapshot
from zinker.places.folder import technician
from zinker.places.here import Here
from zinker.profiles.sealing import cannot_seal
from zinker.profiles.writing import ProfileBuilder
from zinker.shelf.changes import FORMAT

Kind = Literal["import", "undo", "reset", "transfer"]
Approve = Callable[[Plan], bool]
_PAST = {"import": "imported", "reset": "reset", "transfer": "transferred", "undo": "undone"}


class Outcome(msgspec.Struct, frozen=True):
    """How an import or an undo ended.

    state: `previewed` and `declined` (nothing was changed), `alike` (nothing had to be), `done`, or `partly`
    (some of what was wanted was not written; `left` says what and why).
    """

    state: Literal["previewed", "declined", "alike", "done", "partly"]
    plan: Plan
    change: Change | None = None
    left: tuple[LeftAlone, ...] = ()
    # What is left for the user to do, in words.
    afterwards: tuple[str, ...] = ()

    @property
    def is_written(self) -> bool:
        """Whether something was begun."""
        return self.change is not None

    @property
    def is_declined(self) -> bool:
        """Whether somebody said no."""
        return self.state == "declined"

    @property
    def exit_code(self) -> int:
        """What a command ends with that this came of."""
        if self.state in ("declined", "previewed"):
            return 3 if self.is_declined else 0
        return 0 if self.is_complete else 1

    @property
    def is_complete(self) -> bool:
        """Whether nothing that was wanted is left undone."""
        return not any(item.wanted for item in self.left)


class Ready(NamedTuple):
    """A plan that can be carried out, with all that takes; its place is held meanwhile."""

    session: Session
    source: Snapshot
    plan: Plan
    kind: Kind
    undoes: ChangeId = NO_CHANGE

    def ended(self, preview: bool, approve: Approve, id: ChangeId = NO_CHANGE) -> Outcome:
        """Carry the plan out if it is approved; raises `Refused`, and `Failed` where it was taken back."""
        ended = _without_writing(self, preview, approve)
        return ended or carry_out(self, id)


def _without_writing(ready: Ready, preview: bool, approve: Approve) -> Outcome | None:
    """Return how it ends if nothing is to be written; None where the plan is to be carried out.

    Raises `Refused` where something speaks against that.
    """
    plan = ready.plan
    if preview:
        return Outcome("previewed", plan, left=plan.left)
    if not plan.documents:
        return Outcome("alike", plan, left=plan.left)
    if plan.objections:
        first, *others = plan.objections
        also = "".join(f"\nAnd: {other.why}\n{other.then}" for other in others)
        raise Refused(f"Not {_PAST[ready.kind]}", first.why, first.then + also)
    return None if approve(plan) else Outcome("declined", plan, left=plan.left)


def carry_out(ready: Ready, id: ChangeId = NO_CHANGE) -> Outcome:
    """Carry out a plan, as it was shown, or not at all; `id` is that of a member of a round, else a new one.

    Raises `Refused` where nothing was changed, and `Failed` where it failed and was taken back.
    """
    session, plan = ready.session, ready.plan
    changes = session.setup.shelf.changes
    id = id or ChangeId(changes.reserve())
    fallback = _keep_fallback(session, plan, id.number)
    change = changes.begin(_begun(ready, id, fallback), plan.documents)
    staged = _staged(session, ready.source, plan, change)
    try:
        left = list(plan.left) + staged.commit()
        left += read_back(session, plan.documents, left)
        state: Literal["done", "partly"] = "partly" if any(item.wanted for item in left) else "done"
        ended = _ended(change, state, tuple(left))
        session.setup.shelf.close(ended)
    except BaseException as error:  # also an interrupt: what was begun is taken back first
        _fail(session, change, plan, error)
        raise
    steps = next_steps(session.place, session.subject, plan, tuple(left)) if ready.kind != "undo" else ()
    return Outcome(state, plan, ended, tuple(left), steps)


def _begun(ready: Ready, id: ChangeId, fallback: int) -> Change:
    session, plan = ready.session, ready.plan
    return Change(
        format=FORMAT,
        number=id.number,
        member=id.member,
        kind=ready.kind,
        state="open",
        subject=plan.subject,
        place=plan.place,
        place_machine=session.place.machine,
        source=plan.source,
        who=technician(),
        machine=Here().machine,
        started=_now(),
        fallback=fallback,
        undoes=ready.undoes.number,
        undoes_member=ready.undoes.member,
        moved=session.moved,
        items=plan.count,
        adopted_from=plan.adopted_from,
    )


def _check_secrets_stay(session: Session, plan: Plan) -> None:
    """See to it that no secret is changed which the fallback could not hold; raises `Refused`."""
    for change in plan.documents:
        is_touched = any(is_withheld(item.before) for item in change.items)
        if is_touched or (change.before is not None and change.before.is_secret):
            why = f"{change.document} has a secret that would be lost: {cannot_seal()}"
            raise Refused("Nothing changed", why, f"Leave it out: --without {change.part}.")
    session.setup.notify(f"Secrets stay as they are at {plan.told_place}: {cannot_seal()}")


def _keep_fallback(session: Session, plan: Plan, number: int) -> int:
    """Put what the plan would touch on the shelf; returns the version number.

    Raises `Refused` if the place is not as the plan found it.
    """
    touched = {change.part for change in plan.documents}
    parts = tuple(part for part in session.subject.part if part.id in touched)

    def build(builder: ProfileBuilder) -> Manifest:
        manifest = capture(session, Selection(parts), builder, is_fallback=True)
        if any(part.sha256 != plan.seen.get(part.id) for part in manifest.parts):
            why = f"the settings at {plan.told_place} have changed since the plan was made"
            raise Refused("Nothing changed", why, "Run it again to see the plan as it is now.")
        if manifest.withheld and not manifest.sealed:
            _check_secrets_stay(session, plan)
        manifest = msgspec.structs.replace(manifest, fallback_of=number, note=f"before {plan.source}")
        builder.finish(manifest)
        return manifest

    return session.setup.shelf.keep_fallback(plan.subject, build, plan.place).number


def _staged(session: Session, source: Snapshot, plan: Plan, change: Change) -> Staged:
    """Prepare everything; where that fails, nothing is in its place yet, and the change is closed.

    Raises `Refused` and `Damaged`.
    """
    try:
        return Staged(session, source, plan.documents)
    except BaseException as error:  # also an interrupt
        with contextlib.suppress(
            OSError, ZinkerError
        ):  # it stays open, then, and the next run sweeps and closes
            sweep(session, plan.documents)
            session.setup.shelf.close(_ended(change, "taken-back"))
        if not isinstance(error, OSError | ZinkerError):
            raise
        kind_of = Damaged if isinstance(error, Damaged) else Refused
        then = "Nothing was changed. Put that right and run it again."
        raise kind_of(f"Not {_PAST[change.kind]}", _why(error), then) from None


def _fail(session: Session, change: Change, plan: Plan, error: BaseException) -> None:
    """Take back what was done and raise `Failed`; where even that fails, the journal stays open."""
    what = f"Not {_PAST[change.kind]}"
    try:
        # What was known of the place is not true any more.
        again = Session(session.setup, session.place, session.subject, moved=session.moved)
        left = take_back(again, change, plan.documents)
    except Exception as worse:  # noqa: BLE001 - whatever it is, the place must not stay blocked without a word
        then = (
            f"Taking it back failed, too ({_why(worse)}). The next run at {change.told_place} tries that "
            f"again; `zinker undo {change.id} --as-it-is` gives that up."
        )
        raise Failed(what, _why(error), then) from error
    with contextlib.suppress(OSError):  # the next run closes it, then
        session.setup.shelf.close(_ended(change, "taken-back", tuple(left)))
    if isinstance(error, Exception):
        others = f", but for {len(left)} changed by somebody else meanwhile" if left else ""
        raise Failed(
            what, _why(error), f"Everything that had been written was taken back{others}."
        ) from error


def _why(error: BaseException) -> str:
    if isinstance(error, OSError):
        return reason(error)
    return getattr(error, "why", "") or str(error) or type(error).__name__


def _ended(
    change: Change, state: Literal["done", "partly", "taken-back"], left: tuple[LeftAlone, ...] = ()
) -> Change:
    return msgspec.structs.replace(change, state=state, finished=_now(), left=left)


def _now() -> str:
    return datetime.datetime.now().astimezone().isoformat(timespec="seconds")

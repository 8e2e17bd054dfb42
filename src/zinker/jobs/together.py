"""Several changes as one: planned side by side, shown and answered once, carried out as members of one change.

What is of one place happens one after another, what is of others beside it. What fails at one place does not stop
the others; there, the rest stays as it is.
"""

import contextlib
import datetime
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager
from typing import NamedTuple

import msgspec

from zinker.jobs.apply.carry_out import Kind, Outcome, Ready
from zinker.jobs.progress import Progress
from zinker.jobs.setup import CONCURRENCY, Setup
from zinker.model.change import NO_CHANGE, ChangeId, RoundRecord
from zinker.model.errors import Damaged, Failed, Refused, WrongUsage, ZinkerError
from zinker.model.names import place_told
from zinker.model.plan import Plan
from zinker.places.folder import technician
from zinker.places.here import Here
from zinker.shelf.changes import FORMAT


class Task(NamedTuple):
    """One change that is to be a member: `plan` is given the setup of its place, and holds what it takes."""

    place: str
    subject: str
    plan: Callable[[Setup], AbstractContextManager[Ready]]


class Planned(NamedTuple):
    """One that was planned: its plan, or why there is none; `id` has its place among those that would write."""

    place: str
    subject: str
    plan: Plan | None
    error: ZinkerError | None
    id: ChangeId

    @property
    def told_place(self) -> str:
        """What people call the place."""
        return self.plan.told_place if self.plan is not None else place_told(self.place)

    @property
    def writes(self) -> bool:
        """Whether it would write something."""
        return self.plan is not None and bool(self.plan.documents)


class Plans(NamedTuple):
    """The whole plan: what it is of, from what, and what each is to become."""

    name: str
    kind: Kind
    source: str
    members: tuple[Planned, ...]

    @property
    def production(self) -> tuple[str, ...]:
        """The places that others depend on, of those that would be written to."""
        live = (
            one.place
            for one in self.members
            if one.writes and one.plan is not None and one.plan.is_production
        )
        return tuple(dict.fromkeys(live))


class Member(msgspec.Struct, frozen=True):
    """What came of one; either `outcome` or `error` is there."""

    place: str
    subject: str
    outcome: Outcome | None = None
    error: ZinkerError | None = None
    id: ChangeId = NO_CHANGE


class Together(msgspec.Struct, frozen=True):
    """What came of all; `number` is that of their change, 0 where nothing was begun."""

    plan: Plans
    members: tuple[Member, ...]
    number: int = 0
    is_previewed: bool = False

    @property
    def is_complete(self) -> bool:
        """Whether nothing that was wanted is left undone."""
        return all(one.outcome is not None and one.outcome.is_complete for one in self.members)

    @property
    def is_written(self) -> bool:
        """Whether something was begun."""
        return self.number > 0

    @property
    def is_declined(self) -> bool:
        """Whether somebody said no."""
        return any(one.outcome is not None and one.outcome.state == "declined" for one in self.members)

    @property
    def exit_code(self) -> int:
        """The highest code of what came of its members."""
        if self.is_previewed:
            return 0
        return max(
            one.error.exit_code if one.error else one.outcome.exit_code if one.outcome else 0
            for one in self.members
        )


def carry_out_together(
    setup: Setup,
    name: str,
    kind: Kind,
    source: str,
    tasks: Sequence[Task],
    *,
    preview: bool = False,
    approve: Callable[[Plans], bool] = lambda plans: True,
    one_by_one: bool = False,
) -> Together:
    """Plan all tasks, and carry them out if that is approved; `one_by_one` where planning asks questions.

    Raises `Refused` where nothing can be planned at all, the reasons of all in it.
    """
    crews = [_Crew(setup.beside(), group) for group in _by_place(tasks)]
    most = 1 if one_by_one else CONCURRENCY
    with contextlib.ExitStack() as stack:
        for crew in crews:
            stack.enter_context(crew.stack)
        _side_by_side(crews, _Crew.plan, most, setup.progress)
        jobs = _numbered(crews, tasks)
        plans = Plans(name, kind, source, tuple(job.planned for job in jobs))
        _check_some(plans)
        if preview or not any(job.planned.writes for job in jobs):
            return Together(plans, tuple(job.ended(preview) for job in jobs), is_previewed=preview)
        if not approve(plans):
            return Together(plans, tuple(job.ended(preview=False) for job in jobs))
        number = setup.shelf.changes.reserve()
        writing = [job for job in jobs if job.planned.writes]
        setup.shelf.changes.begin_round(_record(plans, number, writing))
        for job in writing:
            job.id = ChangeId(number, job.planned.id.member)
        try:
            _side_by_side(crews, _Crew.carry_out, most, setup.progress)
        except KeyboardInterrupt:
            done = [str(job.id) for job in writing if job.outcome is not None]
            told = (
                f"{', '.join(done)} {'was' if len(done) == 1 else 'were'} carried out"
                if done
                else "nothing was"
            )
            setup.notify(f"Of change {number}, {told}; `zinker changes {number}` lists it.")
            raise
        return Together(plans, tuple(job.ended(preview=False) for job in jobs), number)


def _check_some(plans: Plans) -> None:
    """Raise where nothing could be planned."""
    errors = [one.error for one in plans.members if one.error is not None]
    if len(errors) == len(plans.members) and errors:
        kinds = {type(error) for error in errors}
        kind = Damaged if Damaged in kinds else WrongUsage if kinds == {WrongUsage} else Refused
        more = "".join(
            f"\n{one.told_place}: {one.subject}: {one.error.why}" for one in plans.members[1:] if one.error
        )
        first = plans.members[0]
        raise kind(
            errors[0].what, f"{first.told_place}: {first.subject}: {errors[0].why}", errors[0].then + more
        )


def _by_place(tasks: Iterable[Task]) -> list[list[Task]]:
    """Return the tasks of each place, accounts of one with it, in their order."""
    groups: dict[str, list[Task]] = {}
    for task in tasks:
        groups.setdefault(task.place.partition("/")[0], []).append(task)
    return list(groups.values())


def _numbered(crews: Iterable["_Crew"], tasks: Sequence[Task]) -> list["_Job"]:
    """Return the jobs of all crews in the order of the tasks; those that would write are counted."""
    known = {id(job.task): job for crew in crews for job in crew.jobs}
    jobs, member = [known[id(task)] for task in tasks], 0
    for job in jobs:
        plan = job.ready.plan if job.ready is not None else None
        writes = plan is not None and bool(plan.documents)
        member += writes
        job.planned = Planned(
            job.task.place, job.task.subject, plan, job.error, ChangeId(0, member if writes else 0)
        )
    return jobs


def _record(plans: Plans, number: int, writing: Iterable["_Job"]) -> RoundRecord:
    return RoundRecord(
        format=FORMAT,
        number=number,
        name=plans.name,
        kind=plans.kind,
        source=plans.source,
        members=tuple((job.task.place, job.task.subject) for job in writing),
        who=technician(),
        machine=Here().machine,
        started=datetime.datetime.now().astimezone().isoformat(timespec="seconds"),
    )


class _Job:
    """One task on its way."""

    planned: Planned

    def __init__(self, task: Task) -> None:
        self.task = task
        self.ready: Ready | None = None
        self.outcome: Outcome | None = None
        self.error: ZinkerError | None = None
        self.id = NO_CHANGE

    def ended(self, preview: bool) -> Member:
        """Return what came of it; what was not carried out was shown, or declined, or had nothing to write."""
        outcome = self.outcome
        if outcome is None and self.error is None and self.ready is not None:
            plan = self.ready.plan
            state = "previewed" if preview else "declined"
            outcome = Outcome(state if plan.documents else "alike", plan, left=plan.left)  # type: ignore[arg-type]
        return Member(self.task.place, self.task.subject, outcome, self.error, self.id)


class _Crew:
    """What is done at one place, one after another, in a thread of its own, with a setup of its own."""

    def __init__(self, setup: Setup, tasks: Iterable[Task]) -> None:
        self._setup = setup
        self.jobs = [_Job(task) for task in tasks]
        self.stack = contextlib.ExitStack()

    def plan(self, is_over: threading.Event) -> None:
        for job in self.jobs:
            if is_over.is_set():
                return
            try:
                job.ready = self.stack.enter_context(job.task.plan(self._setup))
            except ZinkerError as error:
                job.error = error

    def carry_out(self, is_over: threading.Event) -> None:
        failed = ""
        for job in self.jobs:
            if job.ready is None or not job.id or is_over.is_set():
                continue
            if failed:
                why = f"what was to be written before it, of {failed}, failed and was taken back"
                job.error = Refused("Not begun", why, "Put that right and run this again.")
                continue
            try:
                job.outcome = job.ready.ended(False, lambda plan: True, job.id)
            except ZinkerError as error:
                job.error = error
                failed = job.task.subject if isinstance(error, Failed) else ""


def _side_by_side(
    crews: Sequence[_Crew],
    work: Callable[[_Crew, threading.Event], None],
    most: int,
    progress: Progress,
) -> None:
    """Let crews work side by side; an interrupt lets each end what it has begun."""
    is_over = threading.Event()
    if len(crews) < 2 or most < 2:
        for crew in crews:
            work(crew, is_over)
        return
    with ThreadPoolExecutor(min(most, len(crews))) as pool:
        try:
            for done, _ in enumerate(_ended(pool, crews, work, is_over), 1):
                progress("Places", done, len(crews))
        except BaseException:
            is_over.set()
            raise


def _ended(
    pool: ThreadPoolExecutor,
    crews: Iterable[_Crew],
    work: Callable[[_Crew, threading.Event], None],
    is_over: threading.Event,
) -> Iterator[None]:
    yield from pool.map(lambda crew: work(crew, is_over), crews)

"""One run of a schedule: what is due of a round is captured, while nobody looks."""

import datetime
from collections.abc import Callable, Iterable

import msgspec

from zinker.disk.priority import give_way
from zinker.jobs.rounds import Kept, Round, export_round, round_named
from zinker.jobs.schedule.record import Outcome, Ran, Records, Run, Scheduled, told
from zinker.jobs.setup import Setup
from zinker.jobs.thinning import thin
from zinker.jobs.unread import capture_unread
from zinker.model.errors import ZinkerError
from zinker.places.power import is_on_battery


def run_scheduled(
    records: Records,
    round: str,
    open_setup: Callable[[], Setup],
    *,
    is_asked_for: bool = False,
    on_battery: Callable[[], bool] = is_on_battery,
    clock: Callable[[], datetime.datetime] = lambda: datetime.datetime.now().astimezone(),
) -> Ran:
    """Capture what a schedule has due; what an earlier run of the same time has kept is not captured again.

    One that `is_asked_for` runs whether it is due or not, and on battery. Every line of its log is on the disk when
    this returns. What went wrong is in the run, and tried again when the timer looks next. Raises `WrongUsage`
    where there is no such schedule.
    """
    now = clock()
    idle = None if is_asked_for else records.idle(round, now)
    if idle is not None:
        return idle
    with records.running(round) as is_ours:
        if not is_ours:
            records.log(round, ["the last run is still under way, so this one did nothing"], now)
            return Ran(round, is_under_way=True)
        idle = None if is_asked_for else records.idle(round, now)  # it may have ended meanwhile
        if idle is not None:
            return idle
        found, schedule = records.find(round)
        give_way()
        due = told(schedule.when.due(now))
        # What has failed of what was due is tried again; whoever asks for it has all of it.
        before = found.last if found.last is not None and found.last.due == due and not is_asked_for else None
        if _is_ahead(found, now):
            last = found.last.due if found.last is not None else ""
            records.log(round, [f"the clock went back: the last run was due at {last}"], now)
        run = Run(due, told(now), members=before.members if before is not None else ())
        if not (is_asked_for or schedule.on_battery) and on_battery():
            return _ended(records, round, run, clock, "this machine is on battery")
        records.keep_run(round, run)
        try:
            setup = open_setup()
            members = _members(setup, round, run)
        except ZinkerError as error:
            return _ended(records, round, run, clock, _one_line(error))
        for kept in export_round(setup, members, capture_unread):
            outcome = _outcome(kept)
            others = [one for one in run.members if (one.place, one.subject) != (kept.place, kept.subject)]
            run = msgspec.structs.replace(run, members=(*others, outcome))
            records.log(round, [outcome.line], clock())
        if schedule.thin:
            records.log(round, [_thinned(setup, members)], clock())
        return _ended(records, round, run, clock)


def _members(setup: Setup, round: str, run: Run) -> Round:
    """Return what is to be captured: all of the round, or what failed when it was tried for the same time."""
    whole = round_named(setup, round, is_live=True)
    kept = {(one.place, one.subject) for one in run.members if not one.is_failed}
    return whole._replace(members=tuple(one for one in whole.members if one not in kept))


def _ended(
    records: Records, round: str, run: Run, clock: Callable[[], datetime.datetime], why: str = ""
) -> Ran:
    now = clock()
    if why:
        records.log(round, [f"not run: {why}"], now)
    run = msgspec.structs.replace(run, ended=told(now), why=why)
    records.keep_run(round, run)
    return Ran(round, run)


def _outcome(kept: Kept) -> Outcome:
    done = kept.exported
    if kept.error is not None or done is None or done.version is None:
        return Outcome(
            kept.place, kept.subject, why=_one_line(kept.error) if kept.error else "nothing was kept"
        )
    why = ""
    if not done.is_complete:
        lost = done.before is not None and bool(done.before.lost)
        left = sum(not problem.carried for problem in done.manifest.problems)
        why = "most of what the last version had is gone" if lost else f"{left:,} could not be captured"
    return Outcome(kept.place, kept.subject, done.version.reference, not done.is_known, why)


def _thinned(setup: Setup, what: Round) -> str:
    """Thin the subjects of a round by the rules of zinker.toml, and say so in a line."""
    subjects: Iterable[str] = dict.fromkeys(subject.partition("/")[0] for _, subject in what.members)
    try:
        kept = set(setup.shelf.subjects())
        done = thin(setup, [one for one in subjects if one in kept])
    except ZinkerError as error:
        return f"not thinned: {_one_line(error)}"
    number = len(done.going) if done.is_done else 0
    return f"thinned: {number:,} {'version' if number == 1 else 'versions'} gone, {done.stays:,} stay"


def _is_ahead(found: Scheduled, now: datetime.datetime) -> bool:
    return found.last is not None and datetime.datetime.fromisoformat(found.last.due) > now


def _one_line(error: ZinkerError) -> str:
    return " ".join((error.why or error.what).split()).rstrip(".")

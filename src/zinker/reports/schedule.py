"""What is done regularly: schedules, and how their runs went."""

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any

import msgspec

from zinker.jobs.schedule.record import Ran, Run
from zinker.reports.page import Block, Paragraph, Table
from zinker.reports.words import age, when

if TYPE_CHECKING:  # a timer that has nothing to do yet does without
    from zinker.jobs.scheduling import Listed, Planned

_COLUMNS = ("round", "when", "started by", "last run", "how it went", "next")


def planned_blocks(planned: "Planned") -> Iterator[Block]:
    """Yield what would be written for a schedule, or was."""
    schedule = planned.schedule
    yield Paragraph(f"{schedule.round}: {schedule.told}, started by {planned.noun}", "strong")
    if planned.replaces:
        yield Paragraph(f"It was {planned.replaces} so far.")
    for where, text in planned.shown:
        yield Paragraph(f"{where}:", indent=2)
        for line in text.splitlines():
            yield Paragraph(line, indent=4)
    if planned.lacking:
        where = "the keyring, or in the file that zinker.toml names"
        yield Paragraph(
            f"Asked for before that, and kept in {where}: the secret of {', '.join(planned.lacking)}."
        )
    if planned.advice:
        yield Paragraph(planned.advice)


def added_blocks(planned: "Planned") -> Iterator[Block]:
    """Yield what was added."""
    schedule = planned.schedule
    yield Paragraph(f"Round {schedule.round} is kept {schedule.told}.", "strong")
    yield Paragraph(f"`zinker schedule run {schedule.round} --now` does it now.")


def ran_blocks(ran: Ran) -> Iterator[Block]:
    """Yield what a run did."""
    if ran.run is None:
        why = "another run of it is under way" if ran.is_under_way else f"it is due {when(ran.next)}"
        yield Paragraph(f"Nothing done: {why}.")
        return
    for outcome in ran.run.members:
        yield Paragraph(outcome.line, "left" if outcome.is_failed or outcome.why else "plain")
    if ran.run.why:
        yield Paragraph(f"Not run: {ran.run.why}", "left")
    if not ran.run.is_done:
        yield Paragraph("It is tried again when the timer looks next.")


def schedules_blocks(listed: Iterable["Listed"]) -> Iterator[Block]:
    """Yield all schedules, and what somebody should look at."""
    all_of_them = list(listed)
    if not all_of_them:
        yield Paragraph("Nothing is kept regularly yet: zinker schedule add ROUND --every day --at 02:00")
        return
    yield Table(_COLUMNS, tuple(map(_row, all_of_them)), roomy=frozenset({"started by"}))
    for one in all_of_them:
        if one.trouble:
            yield Paragraph(f"{one.trouble}.", "left")
            yield Paragraph(f"What happened stands in {one.log}", indent=2)


def _row(one: "Listed") -> tuple[str, ...]:
    schedule, last = one.known.schedule, one.known.last
    if schedule is None:
        return one.round, "damaged", "", "", "", ""
    following = when(one.next) if one.next else ""
    ran = age(last.began) if last is not None else "not yet"
    return one.round, schedule.told, schedule.system, ran, _went(last), following


def _went(run: Run | None) -> str:
    if run is None:
        return ""
    if run.why:
        return "did not run"
    if not run.ended:
        return "has not ended"
    new = sum(one.is_new for one in run.members)
    words = [f"{new:,} new", f"{len(run.members) - new - len(run.failed):,} the same"]
    return ", ".join([*words, *([f"{len(run.failed):,} failed"] if run.failed else [])])


def schedules_json(listed: Iterable["Listed"]) -> list[dict[str, Any]]:
    """Return the schedules for programs."""
    return [
        {
            "round": one.round,
            **(msgspec.to_builtins(one.known.schedule) if one.known.schedule else {}),
            "when": one.known.schedule.when.told if one.known.schedule else "",
            "is_started": one.is_started,
            "next": one.next,
            "trouble": one.trouble,
            "log": one.log,
            "last": msgspec.to_builtins(one.known.last),
        }
        for one in listed
    ]


def ran_json(ran: Ran) -> dict[str, Any]:
    """Return a run for programs."""
    found: dict[str, Any] = msgspec.to_builtins(ran)
    return found


def planned_json(planned: "Planned") -> dict[str, Any]:
    """Return a schedule that would be, or was added, for programs."""
    shown = [{"where": where, "text": text} for where, text in planned.shown]
    return {
        **msgspec.to_builtins(planned.schedule),
        "when": planned.schedule.when.told,
        "shown": shown,
        "lacking": planned.lacking,
        "advice": planned.advice,
        "is_done": planned.is_done,
    }

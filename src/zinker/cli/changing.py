"""What all changing commands do: show the plan, ask, run, say what came of it."""

import sys
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

import typer

from zinker.cli.forms import Delivery
from zinker.cli.output import asker, emit, emit_json, progress_shown, setup_of
from zinker.model.errors import ZinkerError

if TYPE_CHECKING:
    from zinker.jobs.apply.carry_out import Outcome
    from zinker.jobs.setup import Setup
    from zinker.jobs.together import Plans, Together
    from zinker.model.plan import Plan
    from zinker.reports.page import Block
    from zinker.reports.report import Report
    from zinker.subjects.subject import Subject

    # Approves one plan, or those of a round.
    ApproveAny = Callable[[Plan | Plans], bool]
    Job = Callable[[Setup, ApproveAny], Outcome | Together]


def run_change(ctx: typer.Context, job: "Job", refusal: str) -> None:
    """Run a job that changes a place, or several; ends with 1 if something that was wanted is left undone."""
    from zinker.reports.change import refusal_report

    yes, json = ctx.params["yes"], ctx.params["json"]
    report = Delivery({}, ctx.params["report"]) if ctx.params["report"] else None
    setup = setup_of(ctx)
    told = _Told(setup, ctx.params["full"] or not sys.stdout.isatty())

    def show(plan: "Plan | Plans") -> None:
        if not json:
            emit(told.plan(plan))

    try:
        with progress_shown() as setup.progress:
            outcome = job(setup, asker(yes, json, refusal, show))
    except ZinkerError as error:
        _write(report, refusal_report(error))
        raise
    ended = told.report(outcome)
    if not outcome.is_written and not outcome.is_declined:
        show(outcome.plan)
    if json:
        emit_json(ended.data())
    else:
        emit(told.blocks(outcome))
    _write(report, ended)
    raise typer.Exit(outcome.exit_code)


class _Told:
    """What is said of a change, or of those of a round."""

    def __init__(self, setup: "Setup", full: bool) -> None:
        self._setup, self._full = setup, full

    def _subject(self, id: str) -> "Subject | None":
        from zinker.jobs.sources import subject_known

        return subject_known(self._setup, id)

    def plan(self, plan: "Plan | Plans") -> "Iterator[Block]":
        from zinker.model.plan import Plan
        from zinker.reports.change import plan_page

        if isinstance(plan, Plan):
            return plan_page(plan, self._setup.catalogue.find(plan.subject), self._full).blocks
        from zinker.reports.rounds import plans_page

        return plans_page(plan, self._subject, self._full).blocks

    def blocks(self, outcome: "Outcome | Together") -> "Iterator[Block]":
        from zinker.jobs.apply.carry_out import Outcome
        from zinker.reports.change import outcome_blocks

        if isinstance(outcome, Outcome):
            return outcome_blocks(outcome, self._setup.catalogue.find(outcome.plan.subject))
        from zinker.reports.rounds import together_blocks

        return together_blocks(outcome, self._subject)

    def report(self, outcome: "Outcome | Together") -> "Report":
        from zinker.jobs.apply.carry_out import Outcome
        from zinker.reports.change import outcome_report

        if isinstance(outcome, Outcome):
            return outcome_report(outcome, self._setup.catalogue.find(outcome.plan.subject))
        from zinker.reports.rounds import together_report

        return together_report(outcome, self._subject)


def _write(delivery: Delivery | None, report: "Report") -> None:
    """Write the report of what has happened by now; whether that can be written changes nothing in that."""
    if delivery is None:
        return
    try:
        delivery.deliver(report)
    except ZinkerError as error:
        typer.echo(f"The report was not written: {error.why}", err=True)

"""What all changing commands do: show the plan, ask, run, say what came of it."""

import sys
from collections.abc import Callable
from typing import TYPE_CHECKING

import typer

from zinker.cli.forms import Delivery
from zinker.cli.output import asker, emit, emit_json, progress_shown, setup_of
from zinker.model.errors import ZinkerError

if TYPE_CHECKING:
    from zinker.jobs.apply.carry_out import Approve, Outcome
    from zinker.jobs.capture.capture import Progress
    from zinker.jobs.setup import Setup
    from zinker.model.plan import Plan
    from zinker.reports.report import Report

    Job = Callable[[Setup, Approve, Progress], Outcome]


def run_change(ctx: typer.Context, job: "Job", refusal: str) -> None:
    """Run a job that changes a place; ends with 1 if something that was wanted is left undone."""
    from zinker.reports.change import outcome_blocks, outcome_json, outcome_report, plan_page, refusal_report

    yes, json = ctx.params["yes"], ctx.params["json"]
    report = Delivery({}, ctx.params["report"]) if ctx.params["report"] else None
    setup = setup_of(ctx)

    def show(plan: "Plan") -> None:
        if not json:
            subject = setup.catalogue.find(plan.subject)
            emit(plan_page(plan, subject, ctx.params["full"] or not sys.stdout.isatty()).blocks)

    try:
        with progress_shown() as progress:
            setup.progress = progress
            outcome = job(setup, asker(yes, json, refusal, show), progress)
    except ZinkerError as error:
        _write(report, refusal_report(error))
        raise
    if outcome.state in ("previewed", "alike"):
        show(outcome.plan)
    if json:
        emit_json(outcome_json(outcome))
    else:
        subject = setup.catalogue.find(outcome.plan.subject)
        emit(outcome_blocks(outcome, subject))
    _write(report, outcome_report(outcome, setup.catalogue.find(outcome.plan.subject)))
    if outcome.state == "declined":
        raise typer.Exit(3)
    if outcome.state != "previewed" and not outcome.is_complete:
        raise typer.Exit(1)


def _write(delivery: Delivery | None, report: "Report") -> None:
    """Write the report of what has happened by now; whether that can be written changes nothing in that."""
    if delivery is None:
        return
    try:
        delivery.deliver(report)
    except ZinkerError as error:
        typer.echo(f"The report was not written: {error.why}", err=True)

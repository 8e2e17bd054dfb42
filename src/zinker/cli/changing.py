"""What all changing commands do: show the plan, ask, run, say what came of it."""

from collections.abc import Callable
from typing import TYPE_CHECKING

import typer

from zinker.cli.output import asker, emit, emit_json, progress_shown, setup_of

if TYPE_CHECKING:
    from zinker.jobs.applying import Approve, Outcome
    from zinker.jobs.capturing import Progress
    from zinker.jobs.setup import Setup
    from zinker.model.plan import Plan

    Job = Callable[[Setup, Approve, Progress], Outcome]


def run_change(ctx: typer.Context, job: "Job", refusal: str, yes: bool, json: bool) -> None:
    """Run a job that changes a place; ends with 1 if something that was wanted is left undone."""
    from zinker.reports.change import outcome_json, outcome_text, plan_text

    setup = setup_of(ctx)

    def show(plan: "Plan") -> None:
        if not json:
            subject = setup.catalogue.find(plan.subject)
            emit(lambda width: plan_text(plan, subject, width))

    with progress_shown() as progress:
        outcome = job(setup, asker(yes, json, refusal, show), progress)
    if outcome.state in ("previewed", "alike"):
        show(outcome.plan)
    if json:
        emit_json(outcome_json(outcome))
    else:
        subject = setup.catalogue.find(outcome.plan.subject)
        emit(lambda width: outcome_text(outcome, subject))
    if outcome.state == "declined":
        raise typer.Exit(3)
    if outcome.state != "previewed" and not outcome.is_complete:
        raise typer.Exit(1)

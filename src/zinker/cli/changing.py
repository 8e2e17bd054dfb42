"""What all changing commands do: show the plan, ask, run, say what came of it."""

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import typer

from zinker.cli.guard import understood
from zinker.cli.output import asker, emit, emit_json, progress_shown, setup_of
from zinker.model.errors import Refused, WrongUsage, ZinkerError, reason

if TYPE_CHECKING:
    from zinker.jobs.apply.carry_out import Approve, Outcome
    from zinker.jobs.capture.capture import Progress
    from zinker.jobs.setup import Setup
    from zinker.model.plan import Plan

    Job = Callable[[Setup, Approve, Progress], Outcome]


def run_change(ctx: typer.Context, job: "Job", refusal: str) -> None:
    """Run a job that changes a place; ends with 1 if something that was wanted is left undone."""
    from zinker.reports.change import outcome_json, outcome_text, plan_text

    yes, json = ctx.params["yes"], ctx.params["json"]
    report = understood(ctx.params["report"]) if ctx.params["report"] else None
    setup = setup_of(ctx)
    _check_free(report)

    def show(plan: "Plan") -> None:
        if not json:
            subject = setup.catalogue.find(plan.subject)
            emit(lambda width: plan_text(plan, subject, width, ctx.params["full"]))

    try:
        with progress_shown() as progress:
            setup.progress = progress
            outcome = job(setup, asker(yes, json, refusal, show), progress)
    except ZinkerError as error:
        if report is not None:
            _write(report, f"{error}\n")
        raise
    if outcome.state in ("previewed", "alike"):
        show(outcome.plan)
    if json:
        emit_json(outcome_json(outcome))
    else:
        subject = setup.catalogue.find(outcome.plan.subject)
        emit(lambda width: outcome_text(outcome, subject))
    if report is not None:
        _write(report, _report(outcome, setup, report))
    if outcome.state == "declined":
        raise typer.Exit(3)
    if outcome.state != "previewed" and not outcome.is_complete:
        raise typer.Exit(1)


def _check_free(report: Path | None) -> None:
    if report is None:
        return
    if report.exists():
        raise Refused("Nothing done", f"{report} is there already", "Name a new file for the report.")
    if not report.parent.is_dir():
        from zinker.disk.files import nearest_path

        then = nearest_path(report.parent) + "Make it first."
        raise WrongUsage("Nothing done", f"the folder {report.parent} does not exist", then)


def _report(outcome: "Outcome", setup: "Setup", path: Path) -> str:
    """Return plan and outcome as the file for a ticket: as text, with nothing cut, or as JSON."""
    from zinker.model.plain_json import encode
    from zinker.reports.change import outcome_json, outcome_text, plan_text, record_text
    from zinker.reports.words import UNCUT

    if path.suffix.lower() == ".json":
        return encode(outcome_json(outcome), indent=2).decode()
    subject = setup.catalogue.find(outcome.plan.subject)
    lines = [*record_text(outcome), *plan_text(outcome.plan, subject, UNCUT), *outcome_text(outcome, subject)]
    return "".join(f"{line.plain}\n" for line in lines)


def _write(report: Path, text: str) -> None:
    from zinker.disk.files import write_file

    try:
        write_file(report, text.encode(errors="backslashreplace"))
    except OSError as error:
        typer.echo(f"The report was not written: {report}: {reason(error)}", err=True)

"""`zinker schedule`."""

import datetime
import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zinker.cli import options
from zinker.cli.app import new_app
from zinker.cli.guard import guarded
from zinker.cli.output import can_ask, emit, emit_json, progress_shown, setup_of
from zinker.model.errors import Refused, WrongUsage

if TYPE_CHECKING:
    from zinker.jobs.scheduling import Planned
    from zinker.jobs.setup import Setup
    from zinker.stores.credentials import Credential

app = new_app(invoke_without_command=True)
_Round = Annotated[str, typer.Argument(help="A round of zinker.toml.", metavar="ROUND")]


@app.callback()
@guarded
def schedule(ctx: typer.Context, json: options.Json = False) -> None:
    """What is kept regularly, and how the last runs went. Ends with 1 if something is to be looked at.

    Example: `zinker schedule`
    """
    if ctx.invoked_subcommand is None:
        _list(ctx, json)


@app.command("list")
@guarded
def list_(ctx: typer.Context, json: options.Json = False) -> None:
    """Show what is kept regularly, when it ran last, how that went, and when it is due next.

    Example: `zinker schedule list`
    """
    _list(ctx, json)


@app.command()
@guarded
def add(
    ctx: typer.Context,
    round: _Round,
    every: Annotated[
        str, typer.Option(help='`day`, `monday`, `hour`, or as in "10 minutes".', metavar="TIME")
    ] = "day",
    at: Annotated[str, typer.Option(help="The time of the day, as in 02:00.", metavar="HH:MM")] = "",
    thin: Annotated[
        bool, typer.Option("--thin", help="Thin its subjects afterwards, by the rules of [thin].")
    ] = False,
    on_battery: Annotated[bool, typer.Option("--on-battery", help="Run on battery, too.")] = False,
    by: Annotated[
        str,
        typer.Option(
            help="systemd, cron, launchd or windows; what this machine has by default.", metavar="SYSTEM"
        ),
    ] = "",
    print_for: Annotated[
        str, typer.Option("--print", help="Only print what that system needs.", metavar="SYSTEM")
    ] = "",
    preview: Annotated[bool, typer.Option("--preview", help="Only show what would be written.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do it without asking.")] = False,
    json: options.Json = False,
) -> None:
    """Have a round captured regularly, started by what this system has for that.

    What was missed, put off (on battery) or failed is tried again when the timer looks next, within the hour.

    Example: `zinker schedule add monday --every day --at 02:00`

    Example: `zinker schedule add monday --every "10 minutes" --print systemd`
    """
    from zinker.jobs.scheduling import add_schedule, printed_schedule
    from zinker.model.when import when
    from zinker.reports.schedule import added_blocks, planned_blocks, planned_json

    setup, wanted = setup_of(ctx), when(every, at)
    if print_for:
        for where, text in printed_schedule(setup, round, wanted, print_for):
            print(f"{where}:", file=sys.stderr)
            print(text, end="" if text.endswith("\n") else "\n")
        return

    def approve(planned: "Planned") -> bool:
        if not json:
            emit(planned_blocks(planned))
        if yes:
            return True
        if json or not can_ask():
            why = "there is no terminal to ask at, and --yes was not given"
            raise Refused("Not scheduled", why, "Look at it with --preview, then add --yes.")
        return typer.confirm("Do this?", default=False)

    def ask(place: str, credential: "Credential") -> str:
        what = "passphrase of the shelf" if place == "seal" else f"secret of {credential.user} at {place}"
        told = f"The {what}, to be kept in {credential.told}"
        return str(typer.prompt(told, hide_input=True))

    done = add_schedule(
        setup,
        round,
        wanted,
        by=by,
        thin=thin,
        on_battery=on_battery,
        preview=preview,
        approve=approve,
        ask=ask if can_ask() else None,
    )
    if json:
        emit_json(planned_json(done))
    elif done.is_done:
        emit(added_blocks(done))
    elif preview:
        emit(planned_blocks(done))
        print("Nothing was written; this was a preview.")
    else:
        print("Nothing was written.")


@app.command()
@guarded
def remove(ctx: typer.Context, round: _Round, json: options.Json = False) -> None:
    """Have a round captured no longer. What was kept stays, and so does the log.

    Example: `zinker schedule remove monday`
    """
    from zinker.jobs.scheduling import remove_schedule

    found = remove_schedule(setup_of(ctx), round)
    told = found.schedule.when.told if found.schedule is not None else ""
    if json:
        emit_json({"round": round, "when": told})
    else:
        print(f"Round {round} is not kept regularly any more{f' ({told})' if told else ''}.")


@app.command()
@guarded
def run(
    ctx: typer.Context,
    round: _Round,
    now: Annotated[bool, typer.Option("--now", help="Whether it is due or not, and on battery.")] = False,
    zinker_home: Annotated[
        Path | None, typer.Option(help="What ZINKER_HOME is; a timer says so.", metavar="FOLDER")
    ] = None,
    json: options.Json = False,
) -> None:
    """What the timer starts: capture a round, if it is due. Ends with 1 where something is to be tried again.

    Example: `zinker schedule run monday --now`
    """
    from zinker.disk.own_folder import own_folder
    from zinker.jobs.schedule.record import Records
    from zinker.places.session import join_session
    from zinker.reports.schedule import ran_blocks, ran_json

    if zinker_home is not None:
        if not zinker_home.is_dir():
            raise WrongUsage("Not run", f"there is no folder {zinker_home}", "Add the schedule again.")
        os.environ["ZINKER_HOME"] = str(zinker_home)
    records = Records(own_folder())
    done = None if now else records.idle(round, datetime.datetime.now().astimezone())
    if done is None:  # most of the time it is over by then
        from zinker.jobs.scheduled import run_scheduled

        join_session()
        with progress_shown() as progress:

            def opened() -> "Setup":
                setup = setup_of(ctx)
                setup.progress = progress
                return setup

            done = run_scheduled(records, round, opened, is_asked_for=now)
    is_well = done.run is None or done.run.is_done
    if json:
        emit_json(ran_json(done))
    elif can_ask() or not is_well:  # cron sends letters about what is printed
        emit(ran_blocks(done))
    if not is_well:
        raise typer.Exit(1)


def _list(ctx: typer.Context, json: bool) -> None:
    from zinker.jobs.scheduling import listed_schedules
    from zinker.reports.schedule import schedules_blocks, schedules_json

    listed = listed_schedules(setup_of(ctx))
    if json:
        emit_json(schedules_json(listed))
    else:
        emit(schedules_blocks(listed))
    if any(one.trouble for one in listed):
        raise typer.Exit(1)

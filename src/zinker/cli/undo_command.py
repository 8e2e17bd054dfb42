"""`zinker undo`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.changing import run_change


def command(
    ctx: typer.Context,
    change: Annotated[
        int | None,
        typer.Argument(help="The number of the change; without it, the newest import or reset.", min=1),
    ] = None,
    while_running: options.WhileRunning = False,
    any_version: options.AnyVersion = False,
    despite_needs: options.DespiteNeeds = False,
    preview: options.Preview = False,
    yes: options.Yes = False,
    json: options.Json = False,
) -> None:
    """Take a change back; what has been changed again since is left alone and listed.

    Example: zinker undo 3 --preview
    """
    from zinker.jobs import undo

    overruled = options.overruled(while_running, any_version, despite_needs)
    run_change(
        ctx,
        lambda setup, approve, progress: undo(setup, change, overruled, preview, approve),
        "Not undone",
        yes,
        json,
    )

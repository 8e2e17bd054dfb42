"""`zinker undo`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.changing import run_change


@options.taking(options.RUNNING, options.LIVE, options.RESULT)
def command(
    ctx: typer.Context,
    change: Annotated[
        int | None,
        typer.Argument(help="The number of the change; without it, the newest that can be undone.", min=1),
    ] = None,
    leave_later: Annotated[
        bool, typer.Option("--leave-later", help="Leave alone what later changes touched, too.")
    ] = False,
) -> None:
    """Take a change back; what has been changed again since is left alone and listed.

    `zinker changes` lists them. A change whose settings a later one touched, too, is undone after that one.

    Example: zinker undo 3 --preview
    """
    from zinker.jobs import undo

    given = ctx.params
    run_change(
        ctx,
        lambda setup, approve, progress: undo(
            setup,
            change,
            options.overruled(ctx),
            given["preview"],
            approve,
            leave_later,
            given["wait"],
            given["live"],
        ),
        "Not undone",
    )

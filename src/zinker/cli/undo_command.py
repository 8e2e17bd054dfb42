"""`zinker undo`."""

from typing import TYPE_CHECKING, Annotated

import typer

from zinker.cli import options
from zinker.cli.changing import run_change
from zinker.cli.output import emit_json, setup_of
from zinker.cli.taking import taking
from zinker.model.errors import WrongUsage

if TYPE_CHECKING:
    from zinker.model.change import ChangeId


@taking(options.RUNNING, options.LIVE, options.RESULT)
def command(
    ctx: typer.Context,
    change: Annotated[
        str,
        typer.Argument(
            help="The number of the change, 12, or 12.2 for a member of a round; without it, the newest that can "
            "be undone.",
        ),
    ] = "",
    leave_later: Annotated[
        bool, typer.Option("--leave-later", help="Leave alone what later changes touched, too.")
    ] = False,
    as_it_is: Annotated[
        bool,
        typer.Option(
            "--as-it-is",
            help="Give up a change that was cut off and cannot be put right: nothing is written.",
        ),
    ] = False,
) -> None:
    """Take a change back; what has been changed again since is left alone and listed.

    `zinker changes` lists them. A change whose settings a later one touched, too, is undone after that one.

    Example: zinker undo 3 --preview

    Example: zinker undo 12.2

    Example: zinker undo 3 --as-it-is
    """
    from zinker.jobs import undo

    given = ctx.params
    number = options.change_id(change) if change else None
    if as_it_is:
        _leave(ctx, number)
        return
    run_change(
        ctx,
        lambda setup, approve: undo(
            setup,
            number,
            options.overruled(ctx),
            given["preview"],
            approve,
            leave_later,
            given["wait"],
            given["live"] or (),
            approve,
        ),
        "Not undone",
    )


def _leave(ctx: typer.Context, number: "ChangeId | None") -> None:
    """Leave a place as it is after a change that was cut off, and say what is kept of it."""
    from zinker.jobs import leave_as_it_is

    if number is None:
        raise WrongUsage("Nothing done", "--as-it-is is for one change", "Give its number.")
    if ctx.params["preview"]:
        print(f"Change {number} would be closed; nothing would be written.")
        return
    change = leave_as_it_is(setup_of(ctx), number)
    if ctx.params["json"]:
        emit_json({"change": change})
    else:
        kept = f"{change.subject}@{change.fallback}"
        print(
            f"Change {number} is closed, and {change.told_place} is left as it is. What was there before is {kept}."
        )

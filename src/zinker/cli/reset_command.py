"""`zinker reset`."""

from typing import TYPE_CHECKING, Annotated, Any

import typer

from zinker.cli import options
from zinker.cli.changing import run_change
from zinker.cli.taking import taking

if TYPE_CHECKING:
    from zinker.cli.changing import ApproveAny
    from zinker.jobs.apply.carry_out import Outcome
    from zinker.jobs.setup import Setup
    from zinker.jobs.together import Together


@taking(options.ACCOUNTS, options.CHOICE, options.OWNERS, options.CHECKS, options.RESULT)
def command(
    ctx: typer.Context,
    subject: Annotated[str, typer.Argument(help="The subject, or subject/instance.")],
    place: options.Place = "here",
    to: Annotated[
        str,
        typer.Option(
            help="A kept version to start from, or a layer of a settings database: `organisation`, `default`.",
            metavar="REF|LAYER",
        ),
    ] = "",
    device_bound: Annotated[
        bool, typer.Option("--device-bound", help="Also parts that are bound to this device.")
    ] = False,
) -> None:
    """Go back to what the application starts with, or to a kept starting point.

    Only what the subject's parts own goes. What is there is kept as a fallback first; `zinker undo` takes the
    reset back. From a settings database, the user's own values go, and what lies beneath them counts.

    Example: zinker reset garden-desk --address '/panel/*' --preview

    Example: zinker reset mosslight --to mosslight@house-start

    Example: zinker reset mosslight --each-account --preview
    """
    from zinker.jobs import reset, reset_round
    from zinker.jobs.rounds import each_account

    wishes, given = options.wishes(ctx), ctx.params

    def run(setup: "Setup", approve: "ApproveAny") -> "Outcome | Together":
        more: dict[str, Any] = {"preview": given["preview"], "approve": approve}
        done: Outcome | Together
        if given["each_account"]:
            what = each_account(setup, [place], [subject])
            done = reset_round(setup, what, wishes, to, given["live"] or (), **more)
        else:
            done = reset(setup, subject, place, wishes, to, **more)
        return done

    run_change(ctx, run, "Not reset")

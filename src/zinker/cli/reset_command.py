"""`zinker reset`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.changing import run_change


@options.taking(options.CHOICE, options.OWNERS, options.CHECKS, options.RESULT)
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
    """
    from zinker.jobs import reset

    wishes = options.wishes(ctx)
    run_change(
        ctx,
        lambda setup, approve, progress: reset(
            setup,
            subject,
            place,
            wishes,
            to,
            preview=ctx.params["preview"],
            approve=approve,
            progress=progress,
        ),
        "Not reset",
    )

"""`zinker reset`."""

from typing import Annotated, Literal

import typer

from zinker.cli import options
from zinker.cli.changing import run_change


def command(
    ctx: typer.Context,
    subject: Annotated[str, typer.Argument(help="The subject.")],
    place: options.Place = "here",
    part: options.Parts = None,
    without: options.Without = None,
    to: Annotated[
        Literal["organisation", "default"],
        typer.Option(help="The layer to go back to: what the organisation starts from, or the defaults."),
    ] = "organisation",
    address: Annotated[
        list[str] | None,
        typer.Option(help="Only settings at this address; * and ? stand for others.", metavar="ADDRESS"),
    ] = None,
    while_running: options.WhileRunning = False,
    any_version: options.AnyVersion = False,
    despite_needs: options.DespiteNeeds = False,
    preview: options.Preview = False,
    yes: options.Yes = False,
    json: options.Json = False,
) -> None:
    """Take the user's own values out of a settings database, so that what lies beneath them counts.

    What is there is kept as a fallback first; `zinker undo` takes the reset back.

    Example: zinker reset garden-desk --address '/panel/*' --preview
    """
    from zinker.jobs import reset

    run_change(
        ctx,
        lambda setup, approve, progress: reset(
            setup,
            subject,
            place,
            tuple(part or ()),
            tuple(without or ()),
            to,
            tuple(address or ()),
            options.overruled(while_running, any_version, despite_needs),
            preview,
            approve,
            progress,
        ),
        "Not reset",
        yes,
        json,
    )

"""`zinker label`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.output import emit, emit_json, setup_of
from zinker.model.errors import WrongUsage


def command(
    ctx: typer.Context,
    version: Annotated[str, typer.Argument(help="A kept version, as in mosslight@7.", metavar="REF")],
    name: Annotated[str | None, typer.Argument(help="The label.", metavar="[LABEL]")] = None,
    move: Annotated[
        bool, typer.Option("--move", help="Take the label from the version that has it.")
    ] = False,
    take_away: Annotated[
        bool, typer.Option("--take-away", help="The version has no label any more.")
    ] = False,
    note: Annotated[
        str | None, typer.Option(help='A sentence on why; "" takes it away.', metavar="NOTE")
    ] = None,
    json: options.Json = False,
) -> None:
    """Name a kept version, or take its name away. One with a label stays when the shelf is thinned.

    Example: zinker label mosslight@7 season-start

    Example: zinker label mosslight@9 season-start --move

    Example: zinker label mosslight@7 --take-away
    """
    from zinker.jobs import label
    from zinker.reports.listing import version_json, versions_blocks

    if take_away and name:
        raise WrongUsage("Not labelled", "both a label and --take-away were given", "Choose one.")
    done = label(setup_of(ctx), version, "" if take_away else name, note, move)
    if json:
        emit_json(version_json(done))
    else:
        emit(versions_blocks([done]))

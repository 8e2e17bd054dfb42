"""`zinker check`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.output import emit, emit_json, progress_shown, setup_of


def command(
    ctx: typer.Context,
    what: Annotated[
        str, typer.Argument(help="A version, a profile file or folder; everything on the shelf otherwise.")
    ] = "",
    source: Annotated[
        str, typer.Option("--from", help="Mend what is damaged from another shelf.", metavar="SHELF")
    ] = "",
    accept: Annotated[
        bool, typer.Option("--accept", help="Take a profile folder as it was edited or merged.")
    ] = False,
    json: options.Json = False,
) -> None:
    """Look for damage: on the whole shelf, in one version, in a profile. Ends with 5 where there is some.

    Example: zinker check

    Example: zinker check --from /media/stick/shelf

    Example: zinker check ./profiles/mosslight --accept
    """
    from zinker.jobs import check
    from zinker.reports.shelf import checked_blocks, checked_json

    setup = setup_of(ctx)
    with progress_shown() as setup.progress:
        done = check(setup, what, source, accept)
    if json:
        emit_json(checked_json(done))
    else:
        emit(checked_blocks(done))
    raise typer.Exit(5 if done.damages else 0)

"""`zinker copy`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.output import emit, emit_json, progress_shown, setup_of

_What = Annotated[
    list[str] | None,
    typer.Argument(
        help="Subjects, versions, or profiles, which come onto the shelf; all subjects otherwise.",
        metavar="[SUBJECT|REF|PROFILE]...",
    ),
]


def command(
    ctx: typer.Context,
    what: _What = None,
    to: Annotated[
        str,
        typer.Option(
            help="Another shelf, a new one or one that is there, or FILE.zinker.", metavar="SHELF|FILE"
        ),
    ] = "",
    source: Annotated[
        str,
        typer.Option("--from", help="The shelf to copy from, onto the usual one.", metavar="SHELF"),
    ] = "",
    folder: Annotated[
        bool, typer.Option("--folder", help="With --to: write one version as a profile folder.")
    ] = False,
    sealed: Annotated[bool, typer.Option("--sealed", help="With --to: encrypt all of a new shelf.")] = False,
    json: options.Json = False,
) -> None:
    """Copy versions to another shelf, or from there: only what is missing, so that it can be taken up again.

    Example: zinker copy --to /media/stick/shelf

    Example: zinker copy mosslight --from /media/stick/shelf

    Example: zinker copy --to s3://garden-shelf/zinker --sealed

    Example: zinker copy mosslight@7 --to mosslight.zinker

    Example: zinker copy mosslight.zinker
    """
    from zinker.jobs import copy
    from zinker.reports.shelf import copied_blocks

    setup = setup_of(ctx)
    with progress_shown() as setup.progress:
        done = copy(setup, what or (), to, source, folder, sealed)
    if json:
        emit_json(done)
    else:
        emit(copied_blocks(done))
    raise typer.Exit(0 if done.is_complete else 5)

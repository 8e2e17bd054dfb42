"""`zinker show`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.output import emit, emit_json, progress_shown, setup_of


def command(
    ctx: typer.Context,
    reference: Annotated[
        str, typer.Argument(help="A kept version, a place's settings, or a profile's path.")
    ],
    part: options.Parts = None,
    document: options.Documents = None,
    find: Annotated[
        str, typer.Option(help="Only settings with this text in name, title or value.", metavar="TEXT")
    ] = "",
    secrets: Annotated[
        bool, typer.Option("--secrets", help="Only what was withheld, and by which rule.")
    ] = False,
    json: options.Json = False,
) -> None:
    """The settings in a profile or at a place.

    Example: zinker show here:mosslight --find dusk
    """
    from zinker.jobs import show
    from zinker.reports.listing import shown_json, shown_text

    setup = setup_of(ctx)
    with progress_shown() as setup.progress:
        shown = show(setup, reference, tuple(part or ()), find, secrets, tuple(document or ()))
    if json:
        emit_json(shown_json(shown))
    else:
        emit(lambda width: shown_text(shown, width))

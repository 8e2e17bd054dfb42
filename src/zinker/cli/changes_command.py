"""`zinker changes`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.output import emit, emit_json, setup_of


def command(
    ctx: typer.Context,
    change: Annotated[
        int | None, typer.Argument(help="The number of a change, to see all that it wrote.", min=1)
    ] = None,
    subject: Annotated[str, typer.Option(help="Only changes of this subject.", metavar="SUBJECT")] = "",
    place: Annotated[str, typer.Option(help="Only changes at this place.", metavar="PLACE")] = "",
    json: options.Json = False,
) -> None:
    """What was changed at places: when, by whom, from what, and how it ended.

    Example: zinker changes --place glasshouse

    Example: zinker changes 3
    """
    from zinker.jobs import changes, one_change
    from zinker.jobs.looking import without_fallback
    from zinker.reports.changes import change_json, change_text, changes_json, changes_text

    setup = setup_of(ctx)
    if change is None:
        found = changes(setup, subject, place)
        gone = without_fallback(setup, found)
        if json:
            emit_json(changes_json(found, gone))
        else:
            emit(lambda width: changes_text(found, gone, width))
        return
    one, documents, described = one_change(setup, change)
    if json:
        emit_json(change_json(one, documents))
    else:
        emit(lambda width: change_text(one, documents, described, width))

"""`zinker changes`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.forms import FORMS, Delivery
from zinker.cli.output import setup_of


@options.taking(FORMS)
def command(
    ctx: typer.Context,
    change: Annotated[
        int | None, typer.Argument(help="The number of a change, to see all that it wrote.", min=1)
    ] = None,
    subject: Annotated[str, typer.Option(help="Only changes of this subject.", metavar="SUBJECT")] = "",
    place: Annotated[str, typer.Option(help="Only changes at this place.", metavar="PLACE")] = "",
) -> None:
    """What was changed at places: when, by whom, from what, and how it ended.

    Example: zinker changes --place glasshouse

    Example: zinker changes 3 --output change-3.docx
    """
    from zinker.jobs import changes, one_change
    from zinker.jobs.looking import without_fallback
    from zinker.reports.changes import change_report, changes_report

    delivery = Delivery(ctx.params)
    setup = setup_of(ctx)
    if change is None:
        found = changes(setup, subject, place)
        delivery.deliver(changes_report(found, without_fallback(setup, found)))
    else:
        delivery.deliver(change_report(*one_change(setup, change)))

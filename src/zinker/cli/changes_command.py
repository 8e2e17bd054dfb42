"""`zinker changes`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.forms import FORMS, Delivery
from zinker.cli.output import setup_of
from zinker.cli.taking import taking


@taking(FORMS)
def command(
    ctx: typer.Context,
    change: Annotated[
        str, typer.Argument(help="The number of a change, 12 or 12.2, to see all that it wrote.")
    ] = "",
    subject: Annotated[str, typer.Option(help="Only changes of this subject.", metavar="SUBJECT")] = "",
    place: Annotated[str, typer.Option(help="Only changes at this place.", metavar="PLACE")] = "",
) -> None:
    """What was changed at places: when, by whom, from what, and how it ended.

    Example: zinker changes --place glasshouse

    Example: zinker changes 3 --output change-3.docx
    """
    from zinker.jobs import changes, one_change
    from zinker.jobs.listing import round_change, round_names, without_fallback
    from zinker.jobs.sources import subject_known
    from zinker.reports.changes import change_report, changes_report

    delivery = Delivery(ctx.params)
    setup = setup_of(ctx)
    number = options.change_id(change) if change else None
    if number is None:
        found = changes(setup, subject, place)
        delivery.deliver(changes_report(found, without_fallback(setup, found), round_names(setup, found)))
    elif (found_round := round_change(setup, number)) is not None:
        from zinker.reports.rounds import round_change_report

        delivery.deliver(round_change_report(*found_round, lambda id: subject_known(setup, id)))
    else:
        delivery.deliver(change_report(*one_change(setup, number)))

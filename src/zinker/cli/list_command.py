"""`zinker list`."""

from typing import Annotated

import typer

from zinker.cli.forms import FORMS, Delivery
from zinker.cli.output import setup_of, tell_troubles
from zinker.cli.taking import taking


@taking(FORMS)
def command(
    ctx: typer.Context,
    subject: Annotated[str, typer.Argument(help="Only this subject.")] = "",
    place: Annotated[str, typer.Option(help="Only versions from this place.", metavar="PLACE")] = "",
) -> None:
    """The kept versions: number, time, age, place, label, size, settings.

    Example: zinker list mosslight
    """
    from zinker.jobs.listing import kept_versions, stale_ones
    from zinker.reports.listing import versions_report

    delivery = Delivery(ctx.params)
    setup = setup_of(ctx)
    tell_troubles(setup)
    versions = kept_versions(setup, subject, place)
    delivery.deliver(versions_report(versions, stale_ones(setup, versions)))

"""`zinker show`."""

import sys
from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.forms import FORMS, Delivery
from zinker.cli.output import progress_shown, setup_of
from zinker.cli.taking import taking


@taking(FORMS)
def command(
    ctx: typer.Context,
    reference: options.Reference,
    part: options.Parts = None,
    document: options.Documents = None,
    find: Annotated[
        str, typer.Option(help="Only settings with this text in name, title or value.", metavar="TEXT")
    ] = "",
    secrets: Annotated[
        bool, typer.Option("--secrets", help="Only what was withheld, and by which rule.")
    ] = False,
) -> None:
    """The settings in a profile or at a place. Ends with 1 if some of it could not be read.

    Example: zinker show here:mosslight --find dusk

    Example: zinker show mosslight@latest --output mosslight.csv
    """
    from zinker.jobs import show
    from zinker.reports.shown import shown_report, unread

    delivery = Delivery(ctx.params)
    setup = setup_of(ctx)
    with progress_shown() as setup.progress:
        shown = show(setup, reference, tuple(part or ()), find, secrets, tuple(document or ()))
    delivery.deliver(shown_report(shown))
    if shown.unread:
        if delivery.form != "text" or delivery.output is not None:
            print(f"Not shown: {unread(shown)}", file=sys.stderr)
        raise typer.Exit(1)

"""`zinker document`."""

from typing import TYPE_CHECKING, Annotated

import typer

from zinker.cli import options
from zinker.cli.forms import FORMS, Delivery
from zinker.cli.output import progress_shown, setup_of
from zinker.model.errors import WrongUsage

if TYPE_CHECKING:
    from zinker.jobs.setup import Setup


@options.taking(options.ROUND, FORMS)
def command(
    ctx: typer.Context,
    reference: Annotated[
        str,
        typer.Argument(
            help="A kept version, a place's settings, or a profile's path; PLACE:@LABEL for all of it."
        ),
    ] = "",
    part: options.Parts = None,
    document: options.Documents = None,
) -> None:
    """A whole configuration written down, to be read and filed: contents, and every part as tables.

    Example: zinker document mosslight@latest --output mosslight.docx

    Example: zinker document trial:garden-tenant --output house-rules.html --part house-rules

    Example: zinker document --round monday@agreed --output house.docx
    """
    from zinker.jobs import documented
    from zinker.jobs.period import is_for_all
    from zinker.reports.document import document_report

    named = ctx.params["round"]
    if bool(named) == bool(reference):
        why = "a reference and a round were named" if reference else "nothing was named"
        raise WrongUsage("Nothing done", why, "Name one, as in mosslight@7 or --round monday@agreed.")
    delivery = Delivery(ctx.params)
    setup = setup_of(ctx)
    if named or is_for_all(reference):
        if part or document:
            raise WrongUsage("Nothing done", "parts and documents are those of one subject", "Name it.")
        _of_round(setup, named, reference, delivery)
        return
    with (
        progress_shown() as setup.progress,
        documented(setup, reference, tuple(part or ()), tuple(document or ())) as found,
    ):
        delivery.deliver(document_report(found))


def _of_round(setup: "Setup", named: str, reference: str, delivery: Delivery) -> None:
    """Write down all members of a round, or all that is kept of a place; ends with 1 where one could not be."""
    from zinker.jobs.rounds import documented_round
    from zinker.reports.rounds import documents_report

    is_live = bool(named) and "@" not in named
    what = options.round_of(setup, named, reference, is_live)
    left: list[tuple[str, str, str]] = []
    with progress_shown() as setup.progress:
        opened = documented_round(setup, what, is_live, left)
        delivery.deliver(documents_report(what.told, what.members, opened, left))
    if left:
        raise typer.Exit(1)

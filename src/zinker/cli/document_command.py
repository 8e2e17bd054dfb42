"""`zinker document`."""

from typing import TYPE_CHECKING, Annotated

import typer

from zinker.cli import options
from zinker.cli.forms import FORMS, Delivery
from zinker.cli.output import progress_shown, setup_of
from zinker.cli.taking import taking
from zinker.model.errors import WrongUsage

if TYPE_CHECKING:
    from zinker.jobs.setup import Setup


@taking(options.ALL, options.ROUND, FORMS)
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
    place: Annotated[str, typer.Option(help="With --all: the place.", metavar="PLACE")] = "here",
) -> None:
    """A whole configuration written down, to be read and filed: contents, and every part as tables.

    Example: zinker document mosslight@latest --output mosslight.docx

    Example: zinker document trial:garden-tenant --output house-rules.html --part house-rules

    Example: zinker document --round monday@agreed --output house.docx
    """
    from zinker.jobs import documented
    from zinker.jobs.period import is_for_all
    from zinker.reports.document import document_report

    named, every = ctx.params["round"], ctx.params["every"]
    if bool(named) + bool(reference) + every != 1:
        why = "several things were named" if reference or named else "nothing was named"
        raise WrongUsage("Nothing done", why, "Name one: mosslight@7, --round monday@agreed, or --all.")
    delivery = Delivery(ctx.params)
    setup = setup_of(ctx)
    if every or is_for_all(reference) or named:
        if part or document:
            raise WrongUsage("Nothing done", "parts and documents are those of one subject", "Name it.")
        _of_round(setup, named, reference, place if every else "", delivery)
        return
    with (
        progress_shown() as setup.progress,
        documented(setup, reference, tuple(part or ()), tuple(document or ())) as found,
    ):
        delivery.deliver(document_report(found))


def _of_round(setup: "Setup", named: str, reference: str, place: str, delivery: Delivery) -> None:
    """Write down a round, all that is kept of a place, or or all that is found at a `place`.

    Ends with 1 where one of them could not be.
    """
    from zinker.jobs.rounds import documented_round, found_at
    from zinker.reports.rounds import documents_report

    is_live = bool(place) or (bool(named) and "@" not in named)
    what = found_at(setup, [place]) if place else options.round_of(setup, named, reference, is_live)
    left: list[tuple[str, str, str]] = []
    with progress_shown() as setup.progress:
        opened = documented_round(setup, what, is_live, left)
        delivery.deliver(documents_report(what.told, what.members, opened, left))
    if left:
        raise typer.Exit(1)

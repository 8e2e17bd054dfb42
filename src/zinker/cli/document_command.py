"""`zinker document`."""

import typer

from zinker.cli import options
from zinker.cli.forms import FORMS, Delivery
from zinker.cli.output import progress_shown, setup_of


@options.taking(FORMS)
def command(
    ctx: typer.Context,
    reference: options.Reference,
    part: options.Parts = None,
    document: options.Documents = None,
) -> None:
    """A whole configuration written down, to be read and filed: contents, and every part as tables.

    Example: zinker document mosslight@latest --output mosslight.docx

    Example: zinker document trial:garden-tenant --output house-rules.html --part house-rules
    """
    from zinker.jobs import documented
    from zinker.reports.document import document_report

    delivery = Delivery(ctx.params)
    setup = setup_of(ctx)
    with (
        progress_shown() as setup.progress,
        documented(setup, reference, tuple(part or ()), tuple(document or ())) as found,
    ):
        delivery.deliver(document_report(found))

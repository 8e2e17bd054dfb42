"""`zinker history`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.forms import FORMS, Delivery, deliver_picture, picture_path
from zinker.cli.output import progress_shown, setup_of
from zinker.cli.taking import taking


@taking(FORMS)
def command(
    ctx: typer.Context,
    subject: Annotated[str, typer.Argument(help="The subject.")],
    find: Annotated[
        str, typer.Option(help="Only settings with this text in name, title or value.", metavar="TEXT")
    ] = "",
    address: options.Addresses = None,
    part: options.Parts = None,
    place: Annotated[str, typer.Option(help="Only versions from this place.", metavar="PLACE")] = "",
    volatile: Annotated[bool, typer.Option("--volatile", help="Also what changes by itself.")] = False,
    brief: Annotated[bool, typer.Option("--brief", help="Only how much changed in each step.")] = False,
) -> None:
    """When settings changed, from what to what, where, and with what else, over all kept versions.

    With --output FILE.png or FILE.svg it draws a picture of how much changed when and where.

    Example: zinker history mosslight --address /lamps.north/dusk

    Example: zinker history mosslight --output mosslight.png
    """
    from zinker.jobs import history
    from zinker.jobs.retracing import Sought
    from zinker.reports.history import history_report

    given = ctx.params
    picture = picture_path(given["output"])
    delivery = None if picture else Delivery(given)
    setup = setup_of(ctx)
    with progress_shown() as setup.progress:
        found = history(
            setup, subject, place, Sought(find, tuple(address or ()), tuple(part or ()), volatile)
        )
    if picture is not None:
        from zinker.reports.render.picture import picture as drawn

        deliver_picture(picture, drawn(found, picture.suffix.lower()[1:]))
    elif delivery is not None:
        delivery.deliver(history_report(found, brief))

"""`zinker survey`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.forms import FORMS, Delivery, deliver_picture, picture_path
from zinker.cli.output import progress_shown, setup_of, tell_troubles
from zinker.cli.taking import taking
from zinker.model.errors import WrongUsage


@taking(options.ROUND, FORMS)
def command(
    ctx: typer.Context,
    subject: Annotated[
        list[str] | None, typer.Argument(help="Only these subjects.", metavar="[SUBJECT]...")
    ] = None,
    place: Annotated[
        list[str] | None, typer.Option(help="Only this place; may be given again.", metavar="PLACE")
    ] = None,
    against: Annotated[
        str,
        typer.Option(help="Also how far each is from this version: mosslight@7, or @LABEL.", metavar="REF"),
    ] = "",
    within: Annotated[
        float, typer.Option(help="How long a place may take to answer.", metavar="SECONDS", min=0.1)
    ] = 60.0,
) -> None:
    """Every place and subject: how old its newest version is, what changed since, which place is odd.

    Ends with 0 if everything is captured as it is now, so that an old machine can be switched off; else with 1.

    Example: zinker survey

    Example: zinker survey --round monday@agreed

    Example: zinker survey brindlepot --against brindlepot@agreed --output kiosks.html
    """
    from zinker.jobs import survey
    from zinker.reports.survey import survey_report

    picture = picture_path(ctx.params["output"])
    delivery = None if picture else Delivery(ctx.params)
    setup = setup_of(ctx)
    tell_troubles(setup)
    named = ctx.params["round"]
    if named and (place or subject):
        raise WrongUsage("No survey", "a round has its own places and subjects", "Name it alone.")
    what = options.round_of(setup, named, is_live=True) if named else None
    against = against or (f"@{what.version}" if what and what.version else "")
    with progress_shown() as setup.progress:
        found = survey(
            setup,
            tuple(place or ()),
            tuple(subject or ()),
            against,
            within,
            members=what.members if what else None,
        )
    if picture is not None:
        from zinker.reports.render.map import survey_map

        deliver_picture(picture, survey_map(found, picture.suffix.lower()[1:]))
    elif delivery is not None:
        delivery.deliver(survey_report(found))
    raise typer.Exit(0 if found.is_right else 1)

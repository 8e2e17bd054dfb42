"""`zinker list`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.output import emit, emit_json, setup_of


def command(
    ctx: typer.Context,
    subject: Annotated[str, typer.Argument(help="Only this subject.")] = "",
    place: Annotated[str, typer.Option(help="Only versions from this place.", metavar="PLACE")] = "",
    json: options.Json = False,
) -> None:
    """The kept versions: number, time, age, place, label, size, settings.

    Example: zinker list mosslight
    """
    from zinker.jobs import kept_versions
    from zinker.jobs.looking import stale_ones
    from zinker.reports.listing import version_json, versions_text

    setup = setup_of(ctx)
    versions = kept_versions(setup, subject, place)
    stale = stale_ones(setup, versions)
    if json:
        old = {version.reference for version in stale}
        emit_json([version_json(version) | {"stale": version.reference in old} for version in versions])
    else:
        emit(lambda width: versions_text(versions, width, stale))

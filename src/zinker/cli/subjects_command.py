"""`zinker subjects`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.output import emit, emit_json, setup_of


def command(
    ctx: typer.Context,
    subject: Annotated[str, typer.Argument(help="Only this subject, with the homes of its parts.")] = "",
    place: options.Place = "here",
    json: options.Json = False,
) -> None:
    """What Zinker can handle, which of it is at a place, and where its parts live.

    Example: zinker subjects mosslight --place potting-shed
    """
    from zinker.jobs import subject_states
    from zinker.reports.listing import subjects_text

    states = subject_states(setup_of(ctx), subject, place)
    if json:
        emit_json(states)
    else:
        emit(lambda width: subjects_text(states, bool(subject), width))

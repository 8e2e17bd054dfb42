"""`zinker places`."""

import typer

from zinker.cli import options
from zinker.cli.output import emit, emit_json, setup_of, tell_troubles


def command(ctx: typer.Context, json: options.Json = False) -> None:
    """The configured places, whether they answer, and who signs in. Ends with 1 if one does not answer.

    Example: zinker places
    """
    from zinker.jobs import place_states
    from zinker.reports.listing import places_blocks

    setup = setup_of(ctx)
    tell_troubles(setup)
    states = place_states(setup)
    if json:
        emit_json(states)
    else:
        emit(places_blocks(states))
    if any(state.absence for state in states):
        raise typer.Exit(1)

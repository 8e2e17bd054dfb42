"""`zinker import`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.changing import run_change
from zinker.cli.locks import lock_from


def command(
    ctx: typer.Context,
    reference: Annotated[str, typer.Argument(help="A kept version, or the path of a profile.")],
    place: options.Place = "here",
    part: options.Parts = None,
    without: options.Without = None,
    device_bound: Annotated[
        bool, typer.Option("--device-bound", help="Also parts that are bound to another device.")
    ] = False,
    untranslated: Annotated[
        bool, typer.Option("--untranslated", help="Leave the old place's folders in values as they are.")
    ] = False,
    with_secrets: options.WithSecrets = False,
    key: options.Key = None,
    while_running: options.WhileRunning = False,
    any_version: options.AnyVersion = False,
    despite_needs: options.DespiteNeeds = False,
    preview: options.Preview = False,
    yes: options.Yes = False,
    json: options.Json = False,
) -> None:
    """Write a profile's settings to a place, after showing what would be written.

    What is there is kept as a fallback first; `zinker undo` takes the change back.

    Example: zinker import mosslight@latest --part general --preview
    """
    from zinker.jobs import import_profile

    run_change(
        ctx,
        lambda setup, approve, progress: import_profile(
            setup,
            reference,
            place,
            tuple(part or ()),
            tuple(without or ()),
            device_bound,
            not untranslated,
            options.overruled(while_running, any_version, despite_needs),
            preview,
            approve,
            progress,
            (lambda kinds: lock_from(kinds, key)) if with_secrets or key else None,
        ),
        "Not imported",
        yes,
        json,
    )

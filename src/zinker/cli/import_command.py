"""`zinker import`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.asking import chooser, resolver
from zinker.cli.changing import run_change
from zinker.cli.locks import lock_from


@options.taking(
    options.WISHES, options.POLICIES, options.OWNERS, options.DEVICES, options.CHECKS, options.RESULT
)
def command(
    ctx: typer.Context,
    reference: Annotated[str, typer.Argument(help="A kept version, or the path of a profile.")],
    place: options.Place = "here",
    with_secrets: options.WithSecrets = False,
    key: options.Key = None,
) -> None:
    """Write a profile's settings to a place, after showing what would be written.

    What is there is kept as a fallback first; `zinker undo` takes the change back.

    Example: zinker import mosslight@latest --part general --preview

    Example: zinker import stick/mosslight.zinker --adopt --crosswalk new-house.crosswalk.toml
    """
    from zinker.jobs import import_profile

    wishes = options.wishes(ctx)
    run_change(
        ctx,
        lambda setup, approve, progress: import_profile(
            setup,
            reference,
            place,
            wishes,
            preview=ctx.params["preview"],
            approve=approve,
            resolve=resolver(ctx.params["on_conflict"]),
            choose=chooser(ctx.params["choose"]),
            progress=progress,
            unlock=(lambda kinds: lock_from(kinds, key)) if with_secrets or key else None,
        ),
        "Not imported",
    )

"""`zinker spot`."""

import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.guard import understood
from zinker.cli.output import can_ask, emit, emit_json, setup_of
from zinker.cli.taking import Group, taking
from zinker.model.errors import WrongUsage

_FIRST = "First do all but the change: open the application, save, close it."
_SECOND = "Now the same with the change; save it, and close the application."


_KEEPING: Group = {
    "keep": (
        Annotated[bool, typer.Option("--keep", help="Keep just these settings as a profile.")],
        False,
    ),
    "label": (Annotated[str, typer.Option(help="Keep them under this label.", metavar="LABEL")], ""),
    "note": (Annotated[str, typer.Option(help="A note to keep with them.", metavar="TEXT")], ""),
    "draft": (
        Annotated[
            str, typer.Option(help="Draft a subject file of this name from what was seen.", metavar="NAME")
        ],
        "",
    ),
    "to": (
        Annotated[
            Path | None, typer.Option(help="With --draft: the folder for the draft.", metavar="FOLDER")
        ],
        None,
    ),
}


@taking(_KEEPING)
def command(
    ctx: typer.Context,
    subject: Annotated[
        str, typer.Argument(help="The subject; or --home for what none describes yet.", metavar="[SUBJECT]")
    ] = "",
    home: Annotated[
        list[str] | None,
        typer.Option(help="Watch this file, folder, registry key or settings path.", metavar="HOME"),
    ] = None,
    place: options.Place = "here",
    part: options.Parts = None,
    still: Annotated[
        float | None,
        typer.Option(help="Watch so long without the change, instead of asking.", metavar="SECONDS", min=0),
    ] = None,
    seconds: Annotated[
        float | None,
        typer.Option(
            "--for", help="Watch so long for the change, instead of asking.", metavar="SECONDS", min=0
        ),
    ] = None,
    json: options.Json = False,
) -> None:
    """Show which settings a change made in the application itself touches, by watching twice.

    What changes in the first watch, without the change, is left out. Nothing is written to the place.

    Example: zinker spot mosslight --label brighter-benches

    Example: zinker spot --home ~/.config/fernwork --draft fernwork
    """
    from zinker.jobs import Watching, spot
    from zinker.reports.spotted import spotted_blocks, spotted_json

    if (still is None or seconds is None) and not can_ask():
        why = "there is no terminal to ask at when the change has been made"
        raise WrongUsage("Nothing spotted", why, "Give both watches their time: --still 5 --for 30.")
    given = ctx.params
    how = Watching(
        _waiting(_FIRST, still),
        _waiting(_SECOND, seconds),
        place,
        tuple(part or ()),
        given["keep"],
        given["label"],
        given["note"],
        given["draft"],
        understood(given["to"]) if given["to"] else None,
    )
    spotted = spot(setup_of(ctx), subject, how, tuple(home or ()))
    if json:
        emit_json(spotted_json(spotted))
    else:
        emit(spotted_blocks(spotted))


def _waiting(what: str, seconds: float | None) -> Callable[[], None]:
    """Return what waits for the user, or for some time."""

    def wait() -> None:
        if seconds is None:
            typer.prompt(f"{what} Enter when that is done", default="", show_default=False, err=True)
        else:
            print(f"{what} Watching, {seconds:g} s.", file=sys.stderr, flush=True)
            time.sleep(seconds)

    return wait

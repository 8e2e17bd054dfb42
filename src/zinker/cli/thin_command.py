"""`zinker thin`."""

from typing import TYPE_CHECKING, Annotated

import typer

from zinker.cli import options
from zinker.cli.output import can_ask, emit, emit_json, setup_of
from zinker.model.errors import Refused

if TYPE_CHECKING:
    from zinker.jobs.thinning import Thinning

_What = Annotated[
    list[str] | None,
    typer.Argument(help="Subjects, or single versions, as in mosslight@7.", metavar="[SUBJECT|REF]..."),
]


def _keeping(what: str) -> typer.models.OptionInfo:
    option: typer.models.OptionInfo = typer.Option(help=f"Keep {what}.", metavar="N", min=0)
    return option


def command(
    ctx: typer.Context,
    what: _What = None,
    place: Annotated[str, typer.Option(help="Only versions from this place.", metavar="PLACE")] = "",
    newest: Annotated[int, _keeping("the newest so many of each place")] = 0,
    days: Annotated[int, _keeping("the newest of each of so many days")] = 0,
    weeks: Annotated[int, _keeping("the newest of each of so many weeks")] = 0,
    months: Annotated[int, _keeping("the newest of each of so many months")] = 0,
    older_than: Annotated[
        str, typer.Option(help='Remove what is older, as in "90 days".', metavar="TIME")
    ] = "",
    preview: Annotated[bool, typer.Option("--preview", help="Only say what would go.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do it without asking.")] = False,
    json: options.Json = False,
) -> None:
    """Remove old versions from the shelf, and give their room back.

    Labelled versions stay unless they are named one by one, and so does the last good one of each place. Fallbacks
    go after 90 days, or what `fallbacks` in zinker.toml says; [thin] there has rules for every day.

    Example: zinker thin --newest 10 --days 14 --weeks 8 --months 24 --preview

    Example: zinker thin mosslight --older-than "2 years"

    Example: zinker thin mosslight@7
    """
    from zinker.jobs import thin
    from zinker.reports.shelf import thinned_blocks, thinned_json, thinning_blocks
    from zinker.shelf.thinning import Rules, days_of

    def approve(plan: "Thinning") -> bool:
        if not json:
            emit(thinning_blocks(plan))
        if yes:
            return True
        if json or not can_ask():
            why = "there is no terminal to ask at, and --yes was not given"
            raise Refused("Not thinned", why, "Look at what would go with --preview, then add --yes.")
        return typer.confirm("Remove these?", default=False)

    done = thin(
        setup_of(ctx),
        what or (),
        place,
        Rules(newest, days, weeks, months),
        days_of(older_than) if older_than else None,
        preview=preview,
        approve=approve,
    )
    if json:
        emit_json(thinned_json(done))
    elif preview:
        emit(thinning_blocks(done, is_preview=True))
    elif done.is_done or done.going:
        emit(thinned_blocks(done))
    else:
        emit(thinning_blocks(done, is_preview=True))
    raise typer.Exit(1 if done.is_done and done.why else 0)

"""`zinker compare`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.output import emit, emit_json, progress_shown, setup_of


def command(
    ctx: typer.Context,
    reference: Annotated[
        str, typer.Argument(help="A kept version, a place's settings, or a profile's path.")
    ],
    other: Annotated[
        str, typer.Argument(help="What to compare it with; without it, the live settings.")
    ] = "",
    part: options.Parts = None,
    document: options.Documents = None,
    place: Annotated[
        str, typer.Option(help="The place of the live settings; usually the profile's own.", metavar="PLACE")
    ] = "",
    crosswalk: options.Crosswalk = None,
    prefix: Annotated[str, typer.Option(help="Of policies brought with --prefix TEXT.", metavar="TEXT")] = "",
    suffix: Annotated[str, typer.Option(help="Of policies brought with --suffix TEXT.", metavar="TEXT")] = "",
    json: options.Json = False,
) -> None:
    """What is not the same. Ends with 1 if there are differences, else with 0.

    Example: zinker compare mosslight@before-update

    Example: zinker compare here:mosslight/bench-east here:mosslight/bench-west

    Example: zinker compare mosslight@7 glasshouse:mosslight --crosswalk new-house.crosswalk.toml
    """
    from zinker.jobs import compare
    from zinker.jobs.translate.rules import load_rules
    from zinker.reports.comparison import comparison_json, comparison_text

    rules = load_rules(crosswalk) if crosswalk else None
    setup = setup_of(ctx)
    with progress_shown() as setup.progress:
        parts, documents = tuple(part or ()), tuple(document or ())
        comparison = compare(setup, reference, other, parts, place, rules, documents, prefix, suffix)
    if json:
        emit_json(comparison_json(comparison))
    else:
        emit(lambda width: comparison_text(comparison, width))
    if comparison.differences or comparison.uncertain:
        raise typer.Exit(1)

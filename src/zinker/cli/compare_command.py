"""`zinker compare`."""

from enum import Enum
from typing import TYPE_CHECKING, Annotated, Any

import typer

from zinker.cli import options
from zinker.cli.forms import FORMS, Delivery
from zinker.cli.output import progress_shown, setup_of
from zinker.cli.taking import Group, taking
from zinker.model.errors import WrongUsage

if TYPE_CHECKING:
    from zinker.jobs.comparing import Wanted
    from zinker.jobs.period import Period
    from zinker.jobs.setup import Setup


class Kind(Enum):
    """What can have happened to a setting."""

    changed = "changed"
    new = "new"
    gone = "gone"


_FILTERS: Group = {
    "kind": (
        Annotated[
            list[Kind] | None,
            typer.Option(
                help="Only what is `changed`, `new` or `gone`; may be given again.",
                metavar="KIND",
                rich_help_panel=options.CHOOSING,
            ),
        ],
        None,
    ),
    "find": (
        Annotated[
            str,
            typer.Option(
                help="Only settings with this text in name, title or value.",
                metavar="TEXT",
                rich_help_panel=options.CHOOSING,
            ),
        ],
        "",
    ),
    "volatile": (
        Annotated[
            bool,
            typer.Option("--volatile", help="Also what changes by itself.", rich_help_panel=options.CHOOSING),
        ],
        False,
    ),
    "brief": (
        Annotated[
            bool,
            typer.Option("--brief", help="Only how much, by document.", rich_help_panel=options.ENDING),
        ],
        False,
    ),
    "full": (
        Annotated[
            bool,
            typer.Option(
                "--full",
                help="Also what was in documents that came or went.",
                rich_help_panel=options.ENDING,
            ),
        ],
        False,
    ),
}


@taking(options.ALL, options.ROUND, options.ACCOUNTS, _FILTERS, FORMS)
def command(
    ctx: typer.Context,
    reference: Annotated[
        str,
        typer.Argument(
            help="A kept version, a place's settings, or a profile's path; @DAY or @LABEL for all subjects. "
            "Without it, all that is kept of this machine."
        ),
    ] = "",
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
) -> None:
    """What is not the same. Ends with 1 if there are differences, else with 0.

    Example: zinker compare mosslight@before-update

    Example: zinker compare mosslight@7 glasshouse:mosslight --crosswalk new-house.crosswalk.toml

    Example: zinker compare --round monday@agreed

    Example: zinker compare mosslight@house-start --each-account

    Example: zinker compare potting-shed:@2026-11-01 potting-shed:@2026-11-22 --output november.docx
    """
    from zinker.jobs import compare
    from zinker.jobs.comparing import Wanted
    from zinker.jobs.period import is_for_all
    from zinker.jobs.translate.rules import load_rules
    from zinker.reports.comparison import comparison_report
    from zinker.reports.period import period_report

    given = ctx.params
    kinds = tuple(Kind(kind).value for kind in given["kind"] or ())  # older Typers leave texts in the context
    delivery = Delivery(given)
    rules = load_rules(crosswalk) if crosswalk else None
    wanted = Wanted(tuple(part or ()), tuple(document or ()), kinds, given["find"], given["volatile"])
    setup = setup_of(ctx)
    if given["every"] and (given["round"] or given["each_account"] or not is_for_all(reference)):
        raise WrongUsage("Not compared", "--all and something else were named", "Name one of them.")
    if given["round"] and not is_for_all(reference):
        why = f"{reference} names a subject, and a round has its own"
        raise WrongUsage("Not compared", why, "Give @VERSION, or nothing.")
    if is_for_all(reference) or given["each_account"]:
        if rules or prefix or suffix:
            why = "a crosswalk, --prefix and --suffix are for one subject at one place"
            raise WrongUsage("Not compared", why, "Name it, as in mosslight@7.")
        with progress_shown() as setup.progress:
            period = _all(setup, given, reference, other, place, wanted)
        delivery.deliver(period_report(period, given["brief"]), given["full"])
        differs = any(one.differences or one.uncertain for one in period.comparisons)
        raise typer.Exit(1 if differs or period.left else 0)
    with progress_shown() as setup.progress:
        comparison = compare(setup, reference, other, wanted, place, rules, prefix, suffix)
    delivery.deliver(comparison_report(comparison, given["brief"]), given["full"])
    if comparison.differences or comparison.uncertain:
        raise typer.Exit(1)


def _all(
    setup: "Setup", given: dict[str, Any], reference: str, other: str, place: str, wanted: "Wanted"
) -> "Period":
    """Compare more than one: each account of a place, the members of a round, or all that is kept."""
    from msgspec import structs

    from zinker.jobs import compare_all
    from zinker.jobs.period import compare_each
    from zinker.jobs.references import parse_reference
    from zinker.jobs.rounds import each_account

    if given["each_account"]:
        subject = "" if not reference else parse_reference(reference).subject
        if not subject or other or given["round"]:
            why = "--each-account holds the accounts of a place against one version on the shelf"
            raise WrongUsage("Not compared", why, "Name it alone, as in mosslight@7.")
        each = each_account(setup, [place or "here"], [subject])
        return structs.replace(compare_each(setup, reference, each.members, wanted), name=each.name)
    what = options.round_of(setup, given["round"]) if given["round"] else None
    if what is not None and what.version:
        reference, other = f"@{what.version}", other or reference
    period = compare_all(setup, reference, other, wanted, place, what.members if what else None)
    return structs.replace(period, name=f"round {what.name}") if what else period

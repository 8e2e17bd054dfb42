"""`zinker import`."""

from typing import TYPE_CHECKING, Annotated, Any

import typer

from zinker.cli import options
from zinker.cli.asking import chooser, resolver
from zinker.cli.changing import run_change
from zinker.cli.locks import lock_from
from zinker.cli.taking import taking
from zinker.model.errors import WrongUsage

if TYPE_CHECKING:
    from zinker.cli.changing import ApproveAny
    from zinker.jobs.apply.carry_out import Outcome
    from zinker.jobs.importing import Unlock
    from zinker.jobs.setup import Setup
    from zinker.jobs.together import Together


@taking(
    options.ALL,
    options.ROUND,
    options.WISHES,
    options.POLICIES,
    options.OWNERS,
    options.DEVICES,
    options.CHECKS,
    options.RESULT,
)
def command(
    ctx: typer.Context,
    reference: Annotated[
        str,
        typer.Argument(
            help="A kept version, or the path of a profile; PLACE:@LABEL for all that is kept of a place."
        ),
    ] = "",
    place: Annotated[
        str, typer.Option(help="The place, `here` by default; of a round, its own.", metavar="PLACE")
    ] = "",
    with_secrets: options.WithSecrets = False,
    key: options.Key = None,
) -> None:
    """Write a profile's settings to a place, after showing what would be written.

    What is there is kept as a fallback first; `zinker undo` takes the change back.

    Example: zinker import mosslight@latest --part general --preview

    Example: zinker import stick/mosslight.zinker --adopt --crosswalk new-house.crosswalk.toml

    Example: zinker import --round monday@agreed --preview
    """
    from zinker.jobs import Answers, import_profile, import_round
    from zinker.jobs.period import is_for_all

    given = ctx.params
    if given["every"] and not reference and place:  # all of a place is what its newest versions have
        reference, place = f"{place}:@latest", ""
    elif given["every"]:
        why = "--all is for a place, of which the newest versions are taken"
        raise WrongUsage("Not imported", why, "Name it with --place alone, or write PLACE:@VERSION.")
    is_round = bool(given["round"]) or is_for_all(reference)
    if bool(given["round"]) == bool(reference):
        why = "a version and a round were named" if reference else "neither a version nor a round was named"
        raise WrongUsage("Not imported", why, "Name one, as in mosslight@7 or --round monday@agreed.")
    wishes = options.wishes(ctx)
    unlock: Unlock | None = (lambda kinds: lock_from(kinds, key)) if with_secrets or key else None
    answers = Answers(resolver(given["on_conflict"]), chooser(given["choose"]), unlock)
    asks = given["choose"] or given["on_conflict"] == "ask" or unlock is not None
    more: dict[str, Any] = {"preview": given["preview"], "answers": answers}

    def run(setup: "Setup", approve: "ApproveAny") -> "Outcome | Together":
        if not is_round:
            done: Outcome = import_profile(setup, reference, place or "here", wishes, approve=approve, **more)
            return done
        what, at = options.round_of(setup, given["round"], reference), place if reference else ""
        if place and not reference:
            why = "a round goes back to its own places"
            raise WrongUsage("Not imported", why, "Leave --place out, or name PLACE:@VERSION and --place.")
        return import_round(
            setup,
            what,
            wishes,
            given["live"] or (),
            at,
            approve=approve,
            one_by_one=asks,
            **more,
        )

    run_change(ctx, run, "Not imported")

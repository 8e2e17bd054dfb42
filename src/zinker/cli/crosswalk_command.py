"""`zinker crosswalk`."""

from pathlib import Path
from typing import Annotated, Literal

import typer

from zinker.cli import options
from zinker.cli.output import emit_json, progress_shown, setup_of
from zinker.model.errors import WrongUsage
from zinker.reports.words import count


def command(
    ctx: typer.Context,
    what: Annotated[
        Literal["new", "check"],
        typer.Argument(help="`new` proposes one from two places, `check` reads one.", metavar="new|check"),
    ],
    first: Annotated[str, typer.Argument(help="The old place; or the file to check.", metavar="PLACE|FILE")],
    second: Annotated[str, typer.Argument(help="The new place.", metavar="PLACE")] = "",
    subject: Annotated[
        list[str] | None,
        typer.Option(help="Look at this subject only; may be given again.", metavar="SUBJECT"),
    ] = None,
    to: Annotated[Path | None, typer.Option(help="The file to write.", metavar="FILE")] = None,
    json: options.Json = False,
) -> None:
    """Translate settings from one place's world to another's: propose the rules for it, or check them.

    Example: zinker crosswalk new potting-shed glasshouse

    Example: zinker crosswalk check potting-shed-to-glasshouse.crosswalk.toml
    """
    from zinker.jobs.proposing import propose
    from zinker.jobs.translate.rules import load_rules

    if what == "check":
        rules = load_rules(Path(first))
        if json:
            emit_json(rules)
        else:
            people = len(rules.groups) + len(rules.users)
            print(
                f"{first}: {_said(len(rules.replace), len(rules.move), len(rules.value), people)}. No mistakes."
            )
        return
    if not second:
        raise WrongUsage(
            "Nothing done", "the new place is missing", f"Try `zinker crosswalk new {first} PLACE`."
        )
    setup = setup_of(ctx)
    with progress_shown() as setup.progress:
        path, proposal = propose(setup, first, second, tuple(subject or ()), to)
    if json:
        emit_json({"file": str(path), **proposal._asdict()})
        return
    print(f"Crosswalk proposed: {path}")
    print(f"  {_said(len(proposal.replaces), len(proposal.moves), 0, len(proposal.groups))}.")
    if proposal.values:
        differing = count(len(proposal.values), "more setting differs", "more settings differ")
        print(f"  {differing}; they are in it as comments.")
    print(f"Read and correct it, then run `zinker import REF --place {second} --crosswalk {path} --preview`.")


def _said(replaces: int, moves: int, values: int, people: int) -> str:
    words = [
        count(replaces, "text to replace", "texts to replace"),
        count(moves, "setting that moves", "settings that move"),
    ]
    if people:
        words.append(count(people, "group or user", "groups or users") + " of another name")
    if values:
        words.append(count(values, "setting with values of its own", "settings with values of their own"))
    return ", ".join(words)

"""`zinker crosswalk`."""

from pathlib import Path
from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.app import new_app
from zinker.cli.guard import guarded
from zinker.cli.output import emit_json, progress_shown, setup_of
from zinker.reports.words import count

app = new_app(
    no_args_is_help=True,
    help="Translate settings from one place's world to another's: propose the rules for it, or check them.",
)


@app.command()
@guarded
def new(
    ctx: typer.Context,
    old: Annotated[str, typer.Argument(help="The old place.", metavar="PLACE")],
    target: Annotated[str, typer.Argument(help="The new place.", metavar="PLACE")],
    subject: Annotated[
        list[str] | None,
        typer.Option(help="Look at this subject only; may be given again.", metavar="SUBJECT"),
    ] = None,
    to: Annotated[Path | None, typer.Option(help="The file to write.", metavar="FILE")] = None,
    json: options.Json = False,
) -> None:
    """Propose a crosswalk from two places.

    Example: `zinker crosswalk new potting-shed glasshouse`
    """
    from zinker.jobs.proposing import propose

    setup = setup_of(ctx)
    with progress_shown() as setup.progress:
        path, proposal = propose(setup, old, target, tuple(subject or ()), to)
    if json:
        emit_json({"file": str(path), **proposal._asdict()})
        return
    print(f"Crosswalk proposed: {path}")
    print(f"  {_said(len(proposal.replaces), len(proposal.moves), 0, len(proposal.groups))}.")
    if proposal.values:
        differing = count(len(proposal.values), "more setting differs", "more settings differ")
        print(f"  {differing}; they are in it as comments.")
    print(f"Read and correct it, then run `zinker import REF --place {target} --crosswalk {path} --preview`.")


@app.command()
@guarded
def check(
    file: Annotated[Path, typer.Argument(help="The crosswalk file.", metavar="FILE")],
    json: options.Json = False,
) -> None:
    """Read a crosswalk; a mistake is named with its line.

    Example: `zinker crosswalk check potting-shed-to-glasshouse.crosswalk.toml`
    """
    from zinker.jobs.translate.rules import load_rules

    rules = load_rules(file)
    if json:
        emit_json(rules)
        return
    people = len(rules.groups) + len(rules.users)
    print(f"{file}: {_said(len(rules.replace), len(rules.move), len(rules.value), people)}. No mistakes.")


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

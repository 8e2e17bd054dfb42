"""`zinker subjects`."""

from pathlib import Path
from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.app import new_app
from zinker.cli.guard import guarded
from zinker.cli.output import emit, emit_json, progress_shown, setup_of

app = new_app(invoke_without_command=True)


@app.callback()
@guarded
def subjects(ctx: typer.Context, place: options.Place = "here", json: options.Json = False) -> None:
    """What Zinker can handle, and which of it is at a place.

    Example: `zinker subjects --place potting-shed`
    """
    if ctx.invoked_subcommand is None:
        _show(ctx, "", place, json)


@app.command()
@guarded
def show(
    ctx: typer.Context,
    subject: Annotated[str, typer.Argument(help="The subject.")],
    place: options.Place = "here",
    json: options.Json = False,
) -> None:
    """Show one subject: the homes of its parts at a place, and what is there.

    Example: `zinker subjects show mosslight --place potting-shed`
    """
    _show(ctx, subject, place, json)


@app.command()
@guarded
def check(
    file: Annotated[Path, typer.Argument(help="The subject file.", metavar="FILE")],
    json: options.Json = False,
) -> None:
    """Name every mistake in a subject file, with its line. Ends with 1 if there is one.

    Example: `zinker subjects check mosslight.subject.toml`
    """
    from zinker.jobs import check_subject
    from zinker.reports.listing import mistakes_blocks

    mistakes = check_subject(file)
    if json:
        emit_json({"file": str(file), "mistakes": mistakes})
    else:
        emit(mistakes_blocks(str(file), mistakes))
    if mistakes:
        raise typer.Exit(1)


@app.command()
@guarded
def new(
    ctx: typer.Context,
    name: Annotated[str, typer.Argument(help="What the subject is to be called.", metavar="NAME")],
    home: Annotated[
        list[str] | None,
        typer.Option(
            help="A file, folder, registry key, settings path or collection; may be given again.",
            metavar="HOME",
        ),
    ] = None,
    place: options.Place = "here",
    to: Annotated[Path | None, typer.Option(help="The folder for the draft.", metavar="FOLDER")] = None,
    json: options.Json = False,
) -> None:
    """Look at what is in some homes, and write a commented draft of a subject file of that.

    It marks which files are settings, secrets, instances, bound to the machine, or made again by themselves. Of a
    tenant it says what its service says of itself.

    Example: `zinker subjects new mosslight --home ~/.config/mosslight --home ~/.local/share/mosslight`
    """
    from zinker.jobs import new_subject
    from zinker.reports.drafted import drafted_blocks, drafted_json

    setup = setup_of(ctx)
    with progress_shown() as setup.progress:
        done = new_subject(setup, name, tuple(home or ()), place, to)
    if json:
        emit_json(drafted_json(done))
    else:
        emit(drafted_blocks(done, name))


def _show(ctx: typer.Context, subject: str, place: str, json: bool) -> None:
    from zinker.jobs import subject_states
    from zinker.reports.listing import subjects_blocks

    states = subject_states(setup_of(ctx), subject, place)
    if json:
        emit_json(states)
    else:
        emit(subjects_blocks(states, bool(subject)))

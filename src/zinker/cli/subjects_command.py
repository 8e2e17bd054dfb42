"""`zinker subjects`."""

from pathlib import Path
from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.output import emit, emit_json, setup_of
from zinker.model.errors import WrongUsage

_Homes = Annotated[
    list[str] | None,
    typer.Option(
        help="With `new`: a file, folder, registry key or settings path; may be given again.",
        metavar="HOME",
    ),
]


def command(
    ctx: typer.Context,
    subject: Annotated[
        str,
        typer.Argument(
            help="Only this subject, with the homes of its parts; or `check`, or `new`.", metavar="[SUBJECT]"
        ),
    ] = "",
    what: Annotated[
        str,
        typer.Argument(
            help="After `check`: a subject file. After `new`: the name of a subject.", metavar="[FILE|NAME]"
        ),
    ] = "",
    place: options.Place = "here",
    home: _Homes = None,
    to: Annotated[
        Path | None, typer.Option(help="With `new`: the folder for the draft.", metavar="FOLDER")
    ] = None,
    json: options.Json = False,
) -> None:
    """What Zinker can handle, which of it is at a place, and where its parts live.

    Example: zinker subjects mosslight --place potting-shed

    Example: zinker subjects check mosslight.subject.toml

    Example: zinker subjects new mosslight --home ~/.config/mosslight/mosslight.ini
    """
    from zinker.jobs import check_subject, new_subject, subject_states
    from zinker.reports.listing import mistakes_text, subjects_text

    if subject in ("check", "new") and not what:
        missing = "the subject file" if subject == "check" else "the name of the subject"
        raise WrongUsage("Nothing done", f"{missing} is missing", f"Try `zinker subjects {subject} ...`.")
    if subject == "check":
        mistakes = check_subject(Path(what))
        if json:
            emit_json({"file": what, "mistakes": mistakes})
        else:
            emit(lambda width: mistakes_text(what, mistakes, width))
        if mistakes:
            raise typer.Exit(1)
        return
    setup = setup_of(ctx)
    if subject == "new":
        path = new_subject(setup, what, tuple(home or ()), place, to)
        if json:
            emit_json({"file": str(path)})
        else:
            print(f"Draft written: {path}\nEdit it, then run `zinker subjects check {path}`.")
        return
    states = subject_states(setup, subject, place)
    if json:
        emit_json(states)
    else:
        emit(lambda width: subjects_text(states, bool(subject), width))

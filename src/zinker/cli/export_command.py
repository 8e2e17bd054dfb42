"""`zinker export`."""

from pathlib import Path
from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.output import emit, emit_json, progress_shown, setup_of
from zinker.model.errors import WrongUsage


def command(
    ctx: typer.Context,
    subjects: Annotated[
        list[str], typer.Argument(help="Subjects, or subject/instance; or a kept version, with --to.")
    ],
    place: options.Place = "here",
    part: options.Parts = None,
    without: options.Without = None,
    label: Annotated[str, typer.Option(help="A name for this version.", metavar="LABEL")] = "",
    note: Annotated[str, typer.Option(help="A sentence on why.", metavar="NOTE")] = "",
    to: Annotated[
        Path | None,
        typer.Option(help="Write it there, not to the shelf: FILE.zinker, an existing folder, or a new one."),
    ] = None,
    replace: Annotated[bool, typer.Option("--replace", help="With --to: overwrite what is there.")] = False,
    json: options.Json = False,
) -> None:
    """Capture live settings as a new version on the shelf, or as a profile file or folder.

    Example: zinker export mosslight --label before-update

    Example: zinker export mosslight@7 --to /media/stick
    """
    from zinker.jobs import export, export_version
    from zinker.reports.listing import export_text

    setup = setup_of(ctx)
    is_complete = True
    results = []
    for name in subjects:
        with progress_shown() as progress:
            if "@" in name:
                if to is None:
                    why = f"{name} is kept already; --to says where a copy of it is to go"
                    raise WrongUsage("Not exported", why, "Add --to.")
                done = export_version(setup, name, to, replace)
            else:
                done = export(
                    setup,
                    name,
                    place,
                    tuple(part or ()),
                    tuple(without or ()),
                    label,
                    note,
                    to,
                    replace,
                    progress,
                )
        is_complete &= done.is_complete
        if json:
            reference = done.version.reference if done.version else ""
            results.append({"reference": reference, "path": str(done.path or ""), "profile": done.manifest})
            continue
        described = None if "@" in name else setup.catalogue.find(name.partition("/")[0])
        emit(lambda width, done=done, described=described: export_text(done, described, width))  # type: ignore[misc]
    if json:
        emit_json(results)
    if not is_complete:
        raise typer.Exit(1)

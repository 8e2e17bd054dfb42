"""`zinker export`."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zinker.cli import options
from zinker.cli.locks import locks_for
from zinker.cli.output import emit, emit_json, progress_shown, say, setup_of
from zinker.model.errors import WrongUsage, ZinkerError

if TYPE_CHECKING:
    from zinker.jobs.exporting import Exported
    from zinker.jobs.setup import Setup
    from zinker.profiles.sealing import Lock

# Parts, parts left out, label, note, where to, and whether to replace what is there.
_Chosen = tuple[tuple[str, ...], tuple[str, ...], str, str, Path | None, bool]
_Subjects = Annotated[
    list[str],
    typer.Argument(help="Subjects, or subject/instance; a kept version, with --to; or FILE.reg."),
]
_To = Annotated[
    Path | None,
    typer.Option(help="Write it there, not to the shelf: FILE.zinker, FILE.reg, a folder."),
]
_ForOthers = Annotated[
    bool,
    typer.Option(
        "--for-others",
        help="With --to: without machine, user, and what is device-bound or volatile.",
    ),
]
_Ansi = Annotated[bool, typer.Option("--ansi", help="With --to FILE.reg: write the older generation of it.")]


def command(
    ctx: typer.Context,
    subjects: _Subjects,
    place: options.Place = "here",
    part: options.Parts = None,
    without: options.Without = None,
    label: Annotated[str, typer.Option(help="A name for this version.", metavar="LABEL")] = "",
    note: Annotated[str, typer.Option(help="A sentence on why.", metavar="NOTE")] = "",
    to: _To = None,
    replace: Annotated[bool, typer.Option("--replace", help="With --to: overwrite what is there.")] = False,
    with_secrets: options.WithSecrets = False,
    sealed_for: options.Keys = None,
    for_others: _ForOthers = False,
    ansi: _Ansi = False,
    json: options.Json = False,
) -> None:
    """Capture live settings as a new version on the shelf, or as a profile file or folder.

    Example: zinker export mosslight --label before-update

    Secrets are left out unless --with-secrets seals them in, by passphrase or --for a public key.

    Example: zinker export mosslight@7 --to /media/stick

    FILE.reg, a registration text file, becomes a version, or a version becomes one.

    Example: zinker export brindlepot@7 --to till.reg

    Example: zinker export mosslight --part presets --for-others --to presets.zinker
    """
    from zinker.reports.listing import exported_text

    setup = setup_of(ctx)
    locks = locks_for(sealed_for or []) if with_secrets or sealed_for else ()
    chosen = (tuple(part or ()), tuple(without or ()), label, note, to, replace)
    codes, results = {0}, []
    for name in subjects:
        try:
            done = _export(setup, name, place, chosen, locks, ansi, for_others)
        except ZinkerError as error:
            if len(subjects) == 1:
                raise
            codes.add(error.exit_code)  # the others are captured all the same
            say(error)
            continue
        codes.add(0 if done.is_complete else 1)
        reference = done.version.reference if done.version else ""
        if json:
            named = {"named": done.named} if for_others else {}
            path = str(done.path or "")
            results.append({"reference": reference, "path": path, "profile": done.manifest, **named})
            continue
        id = done.manifest.subject
        described = setup.catalogue.find(id) if id in setup.catalogue.files() else None
        emit(lambda width, done=done, described=described: exported_text(done, described, width))  # type: ignore[misc]
    if json:
        emit_json(results)
    raise typer.Exit(max(codes))


def _export(
    setup: "Setup",
    name: str,
    place: str,
    chosen: _Chosen,
    locks: "tuple[Lock, ...]",
    ansi: bool,
    for_others: bool,
) -> "Exported":
    """Export one of what was named: a registration text file, a kept version, or a subject."""
    from zinker.jobs import export, export_text, export_version

    _, _, label, note, to, replace = chosen
    is_text = name.lower().endswith(".reg")
    is_kept = "@" in name or name.endswith(".zinker")
    if for_others and (is_text or is_kept):
        why = f"{name} is no live subject, and --for-others captures one"
        raise WrongUsage("Not exported", why, "Name the subject alone, and a --place.")
    if is_text:
        return export_text(setup, Path(name), label, note, to, replace, locks, ansi)
    if is_kept:
        return export_version(setup, name, to, replace, ansi)
    with progress_shown() as progress:
        return export(setup, name, place, *chosen, progress, locks, ansi, for_others)

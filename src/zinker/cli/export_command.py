"""`zinker export`."""

import contextlib
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple

import typer

from zinker.cli import options
from zinker.cli.locks import locks_for
from zinker.cli.output import emit, emit_json, progress_shown, say, setup_of
from zinker.model.errors import WrongUsage, ZinkerError

if TYPE_CHECKING:
    from zinker.jobs.exporting import Exported
    from zinker.jobs.setup import Setup
    from zinker.profiles.sealing import Lock


class _Wanted(NamedTuple):
    """What was asked for of each that is exported."""

    parts: tuple[str, ...]
    without: tuple[str, ...]
    label: str
    note: str
    to: Path | None
    replace: bool
    locks: "tuple[Lock, ...]"
    ansi: bool
    for_others: bool
    documents: tuple[str, ...]
    is_loss_meant: bool
    preview: bool
    move: bool
    again: bool


_Places = Annotated[
    list[str] | None,
    typer.Option(
        "--place", help="The place; `zinker places` lists them; may be given again.", metavar="PLACE"
    ),
]
_Subjects = Annotated[
    list[str] | None,
    typer.Argument(
        help="Subjects, or subject/instance; a kept version, with --to; FILE.reg or FILE.dconf.",
        metavar="[SUBJECTS]...",
    ),
]
_Homes = Annotated[
    list[str] | None,
    typer.Option(
        "--home",
        help="A file, folder, registry key or settings path that no subject describes; may be given again.",
        metavar="HOME",
    ),
]
_To = Annotated[
    Path | None,
    typer.Option(help="Write it there, not to the shelf: FILE.zinker, FILE.reg, FILE.dconf, a folder."),
]
_ForOthers = Annotated[
    bool,
    typer.Option(
        "--for-others",
        help="With --to: without machine, user, and what is device-bound or volatile.",
    ),
]
_Ansi = Annotated[bool, typer.Option("--ansi", help="With --to FILE.reg: write the older generation of it.")]

_LossIsMeant = Annotated[
    bool,
    typer.Option("--loss-is-meant", help="It is the latest, although most of the last one is gone."),
]


def command(
    ctx: typer.Context,
    subjects: _Subjects = None,
    home: _Homes = None,
    place: _Places = None,
    part: options.Parts = None,
    without: options.Without = None,
    document: options.Documents = None,
    label: Annotated[str, typer.Option(help="A name for this version.", metavar="LABEL")] = "",
    move: Annotated[
        bool, typer.Option("--move", help="Take the label from the version that has it.")
    ] = False,
    note: Annotated[str, typer.Option(help="A sentence on why.", metavar="NOTE")] = "",
    again: Annotated[
        bool, typer.Option("--again", help="Keep a version even where nothing has changed.")
    ] = False,
    to: _To = None,
    replace: Annotated[bool, typer.Option("--replace", help="With --to: overwrite what is there.")] = False,
    with_secrets: options.WithSecrets = False,
    sealed_for: options.Keys = None,
    for_others: _ForOthers = False,
    ansi: _Ansi = False,
    loss_is_meant: _LossIsMeant = False,
    preview: Annotated[
        bool, typer.Option("--preview", help="Say what would be kept, and how much room it takes.")
    ] = False,
    json: options.Json = False,
) -> None:
    """Capture live settings as a new version on the shelf, or as a profile file or folder.

    Example: zinker export mosslight --label before-update

    Secrets are left out unless --with-secrets seals them in, by passphrase or --for a public key.

    Example: zinker export mosslight@7 --to /media/stick

    FILE.reg, a registration text file, or FILE.dconf, a dump of a desktop's settings, becomes a version, and a
    version becomes one.

    Example: zinker export brindlepot@7 --to till.reg

    Example: zinker export --home ~/.config/fernwork --label before-the-update

    Example: zinker export mosslight --part presets --for-others --to presets.zinker
    """
    setup = setup_of(ctx)
    locks = locks_for(sealed_for or []) if with_secrets or sealed_for else ()
    wanted = _Wanted(
        tuple(part or ()),
        tuple(without or ()),
        label,
        note,
        to,
        replace,
        locks,
        ansi,
        for_others,
        tuple(document or ()),
        loss_is_meant,
        preview,
        move,
        again,
    )
    places = place or ["here"]
    with _described(setup, home or [], places, subjects or [], preview) as names:
        jobs = list(_jobs(setup, names, places, wanted))
        results, code = _all(setup, jobs, wanted, json)
    if json:
        emit_json(results)
    raise typer.Exit(code)


@contextlib.contextmanager
def _described(
    setup: "Setup", homes: list[str], places: list[str], subjects: list[str], preview: bool
) -> Iterator[list[str]]:
    """Yield the subjects to be exported; homes get a subject file of their own, which stays if they are kept."""
    from zinker.jobs.describing import describe_homes

    if bool(homes) == bool(subjects):
        why = "--home is for what no subject describes" if homes else "neither a subject nor a home was named"
        raise WrongUsage("Not exported", why, "Name subjects, or homes with --home.")
    if not homes:
        yield subjects
        return
    known = describe_homes(setup, tuple(homes), places[0])
    try:
        yield [known.id]
    except BaseException:
        if known.draft is not None:
            known.draft.unlink(missing_ok=True)
        raise
    if known.draft is not None and preview:
        known.draft.unlink(missing_ok=True)
    elif known.draft is not None:
        print(f"Described as {known.id} in {known.draft}", file=sys.stderr)


def _all(
    setup: "Setup", jobs: list[tuple[str, str]], wanted: _Wanted, json: bool
) -> tuple[list[dict[str, Any]], int]:
    """Export one after the other; returns what came of them for programs, and the exit code."""
    from zinker.reports.exported import exported_blocks

    codes: set[int] = {0}
    results: list[dict[str, Any]] = []
    for name, where in jobs:
        try:
            done = _export(setup, name, where, wanted)
        except ZinkerError as error:
            if len(jobs) == 1:
                raise
            codes.add(error.exit_code)  # the others are captured all the same
            say(error)
            continue
        codes.add(0 if done.is_complete else 1)
        reference = done.version.reference if done.version else ""
        if json:
            named: dict[str, Any] = {"named": done.named} if wanted.for_others else {}
            path = str(done.path or "")
            named |= {"room": done.room} if done.room else {}
            lost = done.before.lost if done.before else ()
            told = {"lost": [part._asdict() for part in lost]} if lost else {}
            known: dict[str, Any] = {"unchanged": True} if done.is_known else {}
            results.append(
                {"reference": reference, "path": path, "profile": done.manifest, **named, **told, **known}
            )
            continue
        id = done.manifest.subject
        described = setup.catalogue.find(id) if id in setup.catalogue.files() else None
        emit(exported_blocks(done, described))
    return results, max(codes)


def _is_text(name: str) -> bool:
    return name.lower().endswith((".reg", ".dconf"))


def _is_kept(name: str) -> bool:
    from zinker.profiles.reading import is_profile

    is_folder = ("/" in name or "\\" in name) and is_profile(Path(name))
    return "@" in name or name.endswith(".zinker") or is_folder


def _jobs(setup: "Setup", names: list[str], places: list[str], wanted: _Wanted) -> Iterator[tuple[str, str]]:
    """Yield what is to be exported from where; raises `WrongUsage` for a wrong name among them."""
    from zinker.jobs.exporting import check_names

    live = [name for name in names if not _is_text(name) and not _is_kept(name)]
    check_names(setup, live, places, wanted.parts, wanted.without)
    for name in dict.fromkeys(names):
        yield from ((name, place) for place in dict.fromkeys(places if name in live else places[:1]))


def _export(setup: "Setup", name: str, place: str, wanted: _Wanted) -> "Exported":
    """Export one of what was named: a registration text file, a kept version, or a subject."""
    from zinker.jobs import export, export_text, export_version

    label, note, to, replace, locks = wanted.label, wanted.note, wanted.to, wanted.replace, wanted.locks
    option = "--for-others" if wanted.for_others else "--preview" if wanted.preview else ""
    if option and (_is_text(name) or _is_kept(name)):
        why = f"{name} is no live subject, and {option} is for one"
        raise WrongUsage("Not exported", why, "Name the subject alone, and a --place.")
    with progress_shown() as progress:
        setup.progress = progress
        if _is_text(name):
            return export_text(setup, Path(name), label, note, to, replace, locks, wanted.ansi)
        if _is_kept(name):
            return export_version(setup, name, to, replace, wanted.ansi)
        return export(
            setup,
            name,
            place,
            wanted.parts,
            wanted.without,
            label,
            note,
            to,
            replace,
            progress,
            locks,
            wanted.ansi,
            wanted.for_others,
            wanted.documents,
            wanted.is_loss_meant,
            wanted.preview,
            wanted.move,
            wanted.again,
        )

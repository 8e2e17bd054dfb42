"""`zinker export`."""

import contextlib
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zinker.cli import options
from zinker.cli.forms import Delivery
from zinker.cli.locks import locks_for
from zinker.cli.output import emit, emit_json, progress_shown, say, setup_of
from zinker.formats.endings import ENDINGS
from zinker.model.errors import WrongUsage

if TYPE_CHECKING:
    from zinker.jobs.exporting import Exported, Keeping
    from zinker.jobs.rounds import Kept, Round
    from zinker.jobs.setup import Setup

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
    every: options.All = False,
    round: options.Round = "",
    each_account: options.EachAccount = False,
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
    report: options.Report = None,
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

    Example: zinker export --round monday --label agreed

    Example: zinker export mosslight --each-account
    """
    from zinker.jobs.exporting import Keeping

    setup = setup_of(ctx)
    locks = locks_for(sealed_for or []) if with_secrets or sealed_for else ()
    wanted = Keeping(
        tuple(part or ()),
        tuple(without or ()),
        tuple(document or ()),
        label,
        note,
        to,
        replace,
        locks,
        ansi,
        for_others,
        loss_is_meant,
        preview,
        move,
        again,
    )
    delivery = Delivery({}, report) if report else None
    if bool(home) + bool(subjects) + bool(round) + every != 1:
        why = (
            "what is to be captured was named in more than one way"
            if home or subjects
            else "nothing was named"
        )
        then = "Name subjects, or homes with --home, or a --round, or --all."
        raise WrongUsage("Not exported", why, then)
    if round and place:
        raise WrongUsage("Not exported", "a round has its own places", "Leave --place out.")
    if each_account and not subjects:
        raise WrongUsage("Not exported", "--each-account is for subjects", "Name them, as in mosslight.")
    with _meant(
        setup, home or [], place or ["here"], subjects or [], wanted, round, every, each_account
    ) as what:
        code = _all(setup, what, wanted, json, delivery)
    raise typer.Exit(code)


@contextlib.contextmanager
def _meant(
    setup: "Setup",
    homes: list[str],
    places: list[str],
    subjects: list[str],
    wanted: "Keeping",
    round: str,
    every: bool,
    each_account: bool,
) -> "Iterator[Round]":
    """Yield all that is to be exported, as a round; one that has no name was not asked for as one."""
    from zinker.jobs.rounds import Round, found_at, round_named
    from zinker.jobs.rounds import each_account as of_each

    if round:
        yield round_named(setup, round, is_live=True)
    elif every:
        for one in places:
            setup.check_place(one)
        yield found_at(setup, places)
    elif each_account:
        yield of_each(setup, places, subjects)
    else:
        with _described(setup, homes, places, subjects, wanted.preview) as names:
            yield Round("", tuple(_jobs(setup, names, places, wanted)))


@contextlib.contextmanager
def _described(
    setup: "Setup", homes: list[str], places: list[str], subjects: list[str], preview: bool
) -> Iterator[list[str]]:
    """Yield the subjects to be exported; homes get a subject file of their own, which stays if they are kept."""
    if not homes:
        yield subjects
        return
    from zinker.jobs.describing import describe_homes

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


def _all(setup: "Setup", what: "Round", wanted: "Keeping", json: bool, delivery: Delivery | None) -> int:
    """Export all, places side by side, and say what came of them; returns the exit code."""
    from zinker.jobs.rounds import export_round
    from zinker.jobs.sources import subject_known
    from zinker.reports.exported import exported_blocks
    from zinker.reports.kept import kept_json, kept_report, kept_summary

    kept: list[Kept] = []
    with progress_shown() as setup.progress:
        for one in export_round(setup, what, lambda own, at, name: _export(own, name, at, wanted)):
            kept.append(one)
            if one.error is not None and len(what.members) == 1:
                raise one.error
            if one.error is not None:
                say(one.error)  # the others are captured all the same
            elif one.exported is not None and not json:
                emit(exported_blocks(one.exported, subject_known(setup, one.exported.manifest.subject)))
    if json:
        emit_json([kept_json(one, wanted.for_others) for one in kept])
    elif what.name:
        emit(kept_summary(kept))
    if delivery is not None:
        name = what.name or ", ".join(dict.fromkeys(name for _, name in what.members))
        delivery.deliver(kept_report(name, kept, lambda id: subject_known(setup, id), wanted.note))
    return max((_code(one) for one in kept), default=0)


def _code(one: "Kept") -> int:
    if one.error is not None:
        return one.error.exit_code
    return 0 if one.exported is None or one.exported.is_complete else 1


def _is_text(name: str) -> bool:
    return name.lower().endswith(ENDINGS)


def _is_kept(name: str) -> bool:
    from zinker.profiles.reading import is_profile

    is_folder = ("/" in name or "\\" in name) and is_profile(Path(name))
    return "@" in name or name.endswith(".zinker") or is_folder


def _jobs(
    setup: "Setup", names: list[str], places: list[str], wanted: "Keeping"
) -> Iterator[tuple[str, str]]:
    """Yield from where what is to be exported; raises `WrongUsage` for a wrong name among them."""
    from zinker.jobs.exporting import check_names

    live = [name for name in names if not _is_text(name) and not _is_kept(name)]
    check_names(setup, live, places, wanted.parts, wanted.without)
    for name in dict.fromkeys(names):
        yield from ((place, name) for place in dict.fromkeys(places if name in live else places[:1]))


def _export(setup: "Setup", name: str, place: str, wanted: "Keeping") -> "Exported":
    """Export one of what was named: a registration text file, a kept version, or a subject."""
    from zinker.jobs import export, export_text, export_version

    option = "--for-others" if wanted.for_others else "--preview" if wanted.preview else ""
    if option and (_is_text(name) or _is_kept(name)):
        why = f"{name} is no live subject, and {option} is for one"
        raise WrongUsage("Not exported", why, "Name the subject alone, and a --place.")
    if _is_text(name):
        return export_text(setup, Path(name), wanted)
    if _is_kept(name):
        return export_version(setup, name, wanted)
    return export(setup, name, place, wanted)

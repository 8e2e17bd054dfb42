"""Export: live settings become a new version on the shelf, or a profile file or folder."""

import contextlib
import datetime
from collections.abc import Iterable, Iterator
from pathlib import Path

import msgspec

from zinker.disk.files import nearest_path
from zinker.formats.endings import is_text
from zinker.jobs.capture.capture import capture
from zinker.jobs.capture.live import LiveSnapshot
from zinker.jobs.capture.losses import Before, held_before
from zinker.jobs.capture.selection import Selection, select
from zinker.jobs.capture.sharing import Sharing
from zinker.jobs.naming import Named, destination, way_to
from zinker.jobs.place_lock import at_place
from zinker.jobs.progress import Progress, no_progress
from zinker.jobs.references import parse_reference
from zinker.jobs.secrets.rest import check_said
from zinker.jobs.session import Session
from zinker.jobs.setup import Setup
from zinker.jobs.sources import kept
from zinker.model.errors import NoAnswer, Refused, WrongUsage, reason
from zinker.model.file_state import FileState
from zinker.model.lines import heads_in
from zinker.model.names import home_of
from zinker.model.profile import Manifest, Problem, Snapshot
from zinker.places.here import Here
from zinker.places.place import Place, Process
from zinker.profiles.layout import SUFFIX
from zinker.profiles.reading import open_profile
from zinker.profiles.sealing import Lock
from zinker.profiles.writing import ProfileBuilder, carry, profile_file, profile_folder
from zinker.shelf.shelf import Kept, Version, check_name
from zinker.shelf.storage import FolderStorage
from zinker.subjects.subject import Subject

_WHYS = 3  # reasons that are told


class Room(msgspec.Struct, frozen=True):
    """About how many bytes a profile would take, unpacked, and how many are free there; None for no end."""

    size: int
    free: int | None
    where: str


class _Alike(Exception):
    """Nothing has changed since a version was kept."""

    def __init__(self, manifest: Manifest, version: Version) -> None:
        super().__init__()
        self.manifest, self.version = manifest, version


class Exported(msgspec.Struct, frozen=True):
    """What an export made: a version on the shelf, or a path; nothing where it was a preview, which has `room`."""

    manifest: Manifest
    running: tuple[Process, ...] = ()
    version: Version | None = None
    path: Path | None = None
    # What in a profile for strangers still seems to name a person or a host.
    named: tuple[Problem, ...] = ()
    # The last version of the same place, and what of it was lost.
    before: Before | None = None
    room: Room | None = None
    # Nothing has changed since that version was kept; no other one was kept of the same.
    is_known: bool = False

    @property
    def is_complete(self) -> bool:
        """Whether everything there was captured, and is not what a loss has left."""
        is_loss = self.before is not None and bool(self.before.lost)
        return not is_loss and all(problem.carried for problem in self.manifest.problems)


def export(
    setup: Setup,
    subject: str,
    place: str = "here",
    parts: tuple[str, ...] = (),
    without: tuple[str, ...] = (),
    label: str = "",
    note: str = "",
    to: Path | None = None,
    replace: bool = False,
    progress: Progress = no_progress,
    locks: tuple[Lock, ...] = (),
    ansi: bool = False,
    for_others: bool = False,
    documents: tuple[str, ...] = (),
    is_loss_meant: bool = False,
    preview: bool = False,
    move: bool = False,
    again: bool = False,
) -> Exported:
    """Capture a subject at a place; on the shelf, or at `to`, see `destination`; with `preview`, nowhere.

    Where nothing has changed since the newest version of the place, that one gets label and note, and the day on
    which that was found; another one of the same is kept only `again`. With `move`, a label is taken from the
    version that has it. Where most of what the last version of the place had is gone, this one is not the latest,
    unless that is meant.

    `documents` are names or patterns of those that are meant; a profile of some says that it is not whole.

    A path that ends in `.reg` becomes a registration text file, of the older generation with `ansi`.

    Secrets are withheld, or sealed in so that each of `locks` opens them. One `for_others` is fit for strangers:
    it does not say where it is from, folders are variables in it, and what is bound to a device or changes by
    itself is left out.

    Raises `WrongUsage` for names that do not exist, and `Refused` where there is nothing to capture, where
    the place does not answer, or where the profile cannot be written; nothing is left behind then.
    """
    name, _, instance = subject.partition("/")
    described = setup.catalogue.find(name)
    selection = select(described, parts, without, instance, documents)
    check_said(label, note)
    if for_others:
        selection = _for_others(selection, parts, to, note)
    if label:
        _check_label(setup, name, label, place, move)
    with answering(setup, name, place), at_place(setup, place) as live:
        running = tuple(live.running(described.application.processes))
        session = Session(setup, live, described)
        sharing = Sharing(live, setup.reader) if for_others else None

        before: Before | None = None

        def build(builder: ProfileBuilder) -> Manifest:
            nonlocal before
            manifest = capture(session, selection, builder, progress, locks, sharing=sharing)
            selection.check(session.known(), f"{name} at {live.told}")
            if not any(part.documents for part in manifest.parts):
                raise _nothing(described, selection, manifest, live, place)
            if not for_others:
                before = held_before(setup, selection, manifest, builder)
            lost = before.version.number if before and before.lost and not is_loss_meant else 0
            partial = bool(documents)
            manifest = msgspec.structs.replace(manifest, partial=partial, lost=lost)
            if to is None and not (preview or again or locks):
                known = setup.shelf.twin(manifest, label, note)
                if known is not None:
                    raise _Alike(manifest, known)
            manifest = msgspec.structs.replace(manifest, label=label, note=note)
            builder.finish(manifest)
            return manifest

        if preview:
            with contextlib.closing(ProfileBuilder()) as builder:
                manifest = build(builder)
                room = _room(builder, next(filter(Path.is_dir, to.parents), to.parent) if to else None, setup)
            return Exported(manifest, running, before=None if is_loss_meant else before, room=room)
        if to is None:
            try:
                kept = setup.shelf.keep(name, build, place, move)
            except _Alike as alike:
                seen = alike.manifest.captured
                known = setup.shelf.say(alike.version, label or None, note or None, seen, move)
                kept, is_known = Kept(known, alike.manifest), True
            else:
                is_known = False
            told = None if is_loss_meant else before
            return Exported(kept.manifest, running, kept.version, before=told, is_known=is_known)
        account = place.partition("/")[2] or live.user
        about = Named(name, session.version, place, account, instance, ", ".join(parts), label)
        path = destination(to, Named(name, session.version, part=about.part) if for_others else about)
        if is_text(path):
            with way_to(to, path), contextlib.closing(LiveSnapshot(session, selection)) as snapshot:
                selection.check(session.known(), f"{name} at {live.told}")
                return _as_text(snapshot, path, replace, ansi, running)
        with way_to(to, path), _written_to(path, replace) as builder:
            manifest = build(builder)
            builder.close()
        named = tuple(sharing.named) if sharing else ()
        return Exported(manifest, running, path=path, named=named, before=None if is_loss_meant else before)


def _check_label(setup: Setup, subject: str, label: str, place: str, move: bool) -> None:
    """Raise where a label cannot be given; that of the newest version of the place may be given once more."""
    check_name(label)
    home = home_of(place, Here().machine)
    taken = setup.shelf.labelled(subject, label, home)
    newest = setup.shelf.newest(subject, lambda version: version.is_asked_for and version.home == home)
    if not move and (taken is None or newest is None or taken.number != newest.number):
        setup.shelf.check_label(subject, label, home)


@contextlib.contextmanager
def answering(setup: Setup, subject: str, place: str) -> Iterator[None]:
    """Say of a place that does not answer how old its newest version is: it gets older every night."""
    try:
        yield
    except NoAnswer as error:
        newest = setup.shelf.newest(subject, lambda version: version.place == place)
        if newest is None:
            raise
        then = datetime.datetime.fromisoformat(newest.known)
        days = (datetime.datetime.now().astimezone() - then).days
        known = f"{days:,} days ago" if days > 1 else "a day ago" if days else "today"
        stale = (
            f"The newest version from {place} is {newest.reference}, last right {known}; nothing is kept now."
        )
        raise NoAnswer(error.what, error.why, f"{error.then}\n{stale}".strip()) from None


def _nothing(subject: Subject, selection: Selection, manifest: Manifest, live: Place, place: str) -> Refused:
    """Say why there is nothing that could be kept: it is not there, or none of it could be read."""
    whys = list(dict.fromkeys(problem.why for problem in manifest.problems))
    more = f", and {len(whys) - _WHYS} more reasons" if len(whys) > _WHYS else ""
    meant = ", ".join(part.id for part in selection.parts)
    nothing = f"nothing of {subject.title} ({meant}) is at {live.told}"
    why = "; ".join(whys[:_WHYS]) + more if whys else nothing
    return Refused(
        "Not exported", why, f"`zinker subjects show {subject.id} --place {place}` shows its homes."
    )


def _room(builder: ProfileBuilder, where: Path | None, setup: Setup) -> Room:
    """Return how much would be written where, with files once each, and how much room there is.

    `where` is None for the shelf.
    """
    sizes: dict[str, int] = {}
    for part in builder.parts:
        for piece in builder.pieces(part.id):
            states = (FileState.of(head) for head in heads_in(piece))
            sizes |= {state.sha256: state.size for state in states if state.sha256}
    size = sum(part.size for part in builder.parts) + sum(sizes.values())
    if where is None:
        return Room(size, setup.shelf.storage.free(), setup.shelf.storage.told)
    return Room(size, FolderStorage(where).free(), str(where))


def check_names(
    setup: Setup,
    subjects: Iterable[str],
    places: Iterable[str],
    parts: tuple[str, ...] = (),
    without: tuple[str, ...] = (),
) -> None:
    """Raise `WrongUsage` for a name in what is to be captured that does not exist, before anything is."""
    for name in subjects:
        select(setup.catalogue.find(name.partition("/")[0]), parts, without)
    for place in places:
        setup.check_place(place)


def _for_others(selection: Selection, named: tuple[str, ...], to: Path | None, note: str) -> Selection:
    """Return what of a selection others can use: nothing that is bound to a device, unless it was named."""
    if to is None or is_text(to):
        why = "a profile for others is handed on, as a file or a folder"
        raise WrongUsage("Not exported", why, "Say where with --to FILE.zinker, or --to FOLDER.")
    if note:
        raise WrongUsage("Not exported", "a profile for others has no note", "Leave --note out.")
    fit = tuple(part for part in selection.parts if not part.device_bound or part.id in named)
    return msgspec.structs.replace(selection, parts=fit)


def _as_text(
    snapshot: Snapshot, path: Path, replace: bool, ansi: bool, running: tuple[Process, ...] = ()
) -> Exported:
    """Write the registry parts of settings as a registration text file."""
    from zinker.jobs.texts import write_text  # any other export starts without it

    _check_free(path, replace)
    try:
        left = write_text(snapshot, path, ansi)
    except OSError as error:
        raise _unwritable(path, error) from None
    manifest = snapshot.manifest
    problems = (*manifest.problems, *left)
    return Exported(msgspec.structs.replace(manifest, problems=problems), running, path=path)


def export_text(
    setup: Setup,
    source: Path,
    label: str = "",
    note: str = "",
    to: Path | None = None,
    replace: bool = False,
    locks: tuple[Lock, ...] = (),
    ansi: bool = False,
) -> Exported:
    """Make a profile of a registration text file: on the shelf, or at `to`.

    Raises `WrongUsage` where there is no such file, `Damaged` for another kind of file, and `Refused` where the
    profile cannot be written.
    """
    from zinker.jobs.texts import TextProfile

    check_said(label, note)
    named = Named(source.stem, place="text", label=label)
    if to is not None and is_text(path := destination(to, named)):
        with way_to(to, path), contextlib.closing(TextProfile(setup, source)) as text:
            return _as_text(text, path, replace, ansi)
    with contextlib.closing(TextProfile(setup, source, locks)) as text:
        manifest = msgspec.structs.replace(text.manifest, label=label, note=note)

        def build(builder: ProfileBuilder) -> Manifest:
            text.put(builder.target, manifest)
            return manifest

        if to is not None:
            with way_to(to, path), _written_to(path, replace) as builder:
                build(builder)
            return Exported(manifest, path=path)
        if label:
            home = home_of(manifest.place, manifest.machine)
            setup.shelf.check_label(manifest.subject, label, home)
        known = None if locks else setup.shelf.twin(text.manifest, label, note)
        if known is not None:
            known = setup.shelf.say(known, label or None, note or None, manifest.captured)
            return Exported(manifest, version=known, is_known=True)
        kept = setup.shelf.keep(manifest.subject, build, manifest.place)
        return Exported(manifest, version=kept.version)


def export_version(
    setup: Setup,
    reference: str,
    to: Path | None,
    replace: bool = False,
    ansi: bool = False,
) -> Exported:
    """Copy a kept version out of the shelf as a profile file or folder, or write it as a text file.

    A profile outside the shelf is written anew, as a file or a folder.

    Raises `WrongUsage`, `Refused`, `Damaged`.
    """
    if to is None:
        why = f"{reference} is kept already; --to says where a copy of it is to go"
        raise WrongUsage("Not exported", why, "Add --to.")
    wanted = parse_reference(reference)
    if is_text(to):
        with kept(setup, wanted) as source:
            path = destination(to, Named.of(source.manifest))
            with way_to(to, path):
                return _as_text(source.snapshot, path, replace, ansi)
    if wanted.path is not None:
        return _rewritten(wanted.path, to, replace)
    version = setup.shelf.find(wanted.subject, wanted.version, wanted.place)
    profile = setup.shelf.open(version)
    with contextlib.closing(profile):
        profile.verify()  # nothing damaged is handed on
    about = profile.manifest
    path = destination(to, Named.of(about))
    with way_to(to, path):
        _check_free(path, replace)
        try:
            setup.shelf.copy_out(version, path)
        except OSError as error:
            raise _unwritable(path, error) from None
    return Exported(profile.manifest, path=path)


def _rewritten(source: Path, to: Path, replace: bool) -> Exported:
    path = destination(to, Named(source.stem))
    if path.absolute() == source.absolute():
        why = f"{source} would be written over while it is read"
        raise WrongUsage("Not exported", why, "Name another path with --to.")
    reading, writing = contextlib.closing(open_profile(source)), _written_to(path, replace)
    with way_to(to, path), reading as profile, writing as builder:
        carry(profile, builder.target)
    return Exported(profile.manifest, path=path)


@contextlib.contextmanager
def _written_to(path: Path, replace: bool) -> Iterator[ProfileBuilder]:
    """Build a profile at a path; raises `Refused` where it cannot be written, and leaves nothing behind."""
    _check_free(path, replace)
    try:
        with profile_file(path) if path.suffix == SUFFIX else profile_folder(path) as builder:
            yield builder
    except OSError as error:
        raise _unwritable(path, error) from None


def _check_free(path: Path, replace: bool) -> None:
    if path.exists() and not replace and not (path.is_dir() and not any(path.iterdir())):
        then = "Add --replace to write it anew, or choose another name."
        raise Refused("Not exported", f"{path} is there already", then)
    if not path.parent.is_dir():
        then = nearest_path(path.parent) + "Make it first."
        raise WrongUsage("Not exported", f"the folder {path.parent} does not exist", then)


def _unwritable(path: Path, error: OSError) -> Refused:
    then = "Nothing was left behind. Make room or choose another place for it."
    return Refused("Not exported", f"{path} cannot be written: {reason(error)}", then)

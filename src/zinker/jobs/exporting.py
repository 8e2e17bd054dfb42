"""Export: live settings become a new version on the shelf, or a profile file or folder."""

import contextlib
import datetime
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from zinker.disk.files import nearest_path
from zinker.formats.endings import is_text
from zinker.jobs.capture.capture import capture
from zinker.jobs.capture.live import LiveSnapshot
from zinker.jobs.capture.losses import Before, held_before
from zinker.jobs.capture.selection import Selection, select
from zinker.jobs.naming import Named, destination, way_to
from zinker.jobs.place_lock import at_place
from zinker.jobs.references import parse_reference
from zinker.jobs.secrets.rest import check_said
from zinker.jobs.session import Session
from zinker.jobs.setup import Setup
from zinker.jobs.sources import kept
from zinker.model.errors import NoAnswer, Refused, WrongUsage, reason, remedy
from zinker.model.file_state import FileState
from zinker.model.lines import heads_in
from zinker.model.names import home_of
from zinker.model.profile import Manifest, Problem, Snapshot
from zinker.places.here import Here
from zinker.places.place import Process
from zinker.profiles.layout import SUFFIX
from zinker.profiles.reading import open_profile
from zinker.profiles.sealing import Lock
from zinker.profiles.writing import ProfileBuilder, carry, profile_file, profile_folder
from zinker.shelf.shelf import Version, check_name
from zinker.shelf.storage import FolderStorage

if TYPE_CHECKING:
    from zinker.jobs.capture.sharing import Sharing

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


class Keeping(msgspec.Struct, frozen=True):
    """What of a subject is captured, and how it is kept: all of it, on the shelf, without its secrets.

    `documents` are names or patterns of those that are meant; a profile of some says that it is not whole. It goes
    `to` a path, see `destination`, instead of the shelf: one that ends in `.reg` becomes a registration text file,
    of the older generation with `ansi`. With `preview`, it goes nowhere.

    Secrets are sealed in so that each of `locks` opens them. A profile `for_others` is fit for strangers: it does
    not say where it is from, folders are variables in it, and what is bound to a device or changes by itself is
    left out.

    With `move`, a label is taken from the version that has it. Where nothing has changed since the newest version
    of the place, that one gets label and note, and the day on which that was found; another one of the same is kept
    only `again`. Where most of what the last version of the place had is gone, this one is not the latest, unless
    that `is_loss_meant`.
    """

    parts: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    documents: tuple[str, ...] = ()
    label: str = ""
    note: str = ""
    to: Path | None = None
    replace: bool = False
    locks: tuple[Lock, ...] = ()
    ansi: bool = False
    for_others: bool = False
    is_loss_meant: bool = False
    preview: bool = False
    move: bool = False
    again: bool = False


def export(setup: Setup, subject: str, place: str = "here", how: Keeping | None = None) -> Exported:
    """Capture a subject at a place; secrets are withheld unless they are to be sealed in.

    Raises `WrongUsage` for names that do not exist, and `Refused` where there is nothing to capture, where
    the place does not answer, or where the profile cannot be written; nothing is left behind then.
    """
    how = how or Keeping()
    name, _, instance = subject.partition("/")
    described = setup.catalogue.find(name)
    selection = select(described, how.parts, how.without, instance, how.documents)
    check_said(how.label, how.note)
    if how.for_others:
        selection = _for_others(selection, how)
    if how.label:
        _check_label(setup, name, place, how)
    with answering(setup, name, place), at_place(setup, place) as live:
        one = _Export(Session(setup, live, described), selection, place, how)
        if how.preview:
            return one.previewed()
        return one.kept() if how.to is None else one.written(how.to, instance)


class _Export:
    """One export of live settings."""

    def __init__(self, session: Session, selection: Selection, place: str, how: Keeping) -> None:
        self._session, self._selection, self._place, self._how = session, selection, place, how
        self._running = tuple(session.place.running(session.subject.application.processes))
        self._sharing = self._made_fit() if how.for_others else None
        self._before: Before | None = None

    def _made_fit(self) -> "Sharing":
        from zinker.jobs.capture.sharing import Sharing

        return Sharing(self._session.place, self._session.setup.reader)

    def previewed(self) -> Exported:
        """Capture everything, keep nothing, and say what room it would take."""
        to = self._how.to
        with contextlib.closing(ProfileBuilder()) as builder:
            manifest = self._build(builder)
            where = next(filter(Path.is_dir, to.parents), to.parent) if to else None
            room = _room(builder, where, self._session.setup)
        return self._exported(manifest, room=room)

    def kept(self) -> Exported:
        """Keep a version on the shelf, or note that nothing has changed since the newest one."""
        shelf, how = self._session.setup.shelf, self._how
        try:
            kept = shelf.keep(self._session.subject.id, self._build, self._place, how.move)
        except _Alike as alike:
            said = (how.label or None, how.note or None, alike.manifest.captured, how.move)
            known = shelf.say(alike.version, *said)
            return self._exported(alike.manifest, version=known, is_known=True)
        return self._exported(kept.manifest, version=kept.version)

    def written(self, to: Path, instance: str) -> Exported:
        """Write a profile, or the text of a registry, to a path."""
        session, how = self._session, self._how
        name, live = session.subject.id, session.place
        named = Named(name, session.version, part=", ".join(how.parts))
        if not how.for_others:
            account = self._place.partition("/")[2] or live.user
            named = Named(
                name, session.version, self._place, account, instance, ", ".join(how.parts), how.label
            )
        path = destination(to, named)
        if is_text(path):
            with way_to(to, path), contextlib.closing(LiveSnapshot(session, self._selection)) as snapshot:
                self._check_known()
                return _as_text(snapshot, path, how, self._running)
        with way_to(to, path), _written_to(path, how.replace) as builder:
            manifest = self._build(builder)
            builder.close()
        return self._exported(manifest, path=path, named=tuple(self._sharing.named) if self._sharing else ())

    def _build(self, builder: ProfileBuilder) -> Manifest:
        session, selection, how = self._session, self._selection, self._how
        manifest = capture(session, selection, builder, how.locks, sharing=self._sharing)
        self._check_known()
        if not any(part.documents for part in manifest.parts):
            raise _nothing(session, selection, manifest, self._place)
        if not how.for_others:
            self._before = held_before(session.setup, selection, manifest, builder)
        before = self._before
        lost = before.version.number if before and before.lost and not how.is_loss_meant else 0
        manifest = msgspec.structs.replace(manifest, partial=bool(how.documents), lost=lost)
        if how.to is None and not (how.preview or how.again or how.locks):
            known = session.setup.shelf.twin(manifest, how.label, how.note)
            if known is not None:
                raise _Alike(manifest, known)
        manifest = msgspec.structs.replace(manifest, label=how.label, note=how.note)
        builder.finish(manifest)
        return manifest

    def _check_known(self) -> None:
        session = self._session
        self._selection.check(session.known(), f"{session.subject.id} at {session.place.told}")

    def _exported(
        self,
        manifest: Manifest,
        version: Version | None = None,
        path: Path | None = None,
        named: tuple[Problem, ...] = (),
        room: Room | None = None,
        is_known: bool = False,
    ) -> Exported:
        before = None if self._how.is_loss_meant else self._before
        return Exported(manifest, self._running, version, path, named, before, room, is_known)


def _check_label(setup: Setup, subject: str, place: str, how: Keeping) -> None:
    """Raise where a label cannot be given; that of the newest version of the place may be given once more."""
    check_name(how.label)
    home = home_of(place, Here().machine)
    taken = setup.shelf.labelled(subject, how.label, home)
    newest = setup.shelf.newest(subject, lambda version: version.is_asked_for and version.home == home)
    if not how.move and (taken is None or newest is None or taken.number != newest.number):
        setup.shelf.check_label(subject, how.label, home)


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


def _nothing(session: Session, selection: Selection, manifest: Manifest, place: str) -> Refused:
    """Say why there is nothing that could be kept: it is not there, or none of it could be read."""
    whys = list(dict.fromkeys(problem.why for problem in manifest.problems))
    more = f", and {len(whys) - _WHYS} more reasons" if len(whys) > _WHYS else ""
    meant = ", ".join(part.id for part in selection.parts)
    subject = session.subject
    nothing = f"nothing of {subject.title} ({meant}) is at {session.place.told}"
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


def _for_others(selection: Selection, how: Keeping) -> Selection:
    """Return what of a selection others can use: nothing that is bound to a device, unless it was named."""
    if how.to is None or is_text(how.to):
        why = "a profile for others is handed on, as a file or a folder"
        raise WrongUsage("Not exported", why, "Say where with --to FILE.zinker, or --to FOLDER.")
    if how.note:
        raise WrongUsage("Not exported", "a profile for others has no note", "Leave --note out.")
    fit = tuple(part for part in selection.parts if not part.device_bound or part.id in how.parts)
    return msgspec.structs.replace(selection, parts=fit)


def _as_text(snapshot: Snapshot, path: Path, how: Keeping, running: tuple[Process, ...] = ()) -> Exported:
    """Write the registry parts of settings as a registration text file."""
    from zinker.jobs.texts import write_text  # any other export starts without it

    _check_free(path, how.replace)
    try:
        left = write_text(snapshot, path, how.ansi)
    except OSError as error:
        raise _unwritable(path, error) from None
    manifest = snapshot.manifest
    problems = (*manifest.problems, *left)
    return Exported(msgspec.structs.replace(manifest, problems=problems), running, path=path)


def export_text(setup: Setup, source: Path, how: Keeping | None = None) -> Exported:
    """Make a profile of a registration text file: on the shelf, or at a path.

    Raises `WrongUsage` where there is no such file, `Damaged` for another kind of file, and `Refused` where the
    profile cannot be written.
    """
    from zinker.jobs.texts import TextProfile

    how = how or Keeping()
    to, label = how.to, how.label
    check_said(label, how.note)
    named = Named(source.stem, place="text", label=label)
    if to is not None and is_text(path := destination(to, named)):
        with way_to(to, path), contextlib.closing(TextProfile(setup, source)) as text:
            return _as_text(text, path, how)
    with contextlib.closing(TextProfile(setup, source, how.locks)) as text:
        manifest = msgspec.structs.replace(text.manifest, label=label, note=how.note)

        def build(builder: ProfileBuilder) -> Manifest:
            text.put(builder.target, manifest)
            return manifest

        if to is not None:
            with way_to(to, path), _written_to(path, how.replace) as builder:
                build(builder)
            return Exported(manifest, path=path)
        if label:
            home = home_of(manifest.place, manifest.machine)
            setup.shelf.check_label(manifest.subject, label, home)
        known = None if how.locks else setup.shelf.twin(text.manifest, label, how.note)
        if known is not None:
            known = setup.shelf.say(known, label or None, how.note or None, manifest.captured)
            return Exported(manifest, version=known, is_known=True)
        kept = setup.shelf.keep(manifest.subject, build, manifest.place)
        return Exported(manifest, version=kept.version)


def export_version(setup: Setup, reference: str, how: Keeping) -> Exported:
    """Copy a kept version out of the shelf as a profile file or folder, or write it as a text file.

    A profile outside the shelf is written anew, as a file or a folder.

    Raises `WrongUsage`, `Refused`, `Damaged`.
    """
    to = how.to
    if to is None:
        why = f"{reference} is kept already; --to says where a copy of it is to go"
        raise WrongUsage("Not exported", why, "Add --to.")
    wanted = parse_reference(reference)
    if is_text(to):
        with kept(setup, wanted) as source:
            path = destination(to, Named.of(source.manifest))
            with way_to(to, path):
                return _as_text(source.snapshot, path, how)
    if wanted.path is not None:
        return _rewritten(wanted.path, to, how.replace)
    version = setup.shelf.find(wanted.subject, wanted.version, wanted.place)
    profile = setup.shelf.open(version)
    with contextlib.closing(profile):
        profile.verify()  # nothing damaged is handed on
    about = profile.manifest
    path = destination(to, Named.of(about))
    with way_to(to, path):
        _check_free(path, how.replace)
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
    then = f"Nothing was left behind. {remedy(error)}, or choose another place for it."
    return Refused("Not exported", f"{path} cannot be written: {reason(error)}", then)

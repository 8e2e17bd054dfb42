"""Spot: which settings a change made in the application itself touches, found by watching twice."""

import contextlib
from collections.abc import Callable, Iterable, Iterator
from itertools import groupby
from pathlib import Path
from posixpath import commonpath
from typing import NamedTuple

import msgspec

from zinker.jobs.capture.live import LiveSnapshot
from zinker.jobs.capture.selection import select
from zinker.jobs.describing import check_name, draft_part, write_draft
from zinker.jobs.scouting import marked
from zinker.jobs.secrets.rest import check_said
from zinker.jobs.session import Session
from zinker.jobs.setup import Setup
from zinker.model.address import matches
from zinker.model.difference import Difference, differences, paired_by_case
from zinker.model.errors import Refused, WrongUsage
from zinker.model.file_state import FileState
from zinker.model.names import home_of, place_told
from zinker.model.profile import Manifest, Problem, Snapshot
from zinker.model.setting import DOCUMENT, GONE, WHOLE, WITHHELD, Leaf
from zinker.places.given import path_at
from zinker.places.place import Place
from zinker.profiles.writing import ProfileBuilder
from zinker.shelf.shelf import Version
from zinker.stores.home import StoreError
from zinker.stores.kinds import traits_of
from zinker.subjects.draft import DraftPart
from zinker.subjects.subject import Part, Subject, paths_of

# The subject of a place that no subject file describes yet.
UNNAMED = "spotted"
# The part that the settings of a desktop's database are in, where its file is among what is watched.
_DESKTOP = "desktop"
# What is told of a home of which the first path alone is drafted.
_WILD = "/**"


class Spotted(msgspec.Struct, frozen=True):
    """What was seen: the settings that the change touched, and those that change on their own.

    `uncertain` names what could not be read; `version` is where it was kept, `draft` the subject file.
    """

    subject: Subject
    place: str
    touched: tuple[Difference, ...]
    noise: tuple[Difference, ...]
    uncertain: tuple[Problem, ...] = ()
    version: Version | None = None
    draft: Path | None = None
    # Files that went are not in the profile: it has what is to be written.
    not_kept: tuple[str, ...] = ()
    is_running: bool = False


class Watching(NamedTuple):
    """How a change is watched: where, and in which parts of a subject; and what becomes of what was seen.

    During `first`, everything is done but the change; during `second`, the change. With `keep` or a `label`, the
    touched settings go to the shelf as a profile of just those; `draft` names a subject that a draft is written of,
    `to` the file or folder for it.
    """

    first: Callable[[], None] = lambda: None
    second: Callable[[], None] = lambda: None
    place: str = "here"
    parts: tuple[str, ...] = ()
    keep: bool = False
    label: str = ""
    note: str = ""
    draft: str = ""
    to: Path | None = None


def spot(setup: Setup, subject: str, how: Watching, homes: tuple[str, ...] = ()) -> Spotted:
    """Watch a subject, or homes that no subject describes yet, while something is changed in the application.

    Raises `WrongUsage` and `Refused`.
    """
    where = setup.place(how.place)
    watched = _subject(setup, subject, homes, where, how.draft)
    if how.draft:
        check_name(how.draft)
    check_said(how.label, how.note)
    if how.label:
        setup.shelf.check_label(watched.id, how.label, home_of(how.place, where.machine))
    selection = select(watched, how.parts, (), subject.partition("/")[2])
    with contextlib.ExitStack() as stack:
        session = Session(setup, where, watched)

        def look() -> LiveSnapshot:
            return stack.enter_context(contextlib.closing(LiveSnapshot(session, selection)))

        before = look()
        how.first()
        between = look()
        how.second()
        after = look()
        if not any(part.documents for side in (before, after) for part in side.manifest.parts):
            then = f"`zinker subjects show {watched.id} --place {how.place}` shows its homes."
            why = f"nothing of {watched.title} is at {place_told(how.place)}"
            raise Refused("Nothing spotted", why, then)
        spotted = _seen(session, how.place, before, between, after)
        if spotted.touched and (how.keep or how.label):
            version, not_kept = _keep(session, after, spotted.touched, how.label, how.note)
            spotted = msgspec.structs.replace(spotted, version=version, not_kept=not_kept)
    if spotted.touched and how.draft:
        parts = [marked(setup, where, one) for one in _drafted(watched, where, spotted)]
        spotted = msgspec.structs.replace(spotted, draft=write_draft(setup, how.draft, parts, how.to))
    return spotted


def _seen(session: Session, place: str, before: Snapshot, between: Snapshot, after: Snapshot) -> Spotted:
    """Tell what the change touched from what changes without it."""
    watched = session.subject
    noise = tuple(_differences(watched, before, between))
    is_noise = _Noise(noise, watched)
    touched = tuple(one for one in _differences(watched, between, after) if not is_noise(one))
    uncertain = tuple(problem for problem in after.manifest.problems if problem.is_unknown)
    is_running = bool(session.place.running(watched.application.processes))
    return Spotted(watched, place, touched, noise, uncertain, is_running=is_running)


def _subject(setup: Setup, subject: str, homes: tuple[str, ...], place: Place, draft: str) -> Subject:
    if subject and not homes:
        return setup.catalogue.find(subject.partition("/")[0])
    if not homes:
        why = "neither a subject nor a home says what to watch"
        raise WrongUsage("Nothing spotted", why, "Name a subject, or a file, folder or key with --home.")
    if subject:
        why = f"{subject} is described already, and --home is for what is not"
        raise WrongUsage("Nothing spotted", why, "Leave one of them out.")
    given = [draft_part(place, home, number) for number, home in enumerate(homes, 1)]
    parts: list[Part] = []
    for part in given:
        names = [other.id for other in parts]
        id = part.id if part.id not in names else f"{part.id}-{len(names) + 1}"
        # Inside a folder, every file is looked at for what it is.
        parts.append(Part(id=id, store=part.store, path=part.path))  # type: ignore[arg-type]
    if _holds_database(place, homes):
        parts.append(Part(id=_DESKTOP, title="Desktop settings", store="desktop-db", path="/"))
    return Subject(format=1, id=draft or UNNAMED, title=" ".join(homes), part=tuple(parts))


def _holds_database(place: Place, homes: tuple[str, ...]) -> bool:
    """Tell whether the file of the desktop's settings database is in one of some homes, and can be read as such."""
    config = place.folder("config")
    file = config / "dconf" / "user" if config is not None else None
    paths = [path_at(home, place).absolute() for home in homes]
    if file is None or not file.exists() or not any(path in (file, *file.parents) for path in paths):
        return False
    try:
        return place.desktop_db() is not None
    except StoreError:
        return False


def _is_database(subject: Subject, found: Difference) -> bool:
    """Whether a difference is only that of a file whose settings are watched one by one."""
    is_there = subject.find_part(_DESKTOP) is not None and not found.address
    return is_there and (found.document in ("user", "dconf/user") or found.document.endswith("/dconf/user"))


def _differences(subject: Subject, before: Snapshot, after: Snapshot) -> Iterator[Difference]:
    for part in subject.part:
        found: Iterable[Difference] = differences(part.id, before.pieces(part.id), after.pieces(part.id))
        if traits_of(part.store).folds_case:
            found = paired_by_case(found)
        for difference in found:
            leaf = difference.after or difference.before
            if _is_database(subject, difference):
                continue
            if difference.address or (leaf is not None and leaf.type == WHOLE):
                yield difference


class _Noise:
    """Tells what changes on its own: what did in the first watch, and what grows or shrinks beside such."""

    def __init__(self, noise: tuple[Difference, ...], subject: Subject) -> None:
        self._at = {(d.part, d.document, d.address) for d in noise}
        self._growing = {(d.part, d.document, _above(d.address)) for d in noise if d.word != "changed"}
        self._volatile = {part.id: part.volatile for part in subject.part}

    def __call__(self, found: Difference) -> bool:
        if (found.part, found.document, found.address) in self._at:
            return True
        if any(matches(pattern, found.address) for pattern in self._volatile[found.part]):
            return True
        is_growing = (found.part, found.document, _above(found.address)) in self._growing
        return is_growing and bool(found.address) and found.word != "changed"


def _above(address: str) -> str:
    return address.rpartition("/")[0]


def _keep(
    session: Session,
    after: LiveSnapshot,
    touched: tuple[Difference, ...],
    label: str,
    note: str,
) -> tuple[Version, tuple[str, ...]]:
    """Put the touched settings on the shelf, as they are now."""
    not_kept: list[str] = []

    def build(builder: ProfileBuilder) -> Manifest:
        del not_kept[:]
        for part in session.subject.part:
            own = sorted((d for d in touched if d.part == part.id), key=lambda d: (d.document, d.address))
            if not own:
                continue
            with builder.part(part.id, part.name, part.store, part.device_bound):
                for document, group in groupby(own, key=lambda d: d.document):
                    _add(builder, session, part, document, list(group), after, not_kept)
        manifest = msgspec.structs.replace(
            after.manifest,
            parts=tuple(builder.parts),
            partial=True,
            label=label,
            note=note or "what one change touched",
            problems=(),
            sealed=(),
            withheld=sum(d.after is not None and d.after.type == WITHHELD for d in touched),
        )
        builder.finish(manifest)
        return manifest

    kept = session.setup.shelf.keep(session.subject.id, build, session.place.name)
    return kept.version, tuple(not_kept)


def _add(
    builder: ProfileBuilder,
    session: Session,
    part: Part,
    document: str,
    found: list[Difference],
    after: LiveSnapshot,
    not_kept: list[str],
) -> None:
    """Add one document with just its touched settings; a whole file comes with its content."""
    whole = next((d for d in found if not d.address), None)
    if whole is None:
        leaves = {d.address: d.after or Leaf(GONE, None) for d in found}
        builder.add(FileState(_format(session, part, document, after)).head(document), leaves, None)
        return
    file = None
    if whole.after is not None and session.home(part).traits.has_files:
        reading = session.read(part, document)
        file = reading.file
    if file is None or not file.identity or file.is_secret:
        not_kept.append(f"{part.name}, {document}")
        return
    builder.add(msgspec.structs.replace(file, format=WHOLE).head(document), {}, reading.content)


def _format(session: Session, part: Part, document: str, after: LiveSnapshot) -> str:
    """Return the format in which a document was read; for one that has gone, the one that it would have."""
    heads = (setting for setting in after.settings(part.id) if setting.is_head)
    found = next((h for h in heads if h.document == document and h.type == DOCUMENT), None)
    return FileState.of(found).format if found else session.home(part).format_of(document) or WHOLE


def _drafted(subject: Subject, place: Place, spotted: Spotted) -> Iterator[DraftPart]:
    """Yield a part for every home that was touched, with what was seen to be volatile there."""
    for part in subject.part:
        own = [d for d in spotted.touched if d.part == part.id]
        if part.id == _DESKTOP and own:
            yield _drafted_subtree(own)
            continue
        documents = dict.fromkeys(d.document for d in own)
        path = paths_of(part.path)[0]
        for number, document in enumerate(documents):
            noise = {d.address for d in spotted.noise if (d.part, d.document) == (part.id, document)}
            titles = tuple(d.address for d in own if d.document == document and d.address)
            is_below = path.endswith(_WILD) and traits_of(part.store).has_files
            yield DraftPart(
                part.id if number == 0 else Path(document).stem.lower(),
                path.removesuffix(_WILD) + f"/{document}" if is_below else path,
                part.format,
                part.store,
                tuple(sorted(address for address in noise if address)),
                titles,
                is_seen=True,
            )
            if not is_below:
                break


def _drafted_subtree(touched: list[Difference]) -> DraftPart:
    """Return a part for the narrowest subtree of a settings database that holds all that was touched."""
    above = commonpath([d.address.rpartition("/")[0] or "/" for d in touched])
    path = f"{above.rstrip('/')}/"
    titles = tuple(d.address[len(path) - 1 :] for d in touched)
    return DraftPart(path.strip("/").rpartition("/")[2] or _DESKTOP, path, "", "desktop-db", titles=titles)

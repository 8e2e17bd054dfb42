"""Looking, without changing anything: kept versions, settings, subjects and their homes, places."""

import datetime
from collections.abc import Iterable, Iterator

import msgspec

from zinker.jobs.capture.capture import Progress
from zinker.jobs.capture.selection import Selection
from zinker.jobs.place_lock import tell_cut_off
from zinker.jobs.plan.layers import layered
from zinker.jobs.references import parse_reference
from zinker.jobs.secrets.detect import holds_secret, rule_of_name
from zinker.jobs.session import Session
from zinker.jobs.setup import Setup
from zinker.jobs.sources import Source, opened, subject_of
from zinker.jobs.translate.policies import titles_in
from zinker.model.address import folded
from zinker.model.change import Change, ChangeId, RoundRecord
from zinker.model.errors import Refused, reason
from zinker.model.file_state import FileState
from zinker.model.names import unknown
from zinker.model.plan import DocumentChange
from zinker.model.policy import Titles
from zinker.model.profile import Manifest
from zinker.model.setting import WITHHELD, Setting, text_of
from zinker.places.place import Place
from zinker.shelf.shelf import Version
from zinker.stores.desktop_db import USER
from zinker.stores.home import NoHome, StoreError
from zinker.stores.kinds import open_home, traits_of
from zinker.subjects.subject import Part, Subject, paths_of

_TOLD_AFTER = 20_000  # settings


class Shown(msgspec.Struct, frozen=True):
    """What was asked to be shown: settings by part, documents' opening lines left out."""

    name: str
    manifest: Manifest
    subject: Subject | None
    settings: tuple[tuple[str, Setting], ...]
    # For what does not come from the user's own layer, or is locked: words for it, by part and setting.
    layers: dict[tuple[str, str, str], str] = {}
    # What a service calls settings of its policies.
    titles: Titles = {}
    # Where only the secrets were asked for: by which rule each was withheld, by part and setting.
    rules: dict[tuple[str, str, str], str] | None = None


class PartState(msgspec.Struct, frozen=True):
    """One part at a place: where its home is, and how many documents are there; `why` says why none is."""

    id: str
    title: str
    store: str
    home: str
    documents: int
    why: str = ""
    device_bound: bool = False


class SubjectState(msgspec.Struct, frozen=True):
    """One subject at a place."""

    id: str
    title: str
    place: str
    parts: tuple[PartState, ...]
    running: int = 0
    instances: tuple[str, ...] = ()

    @property
    def is_present(self) -> bool:
        """Whether anything of it is there."""
        return any(part.documents for part in self.parts)


class PlaceState(msgspec.Struct, frozen=True):
    """One place, and why it does not answer, if it does not."""

    name: str
    kind: str
    machine: str
    user: str
    system: str
    absence: str = ""
    # Who signs in there, and how.
    signs_in: str = ""


def stale_ones(setup: Setup, versions: Iterable[Version]) -> list[Version]:
    """Return the newest whole version of each place, of those that were last right too long ago."""
    newest = {(v.subject, v.place, v.machine): v for v in versions if v.is_asked_for}
    now, most = datetime.datetime.now().astimezone(), datetime.timedelta(days=setup.stale_days)
    return [v for v in newest.values() if now - datetime.datetime.fromisoformat(v.known) > most]


def kept_versions(setup: Setup, subject: str = "", place: str = "") -> list[Version]:
    """Return the kept versions of a subject, or of all, the oldest first."""
    tell_cut_off(setup)
    shelf = setup.shelf
    if subject and subject not in shelf.subjects():
        setup.catalogue.find(subject)  # raises for an unknown name
    subjects = [subject] if subject else shelf.subjects()
    versions = [version for id in subjects for version in shelf.versions(id)]
    setup.check_place_among(place, (version.place for version in versions if not version.problem))
    return [version for version in versions if place in ("", version.place)]


def show(
    setup: Setup,
    reference: str,
    parts: tuple[str, ...] = (),
    find: str = "",
    secrets: bool = False,
    documents: tuple[str, ...] = (),
) -> Shown:
    """Return the settings in a profile or at a place; `find` keeps those with a text in name, title or value.

    `documents` are names or patterns of those that are meant. With `secrets`, only what was withheld is returned,
    and by which rule.
    """
    wanted = parse_reference(reference)
    with opened(setup, wanted, parts) as source:
        subject = subject_of(setup, source)
        selection = selected(source, subject, parts, wanted.instance, documents)
        settings = list(_settings(source, subject, parts, find.casefold(), selection, setup.progress))
        layers: dict[tuple[str, str, str], str] = {}
        if source.is_live and subject is not None:
            beneath = layers_at(setup.place(wanted.place), subject, parts, layers, find.casefold())
            own = {(part, *setting.key) for part, setting in settings}
            known = {part.id: part for part in selection.parts}
            beneath = (one for one in beneath if selection.has(known[one[0]], one[1].document))
            settings += [(part, s) for part, s in beneath if (part, *s.key) not in own]
            order = {part.id: number for number, part in enumerate(subject.part)}
            settings.sort(key=lambda item: (order.get(item[0], 0), item[1].key))
        titles = titles_in(subject, source.snapshot)
        shown = Shown(source.told, source.manifest, subject, tuple(settings), layers, titles)
        return _secrets_of(shown) if secrets else shown


def selected(
    source: Source,
    subject: Subject | None,
    parts: tuple[str, ...],
    instance: str = "",
    documents: tuple[str, ...] = (),
) -> Selection:
    """Return what of a source is meant; raises `WrongUsage` for a name that fits nothing in it."""
    held = [part.id for part in source.manifest.parts]
    for id in parts:
        if id not in held:
            raise unknown("part", id, held, f"{source.name} holds {', '.join(held) or 'nothing'}.")
    chosen = tuple(part for id in parts or held if subject and (part := subject.find_part(id)))
    selection = Selection(chosen, instance, documents)
    selection.check(((id, name) for id in held for name in source.snapshot.documents(id)), source.name)
    return selection


def _secrets_of(shown: Shown) -> Shown:
    """Return only what was withheld, with the rules as far as a profile still tells them."""
    rules: dict[tuple[str, str, str], str] = {}
    whys = {(p.part, p.document): p.why for p in shown.manifest.problems if not p.address}
    for id, setting in shown.settings:
        part = shown.subject.find_part(id) if shown.subject else None
        if setting.type == WITHHELD:
            rules[id, *setting.key] = rule_of_name(part, setting.address) if part else "its look"
        elif setting.is_head and FileState.of(setting).is_secret:
            rules[id, *setting.key] = whys.get((id, setting.document), "the whole file")
    held = tuple((id, setting) for id, setting in shown.settings if (id, *setting.key) in rules)
    return msgspec.structs.replace(shown, settings=held, rules=rules)


def layers_at(
    place: Place,
    subject: Subject,
    parts: tuple[str, ...],
    layers: dict[tuple[str, str, str], str],
    find: str = "",
) -> Iterator[tuple[str, Setting]]:
    """Yield what counts in the settings databases though it is not the user's own; notes its layer.

    So also what a policy sets: it counts whatever the user has.
    """
    for part in subject.part:
        if parts and part.id not in parts:
            continue
        if part.policies:
            yield from _overruled(place, part, layers, find)
        if not traits_of(part.store).has_layers:
            continue
        try:
            home = layered(open_home(place, part))
            found = [(path, *of) for path in home.where() for of in home.layers(path)]
        except (NoHome, StoreError):
            continue  # the capture has told why
        for document, address, leaf, layer, is_locked in found:
            words = [layer] * (layer != USER) + ["locked"] * is_locked
            if words:
                layers[part.id, document, address] = ", ".join(words)
            text = "\n".join((document, address, part.titles.get(address, ""), leaf.value))
            if layer != USER and find in text.casefold() and not holds_secret(part, address, leaf):
                yield part.id, Setting(document, address, leaf.type, leaf.value)


def _overruled(
    place: Place, part: Part, layers: dict[tuple[str, str, str], str], find: str
) -> Iterator[tuple[str, Setting]]:
    """Yield what policies set though the user has not; of what the user has, notes what counts instead."""
    try:
        home = open_home(place, part)
        found = [(document, one) for document in home.where() for one in home.overruled(document)]
        own = {d: {folded(a): (a, leaf) for a, leaf in home.read(d).all_leaves()} for d in home.documents()}
    except (NoHome, StoreError):
        return  # the capture has told why
    for document, one in found:
        address, leaf = own.get(document, {}).get(folded(one.address), (one.address, None))
        is_secret = holds_secret(part, address, one.leaf)
        value = "another value" if is_secret else text_of(one.leaf)
        if leaf is None:
            layers[part.id, document, address] = f"by a policy, {one.where}"
            if find in "\n".join((document, address, value)).casefold() and not is_secret:
                yield part.id, Setting(document, address, one.leaf.type, one.leaf.value)
        elif leaf != one.leaf:
            layers[part.id, document, address] = f"does not count: {value} does, by {one.where}"


def _settings(
    source: Source,
    subject: Subject | None,
    parts: tuple[str, ...],
    find: str,
    selection: Selection,
    progress: Progress,
) -> Iterator[tuple[str, Setting]]:
    for record in source.manifest.parts:
        part = subject.find_part(record.id) if subject else None
        if parts and record.id not in parts:
            continue
        for number, setting in enumerate(source.snapshot.settings(record.id)):
            if number % _TOLD_AFTER == 0:
                progress(record.title, number, record.settings)
            if setting.is_head and setting.type == "document":
                continue
            if part and not selection.has(part, setting.document):
                continue
            title = part.titles.get(setting.address, "") if part else ""
            text = "\n".join((setting.document, setting.address, title, text_of(setting)))
            if find in text.casefold():
                yield record.id, setting


def subject_states(setup: Setup, subject: str = "", place: str = "here") -> list[SubjectState]:
    """Return the subjects Zinker knows, or one, with where each part lives at a place."""
    where = setup.place(place)
    subjects = [setup.catalogue.find(subject)] if subject else list(setup.catalogue.all())
    states = []
    for described in subjects:
        parts: list[PartState] = []
        instances: set[str] = set()
        session = Session(setup, where, described)
        for part in described.part:
            try:
                home = session.home(part)
                documents = home.documents()
                instances |= {home.instance(document) for document in documents} - {""}
                at = "\n".join(home.where())
                why = "" if documents else "nothing there"
            except (NoHome, OSError, StoreError) as error:
                documents, at = [], "\n".join(paths_of(part.path))
                why = reason(error) if isinstance(error, OSError) else error.why
            parts.append(
                PartState(part.id, part.name, part.store, at, len(documents), why, part.device_bound)
            )
        running = len(where.running(described.application.processes))
        states.append(
            SubjectState(
                described.id, described.title, place, tuple(parts), running, tuple(sorted(instances))
            )
        )
    return states


def changes(setup: Setup, subject: str = "", place: str = "") -> list[Change]:
    """Return what was changed, the oldest first; of one subject or one place, or of all."""
    tell_cut_off(setup)
    known = setup.shelf.changes.all()
    if subject and subject not in {change.subject for change in known}:
        setup.catalogue.find(subject)  # raises for an unknown name
    setup.check_place_among(place, (change.place for change in known))
    return [change for change in known if subject in ("", change.subject) and place in ("", change.place)]


def without_fallback(setup: Setup, changes: Iterable[Change]) -> frozenset[ChangeId]:
    """Return those changes that could be undone if their fallbacks were still kept."""
    standing = [change for change in changes if change.state in ("done", "partly")]
    kept = {
        subject: set(setup.shelf.records.numbers(subject)) for subject in {one.subject for one in standing}
    }
    return frozenset(one.id for one in standing if one.fallback not in kept[one.subject])


def one_change(
    setup: Setup, number: ChangeId | int
) -> tuple[Change, tuple[DocumentChange, ...], Subject | None]:
    """Return a change with everything it wrote, and its subject, if its subject file is here.

    Raises `WrongUsage` if there is no such number.
    """
    change = setup.shelf.changes.get(ChangeId.of(number))
    known = change.subject in setup.catalogue.files()
    subject = setup.catalogue.find(change.subject) if known else None
    return change, setup.shelf.changes.documents(change), subject


def round_names(setup: Setup, changes: Iterable[Change]) -> dict[int, str]:
    """Return what the rounds are called that some changes are members of, by number."""
    numbers = dict.fromkeys(change.number for change in changes if change.member)
    records = (setup.shelf.changes.round(number) for number in numbers)
    return {record.number: record.name for record in records if record is not None}


def round_change(
    setup: Setup, id: ChangeId
) -> tuple[RoundRecord, list[tuple[Change, tuple[DocumentChange, ...]]]] | None:
    """Return the change of a round with what its members wrote; None for the change of no round."""
    changes = setup.shelf.changes
    record = None if id.member else changes.round(id.number)
    if record is None:
        return None
    return record, [(change, changes.documents(change)) for change in changes.members(id.number)]


def place_states(setup: Setup) -> list[PlaceState]:
    """Return all places, and whether they answer."""
    states = []
    for name, place in setup.places.items():
        absence = place.absence()
        try:
            about = ("", "", "") if absence else (place.machine, place.user, place.system)
        except Refused as error:
            about, absence = ("", "", ""), error.why
        states.append(PlaceState(name, place.kind, *about, absence, place.signs_in))
    return states

"""What is found at places: which subjects, where their parts live, and whether the places answer."""

import datetime

import msgspec

from zinker.jobs.session import Session
from zinker.jobs.setup import CONCURRENCY, Setup
from zinker.jobs.side_by_side import SECONDS, looked_at
from zinker.model.errors import Refused, ZinkerError, reason
from zinker.places.here import Here
from zinker.stores.home import NoHome, StoreError
from zinker.subjects.subject import paths_of


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
    # When it was last known to be as it was captured (RFC 3339), or "", and whether that is too long ago.
    captured: str = ""
    stale: bool = False


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


def place_states(setup: Setup) -> list[PlaceState]:
    """Return all places, whether they answer, side by side, and when each was last captured."""
    places = setup.places
    captured = _captured(setup)
    old = datetime.datetime.now().astimezone() - datetime.timedelta(days=setup.stale_days)

    def look(name: str) -> PlaceState:
        place = places[name]
        absence = place.absence()
        try:
            about = ("", "", "") if absence else (place.machine, place.user, place.system)
        except Refused as error:
            about, absence = ("", "", ""), error.why
        return PlaceState(name, place.kind, *about, absence, place.signs_in)

    found = dict(looked_at(places, look, SECONDS, CONCURRENCY))
    states = []
    for name, place in places.items():
        state = found[name]
        if isinstance(state, str):
            state = PlaceState(name, place.kind, "", "", "", state)
        last = captured.get(name, "")
        is_stale = bool(last) and datetime.datetime.fromisoformat(last) < old
        states.append(msgspec.structs.replace(state, captured=last, stale=is_stale))
    return states


def _captured(setup: Setup) -> dict[str, str]:
    """Return when each place was last known to be as it was captured; nothing of a shelf that is out of reach."""
    shelf, here = setup.shelf, Here().machine
    last: dict[str, str] = {}
    try:
        for version in (one for id in shelf.subjects() for one in shelf.versions(id) if one.is_asked_for):
            place = version.place.partition("/")[0]
            if place != "here" or version.machine == here:
                last[place] = max(
                    last.get(place, version.known), version.known, key=datetime.datetime.fromisoformat
                )
    except ZinkerError as error:
        setup.notify(f"when places were captured is not known: {error.why}.")
    return last

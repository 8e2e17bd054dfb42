"""What a word that somebody has begun to type may become: names, each with a few words on what it is.

Nothing is asked of a person, and no place over the network; what cannot be read has no names.
"""

import contextlib
from collections.abc import Iterable, Iterator
from itertools import islice

from zinker.jobs.finding import subject_states
from zinker.jobs.setup import Setup
from zinker.model.names import place_told
from zinker.model.plain_json import decode
from zinker.shelf.shelf import Version
from zinker.stores.credentials import Credential

Name = tuple[str, str]
# More than that nobody reads, and so many lines of settings are looked at for addresses.
_MOST, _LINES = 200, 100_000


def subjects(setup: Setup) -> Iterator[Name]:
    """Yield all subjects, those that are kept first."""
    kept = setup.shelf.subjects()
    yield from ((id, "kept") for id in kept)
    yield from ((id, "") for id in setup.catalogue.files() if id not in kept)


def places(setup: Setup) -> Iterator[Name]:
    """Yield all places."""
    yield from ((name, place.kind) for name, place in setup.places.items())


def rounds(setup: Setup) -> Iterator[Name]:
    """Yield the rounds of zinker.toml."""
    yield from ((name, ", ".join(what)) for name, what in setup.rounds.items())


def references(setup: Setup, begun: str, at_place: str = "") -> Iterator[Name]:
    """Yield what a reference may become: subjects, places, instances, and versions once the subject is known.

    Instances are those at the place that it names, or `at_place`, or here.
    """
    place, colon, rest = begun.rpartition(":")
    id, slash, _ = rest.partition("/")
    subject, is_kept, _ = rest.partition("@")
    at = place or at_place or "here"
    if is_kept:
        yield from versions(setup, place, colon, subject)
    elif slash:
        yield from ((f"{place}{colon}{id}/{name}", "") for name, _ in instances(setup, id, at))
    else:
        for name, told in subjects(setup):
            yield f"{place}{colon}{name}", told
            if name == rest and told:
                yield from versions(setup, place, colon, name)
        if not colon:
            yield from ((f"{name}:", told) for name, told in places(setup))


def versions(setup: Setup, place: str, colon: str, subject: str) -> Iterator[Name]:
    """Yield the versions of a subject, those with a label first, the newest first."""
    kept = [one for one in setup.shelf.versions(subject.partition("/")[0]) if not one.problem]
    kept = [one for one in reversed(kept) if place in ("", one.place)]
    head = f"{place}{colon}{subject}@"
    yield from ((f"{head}{one.label}", _told(one)) for one in kept if one.label)
    if kept:
        yield f"{head}latest", _told(kept[0])
    yield from ((f"{head}{one.number}", _told(one)) for one in kept)


def _told(version: Version) -> str:
    note = f": {version.note}" if version.note else ""
    return f"{place_told(version.place, version.machine)}, {version.captured[:16].replace('T', ' ')}{note}"


def labels(setup: Setup, subject: str) -> Iterator[Name]:
    """Yield the labels that versions have, of one subject or of all."""
    for id in [subject] if subject else setup.shelf.subjects():
        yield from ((one.label, one.reference) for one in setup.shelf.versions(id) if one.label)


def changes(setup: Setup) -> Iterator[Name]:
    """Yield the changes, the newest first."""
    for change in reversed(setup.shelf.changes.all()):
        told = f"{change.kind} of {change.subject} at {change.place}, {change.started[:16].replace('T', ' ')}"
        yield str(change.id), told


def parts(setup: Setup, subject: str) -> Iterator[Name]:
    """Yield the parts of a subject, or of all that are kept."""
    for id in [subject] if subject else setup.shelf.subjects():
        yield from ((part.id, part.title) for part in setup.catalogue.find(id).part)


def instances(setup: Setup, subject: str, place: str) -> Iterator[Name]:
    """Yield the instances of a subject at a place on this machine; elsewhere nobody is asked."""
    if isinstance(setup.places[place.partition("/")[0]].credential, Credential):
        return
    for state in subject_states(setup, subject, place):
        yield from ((name, "") for name in state.instances)


def documents(setup: Setup, subject: str, part: str = "") -> Iterator[Name]:
    """Yield the documents of the newest version of a subject."""
    yield from ((row[0], "") for row in _rows(setup, subject, part))


def addresses(setup: Setup, subject: str, part: str = "") -> Iterator[Name]:
    """Yield the addresses of the newest version of a subject."""
    yield from ((row[1], row[0]) for row in _rows(setup, subject, part) if row[1])


def _rows(setup: Setup, subject: str, part: str) -> Iterator[list[str]]:
    newest = setup.shelf.newest(subject, lambda one: one.is_asked_for)
    if newest is None:
        return
    with contextlib.closing(setup.shelf.open(newest)) as profile:
        ids = [one.id for one in profile.manifest.parts if part in ("", one.id)]
        lines = (line for id in ids for piece in profile.pieces(id) for line in piece.splitlines())
        yield from (decode(line, list) for line in islice(lines, _LINES))


def fitting(names: Iterable[Name], begun: str) -> list[Name]:
    """Return those names that begin so, each once, and no more than anybody reads."""
    found: dict[str, str] = {}
    for name, told in names:
        if name.startswith(begun) and name not in found:
            found[name] = told
            if len(found) == _MOST:
                break
    return list(found.items())

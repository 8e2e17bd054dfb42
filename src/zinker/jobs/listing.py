"""What is on the shelf: kept versions, and the record of changes."""

import datetime
from collections.abc import Iterable

from zinker.jobs.place_lock import tell_cut_off
from zinker.jobs.setup import Setup
from zinker.model.change import Change, ChangeId, RoundRecord
from zinker.model.plan import DocumentChange
from zinker.shelf.shelf import Version
from zinker.subjects.subject import Subject


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

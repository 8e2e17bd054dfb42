"""Checks before a change: each gives a reason against it and names the one option that overrules it."""

from collections.abc import Iterator
from pathlib import Path

from zinker.disk.room import room_at
from zinker.jobs.plan.documents import LEAVE_UNWRITABLE, NEW_INSTANCE, OTHER_DEVICE, to_closed
from zinker.jobs.session import Session
from zinker.model.plan import DocumentChange, LeftAlone, Objection, Plan
from zinker.model.profile import Manifest
from zinker.places.place import Place
from zinker.stores.home import Closed
from zinker.subjects.subject import Compatible, SettingAt, Subject

# What options overrule, by the names that these have.
WHILE_RUNNING = "while-running"
ANY_VERSION = "any-version"
DESPITE_NEEDS = "despite-needs"
DESPITE_SPACE = "despite-space"
EMPTY_SECRETS = "empty-secrets"
ADOPT = "adopt"
OTHER_USER = "other-user"
LIVE = "live"
OVERRULABLE = (
    WHILE_RUNNING,
    ANY_VERSION,
    DESPITE_NEEDS,
    DESPITE_SPACE,
    LEAVE_UNWRITABLE,
    EMPTY_SECRETS,
    ADOPT,
    OTHER_USER,
    NEW_INSTANCE,
    OTHER_DEVICE,
)


def objections(
    session: Session, manifest: Manifest, plan: Plan, overruled: frozenset[str]
) -> tuple[Objection, ...]:
    """Return what speaks against carrying a plan out now, besides what it has found itself.

    `manifest` is what is to be put there; each check is left out by its own option, and by no other.
    """
    place, subject = session.place, session.subject
    found = [
        *running(place, subject),
        *others_depend(place),
        *owner(place, manifest),
        *version(session, manifest),
        *needs(place, subject, plan.documents),
        *plan.objections,
        *rights(session, plan.documents),
        *space(session, plan),
    ]
    return tuple(objection for objection in found if objection.option not in overruled)


def running(place: Place, subject: Subject) -> Iterator[Objection]:
    """Object while the application runs."""
    processes = place.running(subject.application.processes)
    if processes:
        numbers = ", ".join(str(process.number) for process in processes)
        word = "process" if len(processes) == 1 else "processes"
        yield Objection(
            f"{subject.title} is running ({word} {numbers}), and would overwrite its settings when it closes.",
            "Close it and run this again, add --wait to wait for that, or --while-running.",
            WHILE_RUNNING,
        )


def others_depend(place: Place) -> Iterator[Objection]:
    """Object to a place that others depend on, unless its name is given."""
    if place.is_production:
        yield Objection(
            f"{place.told} is live: others depend on it.",
            f"Look at it with --preview, and say that you mean it with --live {place.name}.",
            LIVE,
        )


def owner(place: Place, manifest: Manifest) -> Iterator[Objection]:
    """Object where the settings are another machine's, or another user's of the same machine."""
    if not manifest.machine or not place.machine:
        return
    if manifest.machine != place.machine:
        what = "tenant" if place.kind == "tenant" else "machine"
        whose = (
            f"{manifest.user}'s on {manifest.machine}" if manifest.user else f"those of {manifest.machine}"
        )
        yield Objection(
            f"The settings are {whose}, and {place.told} is another {what}.",
            "Check that this is what you mean, and add --adopt to take them over.",
            ADOPT,
        )
    elif manifest.user and place.user and manifest.user != place.user:
        yield Objection(
            f"The settings are {manifest.user}'s, and at {place.told} they would become {place.user}'s.",
            "Check that this is what you mean, and add --other-user.",
            OTHER_USER,
        )


def version(session: Session, manifest: Manifest) -> Iterator[Objection]:
    """Object where the application there is too far from the one the profile was taken from."""
    there, place, subject = session.version, session.place, session.subject
    taken = manifest.application_version
    rule = subject.application.compatible
    if there and taken and not compatible(taken, there, rule):
        yield Objection(
            f"{subject.title} is {there} at {place.told}, and the profile was taken from {taken}; "
            f"its settings are known to fit within {rule.replace('same-', 'the same ')} versions only.",
            "Install the fitting version, or add --any-version.",
            ANY_VERSION,
        )


def compatible(one: str, other: str, rule: Compatible) -> bool:
    """Tell whether two application versions fit together; what is no version must be the same text.

    >>> compatible("3.2.1", "3.4", "same-major"), compatible("3.2.1", "3.4", "same-minor")
    (True, False)
    """
    if rule == "any" or one == other:
        return True
    from packaging.version import InvalidVersion, Version

    try:
        first, second = Version(one), Version(other)
    except InvalidVersion:
        return False
    if rule == "exact":
        return first == second
    same_major = first.major == second.major
    return same_major and (rule == "same-major" or first.minor == second.minor)


def needs(place: Place, subject: Subject, changes: tuple[DocumentChange, ...]) -> Iterator[Objection]:
    """Object where something is missing that the settings to be written depend on."""
    touched = dict.fromkeys(change.part for change in changes)
    for need in subject.application.needs:
        depending = [id for id in touched if not need.parts or id in need.parts]
        variable, _, rest = need.path[1:].partition("}/")
        folder = place.folder(variable)
        if depending and need.items is not None:
            missing = _missing_items(
                place, need.items, changes, folder / rest if folder is not None else None
            )
            for item in missing:
                yield Objection(
                    f"{need.says} {item} is missing at {place.told} ({need.path}).",
                    "Install it first, or add --despite-needs.",
                    DESPITE_NEEDS,
                )
        elif depending and (folder is None or not place.has(folder / rest)):
            parts = (subject.find_part(id) for id in depending)
            names = ", ".join(part.name for part in parts if part)
            yield Objection(
                f"{need.says} is missing at {place.told} ({need.path}); what depends on it: {names}.",
                "Install it first, or add --despite-needs.",
                DESPITE_NEEDS,
            )


def _missing_items(
    place: Place, at: SettingAt, changes: tuple[DocumentChange, ...], folder: Path | None
) -> Iterator[str]:
    """Yield the items of a list that would be written that are not below a folder; names, and no paths."""
    after = (
        item.after
        for change in changes
        if change.part == at.part
        for item in change.items
        if item.address == at.address or item.address.startswith(f"{at.address}/")
    )
    values = (leaf.value for leaf in after if leaf is not None)
    names = (name for value in values for name in (value if isinstance(value, list) else [value]))
    for name in dict.fromkeys(str(name) for name in names if name):
        is_name = not set("/\\") & set(name) and name not in (".", "..")
        if folder is None or not is_name or not place.has(folder / name):
            yield name


def rights(session: Session, changes: tuple[DocumentChange, ...]) -> Iterator[Objection]:
    """Object where a document could not be written."""
    for _, closed in unwritable(session, changes):
        yield to_closed(closed)


def unwritable(
    session: Session, changes: tuple[DocumentChange, ...]
) -> Iterator[tuple[DocumentChange, Closed]]:
    """Yield the documents that could not be written, each with the reason."""
    known = [change for change in changes if session.subject.find_part(change.part) is not None]
    for part in dict.fromkeys(change.part for change in known):
        own = [change for change in known if change.part == part]
        session.home_of(own[0]).foresee(change.document for change in own)
    for change in known:
        closed = session.home_of(change).closed(change.document)
        if closed is not None:
            yield change, closed


def without_unwritable(session: Session, plan: Plan) -> tuple[list[DocumentChange], list[LeftAlone]]:
    """Return the documents of a plan that can be written, and the others as left alone."""
    closed = {change.where: closed.why for change, closed in unwritable(session, plan.documents)}
    left = [
        LeftAlone(*where, f"it cannot be written: {why}", reason="refused") for where, why in closed.items()
    ]
    return [change for change in plan.documents if change.where not in closed], left


def space(session: Session, plan: Plan) -> Iterator[Objection]:
    """Object where the new files, which stand beside the old ones first, or the fallback would not fit."""
    wanted: dict[object, int] = {}
    rooms: dict[object, tuple[int, str]] = {}

    def count(room: tuple[object, int, str], size: int) -> None:
        disk, free, where = room
        wanted[disk] = wanted.get(disk, 0) + size
        rooms[disk] = (free, where)

    folders: dict[tuple[str, str], tuple[DocumentChange, int]] = {}
    for change in plan.documents:
        if session.subject.find_part(change.part) is None or change.after is None or not change.after.size:
            continue
        folder = (change.part, change.document.rpartition("/")[0])
        folders[folder] = (change, folders.get(folder, (change, 0))[1] + change.after.size)
    for change, size in folders.values():
        room = session.home_of(change).room(change.document)
        if room is not None:
            count(room, size)
    storage = session.setup.shelf.storage
    if storage.folder is not None:
        count(room_at(storage.folder), plan.fallback_size)
    elif (left := storage.free()) is not None and plan.fallback_size > left:
        yield Objection(
            f"{storage.told} has {left:,} bytes free, and about {plan.fallback_size:,} are needed.",
            "Make room there, or add --despite-space.",
            DESPITE_SPACE,
        )
    for disk, size in wanted.items():
        free, where = rooms[disk]
        if size > free:
            yield Objection(
                f"{where} has {free:,} bytes free, and about {size:,} are needed.",
                "Make room there, or add --despite-space.",
                DESPITE_SPACE,
            )

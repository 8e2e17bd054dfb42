"""Checks before a change: each gives a reason against it and names the one option that overrules it."""

import shutil
from collections.abc import Iterator
from pathlib import Path

from packaging.version import InvalidVersion, Version

from zinker.jobs.capturing import application_version
from zinker.jobs.homes import Home, open_home
from zinker.jobs.setup import Setup
from zinker.model.plan import DocumentPlan, LeftAlone, Objection, Plan
from zinker.model.profile import Manifest
from zinker.places.place import Place
from zinker.stores.desktop_db import DesktopHome
from zinker.stores.files import FileHome
from zinker.subjects.subject import Compatible, Subject

# What options overrule, by the names that these have.
WHILE_RUNNING = "while-running"
ANY_VERSION = "any-version"
DESPITE_NEEDS = "despite-needs"
DESPITE_SPACE = "despite-space"
LEAVE_UNWRITABLE = "leave-unwritable"
ADOPT = "adopt"
OTHER_USER = "other-user"
NEW_INSTANCE = "new-instance"
OTHER_DEVICE = "other-device"
LIVE = "live"
OVERRULABLE = (
    WHILE_RUNNING,
    ANY_VERSION,
    DESPITE_NEEDS,
    DESPITE_SPACE,
    LEAVE_UNWRITABLE,
    ADOPT,
    OTHER_USER,
    NEW_INSTANCE,
    OTHER_DEVICE,
)


def objections(
    setup: Setup, place: Place, subject: Subject, manifest: Manifest, plan: Plan, overruled: frozenset[str]
) -> tuple[Objection, ...]:
    """Return what speaks against carrying a plan out now, besides what it has found itself.

    `manifest` is what is to be put there; each check is left out by its own option, and by no other.
    """
    found = [
        *running(place, subject),
        *others_depend(place),
        *owner(place, manifest),
        *version(place, subject, manifest),
        *needs(place, subject, plan.documents),
        *plan.objections,
        *rights(place, subject, plan.documents),
        *space(setup, place, subject, plan),
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
    if place.is_live:
        yield Objection(
            f"{place.name} is live: others depend on it.",
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
            f"The settings are {whose}, and {place.name} is another {what}.",
            "Check that this is what you mean, and add --adopt to take them over.",
            ADOPT,
        )
    elif manifest.user and place.user and manifest.user != place.user:
        yield Objection(
            f"The settings are {manifest.user}'s, and at {place.name} they would become {place.user}'s.",
            "Check that this is what you mean, and add --other-user.",
            OTHER_USER,
        )


def version(place: Place, subject: Subject, manifest: Manifest) -> Iterator[Objection]:
    """Object where the application there is too far from the one the profile was taken from."""
    there = application_version(place, subject)
    taken = manifest.application_version
    rule = subject.application.compatible
    if there and taken and not compatible(taken, there, rule):
        yield Objection(
            f"{subject.title} is {there} at {place.name}, and the profile was taken from {taken}; "
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
    try:
        first, second = Version(one), Version(other)
    except InvalidVersion:
        return False
    if rule == "exact":
        return first == second
    same_major = first.major == second.major
    return same_major and (rule == "same-major" or first.minor == second.minor)


def needs(place: Place, subject: Subject, documents: tuple[DocumentPlan, ...]) -> Iterator[Objection]:
    """Object where something is missing that the settings to be written depend on."""
    touched = dict.fromkeys(plan.part for plan in documents)
    for need in subject.application.needs:
        depending = [id for id in touched if not need.parts or id in need.parts]
        variable, _, rest = need.path[1:].partition("}/")
        folder = place.folder(variable)
        if depending and (folder is None or not (folder / rest).exists()):
            parts = (subject.find_part(id) for id in depending)
            names = ", ".join(part.name for part in parts if part)
            yield Objection(
                f"{need.says} is missing at {place.name} ({need.path}); what depends on it: {names}.",
                "Install it first, or add --despite-needs.",
                DESPITE_NEEDS,
            )


def rights(place: Place, subject: Subject, documents: tuple[DocumentPlan, ...]) -> Iterator[Objection]:
    """Object where a document could not be written."""
    for plan, home, why in unwritable(place, subject, documents):
        if isinstance(home, FileHome):
            yield Objection(
                f"{home.path(plan.document)} cannot be written: {why}.",
                "Get the right to write there, or add --leave-unwritable to leave it alone.",
                LEAVE_UNWRITABLE,
            )
        else:
            then = "Run this in the session of that user's desktop, or add --leave-unwritable."
            yield Objection(f"{plan.document} cannot be written: {why}.", then, LEAVE_UNWRITABLE)


def unwritable(
    place: Place, subject: Subject, documents: tuple[DocumentPlan, ...]
) -> Iterator[tuple[DocumentPlan, Home, str]]:
    """Yield the documents that could not be written, each with its home and the reason."""
    homes: dict[str, Home | None] = {}
    known: dict[Path, str] = {}
    for plan in documents:
        if plan.part not in homes:
            part = subject.find_part(plan.part)
            homes[plan.part] = open_home(place, part) if part else None
        home, why = homes[plan.part], ""
        if isinstance(home, DesktopHome):
            why = home.database.closed()
        elif isinstance(home, FileHome):
            why = home.obstacle(plan.document, known)
        if home is not None and why:
            yield plan, home, why


def without_unwritable(
    place: Place, subject: Subject, plan: Plan
) -> tuple[list[DocumentPlan], list[LeftAlone]]:
    """Return the documents of a plan that can be written, and the others as left alone."""
    closed = {(d.part, d.document): why for d, _, why in unwritable(place, subject, plan.documents)}
    left = [LeftAlone(*name, "", f"it cannot be written: {why}") for name, why in closed.items()]
    return [d for d in plan.documents if (d.part, d.document) not in closed], left


def space(setup: Setup, place: Place, subject: Subject, plan: Plan) -> Iterator[Objection]:
    """Object where the new files, which stand beside the old ones first, or the fallback would not fit."""
    wanted: dict[int, tuple[int, Path]] = {}

    def count(folder: Path, size: int) -> None:
        while not folder.exists():
            folder = folder.parent
        device = folder.stat().st_dev
        wanted[device] = (wanted.get(device, (0, folder))[0] + size, folder)

    homes: dict[str, Home] = {}
    folders: dict[Path, int] = {}
    for document in plan.documents:
        part = subject.find_part(document.part)
        if part is None or not document.size:
            continue
        if part.id not in homes:
            homes[part.id] = open_home(place, part)
        home = homes[part.id]
        if isinstance(home, FileHome):
            folder = home.path(document.document).parent
            folders[folder] = folders.get(folder, 0) + document.size
    for folder, size in folders.items():
        count(folder, size)
    count(setup.shelf.folder, plan.fallback_size)
    for size, folder in wanted.values():
        free = shutil.disk_usage(folder).free
        if size > free:
            yield Objection(
                f"{folder} has {free:,} bytes free, and about {size:,} are needed.",
                "Make room there, or add --despite-space.",
                DESPITE_SPACE,
            )

"""Checks before an import: each gives a reason against it and names the option that overrules it."""

from collections.abc import Iterator
from pathlib import Path

from packaging.version import InvalidVersion, Version

from zinker.jobs.capturing import application_version
from zinker.jobs.homes import Home, open_home
from zinker.model.plan import DocumentPlan, Objection
from zinker.model.profile import Manifest
from zinker.places.place import Place
from zinker.stores.desktop_db import DesktopHome
from zinker.stores.files import FileHome
from zinker.subjects.subject import Compatible, Subject

WHILE_RUNNING = "while-running"
ANY_VERSION = "any-version"
DESPITE_NEEDS = "despite-needs"


def objections(
    place: Place,
    subject: Subject,
    manifest: Manifest,
    documents: tuple[DocumentPlan, ...],
    overruled: frozenset[str],
) -> Iterator[Objection]:
    """Yield what speaks against writing these documents now; no option overrules missing rights."""
    if WHILE_RUNNING not in overruled:
        yield from running(place, subject)
    if ANY_VERSION not in overruled:
        yield from version(place, subject, manifest)
    if DESPITE_NEEDS not in overruled:
        yield from needs(place, subject)
    yield from rights(place, subject, documents)


def running(place: Place, subject: Subject) -> Iterator[Objection]:
    """Object while the application runs."""
    processes = place.running(subject.application.processes)
    if processes:
        numbers = ", ".join(str(process.number) for process in processes)
        word = "process" if len(processes) == 1 else "processes"
        yield Objection(
            f"{subject.title} is running ({word} {numbers}), and would overwrite its settings when it closes.",
            "Close it and run this again, or add --while-running.",
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


def needs(place: Place, subject: Subject) -> Iterator[Objection]:
    """Object where something is missing that the settings depend on."""
    for need in subject.application.needs:
        variable, _, rest = need.path[1:].partition("}/")
        folder = place.folder(variable)
        if folder is None or not (folder / rest).exists():
            yield Objection(
                f"{need.says} is missing at {place.name} ({need.path}).",
                "Install it first, or add --despite-needs.",
            )


def rights(place: Place, subject: Subject, documents: tuple[DocumentPlan, ...]) -> Iterator[Objection]:
    """Object where a file could not be written."""
    homes: dict[str, Home | None] = {}
    known: dict[Path, str] = {}
    for plan in documents:
        if plan.part not in homes:
            part = subject.find_part(plan.part)
            homes[plan.part] = open_home(place, part) if part else None
        home = homes[plan.part]
        if isinstance(home, DesktopHome) and (why := home.database.closed()):
            then = "Run this in the session of that user's desktop."
            yield Objection(f"{plan.document} cannot be written: {why}.", then)
        if isinstance(home, FileHome) and (why := home.obstacle(plan.document, known)):
            yield Objection(
                f"{home.path(plan.document)} cannot be written: {why}.",
                "Get the right to write there, or leave the part out with --without.",
            )

"""Thin: old versions go when they are told to, and their room comes back."""

import datetime
from collections.abc import Callable, Sequence

import msgspec

from zinker.jobs.references import parse_reference
from zinker.jobs.setup import Setup
from zinker.model.errors import Damaged, Refused, WrongUsage
from zinker.shelf.shelf import Version
from zinker.shelf.sweeping import Sweeper, remove
from zinker.shelf.thinning import Going, Rules, going


class Thinning(msgspec.Struct, frozen=True):
    """What would go, or went: `frees` is about how many bytes that gives back, `freed` how many came back.

    `why` says why not all of it has come back yet.
    """

    going: tuple[Going, ...]
    stays: int
    frees: int
    freed: int = 0
    is_done: bool = False
    why: str = ""
    # Whether anything says what is to stay.
    has_rules: bool = True


def thin(
    setup: Setup,
    what: Sequence[str] = (),
    place: str = "",
    rules: Rules | None = None,
    older_than: int | None = None,
    *,
    preview: bool = False,
    approve: Callable[[Thinning], bool] = lambda thinning: True,
) -> Thinning:
    """Remove versions from the shelf: single ones by reference, or what the rules do not keep.

    `what` are subjects, all by default, and references of single versions, which go whatever they are labelled.
    `rules` replace those of zinker.toml; `older_than` is a number of days, and replaces rules. Fallbacks go when
    they are older than zinker.toml says.

    Raises `WrongUsage` for names that do not exist, `Refused` for the fallback of a change that was cut off, and
    `Damaged` where what other versions need is not known.
    """
    subjects, singles = _wanted(setup, what, place)
    found = [Going(version, _named(setup, version)) for version in singles]
    open_ones = {(change.subject, change.fallback): change for change in setup.shelf.changes.open_ones()}
    for version in singles:
        change = open_ones.get((version.subject, version.number))
        if change is not None:
            why = f"{version.reference} is needed to put change {change.id} right, which was cut off"
            raise Refused("Not thinned", why, f"Any command at {change.told_place} does that; run it first.")
    now = datetime.datetime.now().astimezone()
    has_rules = bool(singles) or older_than is not None

    def rules_of(version: Version) -> Rules:
        nonlocal has_rules
        own = rules if rules and not rules.is_empty else setup.rules_for(version.subject, version.place)
        has_rules |= not own.is_empty
        return own

    for subject in subjects:
        versions = [one for one in setup.shelf.versions(subject) if place in ("", one.place)]
        found += [
            one
            for one in going(versions, rules_of, now, setup.fallback_days, older_than)
            if (subject, one.version.number) not in open_ones
        ]
    sweeper = Sweeper(setup.shelf)
    concerned = {*subjects, *(version.subject for version in singles)}
    count = sum(len(setup.shelf.records.numbers(subject)) for subject in concerned)
    frees = sweeper.frees([one.version for one in found])
    plan = Thinning(tuple(found), count - len(found), frees, has_rules=has_rules)
    if preview or (not found and sweeper.is_clean()) or not approve(plan):
        return plan
    remove(setup.shelf, [one.version for one in found])
    freed, why = sweeper.sweep()
    files = sum(one.version.stored for one in found if one.version.is_file)
    return msgspec.structs.replace(plan, freed=freed + files, is_done=True, why=why)


def _wanted(setup: Setup, what: Sequence[str], place: str) -> tuple[list[str], list[Version]]:
    """Return the subjects and the single versions that were named."""
    subjects: list[str] = []
    singles: list[Version] = []
    kept = setup.shelf.subjects()
    for text in what:
        wanted = parse_reference(text)
        if wanted.path is not None:
            why = f"{text} is no version on the shelf, nor a subject"
            raise WrongUsage("Not thinned", why, "Files are removed as any others are.")
        if wanted.version:
            singles.append(_single(setup, wanted.subject, wanted.version, wanted.place or place))
        elif wanted.subject in kept:
            subjects.append(wanted.subject)
        else:
            setup.catalogue.find(wanted.subject)  # raises for an unknown name
    chosen = subjects if what else kept
    setup.check_place_among(place, (one.place for subject in chosen for one in setup.shelf.versions(subject)))
    return chosen, singles


def _named(setup: Setup, version: Version) -> str:
    """Say that a version was named, and whether it is one that would stay otherwise."""
    own = [one for one in setup.shelf.versions(version.subject) if one.place == version.place]
    good = [one for one in own if one.is_asked_for and one.machine == version.machine]
    return "named; the last good one of its place" if good[-1:] == [version] else "named"


def _single(setup: Setup, subject: str, which: str, place: str) -> Version:
    """Find a version that is to go; a damaged one can go, too, by its number."""
    try:
        return setup.shelf.find(subject, which, place)
    except Damaged:
        version = setup.shelf.records.one(subject, int(which)) if which.isdecimal() else None
        if version is None:
            raise
        return version

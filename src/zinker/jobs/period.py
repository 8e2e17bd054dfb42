"""Everything that is kept, compared as one: what changed at all places, or at one, between two days or labels."""

import contextlib
import re
from collections.abc import Iterator, Sequence

import msgspec

from zinker.jobs.comparing import ALL, Comparison, Wanted, compare
from zinker.jobs.references import parse_reference
from zinker.jobs.setup import Setup
from zinker.model.errors import WrongUsage, ZinkerError
from zinker.model.names import home_of, place_told
from zinker.places.here import Here
from zinker.shelf.shelf import Version

_ALL = re.compile(r"(?:(?P<place>[^:@/\\]+(?:/[^:@/\\]+)?):)?@(?P<version>[^:@/\\]+)")
LIVE = "now"


class Period(msgspec.Struct, frozen=True):
    """What was compared, subject by subject and place by place, and what could not be, with the reason."""

    before: str
    after: str
    comparisons: tuple[Comparison, ...]
    # The place of each of them, and what people call it.
    places: tuple[tuple[str, str], ...]
    left: tuple[tuple[str, str], ...] = ()
    # What was asked for, where that has a name.
    name: str = ""


def is_for_all(reference: str) -> bool:
    """Tell whether a reference names no subject, and so means all: `@2026-11-01`, `potting-shed:@agreed`."""
    return not reference or _ALL.fullmatch(reference) is not None


def compare_all(
    setup: Setup,
    before: str = "",
    after: str = "",
    wanted: Wanted = ALL,
    place: str = "",
    members: Sequence[tuple[str, str]] | None = None,
) -> Period:
    """Compare all that is kept, at a place or at all, as it was `before` and `after`; or of `members` of a round.

    Without `after`, with the live settings; without `before`, the newest version of each, of this machine alone
    where no place is given. What fails at one place does not stop the others. Raises `WrongUsage`.
    """
    (one, first), (other, last) = (taken(reference) for reference in (before, after))
    if one and other and one != other:
        raise WrongUsage("Not compared", f"{one} and {other} are two places", "Name one place for both.")
    where = one or other or place or ("" if before or members is not None else "here")
    setup.check_place_among(where, (version.place for version in _versions(setup)))
    comparisons: list[Comparison] = []
    places: list[tuple[str, str]] = []
    left: list[tuple[str, str]] = []
    kept = {(v.subject, v.place, v.machine) for v in _versions(setup) if where in ("", v.place)}
    if members is not None:
        of_homes = {(subject, home_of(at, Here().machine)) for at, subject in members}
        kept = {one for one in kept if (one[0], home_of(*one[1:])) in of_homes}
        known = {(subject, at) for subject, at, _ in kept}
        left += [
            (f"{place_told(at)}: {id}", "nothing of it is kept")
            for at, id in members
            if (id, at) not in known
        ]
    for subject, at, machine in sorted(kept, key=lambda one: _turn(one, members)):
        is_elsewhere = is_of_another_machine(at, machine)
        if where and is_elsewhere:
            continue  # it is `here` on that machine
        try:
            if is_elsewhere and not last:
                why = f"{at} is the machine {machine}, and only there can be told how it is now"
                raise WrongUsage("Not compared", why)
            comparisons.append(_compared(setup, subject, (at, machine), first or "latest", last, wanted))
            places.append((at, place_told(at, machine)))
        except ZinkerError as error:
            left.append((f"{place_told(at, machine)}: {subject}", error.why or str(error)))
    if not comparisons and not left:
        what = {"": "", "here": " of this machine"}.get(where, f" of {where}")
        raise WrongUsage("Not compared", f"nothing is kept{what}", "`zinker list` shows what is kept.")
    names = (f"@{first}" if first else "the newest versions", f"@{last}" if last else LIVE)
    return Period(*names, tuple(comparisons), tuple(places), tuple(left))


def _turn(
    kept: tuple[str, str, str], members: Sequence[tuple[str, str]] | None
) -> tuple[int, tuple[str, str, str]]:
    """Return what the members of a round are sorted by: as it names them; all else by subject and place."""
    subject, at, _ = kept
    order = {one: number for number, one in enumerate(members or ())}
    return order.get((at, subject), 0), kept


def compare_each(
    setup: Setup, reference: str, members: Sequence[tuple[str, str]], wanted: Wanted = ALL
) -> Period:
    """Compare a version with what several places have, or, where only a subject is named, the newest of each.

    What fails at one place does not stop the others.
    """
    comparisons: list[Comparison] = []
    places: list[tuple[str, str]] = []
    left: list[tuple[str, str]] = []
    is_own = "@" not in reference and parse_reference(reference).path is None
    for at, subject in members:
        try:
            machine = Here().machine if at.partition("/")[0] == "here" else ""
            kept = setup.shelf.find(subject, "latest", at, machine).reference if is_own else reference
            comparisons.append(compare(setup, kept, f"{at}:{subject}", wanted))
            places.append((at, place_told(at)))
        except ZinkerError as error:
            left.append((f"{place_told(at)}: {subject}", error.why or str(error)))
    return Period(
        "the newest versions" if is_own else reference, LIVE, tuple(comparisons), tuple(places), tuple(left)
    )


def is_of_another_machine(place: str, machine: str) -> bool:
    """Tell whether a place is `here` on a machine that is not this one."""
    return place.partition("/")[0] == "here" and machine != Here().machine


def taken(reference: str) -> tuple[str, str]:
    """Return place and version of a reference that names no subject."""
    if not reference:
        return "", ""
    found = _ALL.fullmatch(reference)
    if found is None:
        why = f"{reference!r} names a subject, and the other side means all"
        raise WrongUsage("Not compared", why, "Examples: @2026-11-01 @2026-11-22, potting-shed:@agreed.")
    return found["place"] or "", found["version"]


def _versions(setup: Setup) -> Iterator[Version]:
    for subject in setup.shelf.subjects():
        yield from (one for one in setup.shelf.versions(subject) if not one.problem and one.is_asked_for)


def _compared(
    setup: Setup, subject: str, at: tuple[str, str], first: str, last: str, wanted: Wanted
) -> Comparison:
    """Compare one subject of one place and machine; a version that was still right later, with itself."""
    one = setup.shelf.find(subject, first, *at)
    if not last:
        return compare(setup, one.reference, f"{at[0]}:{subject}", _narrowed(setup, subject, wanted))
    other = setup.shelf.find(subject, last, *at)
    if one.number == other.number and one.known == one.captured:
        why = f"{one.reference} is the newest of both, and nobody has looked since"
        raise WrongUsage("Not compared", why)
    return compare(setup, one.reference, other.reference, _narrowed(setup, subject, wanted))


def _narrowed(setup: Setup, subject: str, wanted: Wanted) -> Wanted:
    """Return what is wanted without the parts that a subject does not have."""
    with contextlib.suppress(WrongUsage):
        known = {part.id for part in setup.catalogue.find(subject).part}
        return msgspec.structs.replace(wanted, parts=tuple(id for id in wanted.parts if id in known))
    return wanted

"""Rounds: what belongs together, named in zinker.toml or found at a place; captured and put back as one."""

import contextlib
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import TYPE_CHECKING, NamedTuple

import msgspec

from zinker.jobs.finding import subject_states
from zinker.jobs.setup import CONCURRENCY, Setup
from zinker.model.errors import NoAnswer, WrongUsage, ZinkerError
from zinker.model.names import home_of, unknown
from zinker.places.here import Here

if TYPE_CHECKING:
    from zinker.jobs.documenting import Documented
    from zinker.jobs.exporting import Exported

_ANY = "*"


class Round(NamedTuple):
    """What belongs together: a name, and places and subjects; the version that is meant of each, or ""."""

    name: str
    members: tuple[tuple[str, str], ...]
    version: str = ""

    @property
    def told(self) -> str:
        """What people call it, with the version."""
        return f"{self.name}@{self.version}" if self.version else self.name


class Kept(msgspec.Struct, frozen=True):
    """What came of the export of one member; either `exported` or `error` is there."""

    place: str
    subject: str
    exported: "Exported | None" = None
    error: ZinkerError | None = None


def round_named(setup: Setup, text: str, is_live: bool = False) -> Round:
    """Return a round of zinker.toml: `monday`, or `monday@agreed` for a version of each.

    What stands in it as `*` is what is kept, or, of a live one, what is there. Raises `WrongUsage`.
    """
    name, at, version = text.partition("@")
    if name not in setup.rounds:
        then = 'zinker.toml has none yet: [rounds.NAME] with what = ["PLACE:SUBJECT"].'
        raise unknown("round", name, setup.rounds, "zinker.toml names them." if setup.rounds else then)
    if at and not version:
        raise WrongUsage("Round not understood", f"{text} names no version", f"Write it as in {name}@agreed.")
    members: dict[tuple[str, str], None] = {}
    for what in setup.rounds[name]:
        place, _, subject = what.partition(":")
        members |= dict.fromkeys(_meant(setup, name, place, subject, is_live))
    if not members:
        what = "is there" if is_live else "is kept"
        raise WrongUsage(
            f"Round {name} is empty", f"nothing of it {what}", "`zinker survey` shows what there is."
        )
    return Round(name, tuple(members), version)


def found_at(setup: Setup, places: Iterable[str]) -> Round:
    """Return everything that is found at some places; raises `WrongUsage` where there is nothing."""
    names = tuple(dict.fromkeys(places))
    members = tuple((place, subject) for place in names for subject in _present(setup, place))
    if not members:
        then = "`zinker subjects` shows what is looked for, and where."
        raise WrongUsage("Nothing found", f"no subject is found at {', '.join(names)}", then)
    return Round(f"all of {', '.join(names)}", members)


def each_account(setup: Setup, places: Iterable[str], subjects: Iterable[str]) -> Round:
    """Return subjects at each account of some places that has something of its own of them.

    The account that a place stands for goes by the name of the place. Raises `WrongUsage` where none has any.
    """
    names, ids = tuple(dict.fromkeys(places)), tuple(dict.fromkeys(subjects))
    members: list[tuple[str, str]] = []
    for name in names:
        place = setup.place(name)
        own = place.user.casefold()
        others = [f"{name}/{one}" for one in place.account_names() if one.casefold() != own]
        for at in [name, *others]:
            members += [(at, id) for id in ids if _has_own(setup, at, id)]
    if not members:
        why = f"no account of {', '.join(names)} has anything of {', '.join(ids)}"
        raise WrongUsage("Nothing found", why, "`zinker subjects` shows what is looked for, and where.")
    return Round(f"{', '.join(ids)} of each account", tuple(members))


def _has_own(setup: Setup, place: str, subject: str) -> bool:
    """Tell whether an account has something of a subject that is not the machine's."""
    id = subject.partition("/")[0]
    parts = {part.id: part for part in setup.catalogue.find(id).part}
    (state,) = subject_states(setup, id, place)
    return any(part.documents and parts[part.id].is_of_account for part in state.parts)


def kept_of(setup: Setup, place: str, version: str) -> Round:
    """Return everything that is kept of a place, as a version of each; raises `WrongUsage`."""
    setup.check_place(place)
    home = home_of(place, Here().machine)
    members = tuple((place, id) for id, homes in _kept(setup).items() if home in homes)
    if not members:
        raise WrongUsage("Nothing found", f"nothing is kept of {place}", "`zinker list` shows what is kept.")
    return Round(f"all of {place}", members, version)


def _meant(setup: Setup, name: str, place: str, subject: str, is_live: bool) -> Iterator[tuple[str, str]]:
    """Yield what a line of a round stands for."""
    if place != _ANY:
        with _of_round(name):
            setup.check_place(place)
    if subject != _ANY:
        with _of_round(name):
            setup.catalogue.find(subject.partition("/")[0])
    if _ANY not in (place, subject):
        yield place, subject
        return
    kept = {} if is_live else _kept(setup)
    for at in setup.places if place == _ANY else [place]:
        if is_live and place == _ANY and setup.places[at].absence():
            there = []
        elif is_live:
            try:
                there = list(_present(setup, at))
            except NoAnswer:  # the others are captured all the same, and this is told of that one
                there = [_ANY]
        else:
            there = [id for id, homes in kept.items() if home_of(at, Here().machine) in homes]
            # A machine that has another name since a fire has nothing of its own yet; what it is to have is said.
            if at == "here" and not there:
                there = [id for id in kept if any(one.place == at for one in setup.shelf.versions(id))]
        yield from ((at, id) for id in there if subject in (_ANY, id))


@contextlib.contextmanager
def _of_round(name: str) -> Iterator[None]:
    try:
        yield
    except WrongUsage as error:
        raise WrongUsage(
            error.what, f"{error.why}, and round {name} of zinker.toml names it", error.then
        ) from None


def _present(setup: Setup, place: str) -> Iterator[str]:
    return (state.id for state in subject_states(setup, "", place) if state.is_present)


def _kept(setup: Setup) -> dict[str, set[str]]:
    """Return the homes that something is kept of, by subject."""
    kept = {
        id: {one.home for one in setup.shelf.versions(id) if one.is_asked_for}
        for id in setup.shelf.subjects()
    }
    return {id: homes for id, homes in kept.items() if homes}


def version_of(setup: Setup, place: str, subject: str, which: str, adopts: bool = False) -> str:
    """Return the reference of the version of a member; raises `WrongUsage` where there is none.

    Of `here`, it is what this machine had; where nothing is kept of it, and it `adopts`, what another one had.
    """
    id, slash, instance = subject.partition("/")
    machine = Here().machine if place.partition("/")[0] == "here" else ""
    others = _others(setup, place, id, machine) if machine else []
    if len(others) > 1 or (others and not adopts):
        then = "Add --adopt to take over what that one had."
        if len(others) > 1:
            then = f"Name the version that you mean: zinker import {id}@NUMBER --adopt"
        why = f"nothing is kept of this machine, but of {', '.join(others)}"
        raise WrongUsage(f"No {place}:{id}", why, then)
    machine = others[0] if others else machine
    return f"{id}{slash}{instance}@{setup.shelf.find(id, which or 'latest', place, machine).number}"


def _others(setup: Setup, place: str, subject: str, machine: str) -> list[str]:
    """Return the other machines that have something of a subject, where this one has nothing."""
    kept = [one for one in setup.shelf.versions(subject) if one.place == place and one.is_asked_for]
    found = {one.machine for one in kept}
    return [] if machine in found else sorted(found)


def export_round(
    setup: Setup,
    what: Round,
    capture: "Callable[[Setup, str, str], Exported]",
) -> Iterator[Kept]:
    """Capture all members by `capture`, places side by side; yields what came of each, place by place.

    What has no name is captured one by one, so that version numbers follow the order in which it was named. What
    fails at one place does not stop the others.
    """
    groups: dict[str, list[tuple[str, str]]] = {}
    for place, subject in what.members:
        groups.setdefault(place.partition("/")[0], []).append((place, subject))

    def captured(members: Iterable[tuple[str, str]]) -> list[Kept]:
        own = setup.beside()
        return [_captured(own, place, subject, capture) for place, subject in members]

    if len(groups) <= 1 or not what.name:
        yield from (_captured(setup, *one, capture) for one in what.members)
        return
    with ThreadPoolExecutor(min(CONCURRENCY, len(groups))) as pool:
        for done, kept in enumerate(pool.map(captured, groups.values()), 1):
            setup.progress("Places", done, len(groups))
            yield from kept


def _captured(
    setup: Setup, place: str, subject: str, capture: "Callable[[Setup, str, str], Exported]"
) -> Kept:
    try:
        if subject == _ANY:
            setup.place(place)  # says why it is not known what is there
        return Kept(place, subject, capture(setup, place, subject))
    except ZinkerError as error:
        return Kept(place, subject, error=error)


def documented_round(
    setup: Setup, what: Round, is_live: bool, left: list[tuple[str, str, str]]
) -> "Iterator[Documented]":
    """Open one member after another to be written down, a version of it or as it is now.

    What cannot be opened is put into `left`: place, subject and why; it does not stop the others.
    """
    from zinker.jobs.documenting import documented

    for place, subject in what.members:
        try:
            if subject == _ANY:
                setup.place(place)
            reference = f"{place}:{subject}" if is_live else version_of(setup, place, subject, what.version)
            with documented(setup, reference) as found:
                yield found
        except ZinkerError as error:
            left.append((place, subject, error.why or str(error)))

"""Survey: of every place and subject, how old the newest version is, what changed since, and which one is odd."""

import contextlib
import datetime
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from typing import Any, Literal, TypeAlias

import msgspec

from zinker.jobs.comparing import compare
from zinker.jobs.finding import subject_states
from zinker.jobs.period import is_for_all, is_of_another_machine
from zinker.jobs.references import parse_reference
from zinker.jobs.setup import Setup
from zinker.jobs.side_by_side import SECONDS, looked_at
from zinker.jobs.sources import subject_known
from zinker.model.address import matches
from zinker.model.errors import Damaged, WrongUsage, ZinkerError
from zinker.model.names import place_told, unknown
from zinker.model.profile import Manifest
from zinker.model.setting import DOCUMENT, WITHHELD, Leaf, Setting
from zinker.shelf.shelf import Version
from zinker.subjects.subject import Subject

# `kept` is captured, and not long ago; `never` is there, but was never captured; `missing` was captured, and is not
# there any more; `silent` is a place that does not answer, `failed` a subject that could not be looked at.
State = Literal["kept", "stale", "never", "missing", "silent", "failed"]
CONCURRENCY = 32
# Fewer places than these have no usual way.
_FEWEST = 3
_MOST_ODD = 20  # settings of one place that are told
_ABSENT = 0  # stands for the digest of what is not there

_Where: TypeAlias = tuple[str, str, str]  # part, document, address


class Cell(msgspec.Struct, frozen=True):
    """One subject at one place; numbers are None where that is unknown, `subject` is "" for a place as a whole."""

    place: str
    subject: str
    state: State
    newest: Version | None = None
    # How many settings differ from the newest version, and from the reference.
    changed: int | None = None
    drift: int | None = None
    why: str = ""

    @property
    def is_right(self) -> bool:
        """Whether it is captured, as it is now, and as it should be."""
        return self.state == "kept" and not self.changed and not self.drift and not self.why


class Odd(msgspec.Struct, frozen=True):
    """A setting that is another one in the newest version of a place than at most places that have the subject."""

    part: str
    document: str
    address: str
    usual: Leaf | None
    own: Leaf | None
    # How many of how many places have it as usual.
    share: tuple[int, int]


class Oddity(msgspec.Struct, frozen=True):
    """A place that is not like most others: some of its settings that are not, and how many there are."""

    subject: str
    version: Version
    count: int
    settings: tuple[Odd, ...]


class Survey(msgspec.Struct, frozen=True):
    """All cells, by place and subject, and what is odd, the oddest first; `against` is the reference, or ""."""

    cells: tuple[Cell, ...]
    subjects: dict[str, str]
    oddities: tuple[Oddity, ...] = ()
    against: str = ""

    @property
    def is_right(self) -> bool:
        """Whether everything is captured, as it is now, and as it should be."""
        return all(cell.is_right for cell in self.cells)


def survey(
    setup: Setup,
    places: tuple[str, ...] = (),
    subjects: tuple[str, ...] = (),
    against: str = "",
    seconds: float = SECONDS,
    concurrency: int = CONCURRENCY,
    members: Sequence[tuple[str, str]] | None = None,
) -> Survey:
    """Look at places, all by default, side by side; one that does not answer within `seconds` is silent.

    Of the subjects, all by default, those count that are at a place or were captured there. `against` is a version
    of one subject, or `@` with the label or day of those of all. With `members`, only these places and subjects are
    looked at. What is odd is found among the newest versions. Raises `WrongUsage`.
    """
    if members is not None:
        places = tuple(dict.fromkeys(place for place, _ in members))
        subjects = tuple(dict.fromkeys(subject.partition("/")[0] for _, subject in members))
    for place in places:
        setup.check_place(place)
    for subject in subjects:
        setup.catalogue.find(subject)
    known = tuple(subjects) or tuple(dict.fromkeys([*setup.catalogue.files(), *setup.shelf.subjects()]))
    newest, damaged = _newest(setup, known)
    reachable = {place for place, _ in newest if place.partition("/")[0] in setup.places}
    names = places or tuple(dict.fromkeys([*setup.places, *sorted(reachable)]))
    looker = _Looker(setup, known, newest, _references(setup, known, against), members)
    cells: list[Cell] = []
    for done, (place, found) in enumerate(looked_at(names, looker.look, seconds, concurrency), 1):
        setup.progress("Places", done, len(names))
        cells += looker.silent(place, found) if isinstance(found, str) else found
    # What was captured of other machines, or of places that zinker.toml no longer names, is seen, too.
    others = sorted({place for place, _ in newest} - {*names}) if not places else []
    why = "it cannot be looked at from here"
    cells += [cell for place in others for cell in looker.silent(place, why)]
    cells += [Cell("", id, "failed", why=f"damaged: {reference}") for id, reference in damaged]
    cells.sort(key=lambda cell: (cell.place, cell.subject))
    if not cells:
        then = "`zinker subjects` looks closer."
        raise WrongUsage("No survey", "nothing is kept, and nothing is there", then)
    titles = {cell.subject: looker.title(cell.subject) for cell in cells if cell.subject}
    meant = {*names, *others}
    kept = {key: version for key, version in newest.items() if key[0] in meant}
    return Survey(tuple(cells), titles, tuple(_oddities(setup, known, kept)), against)


def _newest(
    setup: Setup, subjects: Iterable[str]
) -> tuple[dict[tuple[str, str], Version], list[tuple[str, str]]]:
    """Return the newest version of every place and subject, and the subjects and names of damaged ones.

    What another machine calls `here` goes by the name of that machine.
    """
    kept = setup.shelf.subjects()
    versions = [one for id in subjects if id in kept for one in setup.shelf.versions(id)]
    newest: dict[tuple[str, str], Version] = {}
    for version in versions:
        is_elsewhere = is_of_another_machine(version.place, version.machine)
        name = place_told(version.place, version.machine) if is_elsewhere else version.place
        if version.is_asked_for:
            newest[name, version.subject] = version
    return newest, [(one.subject, one.reference) for one in versions if one.problem]


def _references(setup: Setup, subjects: Iterable[str], against: str) -> dict[tuple[str, str], str]:
    """Return the version that each place and subject is held against; "" is any place that has none of its own.

    Raises `WrongUsage` where there is none at all.
    """
    if not against:
        return {}
    if not is_for_all(against):
        wanted = parse_reference(against)
        if wanted.subject not in subjects:
            raise unknown("subject", wanted.subject, subjects, "--against takes one of these.")
        version = setup.shelf.find(wanted.subject, wanted.version or "latest", wanted.place)
        return {("", wanted.subject): version.reference}
    place, _, which = against.rpartition("@")
    found: dict[tuple[str, str], str] = {}
    for subject in subjects:
        labelled = [one for one in setup.shelf.versions(subject) if one.label == which]
        if len(labelled) > 1 and not place:  # one of each place
            found |= {(one.place, subject): one.reference for one in labelled}
            continue
        with contextlib.suppress(WrongUsage):
            found["", subject] = setup.shelf.find(subject, which, place.rstrip(":")).reference
    if not found:
        raise WrongUsage(
            "No survey", f"no version of any subject is called {against}", "`zinker list` shows all."
        )
    return found


class _Looker:
    """What is needed to look at one place after another, each from a thread of its own."""

    def __init__(
        self,
        setup: Setup,
        subjects: tuple[str, ...],
        newest: dict[tuple[str, str], Version],
        references: dict[tuple[str, str], str],
        members: Sequence[tuple[str, str]] | None,
    ) -> None:
        # Looked up once, and not by several threads at once.
        setup.withholder()
        self._described = {id: subject_known(setup, id) for id in subjects}
        self._setup, self._newest, self._references = setup, newest, references
        self._members = None if members is None else {(at, id.partition("/")[0]) for at, id in members}
        self._old = datetime.datetime.now().astimezone() - datetime.timedelta(days=setup.stale_days)

    def title(self, subject: str) -> str:
        """Return the title of a subject, or its id where no subject file is here."""
        described = self._described.get(subject)
        return described.title if described is not None else subject

    def silent(self, place: str, why: str) -> list[Cell]:
        """Return the cells of a place that does not answer."""
        kept = [subject for subject in self._meant(place) if (place, subject) in self._newest]
        return [Cell(place, id, "silent", self._newest[place, id], why=why) for id in kept] or [
            Cell(place, "", "silent", why=why)
        ]

    def _meant(self, place: str) -> list[str]:
        """Return the subjects that are looked at there."""
        return [id for id in self._described if self._members is None or (place, id) in self._members]

    def look(self, place: str) -> list[Cell]:
        """Return the cells of a place; raises what it cannot be looked at for."""
        setup = self._setup.beside()
        setup.notify = lambda text: None
        setup.place(place)
        return [
            cell for subject in self._meant(place) if (cell := self._cell(setup, place, subject)) is not None
        ]

    def _cell(self, setup: Setup, place: str, subject: str) -> Cell | None:
        newest = self._newest.get((place, subject))
        described = self._described[subject]
        if described is None:
            why = "no subject file of it is here"
            return Cell(place, subject, "failed", newest, why=why) if newest is not None else None
        try:
            (state,) = subject_states(setup, subject, place)
            if not state.is_present:
                return (
                    Cell(place, subject, "missing", newest, why="nothing of it is there") if newest else None
                )
            live, drift = f"{place}:{subject}", None
            if reference := self._references.get((place, subject)) or self._references.get(("", subject)):
                drift = len(compare(setup, reference, live).differences)
            if newest is None:
                return Cell(place, subject, "never", drift=drift)
            found = compare(setup, newest.reference, live)
        except ZinkerError as error:
            return Cell(place, subject, "failed", newest, why=error.why or str(error))
        is_stale = datetime.datetime.fromisoformat(newest.known) < self._old
        why = f"{len(found.uncertain):,} could not be read" if found.uncertain else ""
        state_of: State = "stale" if is_stale else "kept"
        return Cell(place, subject, state_of, newest, len(found.differences), drift, why)


def _oddities(
    setup: Setup, subjects: Iterable[str], newest: dict[tuple[str, str], Version]
) -> Iterator[Oddity]:
    """Yield the places that are not like most others, subject by subject, the oddest first."""
    for subject in subjects:
        versions = [one for (_, id), one in newest.items() if id == subject]
        with contextlib.suppress(Damaged):  # `check` says which; what was looked at stands all the same
            if len(versions) >= _FEWEST:
                yield from _odd_ones(setup, subject, versions)


def _odd_ones(setup: Setup, subject: str, versions: list[Version]) -> Iterator[Oddity]:
    """Yield those of some versions that have settings otherwise than more than half of them."""
    described, total = subject_known(setup, subject), len(versions)
    tally: dict[_Where, Counter[int]] = {}
    for version in versions:
        for where, leaf, _ in _told(setup, version, described):
            tally.setdefault(where, Counter())[_digest(leaf)] += 1
    usual: dict[_Where, tuple[int, int]] = {}
    for where, counts in tally.items():
        counts[_ABSENT] = total - sum(counts.values())  # not to have it is a way to have it, too
        ((digest, number),) = counts.most_common(1)
        if total > number > total / 2:
            usual[where] = digest, number
    examples: dict[_Where, Leaf] = {}
    found: list[tuple[Version, list[tuple[_Where, Leaf | None]]]] = []
    for version in versions:
        own = {
            where: (leaf, real) for where, leaf, real in _told(setup, version, described) if where in usual
        }
        odd: list[tuple[_Where, Leaf | None]] = []
        for where, (digest, _) in usual.items():
            known = own.get(where)
            real = known[1] if known else None
            if (_digest(known[0]) if known else _ABSENT) != digest:
                odd.append((where, real))
            elif real is not None:
                examples.setdefault(where, real)
        if odd:
            found.append((version, sorted(odd, key=lambda one: one[0])))
    for version, odd in sorted(found, key=lambda one: -len(one[1])):
        told = (
            Odd(*where, examples.get(where), own, (usual[where][1], total)) for where, own in odd[:_MOST_ODD]
        )
        yield Oddity(subject, version, len(odd), tuple(told))


def _told(setup: Setup, version: Version, subject: Subject | None) -> Iterator[tuple[_Where, Leaf, Leaf]]:
    """Yield the settings of a version: where, with what is the place's own as variables, and as they are."""
    with contextlib.closing(setup.shelf.open(version)) as profile:
        own = _Own(profile.manifest)
        for record in profile.manifest.parts:
            part = subject.find_part(record.id) if subject else None
            volatile = part.volatile if part else ()
            for setting in profile.settings(record.id) if not record.device_bound else ():
                if _counts(setting, volatile):
                    where = (record.id, own.without(setting.document), own.without(setting.address))
                    yield (
                        where,
                        msgspec.structs.replace(setting.leaf, value=own.without(setting.value)),
                        setting.leaf,
                    )


def _counts(setting: Setting, volatile: Iterable[str]) -> bool:
    is_out = setting.type in (DOCUMENT, WITHHELD) or (setting.is_head and "sha256" not in setting.value)
    return not is_out and not any(matches(pattern, setting.address) for pattern in volatile)


class _Own:
    """What is a place's own in names and values: its folders, account, machine and name. These are no oddity."""

    def __init__(self, about: Manifest) -> None:
        folders = sorted((text for text in about.folders.values() if len(text) > 1), key=len, reverse=True)
        names = {about.user, about.machine, about.place, about.place.rpartition("/")[2]} - {""}
        words = (rf"(?<!\w){re.escape(name)}(?!\w)" for name in sorted(names, key=len, reverse=True))
        self._own = {text: f"{{{name}}}" for name, text in about.folders.items()}
        self._pattern = re.compile("|".join((*map(re.escape, folders), *words)) or r"(?!)")

    def without(self, value: Any) -> Any:
        """Return a text, or all texts of a list, with variables for what is the place's own."""
        if isinstance(value, str):
            return self._pattern.sub(lambda found: self._own.get(found[0], "{own}"), value)
        return [self.without(item) for item in value] if isinstance(value, list) else value


def _digest(leaf: Leaf) -> int:
    return hash((leaf.type, msgspec.json.encode(leaf.value))) or 1

"""Compare: what is not the same in two profiles, two places, or a profile and a place."""

import contextlib
import queue
import threading
from collections.abc import Iterator

import msgspec

from zinker.jobs.authors import authors, changes_between
from zinker.jobs.capture.selection import Selection, select
from zinker.jobs.progress import Progress
from zinker.jobs.references import Reference, parse_reference
from zinker.jobs.setup import Setup
from zinker.jobs.sources import Source, live, opened, subject_of
from zinker.jobs.translate.instances import as_instance
from zinker.jobs.translate.people import renamed, with_people
from zinker.jobs.translate.policies import Policies, joined, titles_in
from zinker.jobs.translate.rules import World, crosswalk_for
from zinker.jobs.translate.view import Translated
from zinker.model.address import matches
from zinker.model.change import Change
from zinker.model.crosswalk import Crosswalk, Rules
from zinker.model.difference import Difference, differences, paired_by_case
from zinker.model.errors import WrongUsage
from zinker.model.file_state import is_withheld
from zinker.model.lines import count_settings
from zinker.model.policy import LastChange, Titles
from zinker.model.profile import Manifest, PartRecord, Problem
from zinker.model.setting import DOCUMENT, GONE, Setting, decode_line, text_of
from zinker.model.where import Where
from zinker.stores.kinds import traits_of
from zinker.subjects.catalogue import Catalogue
from zinker.subjects.subject import Subject

_AHEAD = 4  # pieces of a stream


class Wanted(msgspec.Struct, frozen=True):
    """What of two sides is to be compared, and which differences are asked for; all of it unless it says otherwise.

    `documents` are names or patterns. `kinds` are words of differences, and `find` a text in document, address,
    title or value, whatever the case. Volatile settings are left out unless they are asked for.
    """

    parts: tuple[str, ...] = ()
    documents: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()
    find: str = ""
    volatile: bool = False


ALL = Wanted()


class Comparison(msgspec.Struct, frozen=True):
    """What was compared with what, and what came out.

    `documents` names those that are on one side only, by part and document, as `new` or `gone`;
    `uncertain` names what could not be read on one side, and therefore is not counted as a difference;
    `alone` the parts that only one side holds.
    """

    before: str
    after: str
    about: Manifest
    subject: Subject | None
    parts: tuple[PartRecord, ...]
    differences: tuple[Difference, ...]
    alike: int
    uncertain: tuple[Problem, ...] = ()
    alone: tuple[str, ...] = ()
    documents: dict[tuple[str, str], str] = {}
    # What a service calls settings; and what policies were called before.
    titles: Titles = {}
    renamed: dict[tuple[str, str], str] = {}
    # Who changed policies last, on the side that is looked at after the other.
    last_changes: dict[tuple[str, str], LastChange] = {}
    # How many more differences there are, which were not asked for.
    hidden: int = 0
    # Changes that Zinker made in between, and by which of them a setting came to what it is.
    changes: tuple[Change, ...] = ()
    authors: dict[Where, Change] = {}


def compare(
    setup: Setup,
    reference: str,
    other: str = "",
    wanted: Wanted = ALL,
    place: str = "",
    rules: Rules | None = None,
    prefix: str = "",
    suffix: str = "",
) -> Comparison:
    """Compare two references; with one alone, a profile with the live settings of the place it is from.

    Two instances are compared as if they were one. With `prefix` and `suffix`, the policies of the first are called
    as an import with these calls them. With the `rules` of a crosswalk, the first is translated to the world of the
    second, as an import would. Raises `WrongUsage`, `Refused` and `Damaged`.
    """
    first, parts = parse_reference(reference), wanted.parts
    with contextlib.ExitStack() as stack:
        before = stack.enter_context(opened(setup, first, parts))
        subject = subject_of(setup, before)
        ids = _chosen(subject, before, parts)
        after = stack.enter_context(_other_side(setup, first, other, before, subject, ids, place))
        second = parse_reference(other) if other else first
        instance = second.instance or first.instance
        if other and second.instance:
            names = ((p.id, name) for p in after.manifest.parts for name in after.snapshot.documents(p.id))
            Selection(subject.part if subject else (), instance).check(names, after.name)
        renames, references = renamed(subject, before.snapshot, prefix, suffix) if subject else ({}, ())
        if subject and first.instance and instance != first.instance:
            renames |= as_instance(before.snapshot, before.name, subject, first.instance, instance)
        if rules is not None or renames:
            own = Crosswalk(references, renames=renames)
            before = _translated(before, after, rules, own, setup.catalogue)
            if instance != first.instance:
                told = f", {first.instance} as {instance}"
                before = msgspec.structs.replace(before, translation=told)
        if before.manifest.subject != after.manifest.subject:
            why = f"{before.name} is {before.manifest.title}, and {after.name} is {after.manifest.title}"
            raise WrongUsage("Not compared", why, "Compare profiles of the same subject.")
        chosen = tuple(part for id in ids if subject and (part := subject.find_part(id)))
        selection = Selection(chosen, instance, wanted.documents)
        held = [(side, part.id) for side in (before, after) for part in side.manifest.parts]
        known = ((id, name) for side, id in held for name in side.snapshot.documents(id))
        selection.check(known, f"{before.name} or {after.name}")
        whole = not_volatile(subject) if wanted.volatile and subject else subject
        comparison = _asked_for(_compared(before, after, whole, ids, selection, setup.progress), wanted)
        if not comparison.differences:
            return comparison
        changes = changes_between(setup.shelf.changes.all, before.manifest, after.manifest)
        wrote = authors(setup, changes, comparison.differences)
        return msgspec.structs.replace(comparison, changes=changes, authors=wrote)


def not_volatile(subject: Subject) -> Subject:
    """Return a subject nothing of which is left out because it changes by itself."""
    parts = tuple(msgspec.structs.replace(part, volatile=()) for part in subject.part)
    return msgspec.structs.replace(subject, part=parts)


def _asked_for(comparison: Comparison, wanted: Wanted) -> Comparison:
    """Return a comparison with those differences that were asked for, and how many there are besides."""
    if wanted.parts:
        asked = tuple(id for id in comparison.alone if id in wanted.parts)
        comparison = msgspec.structs.replace(comparison, alone=asked)
    if not wanted.kinds and not wanted.find:
        return comparison
    find, subject = wanted.find.casefold(), comparison.subject

    def is_asked_for(difference: Difference) -> bool:
        part = subject.find_part(difference.part) if subject else None
        own = comparison.titles.get((difference.part, difference.document), {})
        title = own.get(difference.address) or (part.titles.get(difference.address, "") if part else "")
        texts = (
            difference.document,
            difference.address,
            title,
            text_of(difference.before),
            text_of(difference.after),
        )
        is_kind = not wanted.kinds or difference.word in wanted.kinds
        return is_kind and find in "\n".join(texts).casefold()

    found = tuple(filter(is_asked_for, comparison.differences))
    hidden = len(comparison.differences) - len(found)
    return msgspec.structs.replace(comparison, differences=found, hidden=hidden)


def _translated(
    before: Source, after: Source, rules: Rules | None, crosswalk: Crosswalk, catalogue: Catalogue
) -> Source:
    """Return the settings as they would be in the world of others, under the name of their subject there."""
    about, own = after.manifest, crosswalk
    subject = before.manifest.subject
    if rules is not None:
        world = World(about.place, about.folders, about.application_version)
        crosswalk = crosswalk_for(before.manifest, world, rules)
        subject = rules.subjects.get(subject, subject)
        if rules.groups or rules.users:
            crosswalk = with_people(crosswalk, catalogue.find(subject), rules)
        replaces = (*crosswalk.replaces, *own.replaces)
        crosswalk = msgspec.structs.replace(crosswalk, replaces=replaces, renames=own.renames)
    translated = Translated(before.snapshot, crosswalk)
    translated.manifest = msgspec.structs.replace(before.manifest, subject=subject)
    return msgspec.structs.replace(before, translation=", translated", snapshot=translated)


def _chosen(subject: Subject | None, before: Source, parts: tuple[str, ...]) -> tuple[str, ...]:
    if subject is not None:
        select(subject, parts, ())  # raises for a part that does not exist
    held = [part.id for part in before.manifest.parts]
    missing = [id for id in parts if id not in held]
    if missing:
        why = f"{before.name} does not hold the part {', '.join(missing)}"
        raise WrongUsage("Not compared", why, f"It holds {', '.join(held) or 'nothing'}.")
    return parts or tuple(held)


def _other_side(
    setup: Setup,
    first: Reference,
    other: str,
    before: Source,
    subject: Subject | None,
    ids: tuple[str, ...],
    place: str,
) -> contextlib.AbstractContextManager[Source]:
    if other:
        return opened(setup, parse_reference(other), ids if subject else ())
    if before.is_live:
        why = f"{first.text} is live already, and needs something to be compared with"
        raise WrongUsage("Not compared", why, f"Try `zinker compare {first.subject}@latest {first.text}`.")
    if subject is None:
        subject = setup.catalogue.find(before.manifest.subject)
    there = place or (
        before.manifest.place if before.manifest.place.partition("/")[0] in setup.places else "here"
    )
    known = tuple(id for id in ids if subject.find_part(id))
    return live(setup, there, subject, known, first.instance)


def _compared(
    before: Source,
    after: Source,
    subject: Subject | None,
    ids: tuple[str, ...],
    selection: Selection,
    progress: Progress,
) -> Comparison:
    held = {part.id for part in before.manifest.parts} & {part.id for part in after.manifest.parts}
    homeless = {**before.homeless, **after.homeless}
    held -= {id for id in homeless if not _is_empty(id, before, after)}
    found: list[Difference] = []
    documents: dict[tuple[str, str], str] = {}
    alike = 0
    renamed: dict[tuple[str, str], str] = {}
    last_changes: dict[tuple[str, str], LastChange] = {}
    for record in before.manifest.parts:
        if record.id in held and record.id in ids:
            different, same = _compare_part(before, after, record, subject, selection, progress)
            refers = traits_of(record.store).refers
            policies = subject.find_part(record.id) if subject and refers else None
            if policies is not None:
                old = Policies(policies, before.snapshot)
                new = Policies(policies, after.snapshot)
                different, gained = joined(different, old, new, renamed)
                same += gained
                last_changes |= dict(new.last_changes())
            found += [d for d in different if not _is_head(d)]
            heads = (d for d in different if not d.address and d.word != "changed")
            documents |= {(d.part, d.document): d.word for d in heads}
            alike += same
    nowhere = [Problem(id, "", "", why) for id, why in homeless.items() if id in ids and id not in held]
    uncertain = [p for s in (before, after) for p in s.manifest.problems if p.part in ids and p.is_unknown]
    manifests = (before.manifest, after.manifest)
    certain = [d for d in found if not is_uncertain(d, *manifests) and not _is_beyond(d, before, after)]
    unclear = [_unclear(d) for d in certain if _is_unclear(d)]
    sides = [part.id for s in (before, after) for part in s.manifest.parts if part.id not in homeless]
    alone = [id for id in sides if id not in held]
    return Comparison(
        before.told,
        after.told,
        before.manifest,
        subject,
        tuple(part for part in before.manifest.parts if part.id in held),
        tuple(d for d in certain if not _is_unclear(d)),
        alike,
        (*nowhere, *uncertain, *unclear),
        tuple(alone),
        documents,
        titles_in(subject, before.snapshot, after.snapshot),
        renamed,
        last_changes,
    )


def _is_empty(id: str, before: Source, after: Source) -> bool:
    """Whether neither side has anything of a part."""
    records = (side.manifest.part(id) for side in (before, after))
    return not any(record.documents for record in records if record)


def _compare_part(
    before: Source,
    after: Source,
    record: PartRecord,
    subject: Subject | None,
    selection: Selection,
    progress: Progress,
) -> tuple[list[Difference], int]:
    part = subject.find_part(record.id) if subject else None

    def is_ignored(setting: Setting) -> bool:
        is_out = part is not None and any(matches(pattern, setting.address) for pattern in part.volatile)
        return is_out or (part is not None and not selection.has(part, setting.document))

    alike = 0

    def counted(pieces: Iterator[bytes]) -> Iterator[bytes]:
        """Count the settings that take part in the comparison."""
        nonlocal alike
        for piece in pieces:
            if part is None or not (part.volatile or selection.is_narrow):
                alike += count_settings(piece)
            else:
                settings = map(decode_line, piece[:-1].split(b"\n"))
                alike += sum(not (s.is_head and s.type == DOCUMENT) and not is_ignored(s) for s in settings)
            progress(record.title, alike, record.settings)
            yield piece

    traits = traits_of(record.store)
    if not traits.has_files and not selection.is_narrow and not (part and part.volatile):
        unlike = before.snapshot.unlike(after.snapshot, record.id)
        if unlike is not None:  # what both have need not be read to be counted
            first, second = (iter([line + b"\n" for line in lines]) for lines in unlike)
            found = differences(record.id, first, second, is_ignored)
            different = paired_by_case(found) if traits.folds_case else list(found)
            held = sum(d.before is not None for d in different if not _is_head(d))
            return different, record.settings - held
    pieces = [side.snapshot.pieces(record.id) for side in (before, after)]
    with read_along(pieces[0]) as first, read_along(pieces[1]) as second:
        found = differences(record.id, counted(first), second, is_ignored)
        different = paired_by_case(found) if traits.folds_case else list(found)
    return different, alike - sum(d.before is not None for d in different if not _is_head(d))


@contextlib.contextmanager
def read_along(pieces: Iterator[bytes]) -> Iterator[Iterator[bytes]]:
    """Read a stream in a thread of its own, a few pieces ahead: unpacking and hashing let others run."""
    waiting: queue.Queue[bytes | BaseException | None] = queue.Queue(_AHEAD)
    is_over = threading.Event()

    def put(item: bytes | BaseException | None) -> None:
        while not is_over.is_set():
            with contextlib.suppress(queue.Full):
                waiting.put(item, timeout=0.1)
                return

    def read() -> None:
        try:
            for piece in pieces:
                put(piece)
                if is_over.is_set():
                    return
            put(None)
        except BaseException as error:  # noqa: BLE001 - it is raised where the pieces are wanted
            put(error)

    def taken() -> Iterator[bytes]:
        while (item := waiting.get()) is not None:
            if isinstance(item, BaseException):
                raise item
            yield item

    thread = threading.Thread(target=read, daemon=True)
    thread.start()
    try:
        yield taken()
    finally:
        is_over.set()
        thread.join()


def _is_head(difference: Difference) -> bool:
    """Whether this is only the opening line of a document that is on one side alone."""
    leaf = difference.after or difference.before
    return not difference.address and leaf is not None and leaf.type == DOCUMENT


def is_uncertain(difference: Difference, before: Manifest, after: Manifest) -> bool:
    """Whether a setting is missing on a side only because it could not be read there."""
    side = before if difference.before is None else after if difference.after is None else None
    return side is not None and any(
        problem.part == difference.part
        and problem.is_unknown
        and problem.document in ("", difference.document)
        and difference.address.startswith(problem.address)
        for problem in side.problems
    )


def _is_beyond(difference: Difference, before: Source, after: Source) -> bool:
    """Whether a side that holds only some settings does not know this one, or knows that it is not there."""
    for own, other, side in (
        (difference.before, difference.after, before),
        (difference.after, difference.before, after),
    ):
        if side.manifest.partial and (own is None or (own.type == GONE and other is None)):
            return True
    return False


def _is_unclear(difference: Difference) -> bool:
    """Whether both sides withhold a secret under fingerprints that cannot be compared."""
    one, other = difference.before, difference.after
    both = is_withheld(one) and is_withheld(other)
    return both and one is not None and other is not None and one.value.get("key") != other.value.get("key")


def _unclear(difference: Difference) -> Problem:
    why = "a secret, withheld on two machines: whether it is the same cannot be told"
    return Problem(difference.part, difference.document, difference.address, why)

"""Choosing from a plan: what has changed since the place was last kept, conflicts, and leaving items out."""

import contextlib
from collections.abc import Callable, Iterator
from pathlib import PurePosixPath
from typing import Literal

import msgspec

from zinker.jobs.applying import Work
from zinker.jobs.homes import Home
from zinker.jobs.planning import Sides, with_result, without_secret
from zinker.jobs.setup import Setup
from zinker.jobs.translating import Translated
from zinker.jobs.withholding import Withholder
from zinker.model.address import folded, matches
from zinker.model.errors import Refused
from zinker.model.plan import DocumentPlan, LeftAlone, Plan, PlanItem, Since
from zinker.model.profile import Manifest
from zinker.model.setting import DOCUMENT, WHOLE, WITHHELD, Leaf, Setting, about_of, decode_line
from zinker.places.place import Place
from zinker.shelf.shelf import Version
from zinker.stores.desktop_db import DesktopHome
from zinker.stores.files import FileHome
from zinker.stores.registry import RegistryHome
from zinker.subjects.subject import Part

Answer = Literal["overwrite", "skip", "rename"]
# Says why an item is to be left alone, or "" if it is to be written.
Verdict = Callable[[DocumentPlan, PlanItem], str]

_SKIPPED = "skipped: something else is there"


class Conflict(msgspec.Struct, frozen=True):
    """Something at the place that would be overwritten, though it may be wanted.

    `item` is None for a document as a whole; `can_rename` tells whether both can be kept, under two names.
    """

    part: Part
    document: DocumentPlan
    item: PlanItem | None
    can_rename: bool = False


Resolve = Callable[[Conflict], Answer]


def overwrite(conflict: Conflict) -> Answer:
    """Answer every conflict by overwriting what is there."""
    return "overwrite"


def with_base(setup: Setup, place: Place, plan: Plan) -> Plan:
    """Say of every item where it has changed since the place was last kept."""
    version = _last_kept(setup, place, plan.subject)
    if version is None or version.manifest is None or not plan.documents:
        return plan
    with contextlib.closing(setup.shelf.open(version)) as profile:
        known = {part.id for part in profile.manifest.parts if not part.homeless}
        unknown = {(p.part, p.document) for p in profile.manifest.problems if p.is_unknown}
        parts = dict.fromkeys(document.part for document in plan.documents)
        kept = {part: _kept(plan, part, profile.lines(part)) for part in parts if part in known}
    _add_changes(setup, place, version, kept, plan.subject)
    documents = []
    for document in plan.documents:
        here = kept.get(document.part)
        if here is not None and not unknown & {(document.part, ""), (document.part, document.document)}:
            items = tuple(_since(item, here.get(_name(document, item.address))) for item in document.items)
            document = msgspec.structs.replace(document, items=items)
        documents.append(document)
    return msgspec.structs.replace(plan, documents=tuple(documents), base=version.reference)


def _last_kept(setup: Setup, place: Place, subject: str) -> Version | None:
    """Return the last version of a place that somebody kept, whole."""
    for version in reversed(setup.shelf.versions(subject)):
        about = version.manifest
        if about is None or about.fallback_of or about.partial:
            continue
        if (about.place, about.machine) == (place.name, place.machine):
            return version
    return None


def _name(document: DocumentPlan, address: str) -> tuple[str, str]:
    # Where the case of names does not count, it is not known here; elsewhere two that differ by it are rare.
    return folded(document.document), folded(address)


def _kept(plan: Plan, part: str, lines: Iterator[bytes]) -> dict[tuple[str, str], Leaf]:
    """Return what the items of a part were in the last kept version."""
    wanted = {_name(d, item.address) for d in plan.documents if d.part == part for item in d.items}
    settings = map(decode_line, lines)
    named = (((folded(setting.document), folded(setting.address)), setting) for setting in settings)
    return {name: Leaf(setting.type, setting.value) for name, setting in named if name in wanted}


def _add_changes(
    setup: Setup, place: Place, version: Version, kept: dict[str, dict[tuple[str, str], Leaf]], subject: str
) -> None:
    """Add what Zinker itself has changed at the place since: nobody has to be warned of that."""
    changes = setup.shelf.changes
    since = version.manifest.captured if version.manifest else ""
    for change in changes.all():
        is_here = (change.place, change.place_machine, change.subject) == (place.name, place.machine, subject)
        if not is_here or change.state not in ("done", "partly", "undone") or change.started < since:
            continue
        not_written = {(left.part, left.document, left.address) for left in change.left}
        for document in changes.documents(change):
            for item in document.items:
                if (
                    document.part not in kept
                    or (document.part, document.document, item.address) in not_written
                ):
                    continue
                if item.after is None:
                    kept[document.part].pop(_name(document, item.address), None)
                else:
                    kept[document.part][_name(document, item.address)] = item.after


def _since(item: PlanItem, kept: Leaf | None) -> PlanItem:
    here, there = not _same(item.before, kept), not _same(item.after, kept)
    since: Since = "both" if here and there else "here" if here else "there"
    return msgspec.structs.replace(item, since=since, kept=kept)


def _same(one: Leaf | None, other: Leaf | None) -> bool:
    if one is None or other is None:
        return one is other
    if one.type == other.type == WHOLE:
        # Not every place knows permission bits.
        keys = ("sha256", "link", "folder")
        return all(one.value.get(key) == other.value.get(key) for key in keys)
    if one.type == other.type == DOCUMENT:
        return True
    return one == other


def merged(work: Work, plan: Plan) -> Plan:
    """Leave alone what has changed here since the place was last kept; raises `Refused` where nobody knows."""
    if not plan.base and any(item.before is not None for d in plan.documents for item in d.items):
        why = f"nothing is kept of {plan.subject} at {plan.place}, so nobody knows what has changed there"
        raise Refused(
            "Not merged", why, f"Export it first: zinker export {plan.subject} --place {plan.place}"
        )

    def verdict(document: DocumentPlan, item: PlanItem) -> str:
        if item.since == "both":
            return "it has changed on both sides"
        return "only this place has changed it" if item.since == "here" else ""

    narrow = narrowed(work, plan, verdict)
    left = tuple(
        msgspec.structs.replace(item, wanted=False) if item.why.startswith("only this") else item
        for item in narrow.left
    )
    return msgspec.structs.replace(narrow, left=left)


def at_addresses(work: Work, plan: Plan, patterns: tuple[str, ...]) -> Plan:
    """Keep what stands at an address that fits one of some patterns; the rest was not asked for."""

    def verdict(document: DocumentPlan, item: PlanItem) -> str:
        return "" if any(matches(pattern, item.address) for pattern in patterns) else "-"

    found = narrowed(work, plan, verdict, whole="no part of a file can come where the file is not there")
    left = tuple(item for item in found.left if item.why != "-")
    return msgspec.structs.replace(found, left=left)


def narrowed(work: Work, plan: Plan, verdict: Verdict, whole: str = "") -> Plan:
    """Return a plan without some of its items, which it leaves alone for the reasons given.

    A file that would come, go or be replaced as a whole is left alone if any of its items is; for the reason
    `whole` if only some of them are.
    """
    documents: list[DocumentPlan] = []
    left = list(plan.left)
    withholder = Withholder(work.setup.home)
    for document in plan.documents:
        whys = [verdict(document, item) for item in document.items]
        if not any(whys):
            documents.append(document)
            continue
        if document.action != "edit":
            why = next(filter(None, whys))
            why = whole if whole and not all(whys) else why
            left.append(LeftAlone(document.part, document.document, "", why, wanted=why != "-"))
            continue
        pairs = list(zip(document.items, whys, strict=True))
        left += [LeftAlone(document.part, document.document, item.address, why) for item, why in pairs if why]
        kept = tuple(item for item, why in pairs if not why)
        document = msgspec.structs.replace(document, items=kept)
        home = work.home(document)
        if kept and isinstance(home, FileHome):
            live = home.read(document.document)
            document, more = with_result(work.part(document), document, live, work.source, withholder)
            left += more
        if document.items:
            documents.append(document)
    return msgspec.structs.replace(plan, documents=tuple(documents), left=tuple(left))


def resolved(work: Work, plan: Plan, sides: Sides, resolve: Resolve) -> Plan:
    """Ask for every conflict what to do, and return the plan that follows from the answers."""
    if resolve is overwrite:
        return plan
    documents: list[DocumentPlan] = []
    left: list[LeftAlone] = []
    skipped: set[tuple[str, str, str]] = set()
    for document in plan.documents:
        home = work.home(document)
        can_rename, is_there = _can_rename(home, document)
        if not (can_rename and is_there) and not _has_conflict(document):
            documents.append(document)
            continue
        if document.action != "edit" or can_rename:
            answer = resolve(Conflict(work.part(document), document, None, can_rename))
            if answer == "overwrite":
                documents.append(document)
            elif answer == "rename" and can_rename:
                documents.append(_beside(work, sides, home, document))
            else:
                why = _SKIPPED if answer == "skip" else "it cannot be kept beside the other one"
                left.append(LeftAlone(document.part, document.document, "", why))
            continue
        for item in document.items:
            if not _is_conflict(item):
                continue
            answer = resolve(Conflict(work.part(document), document, item))
            if answer != "overwrite":
                skipped.add((document.part, document.document, item.address))
        documents.append(document)
    plan = msgspec.structs.replace(plan, documents=tuple(documents), left=(*plan.left, *left))
    if not skipped:
        return plan

    def verdict(document: DocumentPlan, item: PlanItem) -> str:
        return _SKIPPED if (document.part, document.document, item.address) in skipped else ""

    return narrowed(work, plan, verdict)


def _can_rename(home: Home, document: DocumentPlan) -> tuple[bool, bool]:
    """Tell whether a document can be kept beside another one, and whether there is one of its name."""
    if document.action == "remove" or any(not item.address and item.after is None for item in document.items):
        return False, True
    if isinstance(home, FileHome):
        return home.is_wild(document.document), bool(document.expected)
    is_policy = not isinstance(home, RegistryHome | DesktopHome)
    return is_policy, is_policy and home.has(document.document)


def _has_conflict(document: DocumentPlan) -> bool:
    if document.action in ("replace", "remove"):
        return True
    return any(_is_conflict(item) for item in document.items)


def _is_conflict(item: PlanItem) -> bool:
    """Whether something would be lost from sight: it has changed here, or nobody knows whether it has."""
    return item.before is not None and item.since != "there"


def _beside(work: Work, sides: Sides, home: Home, document: DocumentPlan) -> DocumentPlan:
    """Plan that a document comes beside the one of its name, under a new name."""
    source = sides.source
    name = _new_name(home, document.document, source.manifest)
    lines = map(decode_line, source.lines(document.part))
    head, *settings = (setting for setting in lines if setting.document == document.document)
    part, withholder = work.part(document), Withholder(work.setup.home)
    head = without_secret(part, head, source, withholder)
    marked = (without_secret(part, setting, source, withholder) for setting in settings)
    items = tuple(
        _brought(source, document, setting)
        for setting in marked
        if setting.type != WITHHELD or (document.part, *setting.key) in source.secrets
    )
    if head.type == WHOLE:
        items = (PlanItem("", None, Leaf(WHOLE, head.value)),)
    if not isinstance(home, FileHome):
        own = (*part.volatile, *(() if sides.assignments else part.policy.assignments))
        kept = tuple(item for item in items if not any(matches(pattern, item.address) for pattern in own))
        head_item = PlanItem("", None, Leaf(head.type, head.value))
        return DocumentPlan(document.part, name, "edit", (head_item, *kept), origin=document.document)
    plan = DocumentPlan(
        document.part,
        name,
        "create",
        items,
        source=head.value.get("sha256", ""),
        format=head.value.get("format", WHOLE),
        new_folders=home.missing_folders(name),
        about=about_of(head.value),
        origin=document.document,
    )
    return with_result(part, plan, None, source, withholder)[0]


def _brought(source: Translated, document: DocumentPlan, setting: Setting) -> PlanItem:
    original = source.originals.get((document.part, *setting.key))
    leaf = Leaf(setting.type, setting.value)
    return PlanItem(setting.address, None, leaf, original.leaf if original else None)


def _new_name(home: Home, document: str, origin: Manifest) -> str:
    """Return a free name beside a document: it says where the other one is from."""
    numbers = ("", *(f"-{count}" for count in range(2, 1000)))
    if isinstance(home, FileHome):
        path = PurePosixPath(document)
        machine = origin.machine or "the-profile"
        plain = "".join(letter if letter.isalnum() or letter in "-_." else "-" for letter in machine)
        names = (str(path.with_name(f"{path.stem}-from-{plain}{number}{path.suffix}")) for number in numbers)
    else:
        names = (f"{document} (from {origin.place}{number})" for number in numbers)
    return next(name for name in names if not home.has(name) and not home.unfit(name))

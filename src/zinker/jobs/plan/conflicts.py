"""Conflicts: something else is there that may be wanted. What they are, and what follows from the answers."""

from collections.abc import Callable
from typing import Literal

import msgspec

from zinker.jobs.plan.documents import Options
from zinker.jobs.plan.narrow import No, narrowed
from zinker.jobs.plan.part import Sides, without_secret
from zinker.jobs.plan.result import with_result
from zinker.jobs.session import Session
from zinker.model.address import matches
from zinker.model.file_state import FileState
from zinker.model.plan import DocumentChange, LeftAlone, Plan, SettingChange
from zinker.model.setting import WITHHELD, Setting
from zinker.model.where import Where
from zinker.subjects.subject import Part

Answer = Literal["replace", "keep", "both"]

_SKIPPED = No("skipped: something else is there", "skipped")


class Conflict(msgspec.Struct, frozen=True):
    """Something at the place that would be overwritten, though it may be wanted.

    `item` is None for a document as a whole; `can_keep_both` tells whether both can be kept, under two names.
    """

    part: Part
    document: DocumentChange
    item: SettingChange | None
    can_keep_both: bool = False


Resolve = Callable[[Conflict], Answer]


def replace(conflict: Conflict) -> Answer:
    """Answer every conflict by replacing what is there."""
    return "replace"


def conflicts(session: Session, plan: Plan) -> list[Conflict]:
    """Return what would be written over: documents as a whole where they can be kept beside, else settings."""
    found: list[Conflict] = []
    for change in plan.documents:
        part = session.part(change.part)
        can_keep_both = _can_keep_both(session, change)
        if change.is_whole or can_keep_both:
            is_there = change.action != "create"
            if is_there and (
                can_keep_both or change.action in ("replace", "remove") or _has_conflict(change)
            ):
                found.append(Conflict(part, change, None, can_keep_both))
        else:
            found += [Conflict(part, change, item) for item in change.items if _is_conflict(item)]
    return found


def resolved(sides: Sides, plan: Plan, resolve: Resolve) -> Plan:
    """Ask for every conflict what to do, and return the plan that follows from the answers."""
    if resolve is replace:
        return plan
    session = sides.session
    answers: dict[Where, tuple[Conflict, Answer]] = {}
    for conflict in conflicts(session, plan):
        address = conflict.item.address if conflict.item is not None else ""
        answers[conflict.document.where._replace(address=address)] = conflict, resolve(conflict)
    documents: list[DocumentChange] = []
    left = list(plan.left)
    for change in plan.documents:
        conflict, answer = answers.get(
            change.where, (Conflict(session.part(change.part), change, None), "replace")
        )
        if answer == "replace":
            documents.append(change)
        elif answer == "both" and conflict.can_keep_both:
            documents += _beside(sides, change)
        else:
            no = _SKIPPED if answer == "keep" else No("it cannot be kept beside the other one", "skipped")
            left.append(LeftAlone(*change.where, no.why, no.wanted, no.reason))
    skipped = {where for where, (_, answer) in answers.items() if where.address and answer != "replace"}
    plan = msgspec.structs.replace(plan, documents=tuple(documents), left=tuple(left))
    if not skipped:
        return plan

    def verdict(change: DocumentChange, item: SettingChange | None) -> No | None:
        is_skipped = item is not None and change.where._replace(address=item.address) in skipped
        return _SKIPPED if is_skipped else None

    return narrowed(session, sides.source, plan, verdict)


def _can_keep_both(session: Session, change: DocumentChange) -> bool:
    """Tell whether a document can be kept beside the one of its name."""
    if change.action in ("create", "remove"):
        return False
    names = session.home_of(change).beside(change.document, "", "")
    return next(names, None) is not None


def _has_conflict(change: DocumentChange) -> bool:
    return any(_is_conflict(item) for item in change.items)


def _is_conflict(item: SettingChange) -> bool:
    """Whether something would be lost from sight: it has changed here, or may have."""
    return item.before is not None and item.since != "there"


def _beside(sides: Sides, change: DocumentChange) -> list[DocumentChange]:
    """Plan that a document comes beside the one of its name, under a new name."""
    source, session = sides.source, sides.session
    part, home = session.part(change.part), session.home_of(change)
    names = home.beside(change.document, source.manifest.machine, source.manifest.place)
    name = next(name for name in names if not home.has(name) and not home.unfit(name))
    mine = (setting for setting in source.settings(change.part) if setting.document == change.document)
    head, *settings = (without_secret(part, setting, source, session.withholder) for setting in mine)
    items = tuple(
        _item(sides, change, setting)
        for setting in settings
        if setting.type != WITHHELD or Where(change.part, *setting.key) in source.secrets
    )
    if not home.traits.has_files:
        own = _own(part, sides.options)
        kept = tuple(item for item in items if not any(matches(pattern, item.address) for pattern in own))
        return [DocumentChange(change.part, name, "create", kept, origin=change.document)]
    state = FileState.of(head)
    made = DocumentChange(
        change.part,
        name,
        "create",
        () if state.is_whole else items,
        after=state,
        source=state.sha256,
        new_folders=home.missing_folders(name),
        origin=change.document,
    )
    completed, _ = with_result(session, part, made, None, source)
    return [completed] if completed is not None else []


def _own(part: Part, options: Options) -> tuple[str, ...]:
    return (*part.volatile, *(() if options.for_whom else part.policy.for_whom))


def _item(sides: Sides, change: DocumentChange, setting: Setting) -> SettingChange:
    original = sides.source.originals.get(Where(change.part, *setting.key))
    return SettingChange(setting.address, None, setting.leaf, original.leaf if original else None)

"""Leaving things out of a plan that has been made whole: what was not asked for, or is not to be written over."""

from collections.abc import Callable
from typing import NamedTuple

import msgspec

from zinker.jobs.plan.result import with_result
from zinker.jobs.session import Session
from zinker.model.errors import Refused
from zinker.model.plan import DocumentChange, LeftAlone, Plan, Reason, SettingChange
from zinker.model.profile import Snapshot


class No(NamedTuple):
    """Why something is left out: in words, and as a reason; `wanted` tells whether it was asked for.

    What has no reason was not asked for at all, and is not told.
    """

    why: str = ""
    reason: Reason = ""
    wanted: bool = True


# Says why a setting is to be left alone, or a document that has none, or None if it is to be written.
Verdict = Callable[[DocumentChange, SettingChange | None], No | None]


def narrowed(
    session: Session, source: Snapshot, plan: Plan, verdict: Verdict, whole: No | None = None
) -> Plan:
    """Return a plan without some of its settings, which it leaves alone for the reasons given.

    A file that would come, go or be replaced as a whole is left alone if any of its settings is; for the reason
    `whole` if only some of them are.
    """
    documents: list[DocumentChange] = []
    left = list(plan.left)
    for change in plan.documents:
        kept, more = _narrowed(session, source, change, verdict, whole)
        left += more
        documents += [kept] if kept is not None else []
    return msgspec.structs.replace(plan, documents=tuple(documents), left=tuple(left))


def _narrowed(
    session: Session, source: Snapshot, change: DocumentChange, verdict: Verdict, whole: No | None
) -> tuple[DocumentChange | None, list[LeftAlone]]:
    noes = [verdict(change, item) for item in change.items] or [verdict(change, None)]
    given = [no for no in noes if no is not None]
    if not given:
        return change, []
    if change.is_whole:
        no = whole if whole is not None and len(given) < len(noes) else given[0]
        return None, [LeftAlone(*change.where, no.why, no.wanted, no.reason)] if no.reason else []
    pairs = list(zip(change.items, noes, strict=True))
    left = [
        LeftAlone(change.part, change.document, item.address, no.why, no.wanted, no.reason)
        for item, no in pairs
        if no is not None and no.reason
    ]
    kept = msgspec.structs.replace(change, items=tuple(item for item, no in pairs if no is None))
    if not kept.items:
        return None, left
    if kept.before is None:
        return kept, left
    part = session.part(change.part)
    live = session.as_captured(part, change.document)
    completed, more = with_result(session, part, kept, live, source)
    return completed, left + more


def merged(session: Session, source: Snapshot, plan: Plan) -> Plan:
    """Leave alone what has changed here since the place was last kept; raises `Refused` where that is unknown."""
    is_there = (
        change.before is not None or any(item.before is not None for item in change.items)
        for change in plan.documents
    )
    if not plan.base and any(is_there):
        why = f"nothing is kept of {plan.subject} at {plan.told_place}, so what has changed there is unknown"
        raise Refused(
            "Not merged", why, f"Export it first: zinker export {plan.subject} --place {plan.place}"
        )

    def verdict(change: DocumentChange, item: SettingChange | None) -> No | None:
        since = item.since if item is not None else change.since
        if since == "both":
            return No("it has changed on both sides", "both-changed")
        own = No("only this place has changed it", "own-change", wanted=False)
        return own if since == "here" else None

    return narrowed(session, source, plan, verdict)

"""Several changes as one, a round's export, and a round written down: pages that have one under the other."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any

import msgspec

from zinker.jobs.documenting import Documented
from zinker.jobs.together import Member, Planned, Plans, Together
from zinker.model.change import Change, RoundRecord
from zinker.model.errors import Failed
from zinker.model.names import place_told
from zinker.model.plan import DocumentChange
from zinker.reports.change import left_blocks, outcome_json, outcome_rows, plan_age, plan_body
from zinker.reports.changes import change_body, change_json, change_rows_of
from zinker.reports.document import document_report
from zinker.reports.kept import error_json
from zinker.reports.page import Block, Facts, Heading, Page, Paragraph, Reasons, Section, Table
from zinker.reports.report import Report
from zinker.reports.words import count, when
from zinker.subjects.subject import Subject

# Returns the subject of an id, or None where no subject file is here.
Find = Callable[[str], Subject | None]

_HEAD = ("change", "place", "subject", "what came of it")
_PAST = {"import": "imported", "undo": "taken back", "reset": "reset", "transfer": "transferred"}


def together_report(done: Together, find: Find) -> Report:
    """Return what came of changes that were one, and all their plans."""
    kind = "Change" if done.number else "Plan"
    summary = (*_record(done), *together_blocks(done, find))
    page = Page(
        kind, _title(done.plan.name), _facts(done.plan), summary, _plans_body(done.plan, find, full=True)
    )
    return Report(page, lambda: together_json(done), lambda: _rows(done, find))


def plans_page(plans: Plans, find: Find, full: bool = True) -> Page:
    """Return the plans of all members, one under the other, and how much all would write."""
    return Page("Plan", _title(plans.name), _facts(plans), (), _plans_body(plans, find, full))


def _called(name: str) -> str:
    """Return what people call a round; one that zinker.toml does not name says itself what it is."""
    return name if " " in name else f"round {name}"


def _title(name: str) -> str:
    called = _called(name)
    return called[:1].upper() + called[1:]


def _facts(plans: Plans) -> Facts:
    places = count(len({one.place for one in plans.members}), "place")
    return Facts((("from", plans.source), ("to", places)))


def _plans_body(plans: Plans, find: Find, full: bool) -> Iterator[Block]:
    for one in plans.members:
        subject = find(one.subject.partition("/")[0])
        yield Heading(f"{subject.title if subject else one.subject} at {one.told_place}")
        if one.plan is None:
            yield from _not_planned(one)
            continue
        pairs = (("from", one.plan.source), *(("", told) for told in plan_age(one.plan)))
        yield Facts(pairs)
        if one.plan.base and one.plan.documents:
            yield Paragraph(f"last kept from there: {one.plan.base}")
        if not one.writes:
            yield Paragraph("Nothing to write.", "quiet")
        if subject is not None:
            yield from _lower(plan_body(one.plan, subject, full))
    yield from _count(plans)


def _lower(blocks: Iterable[Block]) -> Iterator[Block]:
    """Yield blocks as they stand below a heading of their own."""
    for block in blocks:
        if isinstance(block, Section | Heading):
            block = msgspec.structs.replace(block, level=block.level + 1)
        yield block


def _not_planned(one: Planned) -> Iterator[Block]:
    if one.error is not None:
        yield Paragraph(f"Cannot be written: {one.error.why or one.error}", "left")
        yield from (Paragraph(line, indent=2) for line in one.error.then.split("\n") if line)


def _count(plans: Plans) -> Iterator[Block]:
    written = [one.plan for one in plans.members if one.plan is not None and one.writes]
    if not written:
        return
    places = len({plan.place for plan in written})
    settings = count(sum(plan.count for plan in written), "setting")
    documents = count(sum(len(plan.documents) for plan in written), "document")
    failed = sum(
        one.error is not None or bool(one.plan and one.writes and one.plan.objections)
        for one in plans.members
    )
    cannot = f"; {failed} of {len(plans.members)} cannot be" if failed else ""
    yield Heading("Together")
    yield Paragraph(f"{settings} in {documents} at {count(places, 'place')} to be written{cannot}.", "strong")


def together_blocks(done: Together, find: Find) -> Iterator[Block]:
    """Yield what came of each, what was left undone and why, and how to take it back."""
    if not done.number:
        if done.is_declined:
            yield Paragraph("Nothing was changed.", "strong")
        elif any(one.writes for one in done.plan.members):
            yield Paragraph("Nothing was changed: this was a preview.", "strong")
        else:
            yield Paragraph("Nothing to write: everything is as it should be.", "strong")
        return
    rows = ((str(one.id) if one.id else "", *_where(one, find), _came_of(one)) for one in done.members)
    yield Table(_HEAD, tuple(rows), beneath=frozenset(_HEAD[3:]))
    for one in done.members:
        wanted = tuple(left for left in one.outcome.left if left.wanted) if one.outcome else ()
        subject = find(one.subject.partition("/")[0])
        if wanted and subject is not None:
            yield from left_blocks(f"Not written at {one.place}:", wanted, subject)
        yield from _not_done(one)
    kind = _PAST[done.plan.kind]
    yield Paragraph(
        f"This is change {done.number}; before it, all this was kept. {_counted(done, kind)}", "strong"
    )
    members = [
        str(one.id) for one in done.members if one.outcome is not None and one.outcome.change is not None
    ]
    if members:
        single = f"; one of them: zinker undo {members[-1]}" if len(members) > 1 else ""
        yield Paragraph(f"To take it back: zinker undo {done.number}{single}")
    steps = [step for one in done.members if one.outcome for step in one.outcome.afterwards]
    if steps:
        yield Paragraph("What is left to do:", "strong")
    yield from (Paragraph(step, indent=2) for step in dict.fromkeys(steps))


def _counted(done: Together, kind: str) -> str:
    ended = [one for one in done.members if one.id]
    right = sum(one.outcome is not None and one.outcome.is_complete for one in ended)
    return f"{right} of {len(ended)} {kind} whole."


def _not_done(one: Member) -> Iterator[Block]:
    if one.error is not None:
        yield Paragraph(f"{one.place}: {one.subject}: {one.error.what}: {one.error.why}", "left")
        yield from (Paragraph(line, indent=2) for line in one.error.then.split("\n") if line)


def _where(one: Member, find: Find) -> tuple[str, str]:
    subject = find(one.subject.partition("/")[0])
    told = one.outcome.plan.told_place if one.outcome else place_told(one.place)
    return told, subject.title if subject else one.subject


def _came_of(one: Member) -> str:
    if one.error is not None:
        return "failed, and was taken back" if isinstance(one.error, Failed) else "not written"
    if one.outcome is None:
        return ""
    if one.outcome.state == "alike":
        return "nothing to write"
    left = sum(item.wanted for item in one.outcome.left)
    more = f", {left:,} left" if left else ", and read back"
    return f"{count(one.outcome.plan.count, 'setting')} written{more}"


def _record(done: Together) -> Iterator[Block]:
    changes = [one.outcome.change for one in done.members if one.outcome and one.outcome.change]
    if changes:
        first = changes[0]
        yield Paragraph(f"Change {done.number}: {done.plan.kind} of {_called(done.plan.name)}")
        last = max(change.finished for change in changes)
        yield Paragraph(f"by {first.who} on {first.machine}, {first.started} to {last}")


def together_json(done: Together) -> dict[str, Any]:
    """Return plans and outcomes for programs."""
    return {
        "name": done.plan.name,
        "kind": done.plan.kind,
        "source": done.plan.source,
        "number": done.number or None,
        "members": [_member_json(one) for one in done.members],
    }


def _member_json(one: Member) -> dict[str, Any]:
    where = {"id": str(one.id) if one.id else "", "place": one.place, "subject": one.subject}
    return where | (
        outcome_json(one.outcome) if one.outcome else {"state": "failed", "error": error_json(one.error)}
    )


def _rows(done: Together, find: Find) -> Iterator[dict[str, Any]]:
    for one in done.members:
        where = {"place": one.place, "subject": one.subject}
        subject = find(one.subject.partition("/")[0])
        if one.error is not None:
            yield {"what": "failed", **where, "note": f"{one.error.why} {one.error.then}".strip()}
        if one.outcome is not None and subject is not None:
            yield from ({"what": row["what"], **where, **row} for row in outcome_rows(one.outcome, subject))


def round_change_report(
    record: RoundRecord, members: Sequence[tuple[Change, tuple[DocumentChange, ...]]], find: Find
) -> Report:
    """Return a round's change with everything that its members wrote, and what was not begun."""
    facts = Facts(
        (("from", record.source), ("by", f"{record.who} on {record.machine}, {when(record.started)}"))
    )
    title = f"Change {record.number}: {record.kind} of {_called(record.name)}"
    page = Page("Change", title, facts, (), _round_body(record, members, find))
    return Report(
        page,
        lambda: {"round": record, "members": [change_json(*one) for one in members]},
        lambda: (row for one in members for row in change_rows_of(*one, find(one[0].subject))),
    )


def _round_body(
    record: RoundRecord, members: Sequence[tuple[Change, tuple[DocumentChange, ...]]], find: Find
) -> Iterator[Block]:
    begun = {change.member: (change, written) for change, written in members}
    for number, (place, id) in enumerate(record.members, 1):
        subject = find(id.partition("/")[0])
        title = subject.title if subject else id
        if number not in begun:
            yield Heading(f"{record.number}.{number}: {title} at {place_told(place)}")
            yield Paragraph("It was not begun, or nothing was changed.", "left")
            continue
        change, written = begun[number]
        yield Heading(f"{change.id}: {title} at {change.told_place}")
        yield from _lower(change_body(change, written, subject))
    standing = any(change.state in ("done", "partly") for change, _ in members)
    if standing:
        yield Heading("Together")
        yield Paragraph(f"To take back all that stands: zinker undo {record.number}", "strong")


def documents_report(
    name: str,
    members: Sequence[tuple[str, str]],
    opened: Iterator[Documented],
    left: list[tuple[str, str, str]],
) -> Report:
    """Return several configurations as one document; they are opened one after another, as they are read.

    `left` has those that could not be when all were.
    """

    def body() -> Iterator[Block]:
        for one in opened:
            anchor = f"m{members.index((one.manifest.place, one.manifest.subject)) + 1}" if members else ""
            page = document_report(one, f"{anchor}-").page
            yield Heading(f"{page.title}: {one.name}", 2, anchor)
            yield page.facts
            yield from page.summary
            yield from _lower(page.body)
        if left:
            yield Reasons("Not written down:", tuple((f"{place}: {id}", why, 1) for place, id, why in left))

    contents = tuple((f"{id} at {place_told(place)}", f"m{n}", 1) for n, (place, id) in enumerate(members, 1))
    page = Page("Configuration", _title(name), Facts((("of", name),)), (), body(), contents)
    return Report(
        page,
        lambda: (
            [document_report(one).data() for one in opened]
            + [{"place": place, "subject": id, "why": why} for place, id, why in left]
        ),
        lambda: (row | {"source": one.name} for one in opened for row in document_report(one).rows()),
    )

"""What came of an export of one or several, as a page and as data."""

from collections.abc import Callable, Iterator, Sequence
from typing import Any

from zinker.jobs.rounds import Kept
from zinker.model.errors import ZinkerError
from zinker.reports.exported import exported_blocks
from zinker.reports.page import Block, Facts, Heading, Page, Paragraph, Table
from zinker.reports.report import Report
from zinker.subjects.subject import Subject


def kept_report(
    name: str, kept: Sequence[Kept], find: Callable[[str], Subject | None], note: str = ""
) -> Report:
    """Return what an export of several took, and what it could not."""
    facts = Facts(tuple(pair for pair in (("of", name), ("note", note)) if pair[1]))
    page = Page("Captured", name, facts, tuple(kept_summary(kept)), _kept_body(kept, find))
    return Report(page, lambda: [kept_json(one) for one in kept], lambda: map(_kept_row, kept))


def kept_summary(kept: Sequence[Kept]) -> Iterator[Block]:
    """Yield a line on each, and how many were kept."""
    head = ("place", "subject", "version", "")
    yield Table(head, tuple((one.place, one.subject, _reference(one), _kept_word(one)) for one in kept))
    words = [_kept_word(one) for one in kept]
    new, same = words.count("kept"), words.count("nothing has changed")
    told = [f"{new} kept", f"{same} as before", f"{len(kept) - new - same} not whole"]
    yield Paragraph(
        f"Of {len(kept)}: {', '.join(one for one in told if not one.startswith('0 ')) or 'none'}.", "strong"
    )


def _kept_body(kept: Sequence[Kept], find: Callable[[str], Subject | None]) -> Iterator[Block]:
    for one in kept:
        yield Heading(f"{one.subject} at {one.place}")
        if one.error is not None:
            yield from (Paragraph(line) for line in str(one.error).split("\n"))
        elif one.exported is not None:
            yield from exported_blocks(one.exported, find(one.exported.manifest.subject))


def _reference(one: Kept) -> str:
    if one.exported is None:
        return ""
    return one.exported.version.reference if one.exported.version else str(one.exported.path or "")


def _kept_word(one: Kept) -> str:
    if one.exported is None:
        return f"not kept: {one.error.why or one.error.what}" if one.error else "not kept"
    if not one.exported.is_complete:
        return "not whole"
    return "nothing has changed" if one.exported.is_known else "kept"


def kept_json(one: Kept, for_others: bool = False) -> dict[str, Any]:
    """Return what came of one export for programs."""
    done = one.exported
    if done is None:
        return {"place": one.place, "subject": one.subject, "error": error_json(one.error)}
    found: dict[str, Any] = {"place": one.place, "subject": done.manifest.subject}
    found |= {"reference": _reference(one) if done.version else "", "path": str(done.path or "")}
    found["profile"] = done.manifest
    if done.room:
        found["room"] = done.room
    if done.before and done.before.lost:
        found["lost"] = [part._asdict() for part in done.before.lost]
    if done.is_known:
        found["unchanged"] = True
    if for_others:
        found["named"] = done.named
    return found


def _kept_row(one: Kept) -> dict[str, Any]:
    return {"what": _kept_word(one), "place": one.place, "subject": one.subject, "title": _reference(one)}


def error_json(error: ZinkerError | None) -> dict[str, Any]:
    """Return why something was refused or failed, for programs."""
    if error is None:
        return {}
    return {"what": error.what, "why": error.why, "then": error.then, "code": error.exit_code}

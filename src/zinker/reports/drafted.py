"""A draft of a subject file: what it proposes, and what to do with it."""

from collections.abc import Iterator
from typing import Any

from zinker.jobs.describing import Drafted
from zinker.jobs.scouting import Seen
from zinker.reports.page import Block, Paragraph, Reasons, Table
from zinker.reports.words import count
from zinker.subjects.draft import DraftPart


def drafted_blocks(drafted: Drafted, name: str) -> Iterator[Block]:
    """Yield what a draft proposes, and what to do with it."""
    yield Paragraph(f"Draft written: {drafted.path}", "strong")
    rows = tuple((part.id, part.path, _found(part, seen)) for part, seen in drafted.parts)
    if rows:
        yield Table(("part", "home", "what is there"), rows)
    passed = [one for _, seen in drafted.parts for one in seen.passed]
    yield Reasons(
        "Left out of it:", tuple((f"{one.path} ({count(one.files, 'file')})", one.why, 1) for one in passed)
    )
    if drafted.processes:
        yield Paragraph(f"{', '.join(drafted.processes)} runs, and is named as its program.")
    yield Paragraph(
        f"Read it and correct it; `zinker subjects check {drafted.path}` says what is wrong with it, and "
        f"`zinker export {name}` keeps what it describes."
    )


def _found(part: DraftPart, seen: Seen) -> str:
    if part.store == "file" and not seen.documents:
        return "nothing else by now"
    told = [part.format.upper()] if part.format else []
    told += [count(seen.documents, "file")] if seen.documents > 1 else []
    told += [count(seen.settings, "setting")] if seen.settings else []
    told += [count(len(part.secret), "secret")] if part.secret else []
    told += [f"{len(part.volatile):,} changing by themselves"] if part.volatile else []
    told += ["bound to this machine"] if part.device_bound else []
    return ", ".join(told) or "carried as it is"


def drafted_json(drafted: Drafted) -> dict[str, Any]:
    """Return what a draft proposes, for programs."""
    return {
        "file": str(drafted.path),
        "processes": drafted.processes,
        "parts": [
            {
                "id": part.id,
                "store": part.store,
                "path": part.path,
                "format": part.format,
                "documents": seen.documents,
                "settings": seen.settings,
                "secret": part.secret,
                "volatile": part.volatile,
                "device_bound": part.device_bound,
                "left_out": [one._asdict() for one in seen.passed],
            }
            for part, seen in drafted.parts
        ],
    }

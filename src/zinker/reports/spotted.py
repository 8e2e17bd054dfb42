"""What watching has shown, as blocks of a page and as JSON."""

from collections.abc import Iterator
from itertools import groupby
from typing import Any

from zinker.jobs.spotting import Spotted
from zinker.model.difference import Difference
from zinker.model.names import place_told
from zinker.reports.entries import GAP, difference_json, reasons, setting_entry
from zinker.reports.page import Block, Heading, Paragraph, Section
from zinker.reports.words import count, title

_MOST_NOISE = 5


def spotted_blocks(spotted: Spotted) -> Iterator[Block]:
    """Yield what the change touched, then what changes on its own, then where it was kept."""
    yield Heading(f"{spotted.subject.title} at {place_told(spotted.place)}", 1)
    for (part_id, document), group in groupby(spotted.touched, key=lambda d: (d.part, d.document)):
        part = spotted.subject.find_part(part_id)
        entries = (setting_entry(d.word, part, d.address, d.before, d.after) for d in group)
        yield Section(part.name if part else part_id, document, tuple(entries))
    yield GAP
    yield from _noise(spotted)
    if spotted.uncertain:
        yield reasons("Not watched, because it could not be read:", spotted.uncertain, spotted.subject)
    words = [d.word for d in spotted.touched]
    if not words:
        yield Paragraph("The change touched nothing that was watched.", "strong")
        if spotted.is_running:
            yield Paragraph(f"{spotted.subject.title} is running, and may save only when it closes.")
        return
    counts = ", ".join(
        f"{words.count(word):,} {word}" for word in ("changed", "new", "gone") if word in words
    )
    yield Paragraph(f"The change touched {count(len(words), 'setting')}: {counts}.", "strong")
    if spotted.version is not None:
        yield Paragraph(f"Kept as {spotted.version.reference}, just these.")
    for name in spotted.not_kept:
        why = "it is not in the profile, which holds only what would be written"
        yield Paragraph(f"{name}: {why}", "left", indent=2)
    if spotted.draft is not None:
        yield Paragraph(f"Draft written: {spotted.draft}")


def _noise(spotted: Spotted) -> Iterator[Block]:
    if not spotted.noise:
        return
    yield Paragraph(f"{count(len(spotted.noise), 'setting')} changed without the change, left out here:")
    for difference in spotted.noise[:_MOST_NOISE]:
        part = spotted.subject.find_part(difference.part)
        name = title(part, difference.address) if difference.address else "the whole file"
        yield Paragraph(f"{difference.document}, {name}", "quiet", indent=2)
    if len(spotted.noise) > _MOST_NOISE:
        yield Paragraph(f"and {len(spotted.noise) - _MOST_NOISE:,} more", "quiet", indent=2)
    yield GAP


def spotted_json(spotted: Spotted) -> dict[str, Any]:
    """Return what watching has shown for programs."""
    return {
        "subject": spotted.subject.id,
        "place": spotted.place,
        "touched": [_json(spotted, d) for d in spotted.touched],
        "noise": [_json(spotted, d) for d in spotted.noise],
        "not_watched": spotted.uncertain,
        "kept": spotted.version.reference if spotted.version else "",
        "not_kept": spotted.not_kept,
        "draft": str(spotted.draft) if spotted.draft else "",
    }


def _json(spotted: Spotted, difference: Difference) -> dict[str, Any]:
    part = spotted.subject.find_part(difference.part)
    return difference_json(difference.part, difference.document, difference, part)

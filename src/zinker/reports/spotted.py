"""What watching has shown, as text and as JSON."""

from collections.abc import Iterator
from itertools import chain, groupby
from typing import Any

from rich.text import Text

from zinker.jobs.spotting import Spotted
from zinker.model.difference import Difference
from zinker.model.names import place_told
from zinker.reports.comparison import leaf_json
from zinker.reports.lines import Block, blocks_text, heading, left_out, place_lines, plain, setting_lines
from zinker.reports.words import count, cut, title, visible

_MOST_NOISE = 5


def spotted_text(spotted: Spotted, width: int) -> Iterator[Text]:
    """Yield what the change touched, then what changes on its own, then where it was kept."""
    yield heading(f"{visible(spotted.subject.title)} at {place_told(spotted.place)}")
    yield from blocks_text(_blocks(spotted, width))
    yield plain("")
    yield from _noise(spotted, width)
    if spotted.uncertain:
        yield left_out("Not watched, because it could not be read:")
    yield from place_lines(spotted.uncertain, spotted.subject)
    words = [d.word for d in spotted.touched]
    if not words:
        yield heading("The change touched nothing that was watched.")
        if spotted.is_running:
            yield plain(f"{spotted.subject.title} is running, and may save only when it closes.")
        return
    counts = ", ".join(
        f"{words.count(word):,} {word}" for word in ("changed", "new", "gone") if word in words
    )
    yield heading(f"The change touched {count(len(words), 'setting')}: {counts}.")
    if spotted.version is not None:
        yield plain(f"Kept as {spotted.version.reference}, just these.")
    for name in spotted.not_kept:
        yield left_out(f"  {visible(name)}: it is not in the profile, which holds only what would be written")
    if spotted.draft is not None:
        yield plain(f"Draft written: {spotted.draft}")


def _blocks(spotted: Spotted, width: int) -> Iterator[Block]:
    for (part_id, document), group in groupby(spotted.touched, key=lambda d: (d.part, d.document)):
        part = spotted.subject.find_part(part_id)
        lines = (setting_lines(d.word, part, d.address, d.before, d.after, width) for d in group)
        yield Block(part.name if part else part_id, document, list(chain.from_iterable(lines)))


def _noise(spotted: Spotted, width: int) -> Iterator[Text]:
    if not spotted.noise:
        return
    yield plain(f"{count(len(spotted.noise), 'setting')} changed without the change, left out here:")
    for difference in spotted.noise[:_MOST_NOISE]:
        part = spotted.subject.find_part(difference.part)
        name = title(part, difference.address) if difference.address else "the whole file"
        yield Text(cut(f"  {visible(difference.document)}, {name}", width), style="bright_black")
    if len(spotted.noise) > _MOST_NOISE:
        yield Text(f"  and {len(spotted.noise) - _MOST_NOISE:,} more", style="bright_black")
    yield plain("")


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
    return {
        "what": difference.word,
        "part": difference.part,
        "document": difference.document,
        "address": difference.address,
        "title": part.titles.get(difference.address, "") if part else "",
        "before": leaf_json(difference.before),
        "after": leaf_json(difference.after),
    }

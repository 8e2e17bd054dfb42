"""A comparison as text and as JSON."""

from collections.abc import Iterable, Iterator
from itertools import chain, groupby
from typing import Any

from rich.text import Text

from zinker.jobs.comparing import Comparison
from zinker.model.difference import Difference
from zinker.reports.lines import (
    Block,
    beneath,
    blocks_text,
    file_line,
    heading,
    left_out,
    place_lines,
    plain,
    setting_lines,
    titled,
    whole_text,
)
from zinker.reports.words import count, visible, when


def comparison_text(comparison: Comparison, width: int) -> Iterator[Text]:
    """Yield a comparison line by line, part by part, document by document."""
    yield heading(visible(comparison.about.title))
    yield plain(f"before: {visible(comparison.before)}\nafter:  {visible(comparison.after)}")
    yield from blocks_text(_blocks(comparison, width))
    yield plain("")
    if comparison.uncertain:
        yield left_out("Not compared, because it could not be read:")
        yield from place_lines(comparison.uncertain, comparison.subject)
    if comparison.alone:
        yield plain(f"Only one side holds: {', '.join(comparison.alone)}.")
    yield heading(summary(comparison))


def _blocks(comparison: Comparison, width: int) -> Iterator[Block]:
    for (part_id, document), group in groupby(comparison.differences, key=lambda d: (d.part, d.document)):
        part = comparison.subject.find_part(part_id) if comparison.subject else None
        record = next(record for record in comparison.parts if record.id == part_id)
        found = list(group)
        last = _last_change(comparison, part_id, document)
        if (was := comparison.renamed.get((part_id, document))) is not None:
            document = f"{document} (was called {was})"
        word = comparison.documents.get((part_id, document))
        if word:
            leaf = found[0].after or found[0].before
            line = file_line(word, document, whole_text(len(found), leaf), width, record.store)
            yield Block(record.title, document, [line, *last], is_file=True)
            continue
        named = titled(part, found[0].document, comparison.titles)
        lines = (setting_lines(d.word, named, d.address, d.before, d.after, width) for d in found)
        yield Block(record.title, document, [*chain.from_iterable(lines), *last])


def _last_change(comparison: Comparison, part: str, document: str) -> Iterator[Text]:
    """Say who changed a policy last, and when, as the service has it."""
    last = comparison.last_changes.get((part, document))
    if last is not None:
        by, at = (f" by {last.by}" if last.by else "", f", {_moment(last.at)}" if last.at else "")
        yield beneath(f"last changed{visible(by)}{visible(at)}")


def _moment(text: str) -> str:
    """Return a point in time as people write it; what is none as it is."""
    try:
        return when(text)
    except ValueError:
        return text


def summary(comparison: Comparison) -> str:
    """Say in one sentence what came out."""
    words = [difference.word for difference in comparison.differences]
    if not words:
        alike = count(comparison.alike, "setting is", "settings are")
        return f"No differences: {alike} alike."
    counts = ", ".join(
        f"{words.count(word):,} {word}" for word in ("changed", "new", "gone") if word in words
    )
    return f"{counts}; {count(comparison.alike, 'setting is', 'settings are')} alike."


def comparison_json(comparison: Comparison) -> dict[str, Any]:
    """Return a comparison for programs."""
    return {
        "subject": comparison.about.subject,
        "before": comparison.before,
        "after": comparison.after,
        "alike": comparison.alike,
        "differences": list(_differences(comparison, comparison.differences)),
        "not_compared": comparison.uncertain,
        "on_one_side_only": comparison.alone,
    }


def _differences(comparison: Comparison, found: Iterable[Difference]) -> Iterator[dict[str, Any]]:
    for difference in found:
        part = comparison.subject.find_part(difference.part) if comparison.subject else None
        part = titled(part, difference.document, comparison.titles)
        yield {
            "what": difference.word,
            "part": difference.part,
            "document": difference.document,
            "address": difference.address,
            "title": part.titles.get(difference.address, "") if part else "",
            **(
                {"was_called": was}
                if (was := comparison.renamed.get((difference.part, difference.document)))
                else {}
            ),
            **(
                {"last_changed": last}
                if (last := comparison.last_changes.get((difference.part, difference.document)))
                else {}
            ),
            "before": leaf_json(difference.before),
            "after": leaf_json(difference.after),
        }


def leaf_json(leaf: Any) -> dict[str, Any] | None:
    """Return a value with its type, for programs."""
    return None if leaf is None else {"type": leaf.type, "value": leaf.value}

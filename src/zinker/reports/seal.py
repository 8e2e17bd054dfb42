"""The keys of a sealed shelf."""

from collections.abc import Iterator
from typing import Any

import msgspec

from zinker.jobs.sealing import SealKey, Seals
from zinker.reports.page import Block, Paragraph, Table

_COLUMNS = ("key", "kind", "made", "")


def seals_blocks(seals: Seals) -> Iterator[Block]:
    """Yield which keys open a shelf."""
    if seals.added:
        yield Paragraph(f"Added: key {seals.added} opens the shelf now.", "strong")
    if seals.removed:
        yield Paragraph(f"Removed: key {seals.removed} opens the shelf no more.", "strong")
    if not seals.keys:
        yield Paragraph(
            f"{seals.shelf} is not there yet. It is made, and sealed, when something is kept on it."
        )
        return
    yield Paragraph(f"{seals.shelf} is sealed. Each of these opens it:")
    yield Table(_COLUMNS, tuple(_row(key, seals.opened_by) for key in seals.keys))
    if seals.why:
        yield Paragraph(f"None of them is at hand: {seals.why}.", "left")
    if seals.removed and seals.removed == seals.opened_by:
        yield Paragraph("It is the one that zinker.toml names as `seal`: name another one there.", "left")
    if seals.removed:
        yield Paragraph(
            "Whoever has that key, and an older copy of what is there, can still read all of it. To lock them out, "
            "copy it to a new shelf: zinker copy --to NEW --sealed"
        )


def _row(key: SealKey, opened_by: int) -> tuple[str, ...]:
    if key.why:
        return str(key.number), "damaged", "", key.why
    kind = f"{key.kind} {key.name}".rstrip()
    return str(key.number), kind, key.made, "in use here" if key.number == opened_by else ""


def seals_json(seals: Seals) -> dict[str, Any]:
    """Return the keys for programs."""
    keys = [{**msgspec.to_builtins(key), "in_use": key.number == seals.opened_by} for key in seals.keys]
    return {**msgspec.to_builtins(seals), "keys": keys}

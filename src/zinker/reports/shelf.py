"""What was done to the shelf itself: thinned, checked, copied."""

from collections.abc import Iterator
from itertools import groupby
from typing import Any

import msgspec

from zinker.jobs.copying import Copies
from zinker.jobs.thinning import Thinning
from zinker.jobs.verifying import Checked
from zinker.model.names import place_told
from zinker.reports.page import Block, Paragraph, Table
from zinker.reports.words import age, count, size, when
from zinker.shelf.thinning import Going

_COLUMNS = ("", "captured", "age", "place", "label", "why")


def thinning_blocks(thinning: Thinning, is_preview: bool = False) -> Iterator[Block]:
    """Yield what would go, and what that gives back."""
    for subject, group in groupby(thinning.going, key=lambda one: one.version.subject):
        yield Paragraph(f"{subject}: would go", "strong")
        yield Table(_COLUMNS, tuple(_row(one) for one in group))
    if not thinning.has_rules:
        yield Paragraph(
            "No rules say which versions are to stay, so all do; give some as in --newest 10 --months 24, or "
            "under [thin] in zinker.toml."
        )
    if not thinning.going:
        yield Paragraph(f"No version would go; {_stay(thinning)}.")
    else:
        yield Paragraph(f"{count(len(thinning.going), 'version')} would go; {_stay(thinning)}.")
    if thinning.frees or thinning.going:
        yield Paragraph(f"That gives back about {size(thinning.frees)}.")
    if is_preview:
        yield Paragraph("Nothing was removed.", "strong")


def _stay(thinning: Thinning) -> str:
    return f"{thinning.stays:,} {'stays' if thinning.stays == 1 else 'stay'}"


def _row(going: Going) -> tuple[str, ...]:
    version = going.version
    if version.problem:
        return f"@{version.number}", "damaged", "", "", "", going.why
    place = place_told(version.place, version.machine)
    label = version.label
    return f"@{version.number}", when(version.captured), age(version.known), place, label, going.why


def thinned_blocks(thinning: Thinning) -> Iterator[Block]:
    """Yield what went, and what came back."""
    if not thinning.is_done:
        yield Paragraph("Nothing was removed.", "strong")
        return
    yield Paragraph(
        f"Removed {count(len(thinning.going), 'version')}; {size(thinning.freed)} came back.", "strong"
    )
    if thinning.why:
        yield Paragraph(f"Not all of it has come back yet: {thinning.why}.", "left")


def thinned_json(thinning: Thinning) -> dict[str, Any]:
    """Return a thinning for programs."""
    going = [
        {"reference": one.version.reference, "why": one.why, **msgspec.to_builtins(one.version)}
        for one in thinning.going
    ]
    return {**msgspec.to_builtins(thinning), "going": going}


def checked_blocks(checked: Checked) -> Iterator[Block]:
    """Yield what was looked at, and what of it is damaged."""
    tally = checked.tally
    seen = [count(tally.versions, "version")]
    seen += [f"{count(tally.objects, 'object')} ({size(tally.size)})"] if tally.objects else []
    seen += [count(tally.changes, "change")] if tally.changes else []
    yield Paragraph(f"{checked.name}: looked at {', '.join(seen)}", "strong")
    for one in checked.differs:
        yield Paragraph(f"{one.member}: {one.why}", indent=2)
    if checked.accepted:
        yield Paragraph("It was taken as it is: profile.json says now what stands there.")
    elif checked.differs:
        yield Paragraph(
            "It was edited or merged, and is refused as it is; --accept takes it, line by line.", "left"
        )
        return
    mended = [damage for damage in tally.damages if damage.mended_from]
    for head, damages in (("Damaged:", checked.damages), ("Was damaged, and is mended:", mended)):
        if damages:
            yield Paragraph(head, "left")
        for damage in damages:
            yield Paragraph(f"{damage.what}: {damage.why}", indent=2)
            if damage.mended_from:
                yield Paragraph(f"mended from {damage.mended_from}", indent=4)
            if damage.versions:
                yield Paragraph(f"in {', '.join(damage.versions)}", indent=4)
    if tally.unneeded:
        what = count(tally.unneeded, "object")
        yield Paragraph(f"No version needs {what} ({size(tally.unneeded_size)}); `zinker thin` removes that.")
    if checked.damages:
        yield Paragraph(
            "Another shelf that has it mends it (--from SHELF); what an export finds again is kept anew.",
            "strong",
        )
    elif not tally.damages:
        yield Paragraph("All of it is as it was written.", "strong")


def checked_json(checked: Checked) -> dict[str, Any]:
    """Return a check for programs."""
    return {
        "name": checked.name,
        **msgspec.to_builtins(checked.tally),
        "differs": [one._asdict() for one in checked.differs],
        "accepted": checked.accepted,
    }


def copied_blocks(copies: Copies) -> Iterator[Block]:
    """Yield what was copied, what was there already, and what could not be copied."""
    new = [one for one in copies.copied if not one.was_there and not one.why]
    there = sum(one.was_there for one in copies.copied)
    where = f" from {copies.source}" if copies.source else ""
    yield Paragraph(f"Copied {count(len(new), 'version')}{where} to {copies.target}", "strong")
    for one in new:
        known_as = f", there {one.target}" if one.target not in (one.source, copies.target) else ""
        yield Paragraph(f"{one.source}{known_as}", indent=2)
        if one.label:
            yield Paragraph(
                f"without the label {one.label}, which another version there has", "left", indent=4
            )
    if there:
        yield Paragraph(f"{count(there, 'version')} had been there already.")
    if copies.left:
        fallbacks = count(copies.left, "fallback")
        yield Paragraph(f"{fallbacks} left out: they belong to the changes recorded on their own shelf.")
    wrong = [one for one in copies.copied if one.why]
    if wrong:
        yield Paragraph("Not copied:", "left")
    for one in wrong:
        yield Paragraph(f"{one.source}: {one.why}", indent=2)

"""What was done to the shelf itself: thinned, checked, copied."""

from collections.abc import Iterator
from itertools import groupby
from typing import Any

import msgspec
from rich.text import Text

from zinker.jobs.copying import Copies
from zinker.jobs.thinning import Thinning
from zinker.jobs.verifying import Checked
from zinker.model.names import place_told
from zinker.reports.lines import heading, left_out, plain
from zinker.reports.listing import table
from zinker.reports.words import age, count, size, visible, when
from zinker.shelf.thinning import Going

_COLUMNS = ("", "captured", "age", "place", "label", "why")


def thinning_text(thinning: Thinning, width: int, is_preview: bool = False) -> Iterator[Text]:
    """Yield what would go, and what that gives back."""
    for subject, group in groupby(thinning.going, key=lambda one: one.version.subject):
        yield heading(f"{subject}: would go")
        yield from table(_COLUMNS, [_row(one) for one in group], width)
    if not thinning.has_rules:
        yield plain(
            "No rules say which versions are to stay, so all do; give some as in --newest 10 --months 24, or "
            "under [thin] in zinker.toml."
        )
    if not thinning.going:
        yield plain(f"No version would go; {_stay(thinning)}.")
    else:
        yield plain(f"{count(len(thinning.going), 'version')} would go; {_stay(thinning)}.")
    if thinning.frees or thinning.going:
        yield plain(f"That gives back about {size(thinning.frees)}.")
    if is_preview:
        yield heading("Nothing was removed.")


def _stay(thinning: Thinning) -> str:
    return f"{thinning.stays:,} {'stays' if thinning.stays == 1 else 'stay'}"


def _row(going: Going) -> tuple[str, ...]:
    version = going.version
    if version.problem:
        return f"@{version.number}", "damaged", "", "", "", going.why
    place = visible(place_told(version.place, version.machine))
    label = visible(version.label)
    return f"@{version.number}", when(version.captured), age(version.known), place, label, going.why


def thinned_text(thinning: Thinning, width: int) -> Iterator[Text]:
    """Yield what went, and what came back."""
    if not thinning.is_done:
        yield heading("Nothing was removed.")
        return
    yield heading(f"Removed {count(len(thinning.going), 'version')}; {size(thinning.freed)} came back.")
    if thinning.why:
        yield left_out(f"Not all of it has come back yet: {visible(thinning.why)}.")


def thinned_json(thinning: Thinning) -> dict[str, Any]:
    """Return a thinning for programs."""
    going = [
        {"reference": one.version.reference, "why": one.why, **msgspec.to_builtins(one.version)}
        for one in thinning.going
    ]
    return {**msgspec.to_builtins(thinning), "going": going}


def checked_text(checked: Checked, width: int) -> Iterator[Text]:
    """Yield what was looked at, and what of it is damaged."""
    tally = checked.tally
    seen = [count(tally.versions, "version")]
    seen += [f"{count(tally.objects, 'object')} ({size(tally.size)})"] if tally.objects else []
    seen += [count(tally.changes, "change")] if tally.changes else []
    yield heading(f"{visible(checked.name)}: looked at {', '.join(seen)}")
    for one in checked.differs:
        yield plain(f"  {visible(one.member)}: {visible(one.why)}")
    if checked.accepted:
        yield plain("It was taken as it is: profile.json says now what stands there.")
    elif checked.differs:
        yield left_out("It was edited or merged, and is refused as it is; --accept takes it, line by line.")
        return
    mended = [damage for damage in tally.damages if damage.mended_from]
    for head, damages in (("Damaged:", checked.damages), ("Was damaged, and is mended:", mended)):
        if damages:
            yield left_out(head)
        for damage in damages:
            yield plain(f"  {visible(damage.what)}: {visible(damage.why)}")
            if damage.mended_from:
                yield plain(f"    mended from {visible(damage.mended_from)}")
            if damage.versions:
                yield plain(f"    in {', '.join(damage.versions)}")
    if tally.unneeded:
        what = count(tally.unneeded, "object")
        yield plain(f"No version needs {what} ({size(tally.unneeded_size)}); `zinker thin` removes that.")
    if checked.damages:
        yield heading("Another shelf that has it mends it (--from SHELF); what an export finds again is kept anew.")
    elif not tally.damages:
        yield heading("All of it is as it was written.")


def checked_json(checked: Checked) -> dict[str, Any]:
    """Return a check for programs."""
    return {
        "name": checked.name,
        **msgspec.to_builtins(checked.tally),
        "differs": [one._asdict() for one in checked.differs],
        "accepted": checked.accepted,
    }


def copied_text(copies: Copies, width: int) -> Iterator[Text]:
    """Yield what was copied, what was there already, and what could not be copied."""
    new = [one for one in copies.copied if not one.was_there and not one.why]
    there = sum(one.was_there for one in copies.copied)
    where = f" from {visible(copies.source)}" if copies.source else ""
    yield heading(f"Copied {count(len(new), 'version')}{where} to {visible(copies.target)}")
    for one in new:
        known_as = f", there {one.target}" if one.target not in (one.source, copies.target) else ""
        yield plain(f"  {visible(one.source)}{known_as}")
        if one.label:
            yield left_out(f"    without the label {visible(one.label)}, which another version there has")
    if there:
        yield plain(f"{count(there, 'version')} had been there already.")
    if copies.left:
        fallbacks = count(copies.left, "fallback")
        yield plain(f"{fallbacks} left out: they belong to the changes recorded on their own shelf.")
    wrong = [one for one in copies.copied if one.why]
    if wrong:
        yield left_out("Not copied:")
    for one in wrong:
        yield plain(f"  {visible(one.source)}: {visible(one.why)}")

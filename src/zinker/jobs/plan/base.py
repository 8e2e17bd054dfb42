"""Three ways: where each setting has changed since the place was last kept."""

import contextlib
from collections.abc import Iterator, Mapping

import msgspec

from zinker.jobs.capture.losses import last_of
from zinker.jobs.session import Session
from zinker.model.address import folded
from zinker.model.file_state import FileState
from zinker.model.lines import heads_in, lines_with, words_of
from zinker.model.plan import DocumentChange, Plan, SettingChange, Since
from zinker.model.profile import Snapshot
from zinker.model.rows import is_escaped
from zinker.model.setting import DOCUMENT, WHOLE, Leaf, Setting, decode_line
from zinker.model.where import Where
from zinker.shelf.shelf import Version

# What settings were, by part, document and address, as their case does not count here.
_Kept = dict[Where, Leaf]


# Up to so many settings are looked for by their names; more are found by taking every line apart.
_FEW = 200


def with_base(session: Session, plan: Plan) -> Plan:
    """Say of every setting and document where it has changed since the place was last kept."""
    place = session.place
    version = last_of(session.setup, plan.subject, place.name, place.machine)
    if version is None or not plan.documents:
        return plan
    with contextlib.closing(session.setup.shelf.open(version)) as profile:
        known = {part.id for part in profile.manifest.parts if not part.homeless}
        unknown = {(p.part, p.document) for p in profile.manifest.problems if p.is_unknown}
        kept = _kept(plan, known, profile)
    kept = _with_changes(session, version, kept, known, plan.subject)
    documents = []
    for change in plan.documents:
        is_known = change.part in known and not unknown & {(change.part, ""), (change.part, change.document)}
        documents.append(since_kept(change, kept) if is_known else change)
    return msgspec.structs.replace(plan, documents=tuple(documents), base=version.reference)


def _name(part: str, document: str, address: str) -> Where:
    # Where the case of names does not count, it is not known here; elsewhere two that differ by it are rare.
    return Where(part, folded(document), folded(address))


def _names(change: DocumentChange) -> Iterator[Where]:
    """Yield what a change touches: the document, and its settings."""
    for address in ("", *(item.address for item in change.items)):
        yield _name(change.part, change.document, address)


def _kept(plan: Plan, parts: set[str], profile: Snapshot) -> _Kept:
    """Return what was, in the last kept version, of all that a plan touches."""
    wanted = {name for change in plan.documents for name in _names(change)}
    found: _Kept = {}
    for part in dict.fromkeys(change.part for change in plan.documents if change.part in parts):
        words = _words(plan, part)
        for piece in profile.pieces(part):
            for setting in _candidates(piece, words):
                name = _name(part, setting.document, setting.address)
                if name in wanted:
                    found[name] = setting.leaf
    return found


def _words(plan: Plan, part: str) -> list[bytes] | None:
    """Return words of which one stands in every line that is looked for; None where that would be too many."""
    own = [change for change in plan.documents if change.part == part]
    items = [item for change in own for item in change.items]
    if len(items) > _FEW:
        return None
    plain = [item.address for item in items if item.address.isascii() and not is_escaped(item.address)]
    if len(plain) == len(items):
        return [f'"{address}"'.encode() for address in plain]
    return words_of(item.address for item in items)


def _candidates(piece: bytes, words: list[bytes] | None) -> Iterator[Setting]:
    """Yield the settings of some lines, those that are looked for among them."""
    lines = piece[:-1].split(b"\n")
    if words is None:
        yield from map(decode_line, lines)
        return
    yield from heads_in(piece)
    lower = [line.lower() for line in lines]
    yield from (
        decode_line(lines[at]) for at in lines_with(lower, (*(word.lower() for word in words), b"\\u"))
    )


def _with_changes(session: Session, version: Version, kept: _Kept, parts: set[str], subject: str) -> _Kept:
    """Return the same with what Zinker itself has changed at the place since: no warning is due for that."""
    log, place = session.setup.shelf.changes, session.place
    since = version.captured
    kept = dict(kept)
    for change in log.all():
        is_here = (change.place, change.place_machine, change.subject) == (place.name, place.machine, subject)
        if not is_here or change.state not in ("done", "partly", "undone") or change.started < since:
            continue
        not_written = {left.where for left in change.left}
        for document in log.documents(change):
            if document.part in parts and document.where not in not_written:
                for where, leaf in _written(document):
                    if where not in not_written:
                        _set(kept, _name(*where), leaf)
    return kept


def _written(change: DocumentChange) -> Iterator[tuple[Where, Leaf | None]]:
    """Yield what a change has written: a document as a whole, and settings."""
    if change.is_whole:
        after = change.after
        opening = Leaf(DOCUMENT, {}) if after is None else after.head(change.document).leaf
        yield change.where, None if change.action == "remove" else opening
    for item in change.items:
        yield Where(change.part, change.document, item.address), item.after


def _set(kept: _Kept, name: Where, leaf: Leaf | None) -> None:
    if leaf is None:
        kept.pop(name, None)
    else:
        kept[name] = leaf


def since_kept(change: DocumentChange, kept: Mapping[Where, Leaf]) -> DocumentChange:
    """Return a change that says of itself and its settings where they have changed since they were `kept`."""
    items = tuple(
        _item(item, kept.get(_name(change.part, change.document, item.address))) for item in change.items
    )
    was = kept.get(_name(*change.where))
    if not change.is_whole or (change.before is None and change.after is None):
        return msgspec.structs.replace(change, items=items)
    sides = [state.head(change.document).leaf if state else None for state in (change.before, change.after)]
    since = _since(sides[0], sides[1], was)
    state = FileState.of(was) if was is not None and was.type in (WHOLE, DOCUMENT) else None
    return msgspec.structs.replace(change, items=items, since=since, kept=state)


def _item(item: SettingChange, kept: Leaf | None) -> SettingChange:
    return msgspec.structs.replace(item, since=_since(item.before, item.after, kept), kept=kept)


def _since(before: Leaf | None, after: Leaf | None, kept: Leaf | None) -> Since:
    here, there = not _same(before, kept), not _same(after, kept)
    return "both" if here and there else "here" if here else "there"


def _same(one: Leaf | None, other: Leaf | None) -> bool:
    if one is None or other is None:
        return one is other
    if one.type == other.type == WHOLE:
        # Not every place knows permission bits.
        return FileState.of(one).identity == FileState.of(other).identity
    if one.type == other.type == DOCUMENT:
        return True
    return one == other

"""Homes that a setting of another part names, and files that settings name: where they are after an import."""

import contextlib
from collections.abc import Iterator

from zinker.jobs.session import Session, named_in
from zinker.model.plan import Objection, Plan
from zinker.model.profile import Snapshot
from zinker.places.given import in_folders
from zinker.places.place import Place
from zinker.stores.home import NoHome
from zinker.subjects.subject import Part, SettingAt


def move_homes(session: Session, source: Snapshot, parts: tuple[Part, ...]) -> dict[str, str]:
    """Have parts where the settings that come with them say; returns what these say, by part."""
    ids = {part.id for part in parts}
    said: dict[str, str] = {}
    for part in parts:
        if part.named_by is not None and part.named_by.part in ids:
            named = _text_in(source, part.named_by)
            if named:
                said[part.id] = named
                with contextlib.suppress(NoHome):  # it is left alone for that reason
                    session.move(part, named)
    return said


def against_named(session: Session, plan: Plan, live: Snapshot, said: dict[str, str]) -> Iterator[Objection]:
    """Object where something would go where a setting does not point after all."""
    touched = {change.part for change in plan.documents}
    for part in session.subject.part:
        if part.id in touched and part.id in said and part.named_by is not None:
            stays = _text_after(plan, live, part.named_by)
            if stays != said[part.id]:
                own = stays or "empty"
                yield Objection(
                    f"{part.name} would go to {said[part.id]}, and the setting that names it stays {own}.",
                    "Write both, or neither: choose with --part and --without.",
                )


def told_missing(session: Session, plan: Plan) -> Iterator[str]:
    """Say which files and folders, named by settings that would be written, are not there and would not come."""
    coming = {change.part for change in plan.documents if change.action != "remove"}
    for part in session.subject.part:
        at = part.named_by
        for change in plan.documents if at is not None and part.id not in coming else ():
            for item in change.items:
                is_it = at is not None and (change.part, item.address) == (at.part, at.address)
                named = named_in(item.after) if is_it else ""
                if named and not _is_there(named, session.place):
                    yield f"{part.name}: {named} is not at {session.place.told}, and does not come with this."


def _is_there(named: str, place: Place) -> bool:
    """Tell whether a file or folder is there; one that cannot be looked for counts as there."""
    variable, _, rest = in_folders(named, place)[1:].partition("}/")
    folder = place.folder(variable) if variable else None
    return folder is None or place.has(folder / rest)


def _text_in(snapshot: Snapshot, at: SettingAt) -> str:
    if snapshot.manifest.part(at.part) is None:
        return ""
    return next((named_in(s.leaf) for s in snapshot.settings(at.part) if s.address == at.address), "")


def _text_after(plan: Plan, live: Snapshot, at: SettingAt) -> str:
    items = (item for change in plan.documents if change.part == at.part for item in change.items)
    found = next((item for item in items if item.address == at.address), None)
    if found is None:
        return _text_in(live, at)
    return named_in(found.after)

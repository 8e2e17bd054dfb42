"""Subject files: checking one, and drafting a new one from the files that an application keeps."""

import contextlib
import itertools
import re
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from zinker.disk.files import make_folders, nearest_path, write_file
from zinker.formats import guess
from zinker.jobs.scouting import Seen, scouted
from zinker.jobs.setup import Setup
from zinker.model.errors import Refused, WrongUsage, reason
from zinker.model.names import unknown
from zinker.model.plain_json import fitted
from zinker.places.given import path_at
from zinker.places.place import Place
from zinker.stores.desktop_db import BENEATH, USER, settings_path
from zinker.stores.home import NoHome
from zinker.stores.kinds import open_home
from zinker.stores.reading import StoreError
from zinker.stores.registry import whole_key
from zinker.subjects.catalogue import SUFFIX, VARIABLES, check_subject
from zinker.subjects.draft import DraftPart, draft, named_apart, part_id
from zinker.subjects.subject import Part, paths_of

if TYPE_CHECKING:
    from zinker.stores.tenants.tenant import Tenant

__all__ = ["check_subject", "describe_homes", "new_subject"]

# In the order in which a path is looked for in them: the narrower ones first.
_LOOKED_INTO = 200  # documents of a home, for a draft
_NARROW_FIRST = ("config", "data", "documents", "program", "machine-config", "home")


class Drafted(NamedTuple):
    """A draft that was written: its file, its parts and how much each is, and the programs that run."""

    path: Path
    parts: list[tuple[DraftPart, Seen]]
    processes: tuple[str, ...] = ()


def new_subject(
    setup: Setup, id: str, homes: tuple[Path | str, ...], place: str = "here", to: Path | None = None
) -> Drafted:
    """Write a commented draft of a subject file, with parts for what is found in each of the homes given.

    Of a tenant it has a part for each collection, or for those named, as the service's own metadata describes them.
    Raises `WrongUsage` for a name or a home that cannot be used, and `Refused` where the file is there already.
    """
    where = setup.place(place)
    if (tenant := where.tenant()) is not None:
        collections = _collections(tenant, where, [*map(str, homes)])
        return Drafted(write_draft(setup, id, collections, to), [(one, Seen()) for one in collections])
    check_name(id)
    given = [draft_part(where, home, number) for number, home in enumerate(homes, 1)]
    found = [one for part in given for one in scouted(setup, where, part)]
    parts = named_apart([part for part, _ in found])
    names = {id, *(part_id(Path(str(home)).stem, 1) for home in homes)}
    running = where.running(sorted({*names, *(f"{name}.exe" for name in names)}))
    processes = tuple(dict.fromkeys(one.name for one in running))
    path = write_draft(setup, id, parts, to, processes)
    return Drafted(path, [(part, seen) for part, (_, seen) in zip(parts, found, strict=True)], processes)


def _collections(tenant: "Tenant", place: Place, wanted: list[str]) -> list[DraftPart]:
    from zinker.stores.tenants.drafting import described

    found = {one.path: one for one in described(tenant.api.model())}
    if not found:
        why = f"the service of {place.told} does not describe itself ($metadata)"
        raise Refused(
            "No draft written", why, "Write a subject file by hand: docs/reference.md has an example."
        )
    for name in wanted:
        if name not in found:
            raise unknown("collection", name, list(found), f"{place.told} has {', '.join(found)}.")
    chosen = [found[name] for name in wanted or found]
    return [
        DraftPart(
            _words(one.path), one.path, "", "tenant", policy=one.shape, choices=tuple(one.choices.items())
        )
        for one in chosen
    ]


def _words(path: str) -> str:
    """Return the id of a part for a collection: in small letters, words apart.

    >>> _words("WorkstationRules"), _words("HTTPPolicies_v2")
    ('workstation-rules', 'httppolicies-v2')
    """
    words = re.sub(r"(?<=[a-z0-9])(?=[A-Z])|[^A-Za-z0-9]+", "-", path).strip("-").lower()
    return words or "policies"


class Undescribed(NamedTuple):
    """Homes under the name of the subject that they have now; `draft` is its file, where that is new."""

    id: str
    draft: Path | None


def describe_homes(setup: Setup, homes: tuple[str, ...], place: str = "here") -> Undescribed:
    """Give homes that no subject file describes one of their own, so that they can be kept, compared and put back.

    The same homes are the same subject again. Raises as `new_subject` does.
    """
    where = setup.place(place)
    parts = [draft_part(where, home, number) for number, home in enumerate(homes, 1)]
    for home, part in zip(homes, parts, strict=True):
        if why := _why_nothing(setup, where, part):
            raise Refused(
                "Not exported", f"{home} is not at {where.told}: {why}", "Check the key or the path."
            )
    wanted = {part.path for part in parts}
    for id, path in setup.catalogue.files().items():
        if path.parent == setup.drafts:
            with contextlib.suppress(WrongUsage):
                known = setup.catalogue.find(id)
                if {one for part in known.part for one in paths_of(part.path)} == wanted:
                    return Undescribed(id, None)
    taken = {*setup.catalogue.files(), *setup.shelf.subjects()}
    numbered = (f"{parts[0].id}-{number}" for number in itertools.count(2))
    id = next(name for name in itertools.chain([parts[0].id], numbered) if name not in taken)
    return Undescribed(id, write_draft(setup, id, parts))


def _part(draft: DraftPart) -> Part:
    described: dict[str, object] = {"id": draft.id, "store": draft.store, "path": draft.path}
    return fitted(described | ({"format": draft.format} if draft.format else {}), Part)


def _why_nothing(setup: Setup, place: Place, draft: DraftPart) -> str:
    """Say why there is nothing to be kept of a home, or "" if there is."""
    try:
        is_there = bool(open_home(place, _part(draft), setup.reader).documents())
    except (NoHome, OSError, StoreError) as error:
        return reason(error) if isinstance(error, OSError) else error.why
    return "" if is_there else "there is nothing of that name"


def write_draft(
    setup: Setup, id: str, parts: list[DraftPart], to: Path | None = None, processes: tuple[str, ...] = ()
) -> Path:
    """Write a commented draft of a subject file with these parts, into `to` or where it is found.

    Raises `WrongUsage` for a name that cannot be used, and `Refused` where the file is there already.
    """
    check_name(id)
    folder = to or setup.drafts
    path = folder / f"{id}{SUFFIX}"
    if path.exists():
        raise Refused(
            "No draft written", f"{path} is there already", "Choose another name, or edit that file."
        )
    try:
        if to is None:
            make_folders(folder, mode=None)
        write_file(path, draft(id, parts, processes).encode(), mode=None)
    except OSError as error:
        raise WrongUsage(
            "No draft written", f"{path}: {reason(error)}", "Choose another folder with --to."
        ) from None
    return path


def check_name(id: str) -> None:
    """Raise `WrongUsage` for what cannot be the name of a subject."""
    if not id.replace("-", "").isalnum() or not id.isascii() or id != id.lower() or id[0] == "-":
        why = f"{id!a} is no name for a subject: small letters, digits and hyphens"
        raise WrongUsage("No draft written", why, "Choose another name.")


def draft_part(place: Place, given: Path | str, number: int) -> DraftPart:
    """Describe a home as a part; the number names one that has no name of its own.

    A home is a file or folder, a registry key, or a path of the desktop's settings database, which is no folder;
    each as people type it, see zinker.places.given.

    Raises `WrongUsage` for a home that cannot be used.
    """
    text = str(given)
    if key := whole_key(text):
        return DraftPart(part_id(key.rpartition("\\")[2], number), key, "", "registry")
    home = path_at(text, place)
    if (subtree := settings_path(text)) and not home.exists() and _is_subtree(place, text, subtree):
        return DraftPart(part_id(subtree.rstrip("/").rpartition("/")[2], number), subtree, "", "desktop-db")
    whole = home.absolute()
    for variable in _NARROW_FIRST:
        folder = place.folder(variable)
        if folder is not None and folder in (whole, *whole.parents):
            below = whole.relative_to(folder).as_posix()
            break
    else:
        names = ", ".join(f"{{{name}}}" for name in VARIABLES)
        raise WrongUsage(
            "No draft written", f"{home} is in none of {names} at {place.told}", "Name one that is."
        )
    if not place.has(whole):
        then = (nearest_path(whole) if place.tree() is None else "") + "Check the path."
        raise WrongUsage("No draft written", f"{home} does not exist", then)
    if place.is_folder(whole):
        return DraftPart(part_id(whole.name, number), f"{{{variable}}}/{below}/**".replace("/./", "/"), "")
    format = guess(whole.name, place.beginning(whole))
    return DraftPart(part_id(whole.stem, number), f"{{{variable}}}/{below}", format)


def _is_subtree(place: Place, text: str, path: str) -> bool:
    """Tell whether a settings path is meant: by its last slash, or because something is there."""
    database = place.desktop_db() if text != path else None
    return text == path or bool(database and any(database.layer(one, path) for one in (USER, *BENEATH)))

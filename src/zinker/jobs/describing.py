"""Subject files: checking one, and drafting a new one from the files that an application keeps."""

import re
from pathlib import Path

import msgspec

from zinker.disk.files import open_regular, write_file
from zinker.formats import guess
from zinker.jobs.plan.result import leaves_of
from zinker.jobs.secrets.detect import secrets_in
from zinker.jobs.setup import Setup
from zinker.model.errors import Refused, WrongUsage, reason
from zinker.places.place import Place
from zinker.stores.home import NoHome
from zinker.stores.kinds import open_home
from zinker.stores.reading import StoreError
from zinker.stores.registry import ROOTS
from zinker.subjects.catalogue import SUFFIX, VARIABLES, check_subject
from zinker.subjects.draft import DraftPart, draft
from zinker.subjects.subject import Part

__all__ = ["check_subject", "new_subject"]

# In the order in which a path is looked for in them: the narrower ones first.
_LOOKED_INTO = 200  # documents of a home, for a draft
_NARROW_FIRST = ("config", "data", "documents", "program", "machine-config", "home")


def new_subject(
    setup: Setup, id: str, homes: tuple[Path | str, ...], place: str = "here", to: Path | None = None
) -> Path:
    """Write a commented draft of a subject file, with a part for each of the homes given.

    Raises `WrongUsage` for a name or a home that cannot be used, and `Refused` where the file is there already.
    """
    where = setup.place(place)
    parts = [draft_part(where, home, number) for number, home in enumerate(homes, 1)]
    return write_draft(setup, id, [marked(setup, where, part) for part in parts], to)


def marked(setup: Setup, place: Place, draft: DraftPart) -> DraftPart:
    """Return a part of a draft with the secrets marked that its home has."""
    described: dict[str, object] = {"id": draft.id, "store": draft.store, "path": draft.path}
    part = msgspec.convert(described | ({"format": draft.format} if draft.format else {}), Part)
    found: set[str] = set()
    try:
        home = open_home(place, part, setup.reader)
        for document in home.documents()[:_LOOKED_INTO]:
            found.update(secrets_in(part, leaves_of(home.read(document))))
    except (NoHome, OSError, StoreError):
        pass  # what cannot be read now is told when it is captured
    return draft._replace(secret=tuple(sorted(found)))


def write_draft(setup: Setup, id: str, parts: list[DraftPart], to: Path | None = None) -> Path:
    """Write a commented draft of a subject file with these parts, into the first subject folder or `to`.

    Raises `WrongUsage` for a name that cannot be used, and `Refused` where the file is there already.
    """
    check_name(id)
    folder = to or next(iter(setup.subject_folders), Path())
    path = folder / f"{id}{SUFFIX}"
    if path.exists():
        raise Refused(
            "No draft written", f"{path} is there already", "Choose another name, or edit that file."
        )
    try:
        write_file(path, draft(id, parts).encode(), mode=None)
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

    A home is a file or folder, a registry key (`HKEY_...`), or a path of the desktop's settings database, which
    has a slash at both ends and is no folder.

    Raises `WrongUsage` for a home that cannot be used.
    """
    text = str(given)
    if text.upper().startswith(ROOTS):
        return DraftPart(_id(text.rpartition("\\")[2], number), text, "", "registry")
    if re.fullmatch(r"/([^/]+/)+", text) and not Path(text).exists():
        return DraftPart(_id(text.rstrip("/").rpartition("/")[2], number), text, "", "desktop-db")
    home = Path(given)
    whole = home.absolute()
    for variable in _NARROW_FIRST:
        folder = place.folder(variable)
        if folder is not None and folder in whole.parents:
            below = whole.relative_to(folder).as_posix()
            break
    else:
        names = ", ".join(f"{{{name}}}" for name in VARIABLES)
        raise WrongUsage(
            "No draft written", f"{home} is in none of {names} at {place.name}", "Name one that is."
        )
    if not whole.exists():
        raise WrongUsage("No draft written", f"{home} does not exist", "Check the path.")
    if whole.is_dir():
        return DraftPart(_id(whole.name, number), f"{{{variable}}}/{below}/**", "")
    with open_regular(whole) as file:
        return DraftPart(
            _id(whole.stem, number), f"{{{variable}}}/{below}", guess(whole.name, file.read(4096))
        )


def _id(name: str, number: int) -> str:
    plain = "".join(c if c.isascii() and c.isalnum() else "-" for c in name.lower()).strip("-")
    return plain or f"part-{number}"

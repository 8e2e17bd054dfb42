"""Finds the home of a part at a place."""

import re
from pathlib import Path

from zinker.model.errors import Refused
from zinker.places.place import Place
from zinker.stores.files import FileHome
from zinker.stores.registry import RegistryHome
from zinker.subjects.subject import Part

Home = FileHome | RegistryHome


class NoHome(Refused):
    """A part has no home at a place; `why` says the reason."""

    def __init__(self, why: str) -> None:
        super().__init__("Not reached", why)


def open_home(place: Place, part: Part) -> Home:
    """Return the home of a part at a place; raises `NoHome`."""
    if part.store == "file":
        return _file_home(place, part)
    if part.store == "registry":
        registry = place.registry()
        if registry is None:
            raise NoHome(f"{place.name} has no registry that can be reached")
        return RegistryHome(registry, part.path)
    raise NoHome(f"this Zinker cannot reach a home of the kind {part.store} yet")


def instance_of(part: Part, document: str) -> str:
    """Return the instance a document of a part belongs to, or "" if the part has none."""
    return FileHome(Path(), _split(part.path)[2], part.format).instance(document)


def _file_home(place: Place, part: Part) -> FileHome:
    variable, folder, pattern = _split(part.path)
    base = place.folder(variable)
    if base is None:
        raise NoHome(f"nobody knows where {{{variable}}} is at {place.name}; name it in zinker.toml")
    return FileHome(base / folder, pattern, part.format)


def _split(path: str) -> tuple[str, str, str]:
    """Split a path into its variable, the folders without a wild card, and the rest, which names documents."""
    variable, _, rest = path[1:].partition("}/")
    names = rest.split("/")
    fixed = next((at for at, name in enumerate(names) if re.search(r"[*?{]", name)), len(names) - 1)
    return variable, "/".join(names[:fixed]), "/".join(names[fixed:])

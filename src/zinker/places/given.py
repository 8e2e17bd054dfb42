"""What people type for a path: `~`, and variables by the names that systems have for them.

At a place, variables stand for its own folders, whatever system this program runs on; here, also for what is set
in the environment.
"""

import os
import re
from pathlib import Path

from zinker.places.place import Place

# By the names that systems have for them (Windows' Known Folders, the XDG Base Directory Specification).
_FOLDERS = {
    "home": "home",
    "userprofile": "home",
    "appdata": "config",
    "localappdata": "data",
    "programfiles": "program",
    "programdata": "machine-config",
    "allusersprofile": "machine-config",
    "xdg_config_home": "config",
    "xdg_data_home": "data",
    "xdg_documents_dir": "documents",
}
_VARIABLE = re.compile(
    r"%(?P<windows>\w+(?:\(x86\))?)%|\$\{(?P<braced>\w+)\}|\$(?P<plain>\w+)|^\{(?P<own>[a-z-]+)\}"
)


def path_at(text: str, place: Place) -> Path:
    """Return a path with `~` and variables as they stand at a place; one that is unknown stays as it is.

    A file that has just that name is meant before any variable.
    """
    if os.path.lexists(text):
        return Path(text)

    def value(found: re.Match[str]) -> str:
        name = found["windows"] or found["braced"] or found["plain"] or ""
        folder = place.folder(found["own"] or _FOLDERS.get(name.lower(), name))
        if folder is None and place.name == "here" and name in os.environ:
            return os.environ[name]
        return str(folder) if folder is not None else found[0]

    tilde = re.sub(r"^~(?=[/\\]|$)", "{home}", text)
    expanded = _VARIABLE.sub(value, tilde)
    if os.sep == "/" and expanded != tilde:
        expanded = expanded.replace("\\", "/")  # as people on Windows write the rest of it
    try:
        return Path(expanded).expanduser()
    except RuntimeError:  # the home of an account that is unknown here
        return Path(expanded)


def in_folders(text: str, place: Place) -> str:
    """Return a path as programs at a place write it, from one of the place's folders on: `{home}/Plans/ferns.csv`.

    It is "" for one that is in none of them, or that climbs.
    """
    is_windows = place.system.startswith("Windows")
    own = place.own_folders()

    def value(found: re.Match[str]) -> str:
        name = found["windows"] or found["braced"] or found["plain"] or ""
        return own.get(_FOLDERS.get(name.lower(), ""), found[0])

    whole = _VARIABLE.sub(value, re.sub(r"^~(?=[/\\]|$)", "%HOME%", text.strip()))
    names = re.split(r"[/\\]+" if is_windows else "/+", whole.rstrip("/\\" if is_windows else "/"))
    best: tuple[int, str] = (0, "")
    for variable, folder in own.items():
        above = re.split(r"[/\\]+" if is_windows else "/+", folder.rstrip("/\\"))
        head, rest = names[: len(above)], names[len(above) :]
        is_below = head == above or (is_windows and [*map(str.lower, head)] == [*map(str.lower, above)])
        if is_below and rest and not {".", "..", ""} & set(rest) and len(above) > best[0]:
            best = len(above), "/".join((f"{{{variable}}}", *rest))
    return best[1]

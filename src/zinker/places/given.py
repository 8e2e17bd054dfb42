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

"""Where the folders of accounts are on a disk: whose home is where, and what lies below each.

The XDG Base Directory defaults and the FHS, Windows' Known Folders, and Apple's "File System Programming Guide".
"""

import os
from collections.abc import Callable, Iterable
from pathlib import Path, PurePosixPath

from zinker.disk.files import read_regular
from zinker.model.system import System

# The template for accounts that are still to come is an account, too.
TEMPLATE = "template"
# The folders of one account are not those of another.
OWN = ("home", "config", "data", "documents")
BELOW_HOME = {
    "linux": {"config": ".config", "data": ".local/share", "documents": "Documents"},
    "windows": {"config": "AppData/Roaming", "data": "AppData/Local", "documents": "Documents"},
    "macos": {
        "config": "Library/Application Support",
        "data": "Library/Application Support",
        "documents": "Documents",
    },
}
SHARED = {
    "linux": {"program": "usr/lib", "machine-config": "etc"},
    "windows": {"program": "Program Files", "machine-config": "ProgramData"},
    "macos": {"program": "Applications", "machine-config": "Library/Application Support"},
}
_HOMES = {"linux": "home", "windows": "Users", "macos": "Users"}
_TEMPLATES = {
    "linux": ("etc/skel",),
    "windows": ("Users/Default",),
    "macos": ("Library/User Template/Non_localized", "System/Library/User Template/Non_localized"),
}
# Folders beside the homes that are nobody's.
_NOBODYS = {
    "linux": {"lost+found"},
    "windows": {"all users", "default", "default user", "public", "defaultapppool"},
    "macos": {"shared", "guest"},
}
_FIRST_PERSON, _LAST_PERSON = 1000, 60_000  # login.defs(5)


def homes_on(
    kind: System, own: str, folders_in: Callable[[str], Iterable[str]], text_of: Callable[[str], str]
) -> dict[str, str]:
    """Return the homes of the accounts on a disk, by name, as paths below its top; the template is among them.

    `own` is the home that is known already, or "". `folders_in` lists a folder, `text_of` reads a file; what is not
    there is empty.
    """
    above = str(PurePosixPath(own).parent) if own else _HOMES[kind]
    found = {name: f"{above}/{name}" for name in folders_in(above) if name.casefold() not in _NOBODYS[kind]}
    if kind == "linux":
        found |= {name: home for name, home in _people(text_of("etc/passwd")) if _is_in(folders_in, home)}
    template = next((path for path in _TEMPLATES[kind] if _is_in(folders_in, path)), "")
    return {TEMPLATE: template, **found} if template else found


def homes_below(top: Path, kind: System, own: str = "") -> dict[str, str]:
    """Return the same of a disk that is mounted here at `top`."""

    def folders_in(folder: str) -> list[str]:
        try:
            return [one.name for one in os.scandir(top / folder) if one.is_dir(follow_symlinks=False)]
        except OSError:
            return []

    def text_of(file: str) -> str:
        try:
            return read_regular(top / file).decode(errors="surrogateescape")
        except OSError:
            return ""

    return homes_on(kind, own, folders_in, text_of)


def folders_of(kind: System, home: str, given: dict[str, str]) -> dict[str, str]:
    """Return the folders of an account, as paths below the top of its disk.

    `given` are those of another account: what lies below its home lies below this one's in the same way.
    """
    other = given.get("home", "")
    alike = {
        name: f"{home}{path.removeprefix(other)}"
        for name, path in given.items()
        if name in OWN and other and path.startswith(f"{other}/")
    }
    return {"home": home, **{name: f"{home}/{below}" for name, below in BELOW_HOME[kind].items()}, **alike}


def _people(passwd: str) -> Iterable[tuple[str, str]]:
    """Yield name and home of the people in an account list (passwd(5)); services have homes, but no settings."""
    for line in passwd.splitlines():
        fields = line.split(":")
        if len(fields) >= 7 and fields[2].isdecimal() and fields[5].startswith("/"):
            number = int(fields[2])
            if (number == 0 or _FIRST_PERSON <= number < _LAST_PERSON) and ".." not in fields[5].split("/"):
                yield fields[0], fields[5].strip("/")


def _is_in(folders_in: Callable[[str], Iterable[str]], path: str) -> bool:
    above, _, name = path.rpartition("/")
    return name in folders_in(above)

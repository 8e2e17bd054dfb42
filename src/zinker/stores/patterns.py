"""Which files below a folder a part is made of: `*` and `?` within a name, `**` for any folders, `{instance}`."""

import os
import re
from collections.abc import Iterator
from pathlib import Path

from zinker.stores.atomic import PART_SUFFIX

_WILD = re.compile(r"\*|\?|\{instance\}")
# Names and characters that Windows keeps for itself ("Naming Files, Paths, and Namespaces").
_NOT_ON_WINDOWS = re.compile(
    r'[<>:"\\|?*\x00-\x1f]|[ .](?:/|\Z)|(?:\A|/)(?:con|prn|aux|nul|com\d|lpt\d)(?:\.[^/]*)?(?:/|\Z)',
    re.IGNORECASE,
)


def is_wild(pattern: str) -> bool:
    """Tell whether a pattern may stand for more than one file."""
    return bool(_WILD.search(pattern))


def expression(pattern: str) -> re.Pattern[str]:
    """Translate a pattern; an instance is named once and has the same value everywhere in the path."""
    pieces, seen = [], False
    for piece in re.split(r"(\*\*/?|\*|\?|\{instance\})", pattern):
        if piece == "{instance}":
            pieces.append("(?P=instance)" if seen else "(?P<instance>[^/]+)")
            seen = True
        else:
            wild = {"**/": "(?:.*/)?", "**": ".*", "*": "[^/]*", "?": "[^/]"}
            pieces.append(wild.get(piece, re.escape(piece)))
    return re.compile("".join(pieces), re.DOTALL)


def walk(base: Path, pattern: str) -> Iterator[str]:
    """Yield the files and links below a folder that fit, relative, with `/`; where the pattern takes in whole
    folders, the empty ones, too. Sockets, pipes and devices hold nothing. Raises `OSError`.
    """
    if not base.is_dir():
        return
    fitting = expression(pattern)
    waiting = [("", os.fspath(base))]
    while waiting:
        prefix, folder = waiting.pop()
        is_empty = True
        with os.scandir(folder) as entries:
            for entry in entries:
                if entry.name.endswith(PART_SUFFIX):
                    continue
                is_empty = False
                name = prefix + entry.name
                if entry.is_dir(follow_symlinks=False):
                    waiting.append((f"{name}/", entry.path))
                elif fitting.fullmatch(name) and (entry.is_symlink() or entry.is_file()):
                    yield name
        if is_empty and prefix and pattern.endswith("**") and fitting.fullmatch(prefix[:-1]):
            yield prefix[:-1]


def forbidden(name: str, system: str) -> str:
    """Say why a file cannot have this name under an operating system, or ""."""
    if system == "windows" and _NOT_ON_WINDOWS.search(name):
        return "Windows has no files of that name"
    return "its name has a null character" if "\0" in name else ""

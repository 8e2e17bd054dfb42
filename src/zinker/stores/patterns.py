"""Which files below a folder a part is made of: `*` and `?` within a name, `**` for any folders, `{instance}`."""

import re
import stat
from collections.abc import Iterator
from functools import cache
from typing import TYPE_CHECKING

from zinker.disk.files import is_part

if TYPE_CHECKING:
    from zinker.disk.folder import Folder

_WILD = re.compile(r"\*|\?|\{instance\}")
# Names and characters that Windows keeps for itself ("Naming Files, Paths, and Namespaces").
_NOT_ON_WINDOWS = (
    r'(?i)[<>:"\\|?*\x00-\x1f]|[ .](?:/|\Z)'
    r"|(?:\A|/)(?:con|prn|aux|nul|clock\$|conin\$|conout\$|(?:com|lpt)[\d¹²³]) *(?:\.[^/]*)?(?:/|\Z)"
)


def is_wild(pattern: str) -> bool:
    """Tell whether a pattern may stand for more than one file."""
    return bool(_WILD.search(pattern))


@cache
def expression(pattern: str) -> re.Pattern[str]:
    """Translate a pattern; an instance is named once and has the same value everywhere in the path.

    Where a name has several wild cards, what stands between them is taken where it comes first, for good: that is
    as right as any other place, and keeps the time to match in proportion to the length of the name.
    """
    names = (_of_name(name) for name in re.split(r"(\*\*/?|/)", pattern))
    text = "".join(names)
    # The instance of a later name is that of the first.
    first, found, rest = text.partition(_INSTANCE)
    return re.compile(first + found + rest.replace(_INSTANCE, "(?P=instance)"), re.DOTALL)


_INSTANCE = "(?P<instance>[^/]+)"


def _of_name(name: str) -> str:
    if name in ("**/", "**", "/"):
        return {"**/": "(?:.*/)?", "**": ".*"}.get(name, "/")
    fixed = [_of_fixed(piece) for piece in name.split("*")]
    if "{instance}" in name or len(fixed) < 3:
        return "[^/]*".join(fixed)
    middle = "".join(f"(?>[^/]*?{piece})" for piece in fixed[1:-1])
    return f"{fixed[0]}{middle}[^/]*{fixed[-1]}"


def _of_fixed(piece: str) -> str:
    known = {"{instance}": _INSTANCE, "?": "[^/]"}
    return "".join(known.get(part, re.escape(part)) for part in re.split(r"(\{instance\}|\?)", piece))


def is_without(without: tuple[str, ...], name: str) -> bool:
    """Tell whether a file or folder, or a folder above it, fits one of some patterns."""
    steps = name.split("/") if without else []
    above = ["/".join(steps[:number]) for number in range(1, len(steps) + 1)]
    return any(expression(pattern).fullmatch(one) for pattern in without for one in above)


def walk(base: "Folder", pattern: str, without: tuple[str, ...] = ()) -> Iterator[str]:
    """Yield the files and links below a folder that fit, relative, with `/`; where the pattern takes in whole
    folders, the empty ones, too. What fits one of `without` is passed over, a folder with all that is in it.
    Sockets, pipes and devices hold nothing. Raises `OSError`.
    """
    passed = [expression(one) for one in without]
    fitting = expression(pattern)
    waiting: list[str] = [""]
    while waiting:
        prefix = waiting.pop()
        is_empty = True
        for entry, kind in _below(base, prefix).entries():
            if is_part(entry):
                continue
            is_empty = False
            name = prefix + entry
            if any(one.fullmatch(name) for one in passed):
                continue
            if kind == stat.S_IFDIR:
                waiting.append(f"{name}/")
            elif kind in (stat.S_IFLNK, stat.S_IFREG) and fitting.fullmatch(name):
                yield name
        if is_empty and prefix and pattern.endswith("**") and fitting.fullmatch(prefix[:-1]):
            yield prefix[:-1]


def _below(folder: "Folder", path: str) -> "Folder":
    for name in path.split("/")[:-1]:
        folder = folder.child(name)
    return folder


def forbidden(name: str, system: str) -> str:
    """Say why a file cannot have this name under an operating system, or ""."""
    if system == "windows" and re.search(_NOT_ON_WINDOWS, name):
        return "Windows has no files of that name"
    return "its name has a null character" if "\0" in name else ""

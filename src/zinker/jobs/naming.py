"""What a profile is called outside the shelf: by itself, by its path, or by a path with variables in it."""

import contextlib
import datetime
import itertools
import os
import re
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from zinker.disk.files import make_folders
from zinker.formats.endings import is_text
from zinker.model.errors import WrongUsage
from zinker.model.profile import Manifest
from zinker.profiles.layout import SUFFIX
from zinker.profiles.reading import is_profile

_VARIABLE = re.compile(r"\{(\w+)\}")
# What some file system does not take in a name: Windows' own characters, control characters, halves of characters.
_UNSAFE = r"[\s]*[<>:\"/\\|?*\x00-\x1f\x7f\ud800-\udfff]+[\s]*"
_DEVICES = re.compile(r"con|prn|aux|nul|(?:com|lpt)\d", re.IGNORECASE)
_LONGEST_NAME = 60


class Named(NamedTuple):
    """What a name of a file can tell of what is in it; `version` is the application's."""

    subject: str
    version: str = ""
    place: str = ""
    account: str = ""
    instance: str = ""
    part: str = ""
    label: str = ""
    when: datetime.datetime | None = None

    @classmethod
    def of(cls, about: Manifest) -> "Named":
        """Return what there is to tell of a kept version."""
        when = datetime.datetime.fromisoformat(about.captured)
        version, label = about.application_version, about.label
        return cls(about.subject, version, about.place, about.user, label=label, when=when)

    @property
    def values(self) -> dict[str, str]:
        """What each variable stands for, fit for a name on every file system."""
        when = self.when or datetime.datetime.now()
        told = self._asdict() | {"date": f"{when:%Y-%m-%d}", "time": f"{when:%H%M%S}"}
        return {name: safe_name(value) for name, value in told.items() if isinstance(value, str)}


def safe_name(text: str) -> str:
    """Return a text as a piece of the name of a file that every file system takes, and that leads nowhere.

    >>> safe_name("gate/ivy: ../x. "), safe_name("con")
    ('gate_ivy_.._x', '_con')
    """
    name = re.sub(_UNSAFE, "_", text)[:_LONGEST_NAME].rstrip(". ")
    return f"_{name}" if _DEVICES.fullmatch(name.partition(".")[0]) else name


def destination(to: Path, named: Named) -> Path:
    """Return where a profile goes: into an existing folder under a name of its own, else to the path itself.

    The name tells subject, application version, place and time. A path may have variables, such as `{subject}`. A
    number follows where a name is taken. A path that does not end in `.zinker` is a profile folder.
    """
    if _VARIABLE.search(str(to)):
        values = named.values
        unknown = [name for name in _VARIABLE.findall(str(to)) if name not in values]
        if unknown:
            why = f"{{{unknown[0]}}} in {to} stands for nothing"
            raise WrongUsage("Not exported", why, f"There are {', '.join(f'{{{name}}}' for name in values)}.")
        pieces = [_VARIABLE.sub(lambda found: values[found[1]], piece) for piece in to.parts]
        ending = to.suffix if is_text(to) or to.suffix == SUFFIX else ""
        empty = [piece for piece, name in zip(to.parts, pieces, strict=True) if not name.removesuffix(ending)]
        if empty:
            then = "Put something beside it that there always is, as in {subject}."
            raise WrongUsage("Not exported", f"there is nothing for {empty[0]} here", then)
        return _free(Path(*pieces), ending)
    if is_text(to) or not to.is_dir() or is_profile(to) or to.suffix == SUFFIX:
        return to
    when = named.when or datetime.datetime.now()
    pieces = [named.subject, named.version, named.place, f"{when:%Y%m%d-%H%M%S}"]
    name = re.sub(r"[^\w.-]", "_", "-".join(filter(None, pieces)))
    return _free(to / f"{name}{SUFFIX}", SUFFIX)


@contextlib.contextmanager
def way_to(to: Path, path: Path) -> Iterator[None]:
    """Make the folders of a path that came of one with variables; they go again where nothing comes into them."""
    made = make_folders(path.parent, None) if _VARIABLE.search(str(to)) else []
    try:
        yield
    except BaseException:
        for folder in reversed(made):
            with contextlib.suppress(OSError):
                folder.rmdir()
        raise


def _free(path: Path, ending: str) -> Path:
    """Return a path, with a number before its ending where it is taken."""
    stem = path.name.removesuffix(ending)
    numbers = itertools.chain([""], (f"-{number}" for number in itertools.count(2)))
    return next(free for n in numbers if not os.path.lexists(free := path.with_name(f"{stem}{n}{ending}")))

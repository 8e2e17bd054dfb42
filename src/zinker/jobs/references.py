"""References: `[place:]subject[/instance][@version]`, or the path of a profile.

A bare word is always a subject; a profile folder is written with a slash, as in `./mosslight`.
"""

import re
from pathlib import Path

import msgspec

from zinker.disk.files import nearest_path
from zinker.formats.endings import ENDINGS
from zinker.model.errors import WrongUsage
from zinker.places.given import path_at
from zinker.places.here import Here
from zinker.profiles.layout import SUFFIX
from zinker.profiles.reading import is_profile

_REFERENCE = re.compile(
    r"(?:(?P<place>[^:@/\\]+(?:/[^:@/\\]+)?):)?(?P<subject>[^:@/\\]+)(?:/(?P<instance>[^:@/\\]+))?(?:@(?P<version>[^:@/\\]+))?"
)


class Reference(msgspec.Struct, frozen=True):
    """A reference taken apart; `path` is set for a profile outside the shelf, and then nothing else is."""

    text: str
    subject: str = ""
    place: str = ""
    instance: str = ""
    version: str = ""
    path: Path | None = None

    @property
    def is_live(self) -> bool:
        """Whether it means the live settings at a place."""
        return bool(self.place) and not self.version


def parse_reference(text: str) -> Reference:
    """Take a reference apart; raises `WrongUsage` for anything else."""
    path = path_at(text, Here())
    looks_like_path = "/" in text or "\\" in text
    if text.endswith(SUFFIX) or text.lower().endswith(ENDINGS) or (looks_like_path and is_profile(path)):
        return Reference(text, path=path)
    found = _REFERENCE.fullmatch(text)
    if looks_like_path and (not found or text.startswith((".", "~")) or path.exists()):
        raise no_profile(text, path.exists())
    if not found:
        why = f"{text!r} is neither [place:]subject[/instance][@version] nor the path of a profile"
        raise WrongUsage("Reference not understood", why, "Examples: mosslight@7, glasshouse:mosslight.")
    place, subject, instance, version = (
        found[name] or "" for name in ("place", "subject", "instance", "version")
    )
    return Reference(text, subject, place, instance, version)


def no_profile(text: str, is_there: bool = False) -> WrongUsage:
    """Make the error for a path at which no profile is."""
    why = f"{text} is no profile" if is_there else f"there is nothing at {text}"
    then = (
        "A profile is a file that ends in .zinker, or a folder with a profile.json in it, written as ./NAME."
    )
    hint = "" if is_there else nearest_path(path_at(text, Here()))
    return WrongUsage("Reference not understood", why, hint + then)

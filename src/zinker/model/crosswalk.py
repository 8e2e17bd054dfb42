"""A crosswalk translates settings from one place's world to another's.

So far it knows the folders of both places: a text that is, or begins with, a folder of the one becomes the
same folder of the other.
"""

import ntpath
from collections.abc import Mapping

import msgspec

from zinker.model.setting import Setting

_TEXT_TYPES = frozenset({"text", "sz", "expand_sz"})


class Crosswalk(msgspec.Struct, frozen=True):
    """Pairs of folders, the longest first, each as its own place writes it."""

    folders: tuple[tuple[str, str], ...] = ()

    def translate(self, setting: Setting) -> Setting:
        """Return the setting as the other place would write it; the same object if nothing applies."""
        if setting.type not in _TEXT_TYPES or not isinstance(setting.value, str):
            return setting
        pair = self.pair_for(setting.value)
        if pair is None:
            return setting
        rest = setting.value[len(pair[0]) :]
        return Setting(*setting.key, setting.type, pair[1] + _with_separator(rest, pair[1]))

    def pair_for(self, text: str) -> tuple[str, str] | None:
        """Return the pair of folders that applies to a text, if one does."""
        return next((pair for pair in self.folders if _lies_in(text, pair[0])), None)


def between(old: Mapping[str, str], new: Mapping[str, str]) -> Crosswalk:
    """Make the crosswalk between the path variables of two places.

    >>> between({"home": "/home/ivy"}, {"home": "/home/fern"}).folders
    (('/home/ivy', '/home/fern'),)
    """
    pairs = {(old[name], new[name]) for name in old.keys() & new.keys() if old[name] != new[name]}
    return Crosswalk(tuple(sorted(pairs, key=lambda pair: (-len(pair[0]), pair))))


def _is_windows(path: str) -> bool:
    return bool(ntpath.splitdrive(path)[0]) or "\\" in path


def _lies_in(text: str, folder: str) -> bool:
    if len(folder) < 2:
        return False  # "/" would take every absolute path along
    start, rest = text[: len(folder)], text[len(folder) :]
    same = start.casefold() == folder.casefold() if _is_windows(folder) else start == folder
    return same and (not rest or rest[0] in "/\\")


def _with_separator(rest: str, folder: str) -> str:
    return rest.replace("/", "\\") if _is_windows(folder) else rest.replace("\\", "/")

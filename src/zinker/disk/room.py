"""How much a disk has room for: bytes that are free, and how long names may be."""

import os
import shutil
from pathlib import Path


def room_at(folder: Path) -> tuple[object, int, str]:
    """Return which disk a folder is, or would be, on, how many bytes are free there, and its name."""
    there = folder.absolute()
    while not there.exists():
        there = there.parent
    return there.stat().st_dev, shutil.disk_usage(there).free, str(there)


def longest(folder: Path) -> tuple[int, int]:
    """Return how many bytes a name and a path may have on the disk of a folder."""
    while not os.path.exists(folder):
        folder = folder.parent
    return _limit(folder, "PC_NAME_MAX", 255), _limit(folder, "PC_PATH_MAX", 4096)


def _limit(folder: Path, what: str, usual: int) -> int:
    try:
        return os.pathconf(folder, what)
    except (AttributeError, OSError, ValueError):  # Windows, and disks that do not say
        return usual

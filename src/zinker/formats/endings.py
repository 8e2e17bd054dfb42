"""Endings of text files that hold settings of a registry or of a desktop's database."""

from pathlib import Path
from typing import Final

REGISTRATION: Final = ".reg"
DUMP: Final = ".dconf"
ENDINGS: Final = (REGISTRATION, DUMP)


def is_text(path: Path) -> bool:
    """Tell from its name whether a file is such a text file."""
    return path.suffix.lower() in ENDINGS

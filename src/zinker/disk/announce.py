"""Says what is about to change on a disk, as an audit event (PEP 578): tests kill and fail at each of them."""

import os
import sys
from pathlib import Path

EVENT = "zinker.disk"


def announce(verb: str, path: Path) -> None:
    """Say that something at a path is about to change; `verb` says how, in one word."""
    sys.audit(EVENT, verb, os.fspath(path))

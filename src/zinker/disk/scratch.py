"""Folders for a while: what a run that was killed has left of them, the next one removes."""

import contextlib
import os
import re
import shutil
from collections.abc import Iterator
from pathlib import Path

from zinker.disk import windows

_NAME = re.compile(r"zinker-run-(\d+)-\w+", re.ASCII)


@contextlib.contextmanager
def scratch_folder() -> Iterator[Path]:
    """Make a folder that only its owner may look into, and remove it afterwards; raises `OSError`."""
    import tempfile

    folder = Path(tempfile.mkdtemp(prefix=f"zinker-run-{os.getpid()}-"))
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def sweep_scratch() -> None:
    """Remove the folders of runs that are dead."""
    import tempfile

    for name in os.listdir(tempfile.gettempdir()):
        found = _NAME.fullmatch(name)
        if found and not is_running(int(found[1])):
            folder = Path(tempfile.gettempdir(), name)
            with contextlib.suppress(OSError):
                own = os.getuid() if hasattr(os, "getuid") else folder.lstat().st_uid
                if folder.lstat().st_uid == own and not folder.is_symlink():
                    shutil.rmtree(folder, ignore_errors=True)


def is_running(process: int) -> bool:
    """Tell whether a process of this machine is still there."""
    if windows.IS_WINDOWS:
        return windows.is_running(process)
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except (OSError, OverflowError):  # somebody else's
        return True
    return True

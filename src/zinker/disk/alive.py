"""A lock that a run has for as long as it lives, by which others can tell that it does.

The operating system lets go of it when the run ends, however that comes about, also on a share that carries locks.
"""

import contextlib
import os
from collections.abc import Iterator
from pathlib import Path

from zinker.disk.announce import announce
from zinker.disk.files import open_own


@contextlib.contextmanager
def alive(path: Path) -> Iterator[bool]:
    """Hold a new lock file, which goes at the end; yields False where another name is needed for it."""
    announce("create", path)
    descriptor = open_own(path, os.O_RDWR | os.O_CREAT, 0o600)
    try:
        # Whoever swept in between has removed the file that is open here.
        yield _locked(descriptor) is not False and _is_at(descriptor, path)
    finally:
        _end(descriptor, path)


@contextlib.contextmanager
def ended(path: Path) -> Iterator[bool]:
    """Hold another run's lock file, if that run has ended; it goes at the end. Yields whether it has."""
    try:
        descriptor = os.open(path, os.O_RDWR | getattr(os, "O_BINARY", 0))
    except FileNotFoundError:
        yield True
        return
    is_ours = False
    try:
        is_ours = _locked(descriptor) is True and _is_at(descriptor, path)
        yield is_ours
    finally:
        if is_ours:
            _end(descriptor, path)
        else:
            os.close(descriptor)


def _end(descriptor: int, path: Path) -> None:
    # Before it is let go of: whoever gets it then sees that it is gone. Windows removes nothing that is open.
    with contextlib.suppress(OSError):
        if os.name != "nt" and _is_at(descriptor, path):
            path.unlink()
    os.close(descriptor)
    if os.name == "nt":
        with contextlib.suppress(OSError):
            path.unlink()


def _is_at(descriptor: int, path: Path) -> bool:
    """Tell whether an open file is the one that has that name."""
    try:
        return os.path.samestat(os.fstat(descriptor), path.stat())
    except FileNotFoundError:
        return False


def _locked(descriptor: int) -> bool | None:
    """Lock an open file, without waiting; tells whether that was possible, None where nothing can be locked."""
    try:
        try:
            import fcntl

            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except ImportError:
            import msvcrt

            msvcrt.locking(descriptor, msvcrt.LK_NBLCK, 1)  # type: ignore[attr-defined,unused-ignore]
    except ImportError:
        return None
    except OSError:
        return False
    return True

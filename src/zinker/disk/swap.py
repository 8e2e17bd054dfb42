"""Renaming that overwrites nothing unseen: two names swap what they have, or the new name must be free.

Linux has both in one step (renameat2). Elsewhere a hard link under the new name fails where that is taken, and
nothing can be swapped: `can_exchange` says so.
"""

import contextlib
import errno
import os
import sys
from functools import cache
from typing import Any

_NOREPLACE, _EXCHANGE = 1, 2  # linux/fs.h
_HERE = -100  # AT_FDCWD
# What a file system says that has no such renaming.
_UNKNOWN = (errno.EINVAL, errno.ENOSYS, errno.ENOTSUP)


@cache
def _renameat2() -> Any:
    if sys.platform != "linux":
        return None
    import ctypes

    with contextlib.suppress(OSError, AttributeError):
        call = ctypes.CDLL(None, use_errno=True).renameat2
        call.argtypes = (ctypes.c_int, ctypes.c_char_p, ctypes.c_int, ctypes.c_char_p, ctypes.c_uint)
        return call
    return None


def _renamed(one: str, other: str, folder: int | None, flags: int) -> bool:
    """Rename by the system's own call; tells whether there is one. Raises `OSError`."""
    call = _renameat2()
    at = _HERE if folder is None else folder
    if call is None:
        return False
    if call(at, os.fsencode(one), at, os.fsencode(other), flags) == 0:
        return True
    import ctypes

    number = ctypes.get_errno()
    if number in _UNKNOWN:
        return False
    raise OSError(number, os.strerror(number), one)


def exchange(one: str, other: str, folder: int | None) -> bool:
    """Swap what two names in a folder stand for, in one step; tells whether that can be done here.

    `folder` is its descriptor; without one, the names are paths. Raises `OSError`.
    """
    return _renamed(one, other, folder, _EXCHANGE)


def rename_new(old: str, new: str, folder: int | None) -> None:
    """Rename where the new name is free; raises `FileExistsError` where it is not, and `OSError`."""
    if _renamed(old, new, folder, _NOREPLACE):
        return
    if os.name == "nt":  # there, a renaming never replaces
        os.rename(old, new)
        return
    where: dict[str, Any] = {} if folder is None else {"src_dir_fd": folder, "dst_dir_fd": folder}
    try:
        os.link(old, new, follow_symlinks=False, **where)
        os.unlink(old, **({} if folder is None else {"dir_fd": folder}))
    except FileExistsError:
        raise
    except OSError:  # a file system without hard links: the last look is the one before
        with contextlib.suppress(FileNotFoundError):
            os.stat(new, follow_symlinks=False, **({} if folder is None else {"dir_fd": folder}))
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), new) from None
        os.rename(old, new, **where)


def flush_disk(folder: int) -> None:
    """Flush the disk that an open folder is on; everything, where the system has nothing narrower."""
    if sys.platform == "linux":
        import ctypes

        with contextlib.suppress(AttributeError):
            if ctypes.CDLL(None, use_errno=True).syncfs(folder) == 0:
                return
            raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
    os.sync()

"""Mode, owner, access control lists and extended attributes of a file, taken over by descriptor.

Linux keeps access control lists among the extended attributes (acl(5), xattr(7)), so both are copied alike.
"""

import contextlib
import errno
import os

from zinker.disk import windows

# Set by the system itself for every new file, or by it alone.
_SYSTEMS_OWN = ("security.selinux", "security.ima", "security.evm", "security.capability")
_REFUSED = (errno.EPERM, errno.EACCES, errno.ENOTSUP)
_HAS_ATTRIBUTES = hasattr(os, "listxattr")


def attributes(path: str | int) -> list[str]:
    """Return the names of the extended attributes of a file that somebody has given to it."""
    if windows.IS_WINDOWS:
        with contextlib.suppress(OSError):
            return windows.given(os.stat(path))
    if not _HAS_ATTRIBUTES:
        return []
    with contextlib.suppress(OSError):
        names = os.listxattr(path) if isinstance(path, int) else os.listxattr(path, follow_symlinks=False)
        return [name for name in names if name not in _SYSTEMS_OWN]
    return []


def is_root() -> bool:
    """Tell whether this process may give files away."""
    return hasattr(os, "geteuid") and os.geteuid() == 0


def give(descriptor: int, looks: os.stat_result) -> None:
    """Give a file to the owner of another one, where this process may."""
    if is_root() and (looks.st_uid or looks.st_gid):
        with contextlib.suppress(OSError):  # a disk without owners
            os.fchown(descriptor, looks.st_uid, looks.st_gid)


def set_mode(descriptor: int, mode: int, is_wanted: bool = False) -> None:
    """Set the permission bits of an open file; a disk without modes keeps its own.

    Raises `OSError` where other bits are `wanted` than the file had, and the disk failed.
    """
    if not hasattr(os, "fchmod"):
        return
    try:
        os.fchmod(descriptor, mode)
    except OSError as error:
        if is_wanted and error.errno not in _REFUSED:
            raise


def take_over(source: int, target: int, mode: int | None = None) -> list[str]:
    """Give a new file all that an old one is besides its content; `mode` holds other permission bits.

    Both are open. Returns the names of the attributes that could not be set. Raises `OSError`.
    """
    if windows.IS_WINDOWS:
        return windows.take_over(source, target)
    looks = os.fstat(source)
    give(target, looks)
    lost = []
    for name in attributes(source):
        try:
            os.setxattr(target, name, os.getxattr(source, name))
        except OSError:
            lost.append(name)
    # After the access control list, which has the bits of the group in it.
    own = looks.st_mode & 0o7777
    set_mode(target, own if mode is None else mode, mode not in (None, own & 0o777))
    return lost

r"""What files have on Windows alone, by its own calls: attributes, access control lists, and who shares them.

Everything can be imported elsewhere, where it does what the system has. Python opens files so that nobody can
rename or remove them meanwhile; what is only read is opened so that everybody can.
"""

import os
import stat

IS_WINDOWS = os.name == "nt"

# Attributes that somebody has given to a file, by their bits (winnt.h).
_GIVEN = {0x1: "read-only", 0x2: "hidden", 0x4: "system"}
_ENCRYPTED = 0x4000
# A name that stands for something elsewhere: a link or a junction, but not a file that is kept in a cloud.
_SURROGATE = 0x2000_0000
_READ, _DELETE = 0x8000_0000, 0x1_0000
HELD = (32, 33)  # ERROR_SHARING_VIOLATION, ERROR_LOCK_VIOLATION


def exact(path: str) -> str:
    r"""Return an absolute path so that Windows takes each name in it as it is, however long it is.

    Without it, names end before their last dot, `nul` is a device, and 259 characters are the most.
    """
    if not IS_WINDOWS or path.startswith("\\\\?\\"):
        return path
    if path.startswith("\\\\"):
        return "\\\\?\\UNC" + path[1:]
    return f"\\\\?\\{path}" if path[1:3] == ":\\" else path


def is_link(looks: os.stat_result) -> bool:
    """Tell whether a name stands for something elsewhere: a symbolic link, or a junction of Windows."""
    return stat.S_ISLNK(looks.st_mode) or bool(getattr(looks, "st_reparse_tag", 0) & _SURROGATE)


def open_shared(path: str) -> int:
    """Open a file for reading, so that others can rename and remove it; returns a descriptor, raises `OSError`."""
    if not IS_WINDOWS:
        return os.open(path, os.O_RDONLY)
    import msvcrt

    handle = _opened(path, _READ)
    return int(msvcrt.open_osfhandle(handle, os.O_RDONLY | getattr(os, "O_BINARY", 0)))  # type: ignore[attr-defined,unused-ignore]


def is_held(path: str) -> bool:
    """Tell whether another program holds a file open so that nobody may put another one in its place."""
    if not IS_WINDOWS:
        return False
    from zinker.disk import windows_calls

    try:
        handle = _opened(path, _DELETE)
    except OSError as error:
        return getattr(error, "winerror", 0) in HELD
    windows_calls.close(handle)
    return False


def is_running(process: int) -> bool:
    """Tell whether a process is still there; also where that cannot be told."""
    from zinker.disk import windows_calls

    return windows_calls.is_running(process)


def given(looks: os.stat_result) -> list[str]:
    """Return the names of the attributes that a file has been given."""
    bits = getattr(looks, "st_file_attributes", 0)
    return [name for bit, name in _GIVEN.items() if bits & bit]


def clear_read_only(path: str) -> bool:
    """Take the attribute from a file that nobody may replace or remove; tells whether it had it."""
    bits = getattr(os.stat(path, follow_symlinks=False), "st_file_attributes", 0)
    if bits & 1:
        os.chmod(path, stat.S_IREAD | stat.S_IWRITE)
    return bool(bits & 1)


def take_over(source: int, target: int) -> list[str]:
    """Give an open file what another one has: attributes and access control list.

    Returns the names of what could not be given.
    """
    from zinker.disk import windows_calls

    old, new = os.fstat(source), os.fstat(target)
    bits = getattr(old, "st_file_attributes", 0)
    lost = []
    if not windows_calls.same_access(source, target):
        lost.append("access control list")
    if bits & ~getattr(new, "st_file_attributes", 0) & _ENCRYPTED:
        lost.append("encryption")
    if given(old) and not windows_calls.set_attributes(target, bits & sum(_GIVEN)):
        lost += given(old)
    return lost


def _opened(path: str, rights: int) -> int:
    from zinker.disk import windows_calls

    try:
        return windows_calls.opened(exact(path), rights)
    except OSError as error:
        error.filename = path
        raise

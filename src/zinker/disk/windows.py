r"""What files have on Windows alone, by its own calls: attributes, access control lists, and who shares them.

Everything can be imported elsewhere, where it does what the system has. Python opens files so that nobody can
rename or remove them meanwhile; what is only read is opened so that everybody can.
"""

import contextlib
import ctypes
import errno
import os
import stat
from functools import cache
from typing import Any

IS_WINDOWS = os.name == "nt"

# Attributes that somebody has given to a file, by their bits (winnt.h).
_GIVEN = {0x1: "read-only", 0x2: "hidden", 0x4: "system"}
_ENCRYPTED = 0x4000
# A name that stands for something elsewhere: a link or a junction, but not a file that is kept in a cloud.
_SURROGATE = 0x2000_0000
_READ, _DELETE = 0x8000_0000, 0x1_0000
_SHARED = 7  # others may read, write and remove it
_EXISTING = 3
_BACKUP = 0x0200_0000  # needed for folders
_DACL = 4
_BASIC = 0  # FileBasicInfo
_INVALID = ctypes.c_void_p(-1).value
_WAIT = 0x0010_0000  # SYNCHRONIZE
_NO_PROCESS = 87  # ERROR_INVALID_PARAMETER
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
    try:
        handle = _opened(path, _DELETE)
    except OSError as error:
        return getattr(error, "winerror", 0) in HELD
    _kernel().CloseHandle(ctypes.c_void_p(handle))
    return False


def is_running(process: int) -> bool:
    """Tell whether a process is still there; also where that cannot be told."""
    kernel = _kernel()
    kernel.OpenProcess.restype = ctypes.c_void_p
    handle = kernel.OpenProcess(_WAIT, False, ctypes.c_uint32(process))
    if not handle:
        return bool(ctypes.get_last_error() != _NO_PROCESS)  # type: ignore[attr-defined,unused-ignore]
    has_ended = kernel.WaitForSingleObject(ctypes.c_void_p(handle), 0) == 0
    kernel.CloseHandle(ctypes.c_void_p(handle))
    return not has_ended


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
    old, new = os.fstat(source), os.fstat(target)
    lost = []
    if not _same_access(source, target):
        lost.append("access control list")
    if getattr(old, "st_file_attributes", 0) & ~getattr(new, "st_file_attributes", 0) & _ENCRYPTED:
        lost.append("encryption")
    if given(old) and not _set_given(target, getattr(old, "st_file_attributes", 0)):
        lost += given(old)
    return lost


class _Basic(ctypes.Structure):
    """FILE_BASIC_INFO: times, of which zeros change nothing, and attributes."""

    _fields_ = [("times", ctypes.c_int64 * 4), ("attributes", ctypes.c_uint32)]


def _set_given(descriptor: int, bits: int) -> bool:
    import msvcrt

    handle = ctypes.c_void_p(msvcrt.get_osfhandle(descriptor))  # type: ignore[attr-defined,unused-ignore]
    wanted = _Basic(attributes=bits & sum(_GIVEN) | 0x20)
    call = _kernel().SetFileInformationByHandle
    return bool(call(handle, _BASIC, ctypes.byref(wanted), ctypes.sizeof(wanted)))


def _same_access(source: int, target: int) -> bool:
    """Give one open file the access control list of another one; tells whether it has it then."""
    with contextlib.suppress(OSError):
        paths = _path_of(source), _path_of(target)
        old, new = map(_access, paths)
        if old == new:
            return True
        return bool(_advapi().SetFileSecurityW(paths[1], _DACL, old))
    return True  # a disk without such lists


def _access(path: str) -> bytes:
    """Return a file's security descriptor with the access control list in it."""
    needed = ctypes.c_uint32(0)
    _advapi().GetFileSecurityW(path, _DACL, None, 0, ctypes.byref(needed))
    buffer = ctypes.create_string_buffer(needed.value)
    if not needed.value or not _advapi().GetFileSecurityW(path, _DACL, buffer, needed, ctypes.byref(needed)):
        raise OSError(errno.ENOTSUP, "no access control list", path)
    return buffer.raw


def _path_of(descriptor: int) -> str:
    import msvcrt

    handle = ctypes.c_void_p(msvcrt.get_osfhandle(descriptor))  # type: ignore[attr-defined,unused-ignore]
    buffer = ctypes.create_unicode_buffer(0x8000)
    if not _kernel().GetFinalPathNameByHandleW(handle, buffer, len(buffer), 0):
        raise _error("")
    return buffer.value


def _opened(path: str, rights: int) -> int:
    create = _kernel().CreateFileW
    create.restype = ctypes.c_void_p
    handle = create(exact(path), ctypes.c_uint32(rights), _SHARED, None, _EXISTING, _BACKUP, None)
    if handle is None or handle == _INVALID:
        raise _error(path)
    return int(handle)


def _error(path: str) -> OSError:
    code = ctypes.get_last_error()  # type: ignore[attr-defined,unused-ignore]
    return OSError(0, ctypes.FormatError(code).strip(), path, code)  # type: ignore[attr-defined,unused-ignore]


@cache
def _kernel() -> Any:
    return ctypes.WinDLL("kernel32", use_last_error=True)  # type: ignore[attr-defined,unused-ignore]


@cache
def _advapi() -> Any:
    return ctypes.WinDLL("advapi32", use_last_error=True)  # type: ignore[attr-defined,unused-ignore]

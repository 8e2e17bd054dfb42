"""The calls of Windows that Python does not have, with what they take; on Windows alone."""

import contextlib
import ctypes
import errno
from functools import cache
from typing import Any

_SHARED = 7  # others may read, write and remove it
_EXISTING = 3
_BACKUP = 0x0200_0000  # needed for folders
_DACL = 4
_BASIC = 0  # FileBasicInfo
_ARCHIVE = 0x20
_INVALID = ctypes.c_void_p(-1).value
_WAIT = 0x0010_0000  # SYNCHRONIZE
_NO_PROCESS = 87  # ERROR_INVALID_PARAMETER


def opened(path: str, rights: int) -> int:
    """Open a file or folder in a way that lets all others do what they like; returns a handle, raises `OSError`."""
    create = _kernel().CreateFileW
    create.restype = ctypes.c_void_p
    handle = create(path, ctypes.c_uint32(rights), _SHARED, None, _EXISTING, _BACKUP, None)
    if handle is None or handle == _INVALID:
        raise _error(path)
    return int(handle)


def close(handle: int) -> None:
    """Close what was opened."""
    _kernel().CloseHandle(ctypes.c_void_p(handle))


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


class _Basic(ctypes.Structure):
    """FILE_BASIC_INFO: times, of which zeros change nothing, and attributes."""

    _fields_ = [("times", ctypes.c_int64 * 4), ("attributes", ctypes.c_uint32)]


def set_attributes(descriptor: int, bits: int) -> bool:
    """Give an open file some attributes; tells whether it has them then."""
    import msvcrt

    handle = ctypes.c_void_p(msvcrt.get_osfhandle(descriptor))  # type: ignore[attr-defined,unused-ignore]
    wanted = _Basic(attributes=bits | _ARCHIVE)
    call = _kernel().SetFileInformationByHandle
    return bool(call(handle, _BASIC, ctypes.byref(wanted), ctypes.sizeof(wanted)))


def same_access(source: int, target: int) -> bool:
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


def _error(path: str) -> OSError:
    code = ctypes.get_last_error()  # type: ignore[attr-defined,unused-ignore]
    return OSError(0, ctypes.FormatError(code).strip(), path, code)  # type: ignore[attr-defined,unused-ignore]


@cache
def _kernel() -> Any:
    return ctypes.WinDLL("kernel32", use_last_error=True)  # type: ignore[attr-defined,unused-ignore]


@cache
def _advapi() -> Any:
    return ctypes.WinDLL("advapi32", use_last_error=True)  # type: ignore[attr-defined,unused-ignore]

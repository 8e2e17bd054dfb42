"""The registry of this workstation on Windows, through Python's own module for it (`winreg`).

Links are read as links, never followed: a branch must not lead out of itself. What the interface cannot give
exactly is read and written by its bytes: `winreg` cuts a text at a zero in it, joins lists of texts, and reads
four bytes for a number of two.
"""

import ctypes
from collections.abc import Iterator
from contextlib import contextmanager
from types import ModuleType
from typing import Any, Literal

from zinker.formats.registry_values import from_bytes, to_bytes
from zinker.model.rows import Block
from zinker.stores.reading import Trouble
from zinker.stores.registry import ROOTS, RegistryError, Value, blocks_by_key

_OPEN_LINK = 8  # REG_OPTION_OPEN_LINK
_TRIES = 3
_NOT_FOUND, _NO_RIGHT, _BUSY, _MORE, _NO_MORE, _DELETED = 2, 5, 32, 234, 259, 1018
# Most values are no longer than this, in bytes.
_USUAL_SIZE = 256
# Where an application may hold a key open and refuse others.
_LOCKED = (32, 33, 170)


class WindowsRegistry:
    """The registry that this program sees; `view` is that of programs of 32 or 64 bits, 0 this program's own."""

    def __init__(self, winreg: ModuleType, view: Literal[0, 32, 64] = 0) -> None:
        self._winreg = winreg
        flags = {0: 0, 32: winreg.KEY_WOW64_32KEY, 64: winreg.KEY_WOW64_64KEY}
        self._view: int = flags[view]

    def exists(self, key: str) -> bool:
        """Tell whether there is such a key; one that may not be read is there."""
        try:
            with self._opened(key, self._winreg.KEY_READ):
                return True
        except KeyError:
            return False
        except RegistryError:
            return True

    def subkeys(self, key: str) -> list[str]:
        """Return the names of the keys right below a key."""
        return self._whole(key)[0]

    def values(self, key: str) -> list[Value]:
        """Return name, type and value of a key's values."""
        return self._whole(key)[1]

    def value(self, key: str, name: str) -> Value:
        """Return one value of a key."""
        with self._opened(key, self._winreg.KEY_READ) as handle, _in_words(key):
            value, type = self._winreg.QueryValueEx(handle, name)
            return _typed(self._winreg, handle, name, value, type)

    def blocks(self, branch: str, troubles: list[Trouble]) -> Iterator[Block]:
        """Yield all settings of a branch."""
        return blocks_by_key(branch, lambda key: self._whole(key, follow=key == branch), troubles)

    def create(self, key: str) -> None:
        """Make a key with those above it."""
        root, path = self._split(key)
        with _in_words(key):
            self._winreg.CreateKeyEx(root, path, 0, self._winreg.KEY_WRITE | self._view).Close()

    def set(self, key: str, name: str, type: str, value: Any) -> None:
        """Set a value, and make its key where it is missing."""
        try:
            number, data = to_bytes(type, value)
        except ValueError as error:
            raise RegistryError(str(error)) from None
        if "\0" in name:
            raise RegistryError("Windows takes no name with a zero in it")
        if number == self._winreg.REG_LINK:
            raise RegistryError("a link cannot be made through this interface")
        root, path = self._split(key)
        with _in_words(key):
            handle = self._winreg.CreateKeyEx(root, path, 0, self._winreg.KEY_WRITE | self._view)
            with handle:
                _set_bytes(self._winreg, handle, name, number, data)

    def delete_value(self, key: str, name: str) -> None:
        """Remove a value."""
        with self._opened(key, self._winreg.KEY_SET_VALUE) as handle, _in_words(key):
            self._winreg.DeleteValue(handle, name)

    def delete_key(self, key: str) -> None:
        """Remove a key that holds nothing."""
        names, values = self._whole(key)
        if names or values:
            raise RegistryError("the key is not empty")
        root, path = self._split(key)
        with _in_words(key):
            self._winreg.DeleteKeyEx(root, path, self._view or self._winreg.KEY_WOW64_64KEY)

    def obstacle(self, key: str) -> str:
        """Say why nothing can be written at or below a key, or "" if nothing is seen to prevent it."""
        try:
            with self._opened(key, self._winreg.KEY_WRITE):
                return ""
        except KeyError:
            above = key.rpartition("\\")[0]
            return self.obstacle(above) if above else "there is no such root key"
        except RegistryError as error:
            return error.why

    def flush(self) -> None:
        """Have the user's and the machine's hives written to the disk, as far as that is allowed."""
        for root in (self._winreg.HKEY_CURRENT_USER, self._winreg.HKEY_LOCAL_MACHINE):
            try:
                self._winreg.FlushKey(root)
            except OSError:
                continue  # Windows does it by itself within seconds

    def _whole(self, key: str, follow: bool = False) -> tuple[list[str], list[Value]]:
        """Read a key; again where it changes while it is read, which its time tells."""
        for _ in range(_TRIES):
            try:
                options = 0 if follow else _OPEN_LINK
                with self._opened(key, self._winreg.KEY_READ, options) as handle, _in_words(key):
                    count, value_count, before = self._winreg.QueryInfoKey(handle)
                    names = [self._winreg.EnumKey(handle, number) for number in range(count)]
                    values = [_value(self._winreg, handle, number) for number in range(value_count)]
                    if self._winreg.QueryInfoKey(handle) == (count, value_count, before):
                        return names, values
            except _Changed:
                continue
        raise RegistryError(f"it changed while it was read, {_TRIES} times")

    @contextmanager
    def _opened(self, key: str, rights: int, options: int = 0) -> Iterator[Any]:
        root, path = self._split(key)
        with _in_words(key):
            # The third argument goes to RegOpenKeyExW as its options.
            handle = self._winreg.OpenKeyEx(root, path, options if path else 0, rights | self._view)
        with handle:
            yield handle

    def _split(self, key: str) -> tuple[int, str]:
        root, _, path = key.partition("\\")
        if root.upper() not in ROOTS:
            raise RegistryError("there is no such root key")
        return getattr(self._winreg, root.upper()), path


class _Changed(Exception):
    """A key is not what it was a moment ago."""


@contextmanager
def _in_words(key: str) -> Iterator[None]:
    """Turn Windows' errors into `KeyError` and `RegistryError`."""
    try:
        yield
    except OSError as error:
        code = getattr(error, "winerror", None) or error.errno
        if code in (_NOT_FOUND, _DELETED):
            raise KeyError(key) from None
        if code in (_NO_MORE, _MORE):
            raise _Changed from None
        words = {_NO_RIGHT: "no right to read or write this key"}
        words |= dict.fromkeys(_LOCKED, "another program has locked the key")
        raise RegistryError(words.get(code or 0, f"Windows refused it: {error.strerror or error}")) from None


def _value(winreg: ModuleType, handle: Any, number: int) -> Value:
    """Return a value by its number, from its bytes."""
    name, value, type = winreg.EnumValue(handle, number)
    return _typed(winreg, handle, name, value, type)


def _typed(winreg: ModuleType, handle: Any, name: str, value: Any, type: int) -> Value:
    return name, *from_bytes(type, _get_bytes(winreg, handle, name, type, value))


def _get_bytes(winreg: ModuleType, handle: Any, name: str, type: int, value: Any) -> bytes:
    advapi = _advapi()
    if advapi is None:
        return _as_bytes(winreg, type, value)
    key, size, code = ctypes.c_void_p(int(handle)), ctypes.c_uint32(_USUAL_SIZE), _MORE
    while code == _MORE:  # it may grow meanwhile
        buffer = ctypes.create_string_buffer(size.value)
        code = advapi.RegQueryValueExW(key, name, None, None, buffer, ctypes.byref(size))
    if code:
        raise OSError(code, "the value cannot be read")
    return buffer.raw[: size.value]


def _set_bytes(winreg: ModuleType, handle: Any, name: str, number: int, data: bytes) -> None:
    advapi = _advapi()
    if advapi is None:
        winreg.SetValueEx(handle, name, 0, number, _from_bytes(winreg, number, data))
        return
    code = advapi.RegSetValueExW(ctypes.c_void_p(int(handle)), name, 0, number, data, len(data))
    if code:
        raise OSError(code, "the value cannot be written")


def _advapi() -> Any:
    """Return Windows' own library, where there is one: it takes and gives bytes as they are."""
    return ctypes.windll.advapi32 if hasattr(ctypes, "windll") else None


def _as_bytes(winreg: ModuleType, type: int, value: Any) -> bytes:
    """Return the bytes of a value as `winreg` has it."""
    if isinstance(value, bytes) or value is None:
        return value or b""
    words = {
        winreg.REG_DWORD: "dword",
        winreg.REG_SZ: "sz",
        winreg.REG_EXPAND_SZ: "expand_sz",
        winreg.REG_MULTI_SZ: "multi_sz",
        winreg.REG_QWORD: "qword",
    }
    return to_bytes(words[type], value)[1]


def _from_bytes(winreg: ModuleType, number: int, data: bytes) -> Any:
    """Return a value's bytes as `winreg` takes them."""
    type, value = from_bytes(number, data)
    if type in ("sz", "expand_sz", "multi_sz", "dword"):
        return value
    return int(value) if type == "qword" else data

"""The desktop's settings database of this machine, through its own library (libdconf, by its C interface).

Reading asks the library, which reads the database files; writing goes through the service on the session bus.
"""

import ctypes
import ctypes.util
import os
from collections.abc import Mapping
from functools import cache
from pathlib import Path
from typing import Any

from zinker.model.setting import Leaf
from zinker.stores.desktop_db import DEFAULT, LOCKED, ORGANISATION, DatabaseError, Layer
from zinker.stores.gvdb_database import schema_defaults

_USER_VALUE, _DEFAULT_VALUE = 2, 1  # DConfReadFlags
_DEEPEST = 64
_NO_BUS = "there is no D-Bus session to write the desktop's settings through"


class _Error(ctypes.Structure):
    _fields_ = [("domain", ctypes.c_uint32), ("code", ctypes.c_int), ("message", ctypes.c_char_p)]


@cache
def _libraries() -> tuple[Any, Any]:
    """Load the libraries; raises `DatabaseError` where they are not installed."""
    try:
        dconf = ctypes.CDLL(ctypes.util.find_library("dconf") or "libdconf.so.1")
        glib = ctypes.CDLL(ctypes.util.find_library("glib-2.0") or "libglib-2.0.so.0")
    except OSError:
        raise DatabaseError("libdconf is not installed on this machine") from None
    pointer, text, number = ctypes.c_void_p, ctypes.c_char_p, ctypes.c_int
    error = ctypes.POINTER(ctypes.POINTER(_Error))
    for library, name, result, arguments in (
        (dconf, "dconf_client_new", pointer, []),
        (dconf, "dconf_client_read_full", pointer, [pointer, text, number, pointer]),
        (dconf, "dconf_client_list", pointer, [pointer, text, pointer]),
        (dconf, "dconf_client_list_locks", pointer, [pointer, text, pointer]),
        (dconf, "dconf_client_is_writable", number, [pointer, text]),
        (dconf, "dconf_client_change_sync", number, [pointer, pointer, pointer, pointer, error]),
        (dconf, "dconf_client_sync", None, [pointer]),
        (dconf, "dconf_changeset_new", pointer, []),
        (dconf, "dconf_changeset_set", None, [pointer, text, pointer]),
        (dconf, "dconf_changeset_unref", None, [pointer]),
        (glib, "g_variant_print", pointer, [pointer, number]),
        (glib, "g_variant_get_type_string", text, [pointer]),
        (glib, "g_variant_unref", None, [pointer]),
        (glib, "g_variant_type_string_is_valid", number, [text]),
        (glib, "g_variant_type_new", pointer, [text]),
        (glib, "g_variant_type_free", None, [pointer]),
        (glib, "g_variant_parse", pointer, [pointer, text, pointer, pointer, error]),
        (glib, "g_error_free", None, [pointer]),
        (glib, "g_strfreev", None, [pointer]),
        (glib, "g_free", None, [pointer]),
    ):
        function = getattr(library, name)
        function.restype, function.argtypes = result, arguments
    return dconf, glib


class DconfDatabase:
    """The settings database of the user who runs this; a `SettingsDatabase`."""

    def __init__(self) -> None:
        self._dconf, self._glib = _libraries()
        self._client = self._dconf.dconf_client_new()

    def layer(self, layer: Layer, path: str) -> dict[str, Leaf]:
        """Return the values of one layer below a path."""
        if layer == DEFAULT:
            return schema_defaults(_schema_folders(), path)
        flags = _DEFAULT_VALUE if layer == ORGANISATION else _USER_VALUE
        found = {}
        for key in self._keys(path):
            value = self._dconf.dconf_client_read_full(self._client, key.encode(), flags, None)
            if value:
                found[key] = self._leaf(value)
        return found

    def locked(self, path: str) -> set[str]:
        """Return the paths below a path that the organisation has locked."""
        return set(self._strings(self._dconf.dconf_client_list_locks(self._client, path.encode(), None)))

    def obstacle(self, key: str) -> str:
        """Say why a value cannot be written."""
        return "" if self._dconf.dconf_client_is_writable(self._client, key.encode()) else LOCKED

    def closed(self) -> str:
        """Say that there is no session bus, if there is none (D-Bus Specification, "Well-known Message Bus")."""
        usual = Path(os.environ.get("XDG_RUNTIME_DIR", "/run/nowhere")) / "bus"
        if os.environ.get("DBUS_SESSION_BUS_ADDRESS") or os.environ.get("DISPLAY") or usual.exists():
            return ""
        return _NO_BUS

    def write(self, values: Mapping[str, Leaf | None]) -> None:
        """Set values, or remove them, all in one transaction."""
        changes = self._dconf.dconf_changeset_new()
        try:
            for key, leaf in values.items():
                value = None if leaf is None else self._parsed(leaf)
                self._dconf.dconf_changeset_set(changes, key.encode(), value)
                if value:
                    self._glib.g_variant_unref(value)
            error = ctypes.POINTER(_Error)()
            done = self._dconf.dconf_client_change_sync(
                self._client, changes, None, None, ctypes.byref(error)
            )
            if not done:
                raise DatabaseError(_plain(self._message(error)))
            self._dconf.dconf_client_sync(self._client)
        finally:
            self._dconf.dconf_changeset_unref(changes)

    def _keys(self, path: str) -> list[str]:
        found: list[str] = []
        waiting = [path]
        while waiting:
            folder = waiting.pop()
            if folder.count("/") > path.count("/") + _DEEPEST:
                raise DatabaseError(f"{folder} lies too deep")
            names = self._strings(self._dconf.dconf_client_list(self._client, folder.encode(), None))
            found += [folder + name for name in names if not name.endswith("/")]
            waiting += [folder + name for name in names if name.endswith("/")]
        return found

    def _strings(self, array: Any) -> list[str]:
        texts: list[str] = []
        pointers = ctypes.cast(array, ctypes.POINTER(ctypes.c_char_p))
        while array and (text := pointers[len(texts)]):
            texts.append(text.decode())
        self._glib.g_strfreev(array)
        return texts

    def _leaf(self, value: Any) -> Leaf:
        signature = self._glib.g_variant_get_type_string(value).decode()
        printed = self._glib.g_variant_print(value, False)
        text = ctypes.string_at(printed).decode()
        self._glib.g_free(printed)
        self._glib.g_variant_unref(value)
        return Leaf(f"gvariant:{signature}", text)

    def _parsed(self, leaf: Leaf) -> Any:
        signature = leaf.type.removeprefix("gvariant:").encode()
        if leaf.type[:9] != "gvariant:" or not self._glib.g_variant_type_string_is_valid(signature):
            raise DatabaseError(f"a settings database has no values of the type {leaf.type}")
        type = self._glib.g_variant_type_new(signature)
        error = ctypes.POINTER(_Error)()
        value = self._glib.g_variant_parse(type, str(leaf.value).encode(), None, None, ctypes.byref(error))
        self._glib.g_variant_type_free(type)
        if not value:
            raise DatabaseError(
                f"{leaf.value!a} is no value of the type {signature.decode()}: {self._message(error)}"
            )
        return value

    def _message(self, error: Any) -> str:
        if not error:
            return "no reason was given"
        text = (error.contents.message or b"").decode(errors="replace")
        self._glib.g_error_free(error)
        return text


def _plain(message: str) -> str:
    """Say in plain words why the bus or the service did not do it."""
    lower = message.lower()
    if "serviceunknown" in lower or "not provided by any" in lower or "was not found" in lower:
        return "the service that writes the desktop's settings (dconf-service) is not installed"
    if "autolaunch" in lower or "could not connect" in lower or "dbus_session_bus_address" in lower:
        return _NO_BUS
    if "no such file" in lower or "connection refused" in lower or "connection is closed" in lower:
        return "the D-Bus session does not answer"
    return message or "no reason was given"


def _schema_folders() -> list[Path]:
    """Return the folders of compiled schemas (XDG Base Directory, and GSETTINGS_SCHEMA_DIR), the first to count."""
    own = [Path(folder) for folder in os.environ.get("GSETTINGS_SCHEMA_DIR", "").split(os.pathsep) if folder]
    shared = os.environ.get("XDG_DATA_DIRS") or "/usr/local/share:/usr/share"
    data = os.environ.get("XDG_DATA_HOME") or str(Path.home() / ".local" / "share")
    return own + [Path(folder) / "glib-2.0" / "schemas" for folder in (data, *shared.split(":")) if folder]

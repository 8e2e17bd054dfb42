"""The desktop's settings database on the disk of a machine that does not run, read directly; never written to."""

from collections.abc import Iterable, Mapping
from functools import cache
from pathlib import Path

from zinker.formats.gvariant import Variant, text_of
from zinker.formats.gvdb import Table, read_gvdb
from zinker.model.errors import DocumentError, reason
from zinker.model.setting import Leaf
from zinker.stores.desktop_db import DEFAULT, USER, DatabaseError, Layer, below

_READ_ONLY = "the settings of a machine that does not run are only read, never written to"
_COMPILED = "gschemas.compiled"
_LARGEST = 256 * 1024 * 1024


class DiskDatabase:
    """Database files below a folder: the user's, and the organisation's that its profile names."""

    def __init__(self, top: Path, config: Path | None) -> None:
        self._top = top
        self._user = config / "dconf" / "user" if config else None

    @property
    def is_there(self) -> bool:
        """Whether the user has a database."""
        return self._user is not None and self._user.is_file()

    def layer(self, layer: Layer, path: str) -> dict[str, Leaf]:
        """Return the values of one layer below a path."""
        if layer == DEFAULT:
            return schema_defaults([self._top / "usr/share/glib-2.0/schemas"], path)
        if layer == USER:
            return _values(_table(self._user), path) if self._user else {}
        found: dict[str, Leaf] = {}
        for table in reversed(self._organisations()):
            found |= _values(table, path)
        return found

    def locked(self, path: str) -> set[str]:
        """Return the paths below a path that the organisation has locked."""
        tables = (table.tables.get(".locks") for table in self._organisations())
        return {key for table in tables if table for key in below(path, table.values)}

    def obstacle(self, key: str) -> str:
        """Say that nothing is written here."""
        return _READ_ONLY

    def closed(self) -> str:
        """Say that nothing is written here."""
        return _READ_ONLY

    def write(self, values: Mapping[str, Leaf | None]) -> None:
        """Refuse."""
        raise DatabaseError(_READ_ONLY)

    def _organisations(self) -> list[Table]:
        """Return the databases that the disk's profile puts beneath the user's, the uppermost first."""
        profile = self._top / "etc/dconf/profile/user"
        try:
            lines = profile.read_text().splitlines() if profile.is_file() else []
        except (OSError, UnicodeDecodeError):
            lines = []
        names = [
            line.strip().removeprefix("system-db:") for line in lines if line.strip().startswith("system-db:")
        ]
        files = [self._top / "etc/dconf/db" / name for name in names if name and "/" not in name]
        return [_table(file) for file in files if file.is_file()]


def schema_defaults(folders: Iterable[Path], path: str) -> dict[str, Leaf]:
    """Return what the applications' compiled schemas have as defaults below a path."""
    found: dict[str, Leaf] = {}
    for folder in folders:
        file = folder / _COMPILED
        for schema in _table(file).tables.values() if file.is_file() else ():
            at = schema.values.get(".path")
            base = str(at.value) if at else ""
            if not base or not (base.startswith(path) or path.startswith(base)):
                continue
            for name, entry in schema.values.items():
                # A key's entry is a group of values, the first of which is the default.
                if (
                    not name.startswith(".")
                    and isinstance(entry.value, list)
                    and (base + name).startswith(path)
                ):
                    found.setdefault(base + name, _leaf(entry.value[0]))
    return found


@cache
def _table(file: Path) -> Table:
    try:
        if file.stat().st_size > _LARGEST:
            raise DatabaseError(f"{file} is larger than any settings database")
        return read_gvdb(file.read_bytes())
    except OSError as error:
        raise DatabaseError(f"{file}: {reason(error)}") from None
    except DocumentError as error:
        raise DatabaseError(f"{file} is damaged: {error}") from None


def _values(table: Table, path: str) -> dict[str, Leaf]:
    return {key: _leaf(table.values[key]) for key in below(path, table.values) if not key.startswith(".")}


def _leaf(value: Variant) -> Leaf:
    return Leaf(f"gvariant:{value.signature}", text_of(value))

"""The desktop's settings database on the disk of a machine that does not run, read directly; never written to."""

from collections.abc import Iterable, Mapping
from functools import cache, cached_property
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
        self._sources = _sources(top)
        names = [name for kind, name in self._sources if kind == "user-db" and "/" not in name]
        self._user = config / "dconf" / (names[0] if names else "user") if config else None

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
        tables = self._organisations
        locked = {key: number for number, table in enumerate(tables) for key in _locks(table, path)}
        for number, table in reversed([*enumerate(tables)]):
            # What a layer locks has its value from there, or from below.
            values = _values(table, path).items()
            found |= {key: leaf for key, leaf in values if locked.get(key, 0) <= number}
        return found

    def locked(self, path: str) -> set[str]:
        """Return the paths below a path that the organisation has locked."""
        return {key for table in self._organisations for key in _locks(table, path)}

    def obstacle(self, key: str) -> str:
        """Say that nothing is written here."""
        return _READ_ONLY

    def closed(self) -> str:
        """Say that nothing is written here."""
        return _READ_ONLY

    def write(self, values: Mapping[str, Leaf | None]) -> None:
        """Refuse."""
        raise DatabaseError(_READ_ONLY)

    @cached_property
    def _organisations(self) -> list[Table]:
        """The databases that the disk's profile puts beneath the user's, the uppermost first."""
        places = [
            self._top / "etc/dconf/db" / name if kind == "system-db" else self._top / name.lstrip("/")
            for kind, name in self._sources
            if kind in ("system-db", "file-db") and ".." not in name.split("/")
        ]
        top = self._top.resolve()
        # A link may lead off the disk, to the machine that it is looked at from.
        return [_table(file) for file in places if file.is_file() and file.resolve().is_relative_to(top)]


def _sources(top: Path) -> list[tuple[str, str]]:
    """Return kind and name of the databases in the profile of a disk, as its library reads the lines."""
    for folder in ("etc", "usr/local/share", "usr/share"):
        profile = top / folder / "dconf/profile/user"
        try:
            lines = profile.read_bytes().decode("utf-8", "surrogateescape").split("\n")
        except OSError:
            continue
        parts = (line.partition("#")[0].strip().partition(":") for line in lines)
        return [(kind, name) for kind, colon, name in parts if colon and name]
    return []


def _locks(table: Table, path: str) -> Iterable[str]:
    locks = table.tables.get(".locks")
    return below(path, locks.values) if locks else ()


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

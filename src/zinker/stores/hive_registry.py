r"""The registry of a machine that does not run, read from the hives on its disk; never written to.

The hives of the machine are in `Windows\System32\config`, those of its users in their home folders. Names of
files are looked for without regard to case, as the disk may be mounted where case matters.
"""

import mmap
from collections.abc import Iterator, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any

from zinker.formats.hive import Damage, Hive
from zinker.formats.hive_logs import recovered
from zinker.formats.registry_values import from_bytes
from zinker.model.address import folded
from zinker.model.errors import DocumentError, reason
from zinker.model.rows import Block
from zinker.stores.reading import Trouble
from zinker.stores.registry import RegistryError, Value, value_of

_READ_ONLY = "the registry of a machine that does not run is only read, never written to"
_CONFIG = ("Windows", "System32", "config")
_MACHINE = ("SOFTWARE", "SYSTEM", "SAM", "SECURITY", "COMPONENTS", "DRIVERS")
_PROFILES = r"HKEY_LOCAL_MACHINE\SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList"
_LOGS = (".LOG1", ".LOG2", ".LOG")


class HiveRegistry:
    """The hives on a disk; `given` names further ones by the key they are at, as paths below the disk's top."""

    def __init__(self, top: Path, home: Path | None, given: dict[str, str] | None = None) -> None:
        self._top, self._home = top, home
        self._given = {folded(key): path for key, path in (given or {}).items()}
        self._open: dict[Path, _HiveFile] = {}

    @property
    def is_there(self) -> bool:
        """Whether any hive is on the disk."""
        return bool(self._given) or any(path for _, path in self._usual())

    def exists(self, key: str) -> bool:
        """Tell whether there is such a key."""
        try:
            hive, path = self._hive(key)
            hive.hive.find(path)
        except KeyError:
            return False
        return True

    def subkeys(self, key: str) -> list[str]:
        """Return the names of the keys right below a key."""
        hive, path = self._hive(key)
        return [name for name, _ in hive.hive.below(hive.hive.find(path), [], "")]

    def values(self, key: str) -> list[Value]:
        """Return name, type and value of a key's values."""
        hive, path = self._hive(key)
        found = hive.hive.values(hive.hive.find(path), [], "")
        return [(name, *from_bytes(number, data)) for name, number, data in found]

    def value(self, key: str, name: str) -> Value:
        """Return one value of a key."""
        return value_of(self, key, name)

    def blocks(self, branch: str, troubles: list[Trouble]) -> Iterator[Block]:
        """Yield all settings of a branch; what is damaged is added to the troubles."""
        hive, path = self._hive(branch)
        damages: list[Damage] = []
        yield from hive.hive.blocks(path, damages)
        troubles += [Trouble("/", f"{hive.path.name}: {remark}") for remark in hive.remarks]
        troubles += [Trouble(damage.address or "/", damage.why) for damage in damages]

    def create(self, key: str) -> None:
        """Refuse."""
        raise RegistryError(_READ_ONLY)

    def set(self, key: str, name: str, type: str, value: Any) -> None:
        """Refuse."""
        raise RegistryError(_READ_ONLY)

    def delete_value(self, key: str, name: str) -> None:
        """Refuse."""
        raise RegistryError(_READ_ONLY)

    def delete_key(self, key: str) -> None:
        """Refuse."""
        raise RegistryError(_READ_ONLY)

    def obstacle(self, key: str) -> str:
        """Say that nothing is written here."""
        return _READ_ONLY

    def flush(self) -> None:
        """Do nothing."""

    def _hive(self, key: str) -> "tuple[_HiveFile, Sequence[str]]":
        """Return the hive that holds a key, and the key's path in there; raises `KeyError`."""
        names = key.split("\\")
        for depth in range(len(names), 0, -1):
            path = self._path(names[:depth])
            if path is not None:
                hive = self._open.setdefault(path, _HiveFile(path))
                rest = names[depth:]
                if rest and names[:depth][-1].upper() == "SYSTEM" and folded(rest[0]) == "CURRENTCONTROLSET":
                    rest[0] = hive.control_set
                return hive, rest
        raise KeyError(key)

    def _path(self, names: list[str]) -> Path | None:
        """Return the file of the hive that is at exactly this key."""
        key = folded("\\".join(names))
        if key in self._given:
            return _found(self._top, self._given[key].replace("\\", "/").split("/"))
        return next((path for name, path in self._usual() if name == key), None) or self._of_user(names)

    def _usual(self) -> Iterator[tuple[str, Path | None]]:
        for name in _MACHINE:
            yield f"HKEY_LOCAL_MACHINE\\{name}", _found(self._top, (*_CONFIG, name))
        yield "HKEY_USERS\\.DEFAULT", _found(self._top, (*_CONFIG, "DEFAULT"))
        if self._home is not None:
            yield "HKEY_CURRENT_USER", _found(self._home, ("NTUSER.DAT",))
            yield "HKEY_CURRENT_USER\\SOFTWARE\\CLASSES", _found(self._home, _CLASSES)

    def _of_user(self, names: list[str]) -> Path | None:
        """Return the hive of another user, whose home the list of accounts names."""
        if len(names) != 2 or names[0].upper() != "HKEY_USERS":
            return None
        sid, is_classes = names[1].removesuffix("_Classes"), names[1].endswith("_Classes")
        try:
            values = {folded(name): value for name, _, value in self.values(f"{_PROFILES}\\{sid}")}
        except (KeyError, RegistryError):
            return None
        # C:\Users\ivy, or %SystemDrive%\Users\ivy
        home = str(values.get("PROFILEIMAGEPATH", "")).replace("\\", "/").split("/")[1:]
        return _found(self._top, (*home, *(_CLASSES if is_classes else ("NTUSER.DAT",)))) if home else None


_CLASSES = ("AppData", "Local", "Microsoft", "Windows", "UsrClass.dat")


class _HiveFile:
    """A hive on a disk, read when it is first asked for, with what its logs add."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.remarks: list[str] = []

    @cached_property
    def hive(self) -> Hive:
        """The hive; raises `RegistryError` where it cannot be read."""
        try:
            with self.path.open("rb") as file:
                data = (
                    mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
                    if _is_large(self.path)
                    else file.read()
                )
            hive = Hive(data)  # type: ignore[arg-type]  # a map is sliced and unpacked as bytes are
            if hive.is_whole:
                return hive
            logs = [path.read_bytes() for path in self._logs()]
            better = recovered(bytes(data), logs)
            hive = Hive(better.data)
        except OSError as error:
            raise RegistryError(f"{self.path}: {reason(error)}") from None
        except DocumentError as error:
            raise RegistryError(f"{self.path} is damaged: {error}") from None
        self.remarks = hive.remarks
        return hive

    def _logs(self) -> list[Path]:
        folder = self.path.parent
        found = (_found(folder, (self.path.name + ending,)) for ending in _LOGS)
        return [path for path in found if path is not None]

    @cached_property
    def control_set(self) -> str:
        """The name of the control set that the machine last ran with."""
        try:
            values = self.hive.values(self.hive.find(["Select"]), [], "")
        except KeyError:
            return "ControlSet001"
        number = next((data for name, _, data in values if folded(name) == "CURRENT"), b"\1")
        return f"ControlSet{int.from_bytes(number, 'little'):03d}"


def _is_large(path: Path) -> bool:
    return path.stat().st_size > 16 * 1024 * 1024


def _found(folder: Path, names: Sequence[str]) -> Path | None:
    """Return a file below a folder by its names, whose case does not matter; never through a link."""
    path = folder
    for name in names:
        direct = path / name
        if not direct.exists():
            try:
                wanted = name.casefold()
                direct = next(other for other in path.iterdir() if other.name.casefold() == wanted)
            except (OSError, StopIteration):
                return None
        if direct.is_symlink():
            return None
        path = direct
    return path if path.is_file() else None

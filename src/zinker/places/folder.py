"""A place that is a folder: the disk of a dead workstation, or a simulated workstation."""

import getpass
from collections.abc import Sequence
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, Any, Literal

import msgspec

from zinker.model.errors import Refused, reason
from zinker.model.plain_json import decode
from zinker.model.system import asked
from zinker.places.homes import homes_below
from zinker.places.on_disk import OnDisk
from zinker.places.place import Process

if TYPE_CHECKING:
    from zinker.stores.desktop_db import SettingsDatabase
    from zinker.stores.registry import Registry

# A folder that only one operating system has, by which the disk of a dead machine is known.
_SIGNS = {"Windows/System32": "Windows", "System/Library/CoreServices": "macOS"}


class Workstation(msgspec.Struct, frozen=True):
    """What the file of a simulated workstation says, besides its registry."""

    format: int = 1
    machine: str = ""
    user: str = ""
    system: str = ""
    running: tuple[Process, ...] = ()
    registry: dict[str, Any] | None = None


class FolderPlace(OnDisk):
    """A workstation below a folder; `workstation` names the file that simulates the rest of it."""

    kind = "folder"

    def __init__(
        self,
        name: str,
        path: Path,
        folders: dict[str, str],
        workstation: Path | None = None,
        system: str = "",
        hives: dict[str, str] | None = None,
    ) -> None:
        super().__init__(folders)
        self.name = name
        self._path = path
        self._file = workstation
        self._said = system
        self._hives = hives or {}

    def find_homes(self) -> dict[str, str]:
        """Return the homes of its accounts, by name, as paths below the folder."""
        return homes_below(self._path, self.kind_of_system, self.home)

    @property
    def machine(self) -> str:
        """The machine's name; for a bare disk, the place's."""
        return self._workstation().machine or self.name

    @property
    def user(self) -> str:
        """The account whose home it is."""
        return self._workstation().user or PurePosixPath(self.home).name

    @property
    def system(self) -> str:
        """The operating system: as the configuration or the simulation says, or as the disk looks."""
        seen = (name for folder, name in _SIGNS.items() if (self._path / folder).is_dir())
        return self._said or self._workstation().system or next(seen, "")

    def absence(self) -> str:
        """Say that the folder is missing, if it is."""
        if not self._path.is_dir():
            return f"the folder {self._path} is not there"
        if self._file is not None and not self._file.is_file():
            return f"the simulated workstation {self._file} is not there"
        return ""

    @property
    def top(self) -> Path:
        """The folder itself."""
        return self._path

    def registry(self, view: Literal[0, 32, 64] = 0) -> "Registry | None":
        """Return the simulated registry, if there is one, or that of the hives on the disk."""
        from zinker.stores.registry import in_view

        if self._file is not None and self._workstation().registry is not None:
            from zinker.stores.simulated_registry import SimulatedRegistry

            return in_view(SimulatedRegistry(self._file), view)
        from zinker.stores.hive_registry import HiveRegistry

        hives = HiveRegistry(self._path, self.folder("home"), self._hives)
        return in_view(hives, view) if hives.is_there else None

    def desktop_db(self) -> "SettingsDatabase | None":
        """Return the settings database on the disk, if there is one."""
        from zinker.stores.gvdb_database import DiskDatabase

        database = DiskDatabase(self._path, self.folder("config"))
        return database if database.is_there else None

    def running(self, names: Sequence[str]) -> list[Process]:
        """Return what the simulation says is running; on a dead disk nothing is."""
        wanted = {name.casefold() for name in names}
        return [process for process in self._workstation().running if process.name.casefold() in wanted]

    def _workstation(self) -> Workstation:
        if self._file is None:
            return Workstation()
        try:
            return decode(self._file.read_bytes(), Workstation)
        except (OSError, ValueError) as error:
            why = reason(error) if isinstance(error, OSError) else str(error)
            then = "Repair that file, or build a new demo garden."
            raise Refused(f"No answer from {self.name}", f"{self._file}: {why}", then) from None


def technician() -> str:
    """Return the account that runs Zinker, for the records."""
    return asked(getpass.getuser) or "unknown"  # an account without a name, as in a container

"""Places whose folders are paths below one top: a disk that is mounted here, or a share of another workstation."""

import contextlib
from abc import abstractmethod
from functools import cached_property
from pathlib import Path, PurePosixPath

from zinker.model.errors import Refused
from zinker.model.system import System, system_kind
from zinker.places.homes import SHARED, folders_of
from zinker.places.place import Place


class OnDisk(Place):
    """A place of which `folders` says what path variables stand for, as paths below its `top`."""

    def __init__(self, folders: dict[str, str]) -> None:
        self._given = folders

    @property
    @abstractmethod
    def top(self) -> Path:
        """The root of its files."""

    @abstractmethod
    def find_homes(self) -> dict[str, str]:
        """Return the homes of its accounts, by name, as paths below the top."""

    @property
    def drive(self) -> str:
        """What programs there call the top, where that is a machine of Windows."""
        return "C:"

    @property
    def kind_of_system(self) -> System:
        """Which kind of operating system it has."""
        return system_kind(self.system)

    @property
    def home(self) -> str:
        """The home that is its own, as a path below the top, or ""."""
        return self._given.get("home", "")

    @cached_property
    def _homes(self) -> dict[str, str]:
        return self.find_homes()

    @cached_property
    def _folders(self) -> dict[str, str]:
        kind = self.kind_of_system
        return {**SHARED[kind], **(folders_of(kind, self.home, {}) if self.home else {}), **self._given}

    def folder(self, variable: str) -> Path | None:
        """Return a folder below the top."""
        below = self._folders.get(variable)
        return None if below is None else self.top / below

    def own_folders(self) -> dict[str, str]:
        """Return the folders as programs there see them."""
        return {name: self.as_seen(self.top / path) for name, path in self._folders.items()}

    def as_seen(self, path: Path) -> str:
        """Return a path from the top of the workstation's own disk."""
        below = PurePosixPath(path.relative_to(self.top).as_posix())
        if self.kind_of_system != "windows":
            return f"/{below}"
        return f"{self.drive}\\{below}".replace("/", "\\")

    def account_names(self) -> list[str]:
        """Return the accounts that have homes there, and those of its registry."""
        from zinker.places.account import sids

        listed: list[str] = []
        with contextlib.suppress(Refused):  # a registry over the network need not answer
            if (registry := self.registry()) is not None:
                listed = [name.lower() for name in sids(registry)]
        known = {name.casefold() for name in self._homes}
        return sorted([*self._homes, *(name for name in listed if name not in known)])

    def account_folders(self, account: str) -> dict[str, Path]:
        """Return the folders of an account, like those of the place's own one."""
        names = {name.casefold(): name for name in self._homes} if self.kind_of_system == "windows" else {}
        home = self._homes.get(names.get(account.casefold(), account))
        folders = folders_of(self.kind_of_system, home, self._folders) if home else {}
        return {name: self.top / path for name, path in folders.items()}

"""What every kind of place offers."""

from abc import ABC, abstractmethod
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import msgspec

from zinker.disk.files import open_regular
from zinker.model.names import place_told

if TYPE_CHECKING:
    from zinker.disk.tree import Tree
    from zinker.stores.credentials import Credential
    from zinker.stores.desktop_db import SettingsDatabase
    from zinker.stores.registry import Registry
    from zinker.stores.tenants.tenant import Tenant


class Process(msgspec.Struct, frozen=True):
    """A program that is running at a place."""

    number: int
    name: str


class Place(ABC):
    """A workstation, what is left of one, or a tenant: it has what its kind says, and nothing else."""

    # Its name in references and in the configuration, and its kind there; `here` for this machine.
    name: str
    kind: str
    # Whether others depend on it, so that nothing is to be brought there by accident.
    is_production: bool = False
    # Whether `running` can tell what is running there.
    knows_processes: bool = True

    @property
    @abstractmethod
    def machine(self) -> str:
        """The machine's own name; device-bound parts are valid on it alone."""

    @property
    def told(self) -> str:
        """What people call it, in a sentence."""
        return place_told(self.name)

    @property
    @abstractmethod
    def user(self) -> str:
        """The account whose settings these are, or "" if it is unknown."""

    @property
    @abstractmethod
    def system(self) -> str:
        """The operating system, or "" if it is unknown."""

    @property
    def credential(self) -> "Credential | None":
        """What signs in there; None where nothing has to."""
        return None

    @property
    def signs_in(self) -> str:
        """Say who signs in there, and how, or ""."""
        return ""

    def let_go(self) -> None:
        """Close what is held open there: the run at this place is over."""

    @abstractmethod
    def absence(self) -> str:
        """Say why the place does not answer, or "" if it does."""

    @property
    def top(self) -> Path | None:
        """The root of its files, from which its absolute links count; None where no files are reached."""
        return None

    def tree(self) -> "Tree | None":
        """Return the tree that its files are in, where that is on another machine."""
        return None

    def has(self, path: Path) -> bool:
        """Tell whether something is at a path, as this program reaches it."""
        return path.exists()

    def is_folder(self, path: Path) -> bool:
        """Tell whether a folder is at a path."""
        return path.is_dir()

    def beginning(self, path: Path) -> bytes:
        """Return the first 4096 bytes of a file; raises `OSError`."""
        with open_regular(path) as file:
            return file.read(4096)

    def folder(self, variable: str) -> Path | None:
        """Return the folder a path variable stands for, as this program reaches it."""
        return None

    def own_folders(self) -> dict[str, str]:
        """Return what the path variables stand for as programs at the place itself see it."""
        return {}

    def account_names(self) -> list[str]:
        """Return the accounts whose folders or registry can be reached there, with the template for new ones."""
        return []

    def account_folders(self, account: str) -> dict[str, Path]:
        """Return what the path variables of an account stand for; empty where it is unknown."""
        return {}

    def as_seen(self, path: Path) -> str:
        """Return a path as programs at the place itself write it."""
        return str(path)

    def registry(self, view: Literal[0, 32, 64] = 0) -> "Registry | None":
        """Return the place's registry, if it has one that Zinker can reach.

        `view` is that of programs of 32 or 64 bits; 0 is the system's own.
        """
        return None

    def desktop_db(self) -> "SettingsDatabase | None":
        """Return the desktop's settings database there, if there is one; raises `DatabaseError`."""
        return None

    def tenant(self) -> "Tenant | None":
        """Return the tenant that the place is, if it is one."""
        return None

    def running(self, names: Sequence[str]) -> list[Process]:
        """Return the processes there with one of these names; case does not matter."""
        return []

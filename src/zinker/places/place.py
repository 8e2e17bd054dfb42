"""What every kind of place offers."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Literal, Protocol

import msgspec

from zinker.stores.desktop_db import SettingsDatabase
from zinker.stores.registry import Registry

if TYPE_CHECKING:
    from zinker.stores.tenant import Tenant


class Process(msgspec.Struct, frozen=True):
    """A program that is running at a place."""

    number: int
    name: str


class Place(Protocol):
    """A workstation, or what is left of one."""

    @property
    def name(self) -> str:
        """Its name in references and in the configuration."""
        ...

    @property
    def kind(self) -> str:
        """Its kind, as in the configuration; `here` for this machine."""
        ...

    @property
    def machine(self) -> str:
        """The machine's own name; device-bound parts are valid on it alone."""
        ...

    @property
    def user(self) -> str:
        """The account whose settings these are, or "" if nobody knows."""
        ...

    @property
    def system(self) -> str:
        """The operating system, or "" if nobody knows."""
        ...

    def absence(self) -> str:
        """Say why the place does not answer, or "" if it does."""
        ...

    def folder(self, variable: str) -> Path | None:
        """Return the folder a path variable stands for, as this program reaches it."""
        ...

    def own_folders(self) -> dict[str, str]:
        """Return what the path variables stand for as programs at the place itself see it."""
        ...

    def registry(self, view: Literal[0, 32, 64] = 0) -> Registry | None:
        """Return the place's registry, if it has one that Zinker can reach.

        `view` is that of programs of 32 or 64 bits; 0 is the system's own.
        """
        ...

    def desktop_db(self) -> SettingsDatabase | None:
        """Return the desktop's settings database there, if there is one; raises `DatabaseError`."""
        ...

    def tenant(self) -> "Tenant | None":
        """Return the tenant that the place is, if it is one."""
        ...

    @property
    def is_live(self) -> bool:
        """Whether others depend on it, so that nothing is to be brought there by accident."""
        ...

    @property
    def knows_processes(self) -> bool:
        """Whether `running` can tell what is running there."""
        ...

    def running(self, names: Sequence[str]) -> list[Process]:
        """Return the processes there with one of these names; case does not matter."""
        ...


def system_kind(system: str) -> Literal["linux", "windows", "macos"]:
    """Return the kind of an operating system by its name and release; unlike others, Linux need not say it."""
    name = system.lower()
    if name.startswith("win"):
        return "windows"
    return "macos" if name.startswith(("darwin", "macos", "mac os")) else "linux"

"""A place seen as one of its accounts, or as all of them: other folders and registry keys stand for the user's."""

from collections.abc import Sequence
from pathlib import Path
from typing import Literal

from zinker.disk.tree import Tree
from zinker.model.address import folded
from zinker.model.errors import WrongUsage
from zinker.places.homes import OWN, TEMPLATE
from zinker.places.place import Place, Process
from zinker.stores.desktop_db import SettingsDatabase
from zinker.stores.home import NoHome
from zinker.stores.registry import Redirected, Registry, RegistryError, in_view

ALL_USERS = "all-users"
_USER = "HKEY_CURRENT_USER"
_PROFILES = r"HKEY_LOCAL_MACHINE\SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList"


class AccountPlace(Place):
    """A place, with the folders and the registry of another account in the place of the user's.

    `all-users` stands for what an application keeps for all of them, below HKEY_LOCAL_MACHINE; `template` for what
    new accounts start with.
    """

    def __init__(self, place: Place, account: str) -> None:
        self._place, self._account = place, account
        self.name = f"{place.name}/{account}"
        self.kind = place.kind
        self.is_production = place.is_production
        self.knows_processes = place.knows_processes
        self._folders = {} if account == ALL_USERS else place.account_folders(account)

    @property
    def machine(self) -> str:
        """The machine's own name."""
        return self._place.machine

    @property
    def user(self) -> str:
        """The account."""
        return self._account

    @property
    def system(self) -> str:
        """The operating system."""
        return self._place.system

    @property
    def top(self) -> Path | None:
        """The root of the place's files."""
        return self._place.top

    def tree(self) -> Tree | None:
        """Return the tree of the place's files, where that is on another machine."""
        return self._place.tree()

    def has(self, path: Path) -> bool:
        """Tell whether something is at a path."""
        return self._place.has(path)

    def is_folder(self, path: Path) -> bool:
        """Tell whether a folder is at a path."""
        return self._place.is_folder(path)

    def beginning(self, path: Path) -> bytes:
        """Return the first bytes of a file."""
        return self._place.beginning(path)

    def let_go(self) -> None:
        """Close what is held open there."""
        self._place.let_go()

    def absence(self) -> str:
        """Say why the place does not answer, or "" if it does."""
        return self._place.absence()

    def folder(self, variable: str) -> Path | None:
        """Return the account's folders, and those that all accounts share."""
        return self._folders.get(variable) if variable in OWN else self._place.folder(variable)

    def own_folders(self) -> dict[str, str]:
        """Return the same folders as programs at the place see them."""
        shared = {name: path for name, path in self._place.own_folders().items() if name not in OWN}
        return shared | {name: self._place.as_seen(path) for name, path in self._folders.items()}

    def registry(self, view: Literal[0, 32, 64] = 0) -> Registry | None:
        """Return the place's registry, with the account's keys for the user's."""
        registry = self._place.registry(view)
        if registry is None:
            return None
        if self._account == ALL_USERS:
            return Redirected(registry, {_USER: "HKEY_LOCAL_MACHINE"})
        if self._account == TEMPLATE:  # its hive is loaded by nobody
            home = self._folders.get("home")
            from zinker.stores.hive_registry import HiveRegistry  # only what looks into one needs it

            hives = HiveRegistry(self.top, home) if self.top is not None and home is not None else None
            return in_view(hives, view) if hives is not None and hives.is_there else None
        return Redirected(registry, {_USER: rf"HKEY_USERS\{self._sid(registry)}"})

    def desktop_db(self) -> SettingsDatabase | None:
        """Return the account's settings database, as it is on the disk."""
        if self.top is None or self._account == ALL_USERS:
            return None
        from zinker.stores.gvdb_database import DiskDatabase

        database = DiskDatabase(self.top, self._folders.get("config"))
        return database if database.is_there else None

    def running(self, names: Sequence[str]) -> list[Process]:
        """Return the processes there with one of these names."""
        return self._place.running(names)

    def check(self) -> None:
        """Raise `WrongUsage` where the place has no such account."""
        if self._folders or self._account == ALL_USERS:
            return
        registry = self._place.registry()
        if registry is not None and self._account != TEMPLATE:
            self._sid(registry)
            return
        known = sorted(self._place.account_names())
        raise _unknown(self._place, self._account, known)

    def _sid(self, registry: Registry) -> str:
        """Return the number of an account (S-1-5-...); raises `WrongUsage`."""
        if self._account.upper().startswith("S-1-"):
            return self._account
        known = sids(registry)
        sid = known.get(folded(self._account), "")
        if not sid and self._folders:
            raise NoHome(f"the registry of {self._place.told} knows no account {self._account}")
        if not sid:
            raise _unknown(self._place, self._account, [*sorted(name.lower() for name in known), ALL_USERS])
        return sid


def sids(registry: Registry) -> dict[str, str]:
    """Return the numbers of a registry's accounts (S-1-5-...), by name in capitals."""
    known: dict[str, str] = {}
    try:
        for sid in registry.subkeys(_PROFILES):
            for name, _, value in registry.values(f"{_PROFILES}\\{sid}"):
                if folded(name) == "PROFILEIMAGEPATH":
                    known[folded(str(value).replace("/", "\\").rpartition("\\")[2])] = sid
    except (KeyError, RegistryError):
        return {}
    return known


def _unknown(place: Place, account: str, known: list[str]) -> WrongUsage:
    number = "; a number such as S-1-5-21-… is one, too" if place.system.startswith("Windows") else ""
    then = (
        f"Its accounts are {', '.join(known)}{number}."
        if known
        else "It has none that can be seen from here."
    )
    return WrongUsage(f"No account {account}", f"{place.told} has no account of that name", then)

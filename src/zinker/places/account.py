"""A place seen as one of its accounts, or as all of them: other registry keys stand for the user's."""

from collections.abc import Sequence
from pathlib import Path
from typing import Literal

from zinker.model.address import folded
from zinker.model.errors import WrongUsage
from zinker.places.place import Place, Process
from zinker.stores.registry import Redirected, Registry, RegistryError

ALL_USERS = "all-users"
_USER = "HKEY_CURRENT_USER"
_PROFILES = r"HKEY_LOCAL_MACHINE\SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList"
# The folders of one user are not those of another account.
_OWN_FOLDERS = ("home", "config", "data", "documents")


class AccountPlace(Place):
    """A place, with the registry of another account in the place of the user's.

    `all-users` stands for what an application keeps for all of them, below HKEY_LOCAL_MACHINE.
    """

    def __init__(self, place: Place, account: str) -> None:
        self._place, self._account = place, account
        self.name = f"{place.name}/{account}"
        self.kind = place.kind
        self.is_production = place.is_production
        self.knows_processes = place.knows_processes

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

    def absence(self) -> str:
        """Say why the place does not answer, or "" if it does."""
        return self._place.absence()

    def folder(self, variable: str) -> Path | None:
        """Return the folders that all accounts share."""
        return None if variable in _OWN_FOLDERS else self._place.folder(variable)

    def own_folders(self) -> dict[str, str]:
        """Return the folders that all accounts share."""
        return {name: path for name, path in self._place.own_folders().items() if name not in _OWN_FOLDERS}

    def registry(self, view: Literal[0, 32, 64] = 0) -> Registry | None:
        """Return the place's registry, with the account's keys for the user's."""
        registry = self._place.registry(view)
        if registry is None:
            return None
        if self._account == ALL_USERS:
            return Redirected(registry, {_USER: "HKEY_LOCAL_MACHINE"})
        return Redirected(registry, {_USER: rf"HKEY_USERS\{self._sid(registry)}"})

    def running(self, names: Sequence[str]) -> list[Process]:
        """Return the processes there with one of these names."""
        return self._place.running(names)

    def _sid(self, registry: Registry) -> str:
        """Return the number of an account (S-1-5-...); raises `WrongUsage`."""
        if self._account.upper().startswith("S-1-"):
            return self._account
        known: dict[str, str] = {}
        try:
            for sid in registry.subkeys(_PROFILES):
                for name, _, value in registry.values(f"{_PROFILES}\\{sid}"):
                    if folded(name) == "PROFILEIMAGEPATH":
                        known[folded(str(value).replace("/", "\\").rpartition("\\")[2])] = sid
        except (KeyError, RegistryError):
            known = {}
        sid = known.get(folded(self._account), "")
        if not sid:
            names = ", ".join([*sorted(name.lower() for name in known), ALL_USERS])
            then = f"Its accounts are {names}; a number such as S-1-5-21-… is one, too."
            raise WrongUsage(
                f"No account {self._account}", f"{self._place.told} has no account of that name", then
            )
        return sid

"""Another workstation whose registry is reached over the network."""

from typing import Literal

from zinker.model.errors import Refused
from zinker.places.account import sids
from zinker.places.place import Place
from zinker.stores.credentials import Credential
from zinker.stores.registry import Registry, RegistryError
from zinker.stores.remote_registry import Dial, RemoteRegistry

_NAME = r"HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Control\ComputerName\ComputerName"


class RemotePlace(Place):
    """A workstation that runs somewhere else; only its registry is reached, none of its files."""

    kind = "remote-registry"
    knows_processes = False  # this protocol does not tell what runs there

    def __init__(self, name: str, address: str, credential: Credential, encrypt: bool) -> None:
        host, _, port = address.partition(":")
        self.name = name
        self._user = credential.user
        self._host = host
        self._credential = credential
        self._dial = Dial(host, int(port or 445), credential.user, credential.secret, encrypt)
        self._registries: dict[int, RemoteRegistry] = {}
        self._machine = ""

    @property
    def user(self) -> str:
        """The account that is signed in with."""
        return self._user

    @property
    def system(self) -> str:
        """What has such a registry."""
        return "Windows"

    @property
    def machine(self) -> str:
        """The name it has given itself, or else the one it is reached by."""
        if not self._machine:
            try:
                values = self.registry().values(_NAME)
                name = next((str(value) for name, _, value in values if name == "ComputerName"), "")
            except (KeyError, RegistryError):
                name = ""
            self._machine = name or self._host
        return self._machine

    @property
    def credential(self) -> Credential:
        """What signs in there."""
        return self._credential

    @property
    def signs_in(self) -> str:
        """Say who signs in there, and how."""
        return f"{self._user} by a password, from {self._credential.told}"

    def absence(self) -> str:
        """Say why it does not answer, if it does not."""
        try:
            self.registry().exists("HKEY_LOCAL_MACHINE")
        except Refused as error:
            return f"{error.why}. {error.then.rstrip('.')}"
        return ""

    def account_names(self) -> list[str]:
        """Return the accounts of its registry."""
        return sorted(name.lower() for name in sids(self.registry()))

    def registry(self, view: Literal[0, 32, 64] = 0) -> Registry:
        """Return its registry."""
        if view not in self._registries:
            self._registries[view] = RemoteRegistry(self._dial, view)
        return self._registries[view]

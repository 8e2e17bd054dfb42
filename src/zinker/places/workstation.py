"""Another workstation that runs: its files by a share of it, its registry by the registry service (SMB 3)."""

import contextlib
from functools import cached_property
from pathlib import Path, PurePosixPath
from typing import Literal

from zinker.disk.tree import Tree
from zinker.model.errors import Refused
from zinker.model.system import System, system_kind
from zinker.places.account import sids
from zinker.places.homes import SHARED, folders_of, homes_on
from zinker.places.remote import RemotePlace
from zinker.stores.registry import Registry
from zinker.stores.smb_files import SmbTree
from zinker.stores.smb_session import Share, SmbSession


class WorkstationPlace(RemotePlace):
    """A workstation over the network; who is signed in there, and what runs, cannot be told from here."""

    kind = "workstation"

    def __init__(
        self,
        name: str,
        address: str,
        user: str,
        encrypt: bool,
        share: str,
        folders: dict[str, str],
        system: str,
    ) -> None:
        super().__init__(name, address, user, encrypt)
        host, _, port = address.partition(":")
        where = f"ZINKER_SECRET_{name.upper().replace('-', '_')} or the keyring"
        told = Share(user, host, int(port or 445), share, name, where)
        self._session = SmbSession(told, self._credential.secret, encrypt)
        self._share, self._given, self._said = share, folders, system
        # What people write for the share; every system takes it for one folder above all others.
        self._top = Path(f"//{host}/{share}")

    @property
    def user(self) -> str:
        """The account whose home is named, or the one that is signed in with."""
        return PurePosixPath(self._given.get("home", "")).name or self._user

    @property
    def system(self) -> str:
        """What the configuration says, or what has such shares."""
        return self._said or "Windows"

    @property
    def _kind(self) -> System:
        return system_kind(self.system)

    @property
    def machine(self) -> str:
        """The name it has given itself, or else the one it is reached by."""
        try:
            return super().machine
        except Refused:  # its registry service need not run for its files
            return self._host

    def let_go(self) -> None:
        """Close what is held open there."""
        self._session.let_go()

    def absence(self) -> str:
        """Say why it does not answer, if it does not: its files are asked for, its registry need not be there."""
        try:
            with self._session():
                return ""
        except Refused as error:
            return f"{error.why}. {error.then.rstrip('.')}"

    @property
    def top(self) -> Path:
        """The share."""
        return self._top

    def tree(self) -> Tree:
        """Return the tree of its files."""
        return SmbTree(self._session, self._top)

    def has(self, path: Path) -> bool:
        """Tell whether something is at a path."""
        return self.tree().exists(path)

    def is_folder(self, path: Path) -> bool:
        """Tell whether a folder is at a path."""
        return self.tree().is_folder(path)

    def beginning(self, path: Path) -> bytes:
        """Return the first 4096 bytes of a file; raises `OSError`."""
        at = self.tree().reach(path, follow=False)
        with at.folder.open(at.name) as file:
            return file.read(4096)

    @cached_property
    def _folders(self) -> dict[str, str]:
        home = self._given.get("home")
        return {**SHARED[self._kind], **(folders_of(self._kind, home, {}) if home else {}), **self._given}

    def folder(self, variable: str) -> Path | None:
        """Return a folder below the share."""
        below = self._folders.get(variable)
        return None if below is None else self._top / below

    def own_folders(self) -> dict[str, str]:
        """Return the folders as programs there see them."""
        return {name: self.as_seen(self._top / path) for name, path in self._folders.items()}

    def as_seen(self, path: Path) -> str:
        """Return a path from the top of the disk whose share it is: `C$` is that of the disk C:."""
        below = path.relative_to(self._top).as_posix()
        if self._kind != "windows":
            return f"/{below}"
        disk = f"{self._share[0]}:" if len(self._share) == 2 and self._share.endswith("$") else str(self._top)
        return f"{disk}\\{below}".replace("/", "\\")

    @cached_property
    def _homes(self) -> dict[str, str]:
        return homes_on(self._kind, self._given.get("home", ""), self._folders_in, self._text_of)

    def _folders_in(self, folder: str) -> list[str]:
        import stat

        try:
            found = self.tree().folder([name for name in folder.split("/") if name])
            return [name for name, kind in found.entries() if kind == stat.S_IFDIR]
        except OSError:
            return []

    def _text_of(self, file: str) -> str:
        *above, name = file.split("/")
        try:
            with self.tree().folder(above).open(name) as text:
                return text.read().decode(errors="surrogateescape")
        except OSError:
            return ""

    def account_names(self) -> list[str]:
        """Return the accounts that have homes there, and those of its registry."""
        listed: list[str] = []
        if (registry := self.registry()) is not None:
            with contextlib.suppress(Refused):  # its service need not run
                listed = [name.lower() for name in sids(registry)]
        known = {name.casefold() for name in self._homes}
        return sorted([*self._homes, *(name for name in listed if name not in known)])

    def account_folders(self, account: str) -> dict[str, Path]:
        """Return the folders of an account, like those of the place's own one."""
        names = {name.casefold(): name for name in self._homes} if self._kind == "windows" else {}
        home = self._homes.get(names.get(account.casefold(), account))
        folders = folders_of(self._kind, home, self._folders) if home else {}
        return {name: self._top / path for name, path in folders.items()}

    def registry(self, view: Literal[0, 32, 64] = 0) -> Registry | None:  # type: ignore[override]
        """Return its registry, where it has one."""
        return super().registry(view) if self._kind == "windows" else None

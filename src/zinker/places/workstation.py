"""Another workstation that runs: its files by a share of it, its registry by the registry service (SMB 3)."""

import stat
from pathlib import Path, PurePosixPath
from typing import Literal

from zinker.disk.tree import Tree
from zinker.model.errors import Refused
from zinker.places.homes import homes_on
from zinker.places.on_disk import OnDisk
from zinker.places.remote import RemotePlace
from zinker.stores.credentials import Credential
from zinker.stores.registry import Registry
from zinker.stores.smb_files import SmbTree
from zinker.stores.smb_session import Share, SmbSession


class WorkstationPlace(OnDisk, RemotePlace):
    """A workstation over the network; who is signed in there, and what runs, cannot be told from here."""

    kind = "workstation"

    def __init__(
        self,
        name: str,
        address: str,
        credential: Credential,
        encrypt: bool,
        share: str,
        folders: dict[str, str],
        system: str,
    ) -> None:
        OnDisk.__init__(self, folders)
        RemotePlace.__init__(self, name, address, credential, encrypt)
        host, _, port = address.partition(":")
        told = Share(credential.user, host, int(port or 445), share, name, self._credential.told)
        self._session = SmbSession(told, self._credential.secret, encrypt)
        self._share, self._said = share, system
        # What people write for the share; every system takes it for one folder above all others.
        self._top = Path(f"//{host}/{share}")

    @property
    def user(self) -> str:
        """The account whose home is named, or the one that is signed in with."""
        return PurePosixPath(self.home).name or self._user

    @property
    def system(self) -> str:
        """What the configuration says, or what has such shares."""
        return self._said or "Windows"

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

    @property
    def drive(self) -> str:
        """What programs there call the share: `C$` is that of the disk C:."""
        is_disk = len(self._share) == 2 and self._share.endswith("$")
        return f"{self._share[0]}:" if is_disk else str(self._top)

    def find_homes(self) -> dict[str, str]:
        """Return the homes of its accounts, by name, as paths below the share."""
        return homes_on(self.kind_of_system, self.home, self._folders_in, self._text_of)

    def _folders_in(self, folder: str) -> list[str]:
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

    def registry(self, view: Literal[0, 32, 64] = 0) -> Registry | None:  # type: ignore[override]
        """Return its registry, where it has one."""
        return super().registry(view) if self.kind_of_system == "windows" else None

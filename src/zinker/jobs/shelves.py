"""Where shelves are kept, as `zinker.toml` says, and what opens them."""

import hashlib
import os
from collections.abc import Callable
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from zinker.disk.files import PRIVATE
from zinker.model.errors import Refused, WrongUsage
from zinker.model.plain_json import encode
from zinker.places.given import path_at
from zinker.places.here import Here
from zinker.shelf.shelf import Shelf
from zinker.shelf.storage import SEAL, SMB, FolderStorage, Storage, is_address
from zinker.stores.credentials import Credential
from zinker.subjects.subject import Strict

if TYPE_CHECKING:
    from zinker.jobs.unlocking import Unlocking
    from zinker.shelf.keys import Seal
    from zinker.shelf.object_storage import Kept
    from zinker.shelf.sealed_storage import SealedStorage


class ObjectStorageEntry(Strict, frozen=True):
    """How a shelf on object storage is reached: the service, by default that of its kind, and whose key signs."""

    endpoint: str = ""
    region: str = ""
    user: str = ""


class ShelfEntries(Strict, frozen=True):
    """What `zinker.toml` says of the shelf."""

    shelf: str = ""
    shelf_credential: str = ""
    seal: str = ""
    seal_credential: str = ""
    object_storage: ObjectStorageEntry = ObjectStorageEntry()
    shared: bool = False


class Shelves:
    """The shelf, and others by their address or path; relative ones count from the configuration's folder."""

    def __init__(self, entries: ShelfEntries, base: Path, home: Path) -> None:
        self._entries = entries
        self.base, self.own_folder = base, home
        # Told, in a sentence for people, what was done besides what was asked for.
        self.notify: Callable[[str], None] = lambda text: None
        # Asks for a passphrase: given what for, and whether it is a new one; "" where there is nobody.
        self.ask: Callable[[str, bool], str] = lambda what, is_new: ""
        # Told how far a reading has come, where no other callback is: what is read, how much is done, of how much.
        self.progress: Callable[[str, int, int], None] = lambda what, done, total: None

    @cached_property
    def storage(self) -> Storage:
        """Where the shelf is kept."""
        named = self._entries.shelf or str(self.own_folder / "shelf")
        inner = self._storage_at(named)
        return self._sealed(inner) if self._entries.seal else inner

    @cached_property
    def shelf(self) -> Shelf:
        """The shelf; raises `Damaged` for one that is not readable, and `Refused` for one that does not open."""
        return self._shelf_on(self.storage, is_known=bool(self._entries.shelf))

    def _storage_at(self, named: str) -> Storage:
        if named.startswith(SMB):
            from zinker.shelf.smb_storage import SmbStorage, share_at

            at = share_at(named)
            return SmbStorage(at, self.shelf_credential(at.share.user).secret)
        if is_address(named):
            from zinker.shelf.object_storage import ObjectStorage

            kept = self._kept_at(named)
            secret = self.shelf_credential(kept.user).secret
            return ObjectStorage(kept, secret, lambda *far: self.progress(*far))
        return FolderStorage(self.path(named), self._mode)

    @property
    def _mode(self) -> int | None:
        return None if self._entries.shared else PRIVATE

    def _shelf_on(self, storage: Storage, is_known: bool = True) -> Shelf:
        aside: Shelf | None = None
        if storage.folder is not None:
            changes = storage.folder / "changes"
        else:  # what is written down before anything changes is on a disk that can be flushed
            own = hashlib.sha256(storage.told.encode()).hexdigest()[:16]
            changes = self.own_folder / "changes-of" / own
            aside = Shelf(FolderStorage(changes / "before"), changes / "before" / "changes")
        known = self.own_folder / "shelves.json" if is_known else None
        return Shelf(storage, changes, known, lambda text: self.notify(text), self._mode, aside)

    def sealed_storage(self) -> "SealedStorage | None":
        """Return where the shelf is kept, where that is sealed, whether zinker.toml says so or not."""
        from zinker.shelf.sealed_storage import SealedStorage

        if isinstance(self.storage, SealedStorage):
            return self.storage
        return self._sealed(self.storage) if self.storage.names(SEAL) else None

    def _sealed(self, inner: Storage) -> "SealedStorage":
        from zinker.shelf.sealed_storage import SealedStorage

        return SealedStorage(inner, self._seal)

    @cached_property
    def _seal(self) -> "Seal":
        from zinker.shelf.keys import Seal

        return Seal(self.unlocking.lock)

    @cached_property
    def unlocking(self) -> "Unlocking":
        """What finds the key of a sealed shelf; where nothing is said on it, that is a passphrase."""
        from zinker.jobs.unlocking import PASSPHRASE, Unlocking

        said = self._entries.seal
        if said not in ("", PASSPHRASE) and not set(said) & set("./\\"):
            why = f"seal = {encode(said).decode()} is neither {PASSPHRASE} nor a path"
            raise WrongUsage("Configuration not read", why, f"Write ./{said} for a key file of that name.")
        key_file = self.path(said) if said not in ("", PASSPHRASE) else None
        credential = self.credential("seal", "shelf", self._entries.seal_credential)
        return Unlocking(
            key_file,
            credential,
            self._shelf_lines,
            lambda text: self.notify(text),
            lambda *what: self.ask(*what),
        )

    def _shelf_lines(self) -> list[str]:
        """Return what zinker.toml says of the shelf, without what is this machine's."""
        entry = self._entries.object_storage
        own = {"endpoint": entry.endpoint, "region": entry.region, "user": entry.user}
        more = [f"{name} = {encode(said).decode()}" for name, said in own.items() if said]
        named = self._entries.shelf
        shelf = named if named.startswith(SMB) or is_address(named) else self.storage.told
        lines = [f"shelf = {encode(shelf).decode()}", 'seal = "PATH OF THIS FILE"']
        return [*lines, *(["", "[object_storage]", *more] if more else [])]

    def shelf_opens_with(self) -> Credential | None:
        """Return where the passphrase of the shelf is kept; None where none is needed."""
        is_needed = bool(self._entries.seal) and self.unlocking.key_file is None
        return self.unlocking.credential if is_needed else None

    def shelf_signs_in(self) -> Credential | None:
        """Return what signs in where the shelf is; None where nothing has to."""
        if is_address(self._entries.shelf):
            kept = self._kept_at(self._entries.shelf)
            return self.shelf_credential(kept.user) if kept.user else None
        if not self._entries.shelf.startswith(SMB):
            return None
        from zinker.shelf.smb_storage import share_at

        return self.shelf_credential(share_at(self._entries.shelf).share.user)

    def _kept_at(self, named: str) -> "Kept":
        from zinker.shelf.object_storage import kept_at

        entry = self._entries.object_storage
        return kept_at(named, entry.endpoint, entry.region, entry.user)

    def shelf_credential(self, user: str) -> Credential:
        """Return where the secret of the shelf is, of somebody who signs in for it."""
        return self.credential("shelf", user, self._entries.shelf_credential)

    def other_shelf(self, named: str, is_new: bool = False, is_sealed: bool = False) -> Shelf:
        """Open another shelf than the usual one; one that `is_new` is made when something is put on it.

        One that is sealed, or `is_sealed` when it is made, opens with what opens the usual one.
        Raises `WrongUsage` where there is none, and `Refused` for a folder with other things in it.
        """
        if named.startswith(SMB) or is_address(named):
            return self._shelf_on(self._other(named, is_sealed))
        folder = path_at(named, Here()).absolute()
        if str(folder) == self.shelf.storage.told:
            raise WrongUsage("Nothing done", f"{folder} is the shelf itself", "Name another one.")
        if not (folder / "shelf.json").exists() and not (folder / SEAL).is_dir():
            if not is_new:
                why = f"there is no shelf at {folder}"
                raise WrongUsage("Nothing done", why, "Name the folder that has a shelf.json in it.")
            # A run that was cut off while it made one has left nothing else.
            left = {"writing", ".lock"}
            if folder.exists() and not (folder.is_dir() and {path.name for path in folder.iterdir()} <= left):
                why = f"{folder} is no shelf, and there is something in it"
                raise Refused(
                    "Nothing done", why, "Name a shelf, or a folder that is empty or not there yet."
                )
        return self._shelf_on(self._other(str(folder), is_sealed))

    def _other(self, named: str, is_sealed: bool) -> Storage:
        inner = self._storage_at(named)
        return self._sealed(inner) if is_sealed or inner.names(SEAL) else inner

    def credential(self, name: str, user: str, named: str, is_granted: bool = False) -> Credential:
        """Return where the secret of a place is: in a file, in the keyring alone, or wherever it is found."""
        is_in_keyring = named == "keyring"
        file = self.path(named) if named and not is_in_keyring else None
        return Credential(name, user, file, is_in_keyring, is_granted)

    def path(self, text: str) -> Path:
        """Return a path of zinker.toml's; raises `WrongUsage` for the home of an account that is not there."""
        path = path_at(text, Here())
        if path.parts[:1] and path.parts[0].startswith("~"):
            why = f"{text} names the home of an account that this machine does not have"
            raise WrongUsage("Configuration not read", why, "Write the whole path.")
        return Path(os.path.normpath(self.base / path))

"""What Zinker works with: the shelf, the subject files and the places, as `zinker.toml` names them."""

import copy
import hashlib
import os
from collections.abc import Callable, Iterable
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal

import msgspec
from platformdirs import user_config_path

from zinker.disk.files import PRIVATE
from zinker.disk.own_folder import own_folder
from zinker.model.errors import NoAnswer, Refused, WrongUsage
from zinker.model.names import unknown
from zinker.model.plain_json import encode
from zinker.places.account import AccountPlace
from zinker.places.folder import FolderPlace
from zinker.places.given import path_at
from zinker.places.here import Here
from zinker.places.place import Place
from zinker.shelf.shelf import Shelf
from zinker.shelf.storage import SEAL, SMB, FolderStorage, Storage, is_address
from zinker.shelf.thinning import DAYS, Rules, days_of
from zinker.stores.credentials import Credential
from zinker.stores.registry import ROOTS
from zinker.stores.tenants.service import Directory, Limits, People, Service, is_open
from zinker.subjects.catalogue import VARIABLES, Catalogue
from zinker.subjects.subject import Id, Strict
from zinker.subjects.toml_check import load

if TYPE_CHECKING:
    from zinker.formats import Reader
    from zinker.jobs.secrets.withhold import Cuts, Withholder
    from zinker.jobs.unlocking import Unlocking
    from zinker.shelf.keys import Seal
    from zinker.shelf.object_storage import Kept
    from zinker.shelf.sealed_storage import SealedStorage


# Names by which secrets of the shelf are kept.
_OWN_NAMES = frozenset({"shelf", "seal", "new-seal"})


class FolderEntry(Strict, frozen=True, tag_field="kind", tag="folder"):
    """A place of the kind `folder` in the configuration."""

    path: str
    folders: dict[str, str] = {}
    workstation: str = ""
    system: str = ""
    hives: dict[str, str] = {}


class RemoteEntry(Strict, frozen=True, tag_field="kind", tag="remote-registry"):
    """A place of the kind `remote-registry` in the configuration; the address is `host` or `host:port`."""

    address: Annotated[str, msgspec.Meta(pattern=r"^[^:/\s]+(:[0-9]{1,5})?$")]
    user: str
    credential: str = ""
    protection: Literal["encrypted", "signed"] = "encrypted"


class WorkstationEntry(Strict, frozen=True, tag_field="kind", tag="workstation"):
    """A place of the kind `workstation` in the configuration: its files by a share, and its registry.

    `folders` are paths below the share.
    """

    address: Annotated[str, msgspec.Meta(pattern=r"^[^:/\s]+(:[0-9]{1,5})?$")]
    user: str
    share: Annotated[str, msgspec.Meta(pattern=r"^[^/\\:\s]+$")] = "C$"
    folders: dict[str, str] = {}
    system: str = ""
    credential: str = ""
    protection: Literal["encrypted", "signed"] = "encrypted"


Url = Annotated[str, msgspec.Meta(pattern=r"^https?://[^/\s]+(/[^?#\s]*)?$")]


class DirectoryEntry(Strict, frozen=True):
    """The collections of a tenant's own service that have its groups and users, by name or with more."""

    groups: str | People = ""
    users: str | People = ""


class TenantEntry(Strict, frozen=True, tag_field="kind", tag="tenant"):
    """A place of the kind `tenant` in the configuration: who and where it is, and how it is signed in to."""

    address: Url
    client_id: str
    issuer: Url | None = None
    directory: Url | DirectoryEntry | None = None
    hosts: tuple[Annotated[str, msgspec.Meta(pattern=r"^[^/\s@]+$")], ...] = ()
    sign_in: Literal["secret", "key", "device"] = "secret"
    credential: str = ""
    scopes: tuple[str, ...] = ()
    resource: str = ""
    audience: str = ""
    concurrency: Annotated[int, msgspec.Meta(ge=1, le=64)] = 8
    limits: Limits = Limits()
    live: bool = False


Days = Annotated[str, msgspec.Meta(pattern=DAYS)]


class ThinEntry(Rules, frozen=True):
    """Which versions stay when the shelf is thinned: in general, of a subject, of a place."""

    subjects: dict[Id, Rules] = {}
    places: dict[str, Rules] = {}


class RoundEntry(Strict, frozen=True):
    """A round in the configuration: `place:subject` each, where `*` stands for all that is there."""

    what: Annotated[
        tuple[Annotated[str, msgspec.Meta(pattern=r"^[^:@\s\\]+:[^:@\s\\]+$")], ...],
        msgspec.Meta(min_length=1),
    ]


class ObjectStorageEntry(Strict, frozen=True):
    """How a shelf on object storage is reached: the service, by default that of its kind, and whose key signs."""

    endpoint: str = ""
    region: str = ""
    user: str = ""


class Configuration(Strict, frozen=True):
    """The content of `zinker.toml`."""

    shelf: str = ""
    shelf_credential: str = ""
    seal: str = ""
    seal_credential: str = ""
    object_storage: ObjectStorageEntry = ObjectStorageEntry()
    shared: bool = False
    stale: Days = "30 days"
    fallbacks: Days = "90 days"
    thin: ThinEntry = ThinEntry()
    subjects: tuple[str, ...] = ()
    places: dict[Id, FolderEntry | RemoteEntry | WorkstationEntry | TenantEntry] = {}
    rounds: dict[Id, RoundEntry] = {}


class Setup:
    """The shelf, the subject files and the places; relative paths count from the configuration's folder."""

    def __init__(self, configuration: Configuration, base: Path, home: Path) -> None:
        self.own_folder = home
        # The zinker.toml that all this is from; None where there is none.
        self.file: Path | None = None
        # Told, in a sentence for people, what was done besides what was asked for.
        self.notify: Callable[[str], None] = lambda text: None
        # Asks for a passphrase: given what for, and whether it is a new one; "" where there is nobody.
        self.ask: Callable[[str, bool], str] = lambda what, is_new: ""
        # Told how far a reading has come, where no other callback is: what is read, how much is done, of how much.
        self.progress: Callable[[str, int, int], None] = lambda what, done, total: None
        self.base = base
        self._configuration = configuration
        self.subject_folders = [self._path(folder) for folder in configuration.subjects]
        # Of what was kept although no subject file described it.
        self.drafts = self.subject_folders[0] if self.subject_folders else home / "subjects"
        self.catalogue = Catalogue([*self.subject_folders, self.drafts], lambda text: self.notify(text))
        # The locks of the places that this run holds.
        self.held: set[Path] = set()
        self._answered: set[str] = set()
        self.places: dict[str, Place] = {"here": Here()}
        for name, entry in configuration.places.items():
            if name in _OWN_NAMES:
                why = f"a place cannot be called {name}: its secret would be that of the shelf"
                raise WrongUsage("Configuration not read", why, "Give it another name.")
            self.places[name] = self._place(name, entry)

    def beside(self) -> "Setup":
        """Return a setup for another thread: of the same places and subjects, with readers of its own."""
        if self._configuration.seal:
            _ = self._seal  # the same in all threads: what opens a shelf is asked for once
        other = copy.copy(self)
        for own in ("storage", "shelf", "reader", "_cuts"):
            other.__dict__.pop(own, None)
        other.held, other.progress = set(), lambda what, done, total: None
        other._answered = set()
        return other

    @property
    def rounds(self) -> dict[str, tuple[str, ...]]:
        """What each round is made of, as zinker.toml says."""
        return {name: entry.what for name, entry in self._configuration.rounds.items()}

    @cached_property
    def storage(self) -> Storage:
        """Where the shelf is kept."""
        named = self._configuration.shelf or str(self.own_folder / "shelf")
        inner = self._storage_at(named)
        return self._sealed(inner) if self._configuration.seal else inner

    @cached_property
    def shelf(self) -> Shelf:
        """The shelf; raises `Damaged` for one that is not readable, and `Refused` for one that does not open."""
        return self._shelf_on(self.storage, is_known=bool(self._configuration.shelf))

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
        return FolderStorage(self._path(named), self._mode)

    @property
    def _mode(self) -> int | None:
        return None if self._configuration.shared else PRIVATE

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

        said = self._configuration.seal
        key_file = self._path(said) if said not in ("", PASSPHRASE) else None
        credential = self._credential("seal", "shelf", self._configuration.seal_credential)
        return Unlocking(
            key_file,
            credential,
            self._shelf_lines,
            lambda text: self.notify(text),
            lambda *what: self.ask(*what),
        )

    def _shelf_lines(self) -> list[str]:
        """Return what zinker.toml says of the shelf, without what is this machine's."""
        entry = self._configuration.object_storage
        own = {"endpoint": entry.endpoint, "region": entry.region, "user": entry.user}
        more = [f"{name} = {encode(said).decode()}" for name, said in own.items() if said]
        named = self._configuration.shelf
        shelf = named if named.startswith(SMB) or is_address(named) else self.storage.told
        lines = [f"shelf = {encode(shelf).decode()}", 'seal = "PATH OF THIS FILE"']
        return [*lines, *(["", "[object_storage]", *more] if more else [])]

    def shelf_opens_with(self) -> Credential | None:
        """Return where the passphrase of the shelf is kept; None where none is needed."""
        is_needed = bool(self._configuration.seal) and self.unlocking.key_file is None
        return self.unlocking.credential if is_needed else None

    def shelf_signs_in(self) -> Credential | None:
        """Return what signs in where the shelf is; None where nothing has to."""
        if is_address(self._configuration.shelf):
            kept = self._kept_at(self._configuration.shelf)
            return self.shelf_credential(kept.user) if kept.user else None
        if not self._configuration.shelf.startswith(SMB):
            return None
        from zinker.shelf.smb_storage import share_at

        return self.shelf_credential(share_at(self._configuration.shelf).share.user)

    def _kept_at(self, named: str) -> "Kept":
        from zinker.shelf.object_storage import kept_at

        entry = self._configuration.object_storage
        return kept_at(named, entry.endpoint, entry.region, entry.user)

    def shelf_credential(self, user: str) -> Credential:
        """Return where the secret of the shelf is, of somebody who signs in for it."""
        return self._credential("shelf", user, self._configuration.shelf_credential)

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

    def place(self, name: str) -> Place:
        """Return a place that answers; `PLACE/ACCOUNT` is one as another account of it has it.

        Raises `WrongUsage` for an unknown one, `NoAnswer` for a silent one.
        """
        self.check_place(name)
        base, _, account = name.partition("/")
        place = self.places[base]
        absence = "" if base in self._answered else place.absence()
        if absence:
            then = "Connect it, or correct its entry in zinker.toml."
            raise NoAnswer(f"No answer from {name}", absence, then)
        self._answered.add(base)  # it may take its time, and is not asked again
        if not account:
            return place
        other = AccountPlace(place, account)
        other.check()
        return other

    def check_place(self, name: str) -> None:
        """Raise `WrongUsage` for a place that is not configured."""
        if name.partition("/")[0] not in self.places:
            raise unknown("place", name, list(self.places), "`zinker places` lists them all.")

    def check_place_among(self, name: str, others: Iterable[str]) -> None:
        """Raise `WrongUsage` for a place that is neither configured nor one of some others."""
        known = {*self.places, *others}
        if name and name not in known:
            raise unknown("place", name, sorted(known), "`zinker places` lists them all.")

    def rules_for(self, subject: str, place: str) -> Rules:
        """Return which versions stay, of a subject from a place."""
        entry = self._configuration.thin
        return entry.places.get(place) or entry.subjects.get(subject) or entry

    @property
    def fallback_days(self) -> int:
        """For how many days fallbacks stay."""
        return days_of(self._configuration.fallbacks)

    @property
    def stale_days(self) -> int:
        """After how many days the newest version of a place is stale."""
        return days_of(self._configuration.stale)

    def _place(self, name: str, entry: FolderEntry | RemoteEntry | WorkstationEntry | TenantEntry) -> Place:
        if isinstance(entry, FolderEntry):
            return self._folder_place(name, entry)
        if isinstance(entry, TenantEntry):
            return self._tenant_place(name, entry)
        if isinstance(entry, WorkstationEntry):
            from zinker.places.workstation import WorkstationPlace

            _check_folders(name, entry.folders)
            is_encrypted = entry.protection == "encrypted"
            return WorkstationPlace(
                name,
                entry.address,
                self._credential(name, entry.user, entry.credential),
                is_encrypted,
                entry.share,
                entry.folders,
                entry.system,
            )
        from zinker.places.remote import RemotePlace

        credential = self._credential(name, entry.user, entry.credential)
        return RemotePlace(name, entry.address, credential, entry.protection == "encrypted")

    def _credential(self, name: str, user: str, named: str, is_granted: bool = False) -> Credential:
        """Return where the secret of a place is: in a file, in the keyring alone, or wherever it is found."""
        is_in_keyring = named == "keyring"
        file = self._path(named) if named and not is_in_keyring else None
        return Credential(name, user, file, is_in_keyring, is_granted)

    @cached_property
    def reader(self) -> "Reader":
        """What takes documents apart, and remembers the last ones."""
        from zinker.formats import Reader

        return Reader()

    @cached_property
    def key(self) -> bytes:
        """This machine's own key, for fingerprints of secrets; raises `Refused`."""
        from zinker.jobs.secrets.machine_key import machine_key

        return machine_key(self.own_folder)

    @cached_property
    def _cuts(self) -> "Cuts":
        from zinker.jobs.secrets.withhold import Cuts

        return Cuts()

    def withholder(self, seals: bool = False) -> "Withholder":
        """Return what keeps secrets out; `seals` tells that they are to be sealed in. Raises `Refused`."""
        from zinker.jobs.secrets.withhold import Withholder

        return Withholder(self.key, self.reader, seals, self._cuts)

    def _sealing_key(self) -> bytes:
        from zinker.jobs.secrets.machine_key import sealing_key

        return sealing_key(self.key)

    def _tenant_place(self, name: str, entry: TenantEntry) -> Place:
        from zinker.places.tenant import TenantPlace

        directory = _directory(entry.directory)
        for url in filter(None, (entry.address, entry.issuer, directory.address)):
            if is_open(url):
                why = f"place {name}: {url} is not encrypted, and would carry secrets in clear"
                raise WrongUsage("Configuration not read", why, "Use https.")
        service = Service(
            place=name,
            root=entry.address,
            issuer=entry.issuer or "",
            directory=directory,
            hosts=entry.hosts,
            client_id=entry.client_id,
            sign_in=entry.sign_in,
            scopes=entry.scopes,
            resource=entry.resource,
            audience=entry.audience,
            concurrency=entry.concurrency,
            limits=entry.limits,
        )
        return TenantPlace(
            service,
            self._credential(name, entry.client_id, entry.credential, entry.sign_in == "device"),
            entry.live,
            self.own_folder / "unfinished" / f"{name}.sealed",
            self._sealing_key,
            lambda text: self.notify(text),
        )

    def _folder_place(self, name: str, entry: FolderEntry) -> FolderPlace:
        _check_folders(name, entry.folders)
        for key, path in entry.hives.items():
            if not key.upper().startswith(ROOTS) or path.startswith("/") or ".." in path.split("/"):
                why = f"place {name}: hives.{key!r} = {path!r} is not a registry key with the path of a file below"
                raise WrongUsage("Configuration not read", why, f"Keys begin with {' or '.join(ROOTS)}.")
        workstation = self._path(entry.workstation) if entry.workstation else None
        return FolderPlace(
            name, self._path(entry.path), entry.folders, workstation, entry.system, entry.hives
        )

    def _path(self, text: str) -> Path:
        path = path_at(text, Here())
        if path.parts[:1] and path.parts[0].startswith("~"):
            why = f"{text} names the home of an account that this machine does not have"
            raise WrongUsage("Configuration not read", why, "Write the whole path.")
        return Path(os.path.normpath(self.base / path))


def _check_folders(name: str, folders: dict[str, str]) -> None:
    """Raise `WrongUsage` for what is no path variable, or leads out of the place."""
    for variable, folder in folders.items():
        if variable not in VARIABLES or folder.startswith("/") or ".." in folder.split("/"):
            why = f"place {name}: folders.{variable} = {folder!r} is not a path variable with a path below"
            raise WrongUsage("Configuration not read", why, f"Variables are {', '.join(VARIABLES)}.")


def _directory(entry: str | DirectoryEntry | None) -> Directory:
    if isinstance(entry, str):
        return Directory(address=entry)
    if entry is None:
        return Directory()
    given = (People(path=one) if isinstance(one, str) else one for one in (entry.groups, entry.users))
    groups, users = (one if one.path else None for one in given)
    return Directory(groups=groups, users=users)


def load_setup(configuration: Path | None = None) -> Setup:
    """Read the configuration: the file given, `ZINKER_CONFIG`, or `zinker.toml` in the usual folder.

    Without such a file there is the place `here` and a shelf in Zinker's own folder. `ZINKER_HOME` moves
    that folder. Raises `WrongUsage` for a file that is missing or wrong.
    """
    own, home = os.environ.get("ZINKER_HOME"), own_folder()
    named = configuration or (Path(value) if (value := os.environ.get("ZINKER_CONFIG")) else None)
    path = named or (Path(own) if own else user_config_path("zinker", appauthor=False)) / "zinker.toml"
    if named is None and not path.exists():
        return Setup(Configuration(), home, home)
    entries = load(path, Configuration, "Configuration not read")
    setup = Setup(entries, path.absolute().parent, home)
    setup.file = path.absolute()
    return setup

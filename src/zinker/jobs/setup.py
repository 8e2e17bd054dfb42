"""What Zinker works with: the shelf, the subject files and the places, as `zinker.toml` names them."""

import copy
import os
from collections.abc import Iterable
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal

import msgspec

from zinker.disk.own_folder import own_folder
from zinker.jobs.shelves import ShelfEntries, Shelves
from zinker.model.errors import NoAnswer, WrongUsage
from zinker.model.names import unknown
from zinker.places.folder import FolderPlace
from zinker.places.here import Here
from zinker.places.place import Place
from zinker.shelf.thinning import DAYS, Rules, days_of
from zinker.stores.tenants.service import Directory, Limits, People, Service, is_open
from zinker.subjects.catalogue import VARIABLES, Catalogue
from zinker.subjects.subject import Id, Strict
from zinker.subjects.toml_check import load

if TYPE_CHECKING:
    from zinker.formats import Reader
    from zinker.jobs.secrets.withhold import Cuts, Withholder


CONCURRENCY = 16  # places that are worked at side by side
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


class Configuration(ShelfEntries, frozen=True):
    """The content of `zinker.toml`."""

    stale: Days = "30 days"
    fallbacks: Days = "90 days"
    thin: ThinEntry = ThinEntry()
    subjects: tuple[str, ...] = ()
    places: dict[Id, FolderEntry | RemoteEntry | WorkstationEntry | TenantEntry] = {}
    rounds: dict[Id, RoundEntry] = {}


class Setup(Shelves):
    """The shelf, the subject files and the places; relative paths count from the configuration's folder."""

    def __init__(self, configuration: Configuration, base: Path, home: Path) -> None:
        super().__init__(configuration, base, home)
        self._configuration = configuration
        # The zinker.toml that all this is from; None where there is none.
        self.file: Path | None = None
        self.subject_folders = [self.path(folder) for folder in configuration.subjects]
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
        from zinker.places.account import AccountPlace

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
                self.credential(name, entry.user, entry.credential),
                is_encrypted,
                entry.share,
                entry.folders,
                entry.system,
            )
        from zinker.places.remote import RemotePlace

        credential = self.credential(name, entry.user, entry.credential)
        return RemotePlace(name, entry.address, credential, entry.protection == "encrypted")

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
            self.credential(name, entry.client_id, entry.credential, entry.sign_in == "device"),
            entry.live,
            self.own_folder / "unfinished" / f"{name}.sealed",
            self._sealing_key,
            lambda text: self.notify(text),
        )

    def _folder_place(self, name: str, entry: FolderEntry) -> FolderPlace:
        _check_folders(name, entry.folders)
        if entry.hives:
            _check_hives(name, entry.hives)
        workstation = self.path(entry.workstation) if entry.workstation else None
        return FolderPlace(name, self.path(entry.path), entry.folders, workstation, entry.system, entry.hives)


def _check_folders(name: str, folders: dict[str, str]) -> None:
    """Raise `WrongUsage` for what is no path variable, or leads out of the place."""
    for variable, folder in folders.items():
        if variable not in VARIABLES or folder.startswith("/") or ".." in folder.split("/"):
            why = f"place {name}: folders.{variable} = {folder!r} is not a path variable with a path below"
            raise WrongUsage("Configuration not read", why, f"Variables are {', '.join(VARIABLES)}.")


def _check_hives(name: str, hives: dict[str, str]) -> None:
    """Raise `WrongUsage` for what is no key of a registry, or leads out of the place."""
    from zinker.stores.registry import ROOTS

    for key, path in hives.items():
        if not key.upper().startswith(ROOTS) or path.startswith("/") or ".." in path.split("/"):
            why = (
                f"place {name}: hives.{key!r} = {path!r} is not a registry key with the path of a file below"
            )
            raise WrongUsage("Configuration not read", why, f"Keys begin with {' or '.join(ROOTS)}.")


def _directory(entry: str | DirectoryEntry | None) -> Directory:
    if isinstance(entry, str):
        return Directory(address=entry)
    if entry is None:
        return Directory()
    given = (People(path=one) if isinstance(one, str) else one for one in (entry.groups, entry.users))
    groups, users = (one if one.path else None for one in given)
    return Directory(groups=groups, users=users)


def _usual_file() -> Path:
    if own := os.environ.get("ZINKER_HOME"):
        return Path(own, "zinker.toml")
    from platformdirs import user_config_path

    return user_config_path("zinker", appauthor=False) / "zinker.toml"


def load_setup(configuration: Path | None = None) -> Setup:
    """Read the configuration: the file given, `ZINKER_CONFIG`, or `zinker.toml` in the usual folder.

    Without such a file there is the place `here` and a shelf in Zinker's own folder. `ZINKER_HOME` moves
    that folder. Raises `WrongUsage` for a file that is missing or wrong.
    """
    home = own_folder()
    named = configuration or (Path(value) if (value := os.environ.get("ZINKER_CONFIG")) else None)
    path = named or _usual_file()
    if named is None and not path.exists():
        return Setup(Configuration(), home, home)
    entries = load(path, Configuration, "Configuration not read")
    setup = Setup(entries, path.absolute().parent, home)
    setup.file = path.absolute()
    return setup

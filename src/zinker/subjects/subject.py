"""A subject, as its subject file describes it (docs/subject.schema.json is made from these classes)."""

from typing import Annotated, Any, Literal

import msgspec

from zinker.formats.dialect import PLAIN, Dialect
from zinker.formats.dialect import Name as Format
from zinker.model.plain_json import schema_of
from zinker.model.policy import PolicyShape

FORMAT = 1

Id = Annotated[
    str,
    msgspec.Meta(
        pattern="^[a-z0-9][a-z0-9-]*$", max_length=64, description="Small letters, digits and hyphens."
    ),
]
Pointer = Annotated[str, msgspec.Meta(pattern="^/", description="An address: a JSON Pointer (RFC 6901).")]
Store = Literal["file", "registry", "desktop-db", "tenant"]
Compatible = Literal["any", "same-major", "same-minor", "exact"]
System = Literal["linux", "windows", "macos"]


class Strict(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A table in which an unknown key is a mistake, not something to skip."""


class SettingAt(Strict, frozen=True):
    """A setting of a part: where the application writes its own version, say, or names a folder."""

    part: Id
    address: Pointer


class Need(Strict, frozen=True):
    """Something that must be at a place before the settings of some parts, or of all, make sense there.

    With `items`, every item of the list at that setting must be below the path.
    """

    path: str
    says: str
    items: SettingAt | None = None
    parts: tuple[Id, ...] = ()


class AddOns(Strict, frozen=True):
    """A part in which the application writes down its add-ons: kept and compared, and never written.

    `item` is a pattern for the address of one; below that stand its `name`, its `version`, and what `only` those
    have that count.
    """

    part: Id
    item: Pointer
    name: Pointer
    version: Pointer
    only: dict[str, str] = {}


class Application(Strict, frozen=True):
    """The application that the settings belong to."""

    processes: tuple[str, ...] = ()
    version: SettingAt | None = None
    compatible: Compatible = "any"
    needs: tuple[Need, ...] = ()
    add_ons: tuple[AddOns, ...] = ()
    afterwards: str = ""


class BySystem(Strict, frozen=True):
    """A path, or paths to try in turn, for each operating system."""

    linux: str | tuple[str, ...] = ()
    windows: str | tuple[str, ...] = ()
    macos: str | tuple[str, ...] = ()


# One path, several of which the first that exists counts, or either of them by operating system.
Paths = str | tuple[str, ...] | BySystem


def paths_of(paths: Paths, system: System | Literal[""] = "") -> tuple[str, ...]:
    """Return the paths to try in turn under an operating system; without one, all there are."""
    if isinstance(paths, BySystem):
        chosen = [paths.linux, paths.windows, paths.macos] if not system else [getattr(paths, system)]
    else:
        chosen = [paths]
    return tuple(path for one in chosen for path in ((one,) if isinstance(one, str) else one))


class FurtherHome(Strict, frozen=True):
    """One more home of the same part; its documents are called `id:path`."""

    id: Id
    path: Paths
    format: Literal[""] | Format = ""
    dialect: Dialect = PLAIN
    without: tuple[str, ...] = ()


class PartHome(msgspec.Struct, frozen=True):
    """A home of a part: the first one has the id ""."""

    id: str
    path: Paths
    format: str
    dialect: Dialect
    without: tuple[str, ...] = ()

    def candidates(self, system: System) -> tuple[str, ...]:
        """Return the paths to try in turn under an operating system."""
        return paths_of(self.path, system)

    @property
    def first(self) -> str:
        """The first path of all, by which its document is called everywhere."""
        return paths_of(self.path)[0]


class Part(Strict, frozen=True):
    """One part: its kind of home, and the path or key of it.

    Where the user can move that, the setting `named_by` names the file or folder; `path` is the usual one. What
    fits one of `without`, below the folder of a path with wild cards, is not of the part, with all that is in it.
    """

    id: Id
    store: Store
    path: Paths
    title: str = ""
    named_by: SettingAt | None = None
    format: Literal[""] | Format = ""
    dialect: Dialect = PLAIN
    without: tuple[str, ...] = ()
    home: tuple[FurtherHome, ...] = ()
    view: Literal[0, 32, 64] = 0
    device_bound: bool = False
    kind: Literal[""] | Pointer = ""
    afterwards: str = ""
    volatile: tuple[Pointer, ...] = ()
    secret: tuple[Pointer, ...] = ()
    not_secret: tuple[Pointer, ...] = ()
    titles: dict[str, str] = {}
    policy: PolicyShape = PolicyShape()
    # Registry keys whose values count instead of those at the same place below the part's own, the first one most.
    policies: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        """What people call the part."""
        return self.title or self.id.replace("-", " ").capitalize()

    @property
    def is_of_account(self) -> bool:
        """Whether each account of a machine has this part for itself; a settings path begins with a slash."""
        own = ("{HOME}", "{CONFIG}", "{DATA}", "{DOCUMENTS}", "HKEY_CURRENT_USER", "/")
        return any(path.upper().startswith(own) for home in self.homes for path in paths_of(home.path))

    @property
    def homes(self) -> tuple[PartHome, ...]:
        """All homes of the part, the first one first."""
        first = PartHome("", self.path, self.format, self.dialect, self.without)
        more = (PartHome(one.id, one.path, one.format, one.dialect, one.without) for one in self.home)
        return (first, *more)


class Subject(Strict, frozen=True):
    """A subject file."""

    format: Literal[1]
    id: Id
    title: str
    part: Annotated[tuple[Part, ...], msgspec.Meta(min_length=1)]
    application: Application = Application()

    def find_part(self, id: str) -> Part | None:
        """Return the part of that name, if there is one."""
        return next((part for part in self.part if part.id == id), None)


def schema() -> dict[str, Any]:
    """Return the JSON Schema (2020-12) of subject files."""
    return schema_of(Subject, "Zinker subject file")

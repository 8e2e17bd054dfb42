"""Finds the home of a part at a place."""

from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, TypeAlias

from zinker.formats.dialect import Dialect
from zinker.model.errors import Refused
from zinker.model.plan import DocumentPlan
from zinker.places.place import Place, system_kind
from zinker.stores.desktop_db import DatabaseError, DesktopHome
from zinker.stores.files import FileHome, Root
from zinker.stores.patterns import is_wild
from zinker.stores.reading import StoreError
from zinker.stores.registry import RegistryHome
from zinker.subjects.subject import Part, PartHome, paths_of

if TYPE_CHECKING:
    from zinker.stores.tenant import TenantHome

Home: TypeAlias = "FileHome | RegistryHome | DesktopHome | TenantHome"
_NAMES = {"linux": "Linux", "windows": "Windows", "macos": "macOS"}


class NoHome(Refused):
    """A part has no home at a place; `why` says the reason."""

    def __init__(self, why: str) -> None:
        super().__init__("Not reached", why)


def open_home(place: Place, part: Part) -> Home:
    """Return the home of a part at a place; raises `NoHome`."""
    system = system_kind(place.system)
    candidates = [(home, home.candidates(system)) for home in part.homes]
    if not any(paths for _, paths in candidates):
        raise NoHome(f"it has no home on {_NAMES[system]}")
    if part.store == "file":
        roots = tuple(_root(place, home, paths) for home, paths in candidates if paths)
        return FileHome(roots, system)
    if part.store == "registry":
        registry = place.registry(part.view)
        if registry is None:
            raise NoHome(f"{place.name} has no registry that can be reached")
        branches = []
        for _, paths in candidates:
            branches += [path for path in paths if registry.exists(path)][:1] or list(paths[:1])
        return RegistryHome(registry, tuple(branches))
    if part.store == "desktop-db":
        try:
            database = place.desktop_db()
        except DatabaseError as error:
            raise NoHome(error.why) from None
        if database is None:
            raise NoHome(f"{place.name} has no desktop settings database that can be reached")
        return DesktopHome(database, tuple(paths[0] for _, paths in candidates if paths))
    return _tenant_home(place, part)


def _tenant_home(place: Place, part: Part) -> "TenantHome":
    from zinker.stores.tenant import TenantHome

    tenant = place.tenant()
    if tenant is None:
        raise NoHome(f"{place.name} is no tenant")
    return TenantHome(tenant, tenant.collection(paths_of(part.path)[0], part.policy))


def begin(place: Place, parts: Iterable[Part], progress: Callable[[str, int, int], None]) -> None:
    """Begin to read what is read side by side: the policies of all parts. Raises `StoreError`."""
    tenant = place.tenant()
    policies = [part for part in parts if part.store == "tenant"]
    if tenant is not None and policies:
        collections = [_tenant_home(place, part).collection for part in policies]
        for part, collection in zip(policies, collections, strict=True):
            collection.title = part.name
        tenant.progress = progress
        tenant.start(collections)


def expect(place: Place, plans: Iterable[DocumentPlan], home_of: Callable[[DocumentPlan], Home]) -> None:
    """Begin to read what some plans are about, where that takes an answer each. Raises `StoreError`."""
    if place.tenant() is None:
        return
    from zinker.stores.tenant import TenantHome

    documents: dict[str, list[DocumentPlan]] = {}
    for plan in plans:
        documents.setdefault(plan.part, []).append(plan)
    for of_part in documents.values():
        home = home_of(of_part[0])
        if isinstance(home, TenantHome):
            home.expect(plan.document for plan in of_part)


def finish(place: Place) -> None:
    """Forget what was noted in case reading was cut off: it has got through."""
    tenant = place.tenant()
    if tenant is not None:
        tenant.finished()


def why_no_home(place: Place, part: Part) -> str:
    """Say why a part has no home at a place, or ""."""
    try:
        open_home(place, part)
    except NoHome as error:
        return error.why
    except (OSError, StoreError):
        return ""  # there is one, but it cannot be read
    return ""


def instance_of(part: Part, document: str) -> str:
    """Return the instance a document of a part belongs to, or "" if the part has none."""
    roots = tuple(_named(home, Path(), home.first) for home in part.homes)
    return FileHome(roots).instance(document)


def dialect_of(part: Part, document: str) -> Dialect:
    """Return the dialect in which a document of a part is written."""
    id, colon, _ = document.partition(":")
    further = (home for home in part.homes if colon and home.id and home.id == id)
    return next(further, part.homes[0]).dialect


def _root(place: Place, home: PartHome, paths: tuple[str, ...]) -> Root:
    """Return the first of some homes that exists, else the first that can be; raises `NoHome`."""
    roots = list(_roots(place, home, paths))
    if not roots:
        variables = ", ".join(dict.fromkeys("{" + _split(path)[0] + "}" for path in paths))
        raise NoHome(f"nobody knows where {variables} is at {place.name}; name it in zinker.toml")
    return next((root for root in roots if _exists(root)), roots[0])


def _roots(place: Place, home: PartHome, paths: tuple[str, ...]) -> Iterator[Root]:
    for path in paths:
        base = place.folder(_split(path)[0])
        if base is not None:
            yield _named(home, base, path)


def _named(home: PartHome, base: Path, path: str) -> Root:
    """Return a home; its document is called as in the first of its paths, wherever it is."""
    _, folder, pattern = _split(path)
    _, _, first = _split(home.first)
    called = "" if is_wild(pattern) or is_wild(first) or first == pattern else first
    return Root(base / folder, pattern, home.format, home.dialect, home.id, called)


def _exists(root: Root) -> bool:
    return root.base.is_dir() if root.is_wild else (root.base / root.pattern).exists()


def _split(path: str) -> tuple[str, str, str]:
    """Split a path into its variable, the folders without a wild card, and the rest, which names documents."""
    variable, _, rest = path[1:].partition("}/")
    names = rest.split("/")
    fixed = next((at for at, name in enumerate(names) if is_wild(name)), len(names) - 1)
    return variable, "/".join(names[:fixed]), "/".join(names[fixed:])

"""The kinds of stores: one line each. What a kind does stands in its own file, imported when it is used."""

from importlib import import_module
from typing import NamedTuple, cast

from zinker.formats import Reader
from zinker.model.system import system_kind
from zinker.stores.home import Candidates, Home, NoHome, Offers, PartShape, Traits

_NAMES = {"linux": "Linux", "windows": "Windows", "macos": "macOS"}


class Kind(NamedTuple):
    """A kind of store: the module with its `open_home(place, part, candidates)`, and what its homes can do."""

    module: str
    traits: Traits


KINDS = {
    "file": Kind(
        "files",
        Traits("file", "files", has_files=True, makes_documents=True, drops_documents=True, reads_ahead=True),
    ),
    "registry": Kind("registry", Traits("key", "keys", makes_documents=True, folds_case=True)),
    "desktop-db": Kind("desktop_db", Traits("path", "paths", has_layers=True)),
    "tenant": Kind(
        "tenants.home",
        Traits(
            "policy",
            "policies",
            makes_documents=True,
            drops_documents=True,
            has_defaults=False,
            refers=True,
            takes_back=False,
        ),
    ),
}


def traits_of(store: str) -> Traits:
    """Return what homes of a store can do; of one that only a newer Zinker knows, nothing is known."""
    return KINDS[store].traits if store in KINDS else Traits()


def open_home(place: Offers, part: PartShape, reader: Reader | None = None, moved: str = "") -> Home:
    """Return the home of a part at a place, `moved` where it is not the usual; `reader` takes its documents apart.

    Raises `NoHome`, `StoreError` and `OSError`.
    """
    system = system_kind(place.system)
    candidates: Candidates = [(home, home.candidates(system)) for home in part.homes]
    if moved:
        candidates[0] = (candidates[0][0], (moved,))
    if not any(paths for _, paths in candidates):
        raise NoHome(f"it has no home on {_NAMES[system]}")
    kind = KINDS[part.store]
    module = import_module(f"zinker.stores.{kind.module}")
    home = cast(Home, module.open_home(place, part, candidates, reader or Reader()))
    home.traits = kind.traits
    return home

"""Where the files of a part are: its homes at a place, what their documents are called, and the dialect of each."""

from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from zinker.disk.tree import Tree
from zinker.formats.dialect import PLAIN, Dialect
from zinker.stores.home import Candidates, NoHome, Offers, PartHome, PartShape
from zinker.stores.patterns import expression, is_wild

DATABASE = "sqlite"


class Root(msgspec.Struct, frozen=True):
    """One home of a part: the files below `base` whose path fits `pattern` (see zinker.stores.patterns).

    `id` is "" for the first home of a part; the documents of the others are called `id:path`. A home of one
    file may have its document `called` otherwise, so that it has the same name where the file has another. What
    fits one of `without` is not of the part.
    """

    base: Path
    pattern: str
    format: str = ""
    dialect: Dialect = PLAIN
    id: str = ""
    called: str = ""
    without: tuple[str, ...] = ()

    @property
    def is_wild(self) -> bool:
        """Whether there may be more than one file."""
        return is_wild(self.pattern)

    @property
    def is_database(self) -> bool:
        """Whether its documents are databases, which somebody may have open."""
        return self.format == DATABASE

    def below(self, name: str) -> str:
        """Return the path of a document below `base`."""
        return name if self.is_wild else self.pattern


def roots_of(place: Offers, candidates: Candidates, far: Tree | None = None) -> tuple[Root, ...]:
    """Return the homes of a part at a place, whose tree is another machine's if it is `far`; raises `NoHome`."""
    tree = far or Tree(Path())
    return tuple(_root(place, home, paths, tree) for home, paths in candidates if paths)


def root_of(roots: Sequence[Root], document: str) -> tuple[Root, str]:
    """Return the home of a document, and its name there."""
    id, colon, name = document.partition(":")
    further = next((root for root in roots if root.id == id), None) if colon and id else None
    return (further, name) if further else (roots[0], document)


def moved_to(path: str, folder: str) -> str:
    """Return a path of a part as it is where the user has moved what its wild cards count from, or the file itself.

    >>> moved_to("{data}/fern/plans/**", "{home}/Plans"), moved_to("{data}/fern/list.csv", "{home}/ferns.csv")
    ('{home}/Plans/**', '{home}/ferns.csv')
    """
    _, _, pattern = _split(path)
    return f"{folder}/{pattern}" if is_wild(pattern) else folder


def instance_in(roots: Sequence[Root], document: str) -> str:
    """Return the instance a document belongs to, or "" if the part has none."""
    root, name = root_of(roots, document)
    found = expression(root.pattern).fullmatch(name)
    return found.groupdict().get("instance", "") if found else ""


def instance_of(part: PartShape, document: str) -> str:
    """Return the instance a document of a part belongs to, or "" if the part has none."""
    return instance_in([_named(home, Path(), home.first) for home in part.homes], document)


def dialect_of(part: PartShape, document: str) -> Dialect:
    """Return the dialect in which a document of a part is written."""
    id, colon, _ = document.partition(":")
    further = (home for home in part.homes if colon and home.id and home.id == id)
    dialect: Dialect = next(further, part.homes[0]).dialect
    return dialect


def _root(place: Offers, home: PartHome, paths: tuple[str, ...], tree: Tree) -> Root:
    """Return the first of some homes that exists, else the first that can be; raises `NoHome`."""
    roots = list(_roots(place, home, paths))
    if not roots:
        variables = ", ".join(dict.fromkeys("{" + _split(path)[0] + "}" for path in paths))
        raise NoHome(f"zinker.toml does not say where {variables} is at {place.told}")
    if len(roots) == 1:
        return roots[0]
    return next((root for root in roots if _exists(tree, root)), roots[0])


def _roots(place: Offers, home: PartHome, paths: tuple[str, ...]) -> Iterator[Root]:
    for path in paths:
        base = place.folder(_split(path)[0])
        if base is not None:
            yield _named(home, base, path)


def _named(home: PartHome, base: Path, path: str) -> Root:
    """Return a home; its document is called as in the first of its paths, wherever it is."""
    _, folder, pattern = _split(path)
    _, _, first = _split(home.first)
    called = "" if is_wild(pattern) or is_wild(first) or first == pattern else first
    return Root(base / folder, pattern, home.format, home.dialect, home.id, called, home.without)


def _exists(tree: Tree, root: Root) -> bool:
    return tree.is_folder(root.base) if root.is_wild else tree.exists(root.base / root.pattern)


def _split(path: str) -> tuple[str, str, str]:
    """Split a path into its variable, the folders without a wild card, and the rest, which names documents."""
    variable, _, rest = path[1:].partition("}/")
    names = rest.split("/")
    fixed = next((at for at, name in enumerate(names) if is_wild(name)), len(names) - 1)
    return variable, "/".join(names[:fixed]), "/".join(names[fixed:])

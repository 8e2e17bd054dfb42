"""Edits a nested document by replacing pieces of its text; everything between the pieces stays as it is.

A format says where its nodes stand, and how a value, a new entry and a removal look; which of them an edit
needs is worked out here, the same for all.
"""

from collections.abc import Callable, Iterable, Sequence
from typing import Any, NamedTuple, Protocol

from zinker.formats.leaves import Edit
from zinker.formats.walk import is_index
from zinker.model.address import tokens
from zinker.model.errors import NotWritable
from zinker.model.setting import Leaf


class Splice(NamedTuple):
    """A piece of text put in place of what stands from `start` to `end`."""

    start: int
    end: int
    text: str


class Node:
    """A value, a map or a list in a document, from `start` to `end`; `own` is the format's to use.

    `children` are those of a map by name and those of a list by number; None for a plain value. Where there is
    an `opener`, it is asked for them when they are first needed: large documents are not taken apart for one
    edit.
    """

    __slots__ = ("_children", "end", "is_list", "opener", "own", "start")

    def __init__(
        self,
        start: int,
        end: int,
        children: "dict[str, Node] | None" = None,
        is_list: bool = False,
        own: Any = None,
    ) -> None:
        self.start, self.end, self.is_list, self.own = start, end, is_list, own
        self.opener: Callable[[Node], dict[str, Node] | None] | None = None
        self._children = children

    @property
    def children(self) -> "dict[str, Node] | None":
        """What is below this node."""
        if self.opener is not None:
            opener, self.opener = self.opener, None
            self._children = opener(self)
        return self._children

    @children.setter
    def children(self, children: "dict[str, Node] | None") -> None:
        self._children = children


class Additions(dict[str, Any]):
    """What is to be added below a node: by name, a leaf or more of the same."""

    is_map = False  # whether it was said to be one, although its names may be numbers


class Writer(Protocol):
    """How a format writes; every method raises `NotWritable` for what it cannot.

    `fixed` is how many levels of a document stay when all that is in them goes.
    """

    fixed: int

    def parse(self, text: str) -> Node:
        """Take a document apart."""
        ...

    def replace(self, text: str, node: Node, leaf: Leaf, address: str) -> Iterable[Splice]:
        """Put another value in place of a node's."""
        ...

    def insert(self, text: str, path: tuple[str, ...], node: Node, new: Additions) -> Iterable[Splice]:
        """Add entries to a map or a list, at its end."""
        ...

    def remove(self, text: str, path: tuple[str, ...], node: Node, names: Sequence[str]) -> Iterable[Splice]:
        """Remove entries of a map or a list, but not all of them unless it is the root."""
        ...


def edit_text(text: str, edits: Sequence[Edit], writer: Writer) -> str:
    """Return the text with the edits made; raises `NotWritable` and `DocumentError`."""
    try:
        return _edited(text, edits, writer)
    except NotWritable as error:
        addresses = [edit.address for edit in edits]
        if error.address in addresses:
            raise
        # It was about a map or a list on the way to what an edit is about.
        below = (address for address in addresses if address.startswith(f"{error.address}/"))
        raise NotWritable(next(below, addresses[0]), error.why) from None


def _edited(text: str, edits: Sequence[Edit], writer: Writer) -> str:
    wanted = {edit.address: edit.leaf for edit in edits if edit.leaf is not None}
    unwanted = {edit.address for edit in edits if edit.leaf is None}
    text, later = _set(text, wanted, writer, bool(unwanted))
    if unwanted:
        text = _remove(text, unwanted, set(wanted) - set(later), writer)
    if later:
        text, _ = _set(text, later, writer, False)
    return text


def apply(text: str, splices: Iterable[Splice]) -> str:
    """Put pieces into a text; those at the same place come in the order given."""
    pieces, at = [], 0
    for start, end, new in sorted(splices, key=lambda splice: (splice.start, splice.end)):
        pieces += [text[at:start], new]
        at = max(at, end)
    return "".join((*pieces, text[at:]))


def _set(text: str, wanted: dict[str, Leaf], writer: Writer, may_wait: bool) -> tuple[str, dict[str, Leaf]]:
    """Set what can be set; what something else stands in the way of, which may be removed, is handed back."""
    root = writer.parse(text)
    splices: list[Splice] = []
    added: dict[int, tuple[tuple[str, ...], Node, Additions]] = {}
    later: dict[str, Leaf] = {}
    for address, leaf in wanted.items():
        path = tokens(address)
        node, depth = _descend(root, path)
        try:
            if depth == len(path):
                splices += writer.replace(text, node, leaf, address)
            elif node.children is None:
                raise NotWritable(address, "something else stands there, with another structure")
            else:
                _, _, new = added.setdefault(id(node), (path[:depth], node, Additions()))
                _nest(new, path[depth:], leaf, address)
        except NotWritable:
            if not may_wait:
                raise
            later[address] = leaf
    # Where two end at the same place, what belongs deeper comes first.
    for path, node, new in sorted(added.values(), key=lambda one: -len(one[0])):
        splices += writer.insert(text, path, node, _settled(new))
    return apply(text, splices), later


def _descend(root: Node, path: tuple[str, ...]) -> tuple[Node, int]:
    node = root
    for depth, token in enumerate(path):
        below = (node.children or {}).get(token)
        if below is None:
            return node, depth
        node = below
    return node, len(path)


def _nest(new: Additions, path: tuple[str, ...], leaf: Leaf, address: str) -> None:
    for token in path[:-1]:
        below = new.get(token)
        if isinstance(below, Leaf) and below.value not in ({}, []):
            raise NotWritable(address, "something else stands there, with another structure")
        if not isinstance(below, Additions):
            is_map = isinstance(below, Leaf) and below.type == "object"
            below = new[token] = Additions()
            below.is_map = is_map
        new = below
    below = new.get(path[-1])
    if not isinstance(below, Additions):
        new[path[-1]] = leaf
    elif leaf.value in ({}, []):
        below.is_map = leaf.type == "object"
    else:
        raise NotWritable(address, "something else stands there, with another structure")


def _settled(new: Additions) -> Additions:
    """Sort what is numbered, so that items are added in their order."""
    names = sorted(new, key=int) if new and all(map(is_index, new)) and not new.is_map else list(new)
    settled = Additions((name, new[name]) for name in names)
    for name, below in settled.items():
        if isinstance(below, Additions):
            settled[name] = _settled(below)
    settled.is_map = new.is_map
    return settled


def nested(edits: Iterable[Edit]) -> Additions:
    """Return what edits set, as one nested whole; raises `NotWritable` where one stands in another's way."""
    new = Additions()
    for edit in edits:
        if edit.leaf is not None:
            _nest(new, tokens(edit.address), edit.leaf, edit.address)
    return _settled(new)


def is_list(new: Additions) -> bool:
    """Tell whether additions make a list: their names count from 0."""
    return not new.is_map and list(new) == [str(number) for number in range(len(new))]


def _remove(text: str, unwanted: set[str], kept: set[str], writer: Writer) -> str:
    root = writer.parse(text)
    going: set[int] = set()
    chains = []
    for address in unwanted:
        path = tokens(address)
        chain = [root]
        for token in path:
            below = (chain[-1].children or {}).get(token)
            if below is None:
                raise NotWritable(address, "it is not there")
            chain.append(below)
        going.add(id(chain[-1]))
        chains.append((path, chain))
    keep = {id(_descend(root, tokens(address))[0]) for address in kept}
    # A map or list that loses everything goes as a whole.
    for _, chain in sorted(chains, key=lambda item: -len(item[1])):
        for node in reversed(chain[writer.fixed : -1]):
            children = node.children or {}
            if id(node) not in keep and children and all(id(child) in going for child in children.values()):
                going.add(id(node))
    splices: list[Splice] = []
    done: set[int] = set()
    for path, chain in chains:
        depth = next(at for at, node in enumerate(chain) if id(node) in going)
        holder = chain[depth - 1]
        if id(holder) not in done:
            done.add(id(holder))
            names = [name for name, child in (holder.children or {}).items() if id(child) in going]
            splices += writer.remove(text, path[: depth - 1], holder, names)
    return apply(text, splices)

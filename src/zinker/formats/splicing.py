"""Edits a nested document by replacing pieces of its text; everything between the pieces stays as it is.

A format says where its nodes stand, and how a value, a new entry and a removal look; which of them an edit
needs is worked out here, the same for all.
"""

from collections.abc import Callable, Container, Iterable, Sequence
from difflib import SequenceMatcher
from typing import Any, Final, NamedTuple, Protocol

from zinker.formats.leaves import Edit
from zinker.formats.limits import MOST_COMPARED
from zinker.formats.walk import is_index, leaf_of
from zinker.model.address import pointer, tokens
from zinker.model.errors import NotWritable
from zinker.model.setting import Leaf

_OTHER: Final = "something else stands there, with another structure"


class Splice(NamedTuple):
    """A piece of text put in place of what stands from `start` to `end`."""

    start: int
    end: int
    text: str


class Node:
    """A value, a map or a list in a document, from `start` to `end`; `own` is the format's to use.

    `children` are those of a map by name and those of a list by number; None for a plain value. Where there is
    an `opener`, it is asked for them when they are first needed: large documents are not taken apart for one
    edit. A list that `is_flat` is one setting: no address leads to its items, which have their `value`.
    """

    __slots__ = ("_children", "end", "is_flat", "is_list", "opener", "own", "start", "value")

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
        self.is_flat = False
        self.value: Any = None

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
        """Put another value in place of a node's, which is none that holds others but for a flat list."""
        ...

    def insert(
        self, text: str, path: tuple[str, ...], node: Node, new: Additions, last: Node | None
    ) -> Iterable[Splice]:
        """Add entries to a map or a list, behind the last one, or another; None where it has none."""
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


def without_entries(spans: Sequence[tuple[int, int]], going: Container[int]) -> Iterable[Splice]:
    """Remove entries between brackets with the comma before them, or behind them where they are the first.

    `spans` say where each begins and ends; `going` which go, by number.
    """
    kept_before = False
    for at, (start, end) in enumerate(spans):
        if at not in going:
            kept_before = True
        elif kept_before:
            yield Splice(spans[at - 1][1], end, "")
        else:
            yield Splice(start, spans[at + 1][0] if at + 1 < len(spans) else end, "")


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
                splices += _replace(text, path, node, leaf, writer)
            elif node.children is None or node.is_flat:
                raise NotWritable(address, _OTHER)
            else:
                _, _, new = added.setdefault(id(node), (path[:depth], node, Additions()))
                _nest(new, path[depth:], leaf, address)
        except NotWritable:
            if not may_wait:
                raise
            later[address] = leaf
    # Where two end at the same place, what belongs deeper comes first.
    for path, node, new in sorted(added.values(), key=lambda one: -len(one[0])):
        children, names = list((node.children or {}).values()), list(_settled(new))
        if node.is_list and names != [str(len(children) + number) for number in range(len(new))]:
            raise NotWritable(pointer(*path, names[0]), "the list there is shorter")
        splices += writer.insert(text, path, node, _settled(new), children[-1] if children else None)
    return apply(text, splices), later


def _replace(text: str, path: tuple[str, ...], node: Node, leaf: Leaf, writer: Writer) -> Iterable[Splice]:
    """Put a value in place of another, or of what is empty; that something is there is no change of it."""
    children = node.children
    if children and node.is_flat and leaf.type == "list" and leaf.value:
        return _replace_items(text, path, node, leaf.value, writer)
    if children is not None and not node.is_flat:
        if leaf.value in ({}, []) and (children or node.is_list == (leaf.type == "list")):
            return ()
        if children:
            raise NotWritable(pointer(*path), _OTHER)
    return writer.replace(text, node, leaf, pointer(*path))


def _replace_items(
    text: str, path: tuple[str, ...], node: Node, values: list[Any], writer: Writer
) -> Iterable[Splice]:
    """Change a list item by item: what stands between them stays, and so does the spelling of those that do."""
    items = list((node.children or {}).values())
    old, new = ([(type(value), value) for value in side] for side in ((i.value for i in items), values))
    spelled = {key: text[item.start : item.end] for key, item in zip(old, items, strict=True)}
    if len(old) * len(new) > MOST_COMPARED or not set(old) & set(new):
        steps = [[0, len(old), 0, len(new)]]
    else:
        matched = SequenceMatcher(None, old, new, autojunk=False).get_opcodes()
        steps = [step for kind, *step in matched if kind != "equal"]
    gone: list[str] = []
    for start, stop, first, end in steps:
        both, fresh = min(stop - start, end - first), values[first:end]
        if start == stop == 0:  # what comes before the first item takes its place, and pushes it on
            both, fresh = 1, [*fresh, items[0].value]
        for item, value in zip(items[start : start + both], fresh, strict=False):
            yield from _replaced(text, path, item, value, spelled, writer)
        if fresh[both:]:
            more = Additions((str(at), leaf_of(value)) for at, value in enumerate(fresh[both:]))
            yield from writer.insert(text, path, node, more, items[start + both - 1])
        gone += map(str, range(start + both, stop))
    if gone:
        yield from writer.remove(text, path, node, gone)


def _replaced(
    text: str, path: tuple[str, ...], item: Node, value: Any, spelled: dict[Any, str], writer: Writer
) -> Iterable[Splice]:
    known = spelled.get((type(value), value))
    if known is not None and "\n" not in known:
        return (Splice(item.start, item.end, known),)
    return writer.replace(text, item, leaf_of(value), pointer(*path))


def _descend(root: Node, path: tuple[str, ...]) -> tuple[Node, int]:
    node = root
    for depth, token in enumerate(path):
        children = node.children or {}
        below = None if node.is_flat else children.get(token)
        if below is None:
            return node, depth
        node = below
    return node, len(path)


def _nest(new: Additions, path: tuple[str, ...], leaf: Leaf, address: str) -> None:
    for token in path[:-1]:
        below = new.get(token)
        if isinstance(below, Leaf) and below.value not in ({}, []):
            raise NotWritable(address, _OTHER)
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
        raise NotWritable(address, _OTHER)


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
            children = chain[-1].children or {}
            below = None if chain[-1].is_flat else children.get(token)
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

"""A JSON document as a tree that remembers every character, taken apart only where it is edited."""

import json
import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from json.decoder import scanstring  # type: ignore[attr-defined]

from zinker.model.address import tokens
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.setting import Leaf

_SPACE = re.compile(r"[ \t\r\n]*")
_SURROGATE = re.compile("[\ud800-\udfff]")
_skip = json.JSONDecoder().raw_decode


@dataclass(slots=True, eq=False)
class _Member:
    """One member of an object, or one item of an array, with the white space around it."""

    space: str
    name: str | None
    label: str  # the name as it is written, with its colon
    value: "_Container | str"
    trail: str = ""
    is_dropped: bool = False


@dataclass(slots=True, eq=False)
class _Container:
    """An object or an array; `inner` is the white space of an empty one."""

    is_object: bool
    members: list[_Member] = field(default_factory=list)
    inner: str = ""
    touched: bool = False
    is_loose: bool = False
    kept_empty: bool = False
    names: dict[str, _Member] = field(default_factory=dict)

    def find(self, token: str) -> _Member | None:
        if self.is_object:
            return self.names.get(token)
        if not is_index(token):
            return None
        return self.members[int(token)] if int(token) < len(self.members) else None

    def add(self, member: _Member) -> None:
        self.members.append(member)
        if member.name is not None:
            self.names[member.name] = member

    def drop(self, member: _Member) -> None:
        member.is_dropped = self.touched = self.is_loose = True
        if member.name is not None:
            del self.names[member.name]

    def settle(self) -> None:
        """Let go of dropped members, handing the white space at both ends to those that are left."""
        if not self.is_loose:
            return
        self.is_loose = False
        kept = [member for member in self.members if not member.is_dropped]
        if kept and len(kept) < len(self.members):
            kept[0].space, kept[-1].trail = self.members[0].space, self.members[-1].trail
        self.members = kept

    def text(self) -> str:
        inner = ",".join(f"{m.space}{m.label}{_text(m.value)}{m.trail}" for m in self.members) or self.inner
        return f"{{{inner}}}" if self.is_object else f"[{inner}]"


class Tree:
    """The tree of one document: set and remove leaves by address, then take its text."""

    def __init__(self, characters: str) -> None:
        self._objects: set[tuple[str, ...]] = set()
        start = _space_end(characters, 0)
        end = _skip(characters, start)[1]
        self._before, self._after = characters[:start], characters[end:]
        self._root: _Container | str = characters[start:end]
        self._escape = characters.isascii() and "\\u" in characters
        self._line_end = "\r\n" if "\r\n" in characters else "\n"
        found = re.search(r"\n([ \t]+)\S", characters)
        self._indent = found[1] if found else ("" if "\n" not in characters else "  ")
        self._is_flat = "\n" not in characters[start:end]
        self._spaced = bool(re.search(r'":[ \t]', characters)) or not re.search(r'":\S', characters)

    def expect(self, addresses: Iterable[str]) -> None:
        """Tell what will be set, as that says which new containers are objects and which are arrays."""
        for path in map(tokens, addresses):
            for depth, token in enumerate(path):
                if not is_index(token):
                    self._objects.add(path[:depth])

    def text(self) -> str:
        """Return the document; what was not edited is as it was, character by character."""
        return self._before + _text(self._root) + self._after

    def remove(self, address: str) -> None:
        """Remove a leaf."""
        path = tokens(address)
        holder = self._holder(path)
        member = holder.find(path[-1]) if holder is not None else None
        if holder is None or member is None:
            raise NotWritable(address, "it is not there")
        holder.drop(member)

    def set(self, address: str, leaf: Leaf | None) -> None:
        """Set a leaf, and add it with all that leads to it where it is missing."""
        path = tokens(address)
        node = self._open_root()
        for depth, token in enumerate(path):
            if not isinstance(node, _Container):
                raise NotWritable(address, "something else stands there, with another structure")
            member = node.find(token)
            is_last = depth == len(path) - 1
            if member is None:
                member = self._add(node, token, depth, address)
                member.value = "" if is_last else _Container(path[: depth + 1] in self._objects)
            if is_last:
                self._replace(node, member, depth, address, leaf)
            else:
                node = self._open(member)

    def prune(self) -> None:
        """Remove the containers that removals have left empty, and that nothing has filled again."""
        if isinstance(self._root, _Container):
            self._prune(self._root)

    def _prune(self, container: _Container) -> bool:
        for member in container.members:
            if not member.is_dropped and isinstance(member.value, _Container) and self._prune(member.value):
                container.drop(member)
        container.settle()
        return container.touched and not container.members and not container.kept_empty

    def _replace(
        self, holder: _Container, member: _Member, depth: int, address: str, leaf: Leaf | None
    ) -> None:
        opened = self._open(member) if member.value else member.value
        if leaf is not None and leaf.type in ("object", "list") and not leaf.value:
            is_same_kind = isinstance(opened, _Container) and opened.is_object == (leaf.type == "object")
            if is_same_kind and isinstance(opened, _Container) and (opened.is_object or not opened.members):
                opened.kept_empty = True
                return
        if isinstance(opened, _Container) and opened.is_object and opened.members:
            raise NotWritable(address, "something else stands there, with another structure")
        old = _text(member.value)
        member.value = self._written(address, leaf, self._indent * (depth + 1), multiline="\n" in old)

    def _holder(self, path: tuple[str, ...]) -> _Container | None:
        node = self._open_root()
        for token in path[:-1]:
            member = node.find(token) if isinstance(node, _Container) else None
            if member is None:
                return None
            node = self._open(member)
        return node if isinstance(node, _Container) else None

    def _open_root(self) -> "_Container | str":
        if isinstance(self._root, str):
            self._root = _parse(self._root)
        return self._root

    def _open(self, member: _Member) -> "_Container | str":
        if isinstance(member.value, str):
            member.value = _parse(member.value)
        return member.value

    def _add(self, holder: _Container, token: str, depth: int, address: str) -> _Member:
        """Add a member at the end, indented like the one before it."""
        holder.settle()
        if not holder.is_object and token != str(len(holder.members)):
            raise NotWritable(address, "the list there is shorter")
        label = ""
        if holder.is_object:
            label = self._string(token) + (": " if self._spaced else ":")
        if holder.members:
            last = holder.members[-1]
            member = _Member(holder.members[-1].space, token, label, "", last.trail)
            if len(holder.members) == 1 and self._is_flat and not last.space and self._spaced:
                member.space = " "
            last.trail = ""
        elif self._is_flat:
            member = _Member("", token, label, "")
        else:
            inner, outer = self._indent * (depth + 1), self._indent * depth
            member = _Member(self._line_end + inner, token, label, "", self._line_end + outer)
        holder.add(member)
        return member

    def _written(self, address: str, leaf: Leaf | None, indent: str, multiline: bool = False) -> str:
        if leaf is None or leaf.type not in ("text", "int", "float", "bool", "null", "list", "object"):
            raise NotWritable(address, f"JSON has no {leaf.type if leaf else 'value'}")
        if leaf.type in ("int", "float"):
            return leaf.value if isinstance(leaf.value, str) else json.dumps(leaf.value)
        if leaf.type == "list" and multiline and leaf.value:
            gap = self._line_end + indent
            items = f",{gap}{self._indent}".join(self._scalar(item) for item in leaf.value)
            return f"[{gap}{self._indent}{items}{gap}]"
        if leaf.type == "list":
            return "[" + (", " if self._spaced else ",").join(map(self._scalar, leaf.value)) + "]"
        return "{}" if leaf.type == "object" else self._scalar(leaf.value)

    def _scalar(self, value: object) -> str:
        return self._string(value) if isinstance(value, str) else json.dumps(value)

    def _string(self, text: str) -> str:
        written = json.dumps(text, ensure_ascii=self._escape)
        return _SURROGATE.sub(lambda found: f"\\u{ord(found[0]):04x}", written)


def is_index(token: str) -> bool:
    """Tell whether a token can be the number of an item (RFC 6901, section 4)."""
    return token.isascii() and token.isdigit() and (len(token) == 1 or token[0] != "0")


def _text(value: "_Container | str") -> str:
    return value if isinstance(value, str) else value.text()


def _space_end(characters: str, at: int) -> int:
    found = _SPACE.match(characters, at)
    return found.end() if found else at


def _parse(characters: str) -> _Container | str:
    """Take one level of a value apart; the values below stay text, skipped at the parser's own speed."""
    if characters[:1] not in ("{", "["):
        return characters
    container = _Container(characters[0] == "{")
    at = _space_end(characters, 1)
    if at == len(characters) - 1:
        container.inner = characters[1:at]
        return container
    begin = 1
    while True:
        start = _space_end(characters, begin)
        name, value_at = None, start
        if container.is_object:
            name, value_at = scanstring(characters, start + 1, False)
            value_at = _space_end(characters, characters.index(":", value_at) + 1)
        try:
            end = _skip(characters, value_at)[1]
        except RecursionError:
            raise DocumentError("it is nested too deeply") from None
        after = _space_end(characters, end)
        member = _Member(characters[begin:start], name, characters[start:value_at], characters[value_at:end])
        member.trail = characters[end:after]
        container.add(member)
        if characters[after] != ",":
            return container
        begin = after + 1

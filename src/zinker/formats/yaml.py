"""YAML documents (version 1.2, core schema), edited in place; addresses as in JSON.

An alias is a setting of the type `alias`, by its name, and is never expanded; a value with a tag of its own is
one of the type `tagged`, as it stands there. A file with several documents has no clear addresses.
"""

import json
import re
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

import yaml

from zinker.formats.dialect import PLAIN, Dialect
from zinker.formats.leaves import Edit, Leaves
from zinker.formats.limits import DEEPEST_YAML
from zinker.formats.splicing import Additions, Node, Splice, edit_text, is_list, without_entries
from zinker.formats.text import back, decode, remembered, usual_end
from zinker.formats.walk import Native, exact, is_plain, leaf_of, leaves_of, spelled
from zinker.model.address import pointer
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.setting import Leaf

_PARSER: Any = getattr(yaml, "CLoader", yaml.Loader)  # parsing only; nothing is ever constructed
_NULL = re.compile(r"(?:null|Null|NULL|~|)\Z")
_BOOL = re.compile(r"(?:true|True|TRUE|false|False|FALSE)\Z")
_INT = re.compile(r"[-+]?[0-9]+\Z|0o[0-7]+\Z|0x[0-9a-fA-F]+\Z")
_FLOAT = re.compile(
    r"[-+]?(?:\.[0-9]+|[0-9]+(?:\.[0-9]*)?)(?:[eE][-+]?[0-9]+)?\Z|[-+]?\.(?:inf|Inf|INF)\Z|\.(?:nan|NaN|NAN)\Z"
)
# Text that can stand without quotation marks anywhere, and that no version of YAML takes for something else.
_BARE = re.compile(r"[A-Za-z_/.][\w ./+()@%^=;~$-]*\Z")
_ODD_LINE_END = re.compile("[\x85\u2028\u2029]")  # YAML 1.1 has them for ends of lines, 1.2 has not
_HEADER_COMMENT = re.compile(r"[|>][-+0-9]*([ \t]+#[^\r\n]*)")
_ANCHOR = re.compile(r"&[^\s\[\]{},]+\s*")
_WORDS = {"true", "false", "yes", "no", "on", "off", "y", "n", "null", "~", ".inf", ".nan"}


def read(data: bytes, dialect: Dialect = PLAIN) -> Leaves:
    """Return the settings of a YAML document by address; raises `DocumentError`."""
    return leaves_of(_data(_parse(decode(data, fallback="").characters)))


def edit(data: bytes, edits: Sequence[Edit], dialect: Dialect = PLAIN) -> bytes:
    """Return the document with the edits made; every other line stays as it is."""
    text = decode(data, fallback="")
    edited = edit_text(text.characters, edits, _Writer())
    if "*" in edited:
        before, after = _targets(text.characters), _targets(edited)
        for address in before.keys() & after.keys() - {change.address for change in edits}:
            if before[address] != after[address]:
                raise NotWritable(address, "it would stand for something else")
    return text.encode(edited, edits[0].address)


def _targets(text: str) -> dict[str, str]:
    """Return what stands at each alias of a document: the address of what it refers to."""
    found: dict[int, str] = {}
    aliases: list[tuple[str, Node]] = []
    waiting = [("", _parse(text))]
    while waiting:
        address, node = waiting.pop()
        found[id(node)] = address
        if node.own.target is not None:
            aliases.append((address, node.own.target))
        waiting += [(address + pointer(name), child) for name, child in (node.children or {}).items()]
    return {address: found[id(target)] for address, target in aliases}


class _Own:
    """What a node knows of itself: its value, if it is one, and how it is written.

    `value` is what it means; `style` is that of a scalar or, for a map or list, `flow` or `block`; `begin` is
    where its entry begins, with its key or its hyphen; `indent` the column of a block's entries.
    """

    def __init__(self, value: Any, style: str) -> None:
        self.value, self.style = value, style
        self.begin = self.indent = 0
        self.key_end = 0
        self.target: Node | None = None  # what an alias stands for


@remembered
def _parse(text: str) -> Node:
    try:
        return _Composer(text).run()
    except yaml.YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        where = f"line {mark.line + 1}, column {mark.column + 1}: " if mark else ""
        raise DocumentError(f"{where}{getattr(error, 'problem', None) or error}") from None


class _Composer:
    """Builds nodes of parsing events."""

    def __init__(self, text: str) -> None:
        self._text = text
        self._anchors: dict[str, Node] = {}
        self._in_flow = False
        self._events: Iterator[Any] = yaml.parse(text, Loader=_PARSER)

    def run(self) -> Node:
        if odd := _ODD_LINE_END.search(self._text):
            raise DocumentError(f"it has {odd[0]!a}, which only some take for the end of a line")
        root, count = None, 0
        for event in self._events:
            if isinstance(event, yaml.DocumentStartEvent):
                count += 1
                if count > 1:
                    raise DocumentError("it holds several documents, so its settings have no clear address")
                root = self._node(next(self._events), 0)
        if root is None:
            raise DocumentError("it holds nothing")
        return root

    def _node(self, event: Any, depth: int) -> Node:
        if depth > DEEPEST_YAML:
            raise DocumentError("it is nested too deeply")
        start, end = _index(event.start_mark), _index(event.end_mark)
        if isinstance(event, yaml.AliasEvent):
            if event.anchor not in self._anchors:
                raise DocumentError(f"*{event.anchor} refers to what is not there, or comes later")
            alias = Node(start, end, own=_Own(Native("alias", event.anchor or ""), "alias"))
            alias.own.target = self._anchors[event.anchor]
            return alias
        if isinstance(event, yaml.ScalarEvent):
            return self._anchored(
                event, Node(start, end, own=_Own(self._scalar(event, start, end), event.style or "plain"))
            )
        is_list = isinstance(event, yaml.SequenceStartEvent)
        node = Node(start, start, {}, is_list, _Own(None, "flow" if event.flow_style else "block"))
        own: _Own = self._anchored(event, node).own
        children: dict[str, Node] = {}
        node.children = children
        while True:
            event = next(self._events)
            if isinstance(event, yaml.SequenceEndEvent | yaml.MappingEndEvent):
                node.end = _index(event.end_mark) if own.style == "flow" else node.end
                break
            begin, key_end, name = _index(event.start_mark), 0, str(len(children))
            if is_list:
                begin = begin if own.style == "flow" else self._text.rindex("-", 0, max(begin, start + 1))
            else:
                self._in_flow = own.style == "flow"
                name, key_end = self._name(event), _index(event.end_mark)
                begin = self._begin(begin)
                event = next(self._events)
            if name in children:
                raise DocumentError(
                    f"the name {name[:40]!a} stands there twice, so its settings have no clear address"
                )
            child = children[name] = self._node(event, depth + 1)
            child.own.begin, child.own.key_end = begin, key_end
            if own.style == "block":
                own.indent = begin - (self._text.rfind("\n", 0, begin) + 1)
                node.end = max(child.end, key_end)
        return node

    def _anchored(self, event: Any, node: Node) -> Node:
        """Remember what others may refer to."""
        if event.anchor:
            self._anchors[event.anchor] = node
            name = self._text.find(f"&{event.anchor}", node.start) + 1 + len(event.anchor)
            if self._text[name : name + 1] not in ("", *" \t\r\n,[]{}"):
                raise DocumentError(f"the name &{event.anchor} is one that not everybody reads alike")
        return node

    def _begin(self, key: int) -> int:
        """Return where an entry begins whose key begins at `key`: there, or with a question mark before it."""
        text, at = self._text, back(self._text, key, " \t")
        is_explicit = at < key and text[at - 1 : at] == "?" and (at == 1 or text[at - 2] in " \t\r\n[{,")
        if at == key and text[at - 1 : at] == "?" and self._in_flow:
            raise DocumentError(f"a name behind a question mark without a space: {text[at - 1 : at + 20]!a}")
        return at - 1 if is_explicit else key

    def _name(self, event: Any) -> str:
        if not isinstance(event, yaml.ScalarEvent):
            raise DocumentError("it has a name that is no text, so its settings have no clear address")
        return str(event.value)

    def _scalar(self, event: Any, start: int, end: int) -> Any:
        if event.tag is not None:
            return Native("tagged", self._text[start:end])
        if event.style in ("|", ">") and self._text[self._text.rfind("\n") + 1 :].isspace():
            raise DocumentError("its last line has only spaces and no end, which not everybody reads alike")
        return _resolved(event.value) if event.implicit[0] and not event.style else event.value


def _index(mark: Any) -> int:
    return int(mark.index)


def _resolved(word: str) -> Any:
    """Return what a plain scalar means by the core schema (YAML 1.2.2, section 10.3.2)."""
    if _NULL.match(word):
        return None
    if _BOOL.match(word):
        return word.lower() == "true"
    if _INT.match(word):
        return int(word, {"0o": 8, "0x": 16}.get(word[:2], 10)) if len(word) < 4000 else word
    if _FLOAT.match(word):
        return exact(word.lower().replace(".inf", "inf").replace(".nan", "nan"))
    return word


def _data(node: Node) -> Any:
    if node.children is None:
        return node.own.value
    if node.is_list:
        return [_data(child) for child in node.children.values()]
    return {name: _data(child) for name, child in node.children.items()}


class _Writer:
    fixed = 1

    def parse(self, text: str) -> Node:
        root = _parse(text)
        waiting = [root]
        while waiting:
            node = waiting.pop()
            children = (node.children or {}).values()
            waiting += children
            node.is_flat = (
                node.is_list and node is not root and bool(children) and all(map(_is_plain, children))
            )
            node.value = node.own.value
        return root

    def replace(self, text: str, node: Node, leaf: Leaf, address: str) -> Iterable[Splice]:
        own: _Own = node.own
        start, end = node.start, node.end
        # What others refer to keeps the name that they use; a reference has none of its own.
        anchor = _ANCHOR.match(text, start, end) if leaf.type != "alias" else None
        named = f"{anchor[0].strip()} " if anchor else ""
        start = anchor.end() if anchor else start
        model = text[start:end]
        written = _written(leaf, address, own.style, model)
        if own.style == "block" and node.children and own.key_end:  # a value has its place behind its key
            start, written = text.rindex(":", own.key_end, node.start) + 1, f" {named}{written}"
        elif own.style in ("|", ">"):
            end = start + len(model.rstrip())
            comment = _HEADER_COMMENT.match(model)
            written += comment[1] if comment else ""
        elif start == end and not text[start - 1 : start].isspace():
            written = f" {written}"
        yield Splice(start, end, written)

    def insert(
        self, text: str, path: tuple[str, ...], node: Node, new: Additions, last: Node | None
    ) -> Iterable[Splice]:
        own: _Own = node.own
        if own.style == "flow":
            yield self._into_flow(text, path, node, new, last)
            return
        joined = usual_end(text).join(_block(new, own.indent, node.is_list, path))
        at = _line_end(text, last or node)
        if at and text[at - 1] == "\n":
            yield Splice(at, at, joined + usual_end(text))
        else:
            yield Splice(at, at, usual_end(text) + joined)

    def _into_flow(
        self, text: str, path: tuple[str, ...], node: Node, new: Additions, last: Node | None
    ) -> Splice:
        items = [
            _flow(below, pointer(*path, name))
            if node.is_list
            else f"{_name(name)}: {_flow(below, pointer(*path, name))}"
            for name, below in new.items()
        ]
        if last is None:
            if not path:  # an empty document becomes one of lines
                return Splice(node.start, node.end, usual_end(text).join(_block(new, 0, node.is_list, path)))
            return Splice(node.start + 1, node.end - 1, ", ".join(items))
        at = max(last.end, last.own.key_end)
        if text[:at].rstrip().endswith("?"):
            raise NotWritable(pointer(*path, next(iter(new))), "a name without a value stands before it")
        if "\n" not in text[node.start : last.own.begin]:
            return Splice(at, at, "".join(f", {item}" for item in items))
        line = text[text.rfind("\n", 0, last.own.begin) + 1 : last.own.begin]
        gap = usual_end(text) + line if line.isspace() else " "  # one a line, or as they come
        return Splice(at, at, "".join(f",{gap}{item}" for item in items))

    def remove(self, text: str, path: tuple[str, ...], node: Node, names: Sequence[str]) -> Iterable[Splice]:
        children = node.children or {}
        own: _Own = node.own
        if len(names) == len(children) and own.style == "block":
            first = next(iter(children.values())).own.begin
            yield Splice(first, _line_end(text, node), "[]" if node.is_list else "{}")
            return
        entries, gone = list(children.values()), frozenset(names)
        going = {at for at, name in enumerate(children) if name in gone}
        spans = [(child.own.begin, max(child.end, child.own.key_end)) for child in entries]
        if own.style == "flow":
            yield from without_entries(spans, going)
            return
        for at in sorted(going):
            start, end = spans[at]
            line = text.rfind("\n", 0, start) + 1
            if text[line:start].strip():  # behind the hyphen or the anchor of what holds it
                yield Splice(start, spans[at + 1][0] if at + 1 < len(spans) else end, "")
            else:
                stop = _line_end(text, entries[at])
                stop += 2 if text.startswith("\r\n", stop) else text.startswith("\n", stop)
                yield Splice(line, stop, "")


def _is_plain(node: Node) -> bool:
    return node.children is None and is_plain(node.own.value)


def _line_end(text: str, node: Node) -> int:
    """Return the end of the line in which a node ends; behind a block of text, the start of the next line."""
    at: int = max(node.end, node.own.key_end)
    if at and text[at - 1] == "\n":
        return at
    line_end = text.find("\n", at)
    at = len(text) if line_end < 0 else line_end
    return at - 1 if text[at - 1 : at] == "\r" else at


def _block(new: Additions, indent: int, in_list: bool, path: tuple[str, ...]) -> list[str]:
    """Return additions as lines, one below the other."""
    lines = []
    for name, below in new.items():
        start = " " * indent + ("-" if in_list else f"{_name(name)}:")
        if isinstance(below, Leaf):
            if below.type == "list" and below.value:
                lines.append(start)
                items = (_written(leaf_of(item), pointer(*path, name), "") for item in below.value)
                lines += [f"{' ' * (indent + 2)}- {item}" for item in items]
            else:
                lines.append(f"{start} {_written(below, pointer(*path, name), '')}".rstrip())
            continue
        deeper = _block(below, indent + 2, is_list(below), (*path, name))
        if in_list:
            deeper[0] = f"{start} {deeper[0].lstrip()}"
            lines += deeper
        else:
            lines += [start, *deeper]
    return lines


def _flow(below: Additions | Leaf, address: str) -> str:
    if isinstance(below, Leaf):
        return _written(below, address, "flow")
    if is_list(below):
        return "[" + ", ".join(_flow(item, address) for item in below.values()) + "]"
    return "{" + ", ".join(f"{_name(name)}: {_flow(item, address)}" for name, item in below.items()) + "}"


def _name(name: str) -> str:
    return name if _BARE.match(name) and name == name.strip() and name.isascii() else _quoted(name)


def _written(leaf: Leaf, address: str, style: str, model: str = "") -> str:
    kind, value = leaf.type, leaf.value
    if kind == "text":
        return _text(value, style)
    if kind == "null":
        return "null"
    if kind in ("bool", "int", "float"):
        number = spelled(leaf, model)
        return {"inf": ".inf", "-inf": "-.inf", "nan": ".nan"}.get(number, number)
    if kind == "list":
        return "[" + ", ".join(_written(leaf_of(item), address, "") for item in value) + "]"
    if kind == "object":
        return "{}"
    if kind == "alias":
        return f"*{value}"
    if kind == "tagged":
        return str(value)
    raise NotWritable(address, f"YAML has no {kind}")


def _text(value: str, style: str) -> str:
    """Return a text as a scalar, with the quotation marks of the old one where that can be."""
    is_line = value.isprintable() and value.isascii()
    if style == "'" and is_line:
        return "'" + value.replace("'", "''") + "'"
    is_bare = (
        bool(_BARE.match(value))
        and not value.endswith(" ")
        and value.lower() not in _WORDS
        and _resolved(value) == value
        and not value.startswith(("---", "..."))
    )
    if is_bare and style != '"' and value.isascii():
        return value
    return _quoted(value)


def _quoted(value: str) -> str:
    # What JSON writes is YAML, too (YAML 1.2.2, section 1.2), but for pairs of surrogates.
    if all((c.isprintable() or ord(c) < 128) and c != "\x7f" for c in value):
        return json.dumps(value, ensure_ascii=False)
    plain = (c if c.isascii() and c.isprintable() and c not in '"\\' else f"\\U{ord(c):08x}" for c in value)
    return f'"{"".join(plain)}"'

"""TOML documents (version 1.0.0), edited in place; addresses as in JSON, with `date` for its dates and times."""

import contextlib
import datetime
import json
import re
import tomllib
from collections.abc import Iterable, Sequence
from typing import Any

from zinker.formats.dialect import PLAIN, Dialect
from zinker.formats.leaves import Edit, Leaves
from zinker.formats.splicing import Additions, Node, Splice, edit_text, is_list, without_entries
from zinker.formats.text import Text, decode, skip, usual_end
from zinker.formats.walk import Digits, Native, exact, is_plain, leaf_of, leaves_of, spelled
from zinker.model.address import pointer
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.setting import Leaf

_SPACE = re.compile(r"[ \t]*")
_FILLING = re.compile(r"(?:[ \t\r\n]|#[^\n]*)*")
_KEY = re.compile(r"""[ \t]*("(?:[^"\\]|\\.)*"|'[^']*'|[A-Za-z0-9_-]+)[ \t]*(\.?)""")
_STRING = re.compile(
    r'"""(?:[^"\\]|\\.|"(?!""))*"{3,5}|\'\'\'(?:[^\']|\'(?!\'\'))*\'{3,5}|"(?:[^"\\]|\\.)*"|\'[^\']*\'',
    re.DOTALL,
)
_PLAIN = re.compile(r"[^,\]}\s#]+(?: \d[^,\]}\s#]*)?")
_COMMA = re.compile(r"(?:[ \t\r\n]|#[^\n]*)*,")
_LINE_COMMENT = re.compile(r"[ \t]*#[^\r\n]*")
_BARE = re.compile(r"[A-Za-z0-9_-]+\Z")
_LONG = re.compile(r":\d\d\.\d{7}", re.ASCII).search
_SURROGATE = re.compile("[\ud800-\udfff]")


def read(data: bytes, dialect: Dialect = PLAIN) -> Leaves:
    """Return the settings of a TOML document by address; raises `DocumentError`."""
    return leaves_of(_load(_decode(data).characters))


def edit(data: bytes, edits: Sequence[Edit], dialect: Dialect = PLAIN) -> bytes:
    """Return the document with the edits made; every other line stays as it is."""
    text = _decode(data)
    return text.encode(edit_text(text.characters, edits, _Writer()), edits[0].address)


def _decode(data: bytes) -> Text:
    text = decode(data, fallback="")
    if text.encoding != "utf-8":
        raise DocumentError(f"it is {text.encoding.upper()}, and TOML is UTF-8")
    return text


def _load(characters: str) -> dict[str, Any]:
    try:
        found = tomllib.loads(characters, parse_float=_number)
        return (
            _with_long_fractions(found, _Parser(characters).run(), characters) if _LONG(characters) else found
        )
    except (tomllib.TOMLDecodeError, ValueError) as error:
        message = str(error)
        raise DocumentError(f"{message[:1].lower()}{message[1:]}") from None


def _with_long_fractions(value: Any, node: Node, text: str) -> Any:
    """Return data with the times as they stand there whose fractions are longer than Python's."""
    children = node.children or {}
    if isinstance(value, dict):
        return {name: _with_long_fractions(below, children[name], text) for name, below in value.items()}
    if isinstance(value, list):
        return [_with_long_fractions(item, children[str(n)], text) for n, item in enumerate(value)]
    written = text[node.start : node.end]
    if isinstance(value, datetime.datetime | datetime.time) and _LONG(written):
        return Native("date", written.upper().replace(" ", "T").replace("Z", "+00:00"))
    return value


def _number(digits: str) -> float | Digits:
    return exact(digits.replace("_", ""))


class _Table:
    """What a node knows of a table: where its own lines end, and how it came to be.

    kind: `header` ([a.b]), `item` ([[a.b]]), `items` (all of those), `dotted` (a.b = 1), `implied` (only tables
    below it), `inline`. `names` are those of its header.
    """

    def __init__(self, kind: str, lines_end: int, names: tuple[str, ...], start: int = 0) -> None:
        self.kind, self.lines_end, self.names, self.start = kind, lines_end, names, start
        self.indent = ""  # of its last line
        self.in_item = False  # whether it is below an item of a list of tables
        self.holder: Node | None = None  # of a dotted table: the one its lines stand in
        self.prefix: tuple[str, ...] = ()  # and what its lines begin with


_NO_TABLE = _Table("", 0, ())


class _Parser:
    """Finds where everything stands in a document that tomllib has found to be right."""

    def __init__(self, text: str) -> None:
        self._text = text
        self.root = Node(0, len(text), {}, own=_Table("header", 0, ()))

    def run(self) -> Node:
        text, at, table = self._text, 0, self.root
        while True:
            at = skip(_FILLING, text, at)
            if at >= len(text):
                return self.root
            if text[at] == "[":
                table, at = self._header(at)
                continue
            start = at
            names, at = self._names(at)
            at = skip(_SPACE, text, text.index("=", at) + 1)
            value, at = self._value(at)
            self._hang(table, names, value, start)
            line_end = text.find("\n", at)
            table.own.lines_end = len(text) if line_end < 0 else line_end + 1
            table.own.indent = text[text.rfind("\n", 0, start) + 1 : start]

    def _header(self, at: int) -> tuple[Node, int]:
        start, text = at, self._text
        is_item = text.startswith("[[", at)
        names, at = self._names(at + 1 + is_item)
        line_end = text.find("\n", at)
        end = len(text) if line_end < 0 else line_end + 1
        node, in_item = self.root, False
        for depth, name in enumerate(names[:-1], 1):
            node = self._step(node, name, tuple(names[:depth]))
            in_item = in_item or _table(node).kind == "item"
        if is_item:
            fresh = Node(start, end, {}, True, _Table("items", 0, tuple(names)))
            items = _children(_children(node).setdefault(names[-1], fresh))
            node = items[str(len(items))] = Node(start, end, {})
        else:
            node = self._step(node, names[-1], tuple(names))
        node.own = _Table("item" if is_item else "header", end, tuple(names), start)
        node.own.in_item = in_item or is_item
        return node, end

    def _step(self, node: Node, name: str, names: tuple[str, ...]) -> Node:
        below = _children(node).setdefault(name, Node(0, 0, {}, own=_Table("implied", 0, names)))
        return _children(below)[str(len(_children(below)) - 1)] if below.is_list else below

    def _hang(self, table: Node, names: list[str], value: Node, start: int) -> None:
        node = table
        for depth, name in enumerate(names[:-1], 1):
            path = (*_table(node).names, name)
            node = _children(node).setdefault(name, Node(0, 0, {}, own=_Table("dotted", 0, path)))
            node.own.holder, node.own.prefix = table, tuple(names[:depth])
        _children(node)[names[-1]] = value
        value.own = (start, value.own)

    def _names(self, at: int) -> tuple[list[str], int]:
        names = []
        while found := _KEY.match(self._text, at):
            name = found[1]
            at = found.end()
            names.append(
                name[1:-1] if name[0] == "'" else tomllib.loads(f"x={name}")["x"] if name[0] == '"' else name
            )
            if not found[2]:
                break
        return names, at

    def _value(self, at: int) -> tuple[Node, int]:
        """Take one value apart; its `own` is the table or the list that it is, or None."""
        text, start = self._text, at
        if text[at] not in "[{":
            found = _STRING.match(text, at) or _PLAIN.match(text, at)
            end = found.end() if found else at
            return Node(start, end), end
        is_array = text[at] == "["
        node = Node(start, start, {}, is_array)
        children: dict[str, Node] = {}
        inline = Node(start, start, children, own=_Table("inline", 0, ()))
        at = skip(_FILLING, text, at + 1)
        while text[at] not in "]}":
            begin = at
            names: list[str] = []
            if not is_array:
                names, at = self._names(at)
                at = skip(_FILLING, text, text.index("=", at) + 1)
            value, at = self._value(at)
            if is_array:
                children[str(len(children))] = value
            else:
                self._hang(inline, names, value, begin)
            at = skip(_FILLING, text, at)
            if text[at] == ",":
                at = skip(_FILLING, text, at + 1)
        node.end = inline.end = at + 1
        node.children = children
        if is_array and children and all(text[child.start] not in "[{" for child in children.values()):
            node.opener = self._values  # what they are is only asked of the list that an edit is about
        node.own = None if is_array else inline.own
        return node, at + 1

    def _values(self, node: Node) -> dict[str, Node]:
        """Return the items of a list that holds no lists or tables, with their values."""
        items = tomllib.loads(f"x={self._text[node.start : node.end]}", parse_float=_number)["x"]
        children = _children(node)
        node.is_flat = all(map(is_plain, items))
        for child, item in zip(children.values(), items, strict=True):
            child.value = item
        return children


def _children(node: Node) -> dict[str, Node]:
    """Return the children of a table or a list of tables."""
    assert node.children is not None  # noqa: S101 - tomllib has found the document to be right
    return node.children


def _table(node: Node) -> _Table:
    """Return what is known of a table; of anything else, a table of no kind."""
    own = node.own[1] if isinstance(node.own, tuple) else node.own
    return own if isinstance(own, _Table) else _NO_TABLE


class _Writer:
    fixed = 1

    def parse(self, text: str) -> Node:
        try:
            return _Parser(text).run()
        except (AssertionError, LookupError, ValueError):  # half-way, an edit has made something else of it
            _load(text)
            raise DocumentError("it is no TOML any more") from None

    def replace(self, text: str, node: Node, leaf: Leaf, address: str) -> Iterable[Splice]:
        if not node.end:
            raise NotWritable(address, "it is a table")
        yield Splice(node.start, node.end, _written(leaf, address, text[node.start : node.end]))

    def insert(
        self, text: str, path: tuple[str, ...], node: Node, new: Additions, last: Node | None
    ) -> Iterable[Splice]:
        table, holder = _table(node), _table(node).holder
        if table.kind == "dotted" and holder is not None:
            items = [line for name, v in new.items() for line in _dotted((*table.prefix, name), v, path)]
            if _table(holder).kind == "inline":
                yield from _into_brackets(text, holder, items, _inside(holder)[-1])
            else:
                yield _with_lines(text, _table(holder), items)
        elif table.kind == "inline" or (node.is_list and table.kind != "items"):
            names = {name: "" if node.is_list else f"{_key((name,))} = " for name in new}
            items = [names[name] + _inline(below, pointer(*path, name)) for name, below in new.items()]
            yield from _into_brackets(text, node, items, last)
        else:
            yield from self._into_table(text, path, node, new)

    def _into_table(self, text: str, path: tuple[str, ...], node: Node, new: Additions) -> Iterable[Splice]:
        table = _table(node)
        is_open = table.kind in ("header", "item")
        plain = {name: below for name, below in new.items() if _is_value(below) and table.kind != "items"}
        deeper = {name: below for name, below in new.items() if name not in plain}
        lines = [f"{_key((name,))} = {_inline(v, pointer(*path, name))}" for name, v in plain.items()]
        if table.in_item:  # a header for it would have to stand in the middle of the document
            lines += [line for name, below in deeper.items() for line in _dotted((name,), below, path)]
            deeper = {}
        if lines and is_open:
            yield _with_lines(text, table, lines)
        rest = Additions({**({} if is_open else plain), **deeper})
        sections = _sections(table.names, rest, table.kind == "items", path) if rest else []
        if sections:
            end = "" if not text or text.endswith("\n") else usual_end(text)
            gap = usual_end(text) if text.strip() else ""
            yield Splice(len(text), len(text), end + gap + gap.join(_joined(text, s) for s in sections))

    def remove(self, text: str, path: tuple[str, ...], node: Node, names: Sequence[str]) -> Iterable[Splice]:
        children, holder = node.children or {}, _table(node).holder or node
        if _table(holder).kind == "inline" or (node.is_list and _table(node).kind != "items"):
            gone = {id(one) for name in names for one in _entries(children[name])}
            inside = _inside(holder)
            spans = [(_start(one), one.end) for one in inside]
            yield from without_entries(spans, {at for at, one in enumerate(inside) if id(one) in gone})
            return
        for name in names:
            yield from _removed(text, children[name])


def _inside(node: Node) -> list[Node]:
    """Return the entries between the brackets of a node, those with dotted names too."""
    return [entry for child in _children(node).values() for entry in _entries(child)]


def _entries(node: Node) -> list[Node]:
    return _inside(node) if _table(node).kind == "dotted" else [node]


def _removed(text: str, node: Node) -> Iterable[Splice]:
    """Remove the lines of an entry, or all lines of a table with its header."""
    if isinstance(node.own, tuple):
        yield _without_lines(text, node.own[0], node.end)
        return
    if _table(node).kind in ("header", "item"):
        start = _table(node).start
        end = text.find("\n", start)
        yield _without_lines(text, start, len(text) if end < 0 else end, blank_before=True)
    for child in (node.children or {}).values():
        yield from _removed(text, child)


def _is_value(below: Additions | Leaf) -> bool:
    """Tell whether an addition is written behind a key, not as a table of its own."""
    if isinstance(below, Leaf):
        return below.type != "object"
    return is_list(below) and not all(
        isinstance(item, Additions) and not is_list(item) for item in below.values()
    )


def _sections(
    names: tuple[str, ...], new: Additions | Leaf, in_list: bool, path: tuple[str, ...], is_item: bool = False
) -> list[list[str]]:
    """Return new tables with their headers, each as its lines; `names` are those of the header of `new`."""
    entries = Additions() if isinstance(new, Leaf) else new
    if in_list:
        return [
            section for n, v in entries.items() for section in _sections(names, v, False, (*path, n), True)
        ]
    own = [n for n, v in entries.items() if _is_value(v)]
    header = f"[[{_key(names)}]]" if is_item else f"[{_key(names)}]"
    lines = [f"{_key((n,))} = {_inline(entries[n], pointer(*path, n))}" for n in own]
    found = [[header, *lines]] if own or isinstance(new, Leaf) or is_item else []
    for name, below in entries.items():
        if name not in own:
            is_items = isinstance(below, Additions) and is_list(below)
            found += _sections((*names, name), below, is_items, (*path, name))
    return found


def _dotted(names: tuple[str, ...], below: Additions | Leaf, path: tuple[str, ...]) -> list[str]:
    if isinstance(below, Leaf) or is_list(below):
        return [f"{_key(names)} = {_inline(below, pointer(*path, names[-1]))}"]
    return [line for name, deeper in below.items() for line in _dotted((*names, name), deeper, path)]


def _key(names: Sequence[str]) -> str:
    return ".".join(name if _BARE.match(name) else _basic(name, "") for name in names)


def _basic(value: str, address: str) -> str:
    if _SURROGATE.search(value):
        raise NotWritable(address, "its value has characters that TOML cannot hold")
    return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007f")


def _inline(below: Additions | Leaf, address: str) -> str:
    if isinstance(below, Leaf):
        return _written(below, address, "")
    if is_list(below):
        return "[" + ", ".join(_inline(item, address) for item in below.values()) + "]"
    return "{" + ", ".join(f"{_key((n,))} = {_inline(v, address)}" for n, v in below.items()) + "}"


def _written(leaf: Leaf, address: str, old: str) -> str:
    """Return a value as TOML, a text with the quotation marks of the old one where that can be."""
    kind, value = leaf.type, leaf.value
    if kind == "text":
        literal = (
            old.startswith("'")
            and not old.startswith("'''")
            and not re.search(r"['\x00-\x08\x0a-\x1f\x7f]", value)
        )
        return f"'{value}'" if literal and not _SURROGATE.search(value) else _basic(value, address)
    if kind in ("bool", "int", "float"):
        return spelled(leaf, old)
    if kind == "date":
        for form in (datetime.datetime, datetime.date, datetime.time):
            with contextlib.suppress(ValueError):
                form.fromisoformat(value)
                return str(value)
        raise NotWritable(address, f"{value!a} is no date")
    if kind == "list":
        return "[" + ", ".join(_written(leaf_of(item), address, "") for item in value) + "]"
    if kind == "object":
        return "{}"
    raise NotWritable(address, f"TOML has no {kind}")


def _joined(text: str, lines: list[str]) -> str:
    return "".join(line + usual_end(text) for line in lines)


def _with_lines(text: str, table: _Table, lines: list[str]) -> Splice:
    """Add lines to a table, indented like the one before them."""
    at = table.lines_end
    new = _joined(text, [table.indent + line for line in lines])
    if at and text[at - 1] != "\n":
        return Splice(at, at, usual_end(text) + new.removesuffix(usual_end(text)))
    return Splice(at, at, new)


def _without_lines(text: str, start: int, end: int, blank_before: bool = False) -> Splice:
    start = text.rfind("\n", 0, start) + 1
    stop = text.find("\n", end)
    stop = len(text) if stop < 0 else stop + 1
    if blank_before:
        before = text.rfind("\n", 0, max(start - 1, 0)) + 1
        if start and not text[before:start].strip():
            start = before
    return Splice(start, stop, "")


def _into_brackets(text: str, node: Node, items: list[str], last: Node | None) -> Iterable[Splice]:
    """Add items behind another one and its comment, on lines of their own where the others stand so."""
    if last is None:
        inside = text[node.start + 1 : node.end - 1]
        yield Splice(node.start + 1, node.end - 1, ", ".join(items) + (inside if "#" in inside else ""))
        return
    first = next(iter((node.children or {}).values()))
    at, line = _start(first), text.rfind("\n", node.start, _start(first))
    gap = text[line:at] if line >= 0 and not text[line:at].strip() else " "
    comma, comment = _behind(text, last.end)
    added = f",{gap}".join(items)
    if comma:  # there is one behind the last item, too
        yield Splice(comment, comment, f"{gap}{added},")
    elif comment > last.end and gap == " ":
        yield Splice(last.end, last.end, f", {added}")
    else:
        yield Splice(last.end, last.end, ",")
        yield Splice(comment, comment, f"{gap}{added}")


def _start(item: Node) -> int:
    """Return where an item begins, with its name."""
    return item.own[0] if isinstance(item.own, tuple) else item.start


def _behind(text: str, at: int) -> tuple[int, int]:
    """Return where the comma behind an item ends, or 0, and where the comment in the same line does."""
    comma = skip(_COMMA, text, at)
    return comma if comma > at else 0, skip(_LINE_COMMENT, text, comma)

"""JSON documents (RFC 8259), edited in place.

Objects and arrays are walked through as zinker.formats.walk says, from a root that must be one of them.
Comments (`//` and `/* */`) and trailing commas, which some applications write, are read and kept.
"""

import json
import re
from collections.abc import Iterable, Sequence
from json.decoder import scanstring  # type: ignore[attr-defined]
from typing import Any, NoReturn

from zinker.formats.dialect import PLAIN, Dialect
from zinker.formats.leaves import Edit, Leaves
from zinker.formats.splicing import Additions, Node, Splice, edit_text, is_list
from zinker.formats.text import Text, decode, skip, usual_end
from zinker.formats.walk import exact, is_plain, leaves_of, spelled
from zinker.model.address import pointer
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.setting import Leaf

_SPACE = re.compile(r"[ \t\r\n]*")
_SURROGATE = re.compile("[\ud800-\udfff]")
# A string without an end goes on to the end, so that no other one is looked for in it, again and again.
_STRING = r'"(?:[^"\\]|\\.)*+(?:"|\Z)'
_COMMENT = re.compile(rf"{_STRING}|//[^\r\n]*|/\*.*?(?:\*/|\Z)", re.DOTALL)
_TRAILING = re.compile(rf"{_STRING}|[\[{{,:][ \t\r\n]*,|,(?=[ \t\r\n]*[}}\]])", re.DOTALL)
_NOT_LINE_END = re.compile(r"[^\r\n]")
_decoder = json.JSONDecoder(parse_float=exact)


def read(data: bytes, dialect: Dialect = PLAIN) -> Leaves:
    """Return the settings of a JSON document by address; raises `DocumentError`."""
    return leaves_of(_load(_decode(data).characters)[0])


def edit(data: bytes, edits: Sequence[Edit], dialect: Dialect = PLAIN) -> bytes:
    """Return the document with the edits made; every other byte stays as it is."""
    text = _decode(data)
    plain = _without_comments(text.characters) if _load(text.characters)[1] else text.characters
    return text.encode(edit_text(text.characters, edits, _Writer(text.characters, plain)))


def _decode(data: bytes) -> Text:
    return decode(data, fallback="")


def _load(characters: str) -> tuple[Any, bool]:
    """Return the data, and whether there are comments or trailing commas."""
    try:
        return _strict(characters), False
    except json.JSONDecodeError as error:
        plain = _without_comments(characters)
        if plain == characters:
            raise DocumentError(f"line {error.lineno}, column {error.colno}: {error.msg}") from None
    try:
        return _strict(plain), True
    except json.JSONDecodeError as error:
        raise DocumentError(f"line {error.lineno}, column {error.colno}: {error.msg}") from None


def _strict(characters: str) -> Any:
    try:
        return json.loads(characters, object_pairs_hook=_object, parse_float=exact, parse_constant=_constant)
    except json.JSONDecodeError:
        raise
    except RecursionError:
        raise DocumentError("it is nested too deeply") from None
    except ValueError as error:
        raise DocumentError(str(error)) from None


def _without_comments(characters: str) -> str:
    """Put spaces in place of comments and trailing commas, so that all else keeps its place."""

    def blank(found: re.Match[str]) -> str:
        piece = found[0]
        is_whole = piece[:2] == "//" or piece == "," or (len(piece) > 3 and piece[:2] + piece[-2:] == "/**/")
        return _NOT_LINE_END.sub(" ", piece) if is_whole else piece

    return _TRAILING.sub(blank, _COMMENT.sub(blank, characters))


def _object(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) < len(pairs):
        raise DocumentError("an object has the same name twice, so its settings have no clear address")
    return found


def _constant(name: str) -> NoReturn:
    raise DocumentError(f"it holds {name}, which is no JSON")


class _Writer:
    fixed = 1

    def __init__(self, text: str, plain: str) -> None:
        self._is_strict = text is plain
        self._escape = text.isascii() and "\\u" in text
        self._line_end = usual_end(text)
        found = re.search(r"\n([ \t]+)\S", plain)
        self._indent = found[1] if found else ("" if "\n" not in text else "  ")
        self._is_flat = "\n" not in plain.strip()
        self._spaced = bool(re.search(r'":[ \t]', plain)) or not re.search(r'":\S', plain)
        self._plain = plain

    def parse(self, text: str) -> Node:
        self._plain = text if self._is_strict else _without_comments(text)
        start = skip(_SPACE, self._plain, 0)
        self._root = self._node(start, len(self._plain.rstrip(" \t\r\n")), start)
        return self._root

    def _node(self, start: int, end: int, begin: int) -> Node:
        """Make a node; what is in it is taken apart only when it is asked for."""
        node = Node(start, end, is_list=self._plain[start] == "[", own=begin)
        if self._plain[start] in "{[":
            node.opener = self._open
        return node

    def _open(self, node: Node) -> dict[str, Node] | None:
        plain, at = self._plain, skip(_SPACE, self._plain, node.start + 1)
        children: dict[str, Node] = {}
        is_flat_list = node.is_list
        while plain[at] not in "]}":
            begin, name = at, str(len(children))
            if not node.is_list:
                name, at = scanstring(plain, at + 1, False)
                at = skip(_SPACE, plain, plain.index(":", at) + 1)
            value, end = _decoder.raw_decode(plain, at)
            is_flat_list = is_flat_list and is_plain(value)
            child = children[name] = self._node(at, end, begin)
            child.value = value
            at = skip(_SPACE, plain, end)
            if plain[at] == ",":
                at = skip(_SPACE, plain, at + 1)
        node.is_flat = is_flat_list and bool(children) and node is not self._root
        return children

    def replace(self, text: str, node: Node, leaf: Leaf, address: str) -> Iterable[Splice]:
        line = text.rfind("\n", 0, node.start) + 1
        found = re.match(r"[ \t]*", text[line : node.start])
        multiline = "\n" in text[node.start : node.end]
        yield Splice(
            node.start,
            node.end,
            self._written(
                address, leaf, found[0] if found and multiline else None, text[node.start : node.end]
            ),
        )

    def insert(
        self, text: str, path: tuple[str, ...], node: Node, new: Additions, last: Node | None
    ) -> Iterable[Splice]:
        inner = self._indent * (len(path) + 1)
        if last is None:
            gap, close = (
                ("", "")
                if self._is_flat
                else (self._line_end + inner, self._line_end + self._indent * len(path))
            )
            items = [self._member(node.is_list, (*path, name), below, inner) for name, below in new.items()]
            comment = text[node.start + 1 : node.end - 1]
            kept = comment.rstrip() if comment.strip() else ""
            yield Splice(
                node.start + 1, node.end - 1, kept + gap + f",{gap or self._gap()}".join(items) + close
            )
            return
        others = list((node.children or {}).values())
        gap = self._space_before(text, others[1] if len(others) > 1 else last)
        if len(node.children or ()) == 1 and not gap and self._spaced:
            gap = " " if self._is_flat else gap
        inner = gap[gap.rfind("\n") + 1 :] if "\n" in gap else inner
        items = [self._member(node.is_list, (*path, name), below, inner) for name, below in new.items()]
        comma, behind = self._behind(text, last, node)
        added = gap + f",{gap}".join(items)
        if comma:
            yield Splice(behind, behind, added + ",")
        else:
            yield Splice(last.end, last.end, ",")
            yield Splice(behind, behind, added)

    def remove(self, text: str, path: tuple[str, ...], node: Node, names: Sequence[str]) -> Iterable[Splice]:
        children = node.children or {}
        if len(names) == len(children):
            yield Splice(node.start + 1, node.end - 1, "")
            return
        entries = list(children.items())
        last_kept, at = None, node.start + 1
        for number, (name, child) in enumerate(entries):
            comma, behind = self._behind(text, child, node)
            if name not in names:
                last_kept = child
            elif last_kept is None and "\n" not in text[behind : entries[number + 1][1].own]:
                yield Splice(at, entries[number + 1][1].own, "")
            else:
                yield Splice(at, behind, "")
            at = behind
        if last_kept is not None and entries[-1][0] in names and not comma:
            comma, _ = self._behind(text, last_kept, node)
            yield Splice(comma - 1, comma, "")

    def _behind(self, text: str, child: Node, holder: Node) -> tuple[int, int]:
        """Return where the comma behind a member ends, or 0, and where what belongs to it in its line does."""
        at = skip(_SPACE, self._plain, child.end)
        comma = 0
        # A trailing comma has been blanked, and is looked for between comments.
        for found in re.finditer(r"//[^\r\n]*|/\*.*?\*/|,", text[child.end : at + 1], re.DOTALL):
            if found[0] == ",":
                comma = child.end + found.end()
                break
        start = comma or child.end
        comment = re.compile(r"(?:[ \t]*/\*[^\r\n]*?\*/)*[ \t]*(?://[^\r\n]*|/\*[^\r\n]*?\*/)").match(
            text, start
        )
        return comma, comment.end() if comment and comment.end() < holder.end else start

    def _space_before(self, text: str, child: Node) -> str:
        space = re.search(r"[ \t\r\n]*\Z", text[max(0, child.own - 200) : child.own])
        white = space[0] if space else ""
        cut = white.rfind("\n")
        return white if cut < 0 else self._line_end + white[cut + 1 :]

    def _gap(self) -> str:
        return " " if self._spaced else ""

    def _member(self, in_list: bool, path: tuple[str, ...], below: Additions | Leaf, indent: str) -> str:
        label = "" if in_list else self._string(path[-1]) + (": " if self._spaced else ":")
        return label + self._value(path, below, indent)

    def _value(self, path: tuple[str, ...], below: Additions | Leaf, indent: str) -> str:
        if isinstance(below, Leaf):
            return self._written(pointer(*path), below, None)
        deeper, in_list = indent + self._indent, is_list(below)
        items = [self._member(in_list, (*path, name), more, deeper) for name, more in below.items()]
        start, end = ("", "") if self._is_flat else (self._line_end + deeper, self._line_end + indent)
        inside = start + f",{start or self._gap()}".join(items) + end
        return f"[{inside}]" if in_list else f"{{{inside}}}"

    def _written(self, address: str, leaf: Leaf, indent: str | None, model: str = "") -> str:
        """Return a value; a list item by item, each on a line of its own, if `indent` is given."""
        if leaf.type not in ("text", "int", "float", "bool", "null", "list", "object"):
            raise NotWritable(address, f"JSON has no {leaf.type}")
        if leaf.type in ("int", "float"):
            return spelled(leaf, model)
        if leaf.type == "list" and indent is not None and leaf.value:
            gap = self._line_end + indent
            items = f",{gap}{self._indent}".join(map(self._scalar, leaf.value))
            return f"[{gap}{self._indent}{items}{gap}]"
        if leaf.type == "list":
            return "[" + (", " if self._spaced else ",").join(map(self._scalar, leaf.value)) + "]"
        return "{}" if leaf.type == "object" else self._scalar(leaf.value)

    def _scalar(self, value: object) -> str:
        return self._string(value) if isinstance(value, str) else json.dumps(value)

    def _string(self, text: str) -> str:
        written = json.dumps(text, ensure_ascii=self._escape)
        return _SURROGATE.sub(lambda found: f"\\u{ord(found[0]):04x}", written)

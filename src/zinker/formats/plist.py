"""Property lists, in XML and in the binary form; addresses as in JSON.

Besides what JSON has there are `bytes`, `date` (as it is written) and, in the binary form, `uid`. XML is edited
in place; a binary list is written anew as a whole, as nothing in it has a place of its own.
"""

import base64
import datetime
import plistlib
import re
from binascii import Error as NotBase64
from collections.abc import Iterable, Sequence
from typing import Any

from zinker.formats.dialect import PLAIN, Dialect
from zinker.formats.leaves import Edit, Leaves
from zinker.formats.limits import MOST_OBJECTS
from zinker.formats.splicing import Additions, Node, Splice, edit_text, is_list, nested
from zinker.formats.text import back
from zinker.formats.walk import Native, is_index, is_plain, leaf_of, leaves_of
from zinker.formats.xml_tree import Element, beside_comments, decode_xml, escaped, parse
from zinker.model.address import pointer, tokens
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.setting import Leaf

_BINARY = b"bplist00"
# As far as a date is said; the binary form also has parts of a second.
_DATE = re.compile(
    r"(\d{4})(?:-(\d\d)(?:-(\d\d)(?:T(\d\d)(?::(\d\d)(?::(\d\d)(?:\.(\d{1,6}))?)?)?)?)?)?Z", re.ASCII
)


def read(data: bytes, dialect: Dialect = PLAIN) -> Leaves:
    """Return the settings by address; raises `DocumentError`."""
    if data.startswith(_BINARY):
        return leaves_of(_as_written(_load_binary(data)))
    return leaves_of(_value(_root(parse(decode_xml(data).characters))))


def edit(data: bytes, edits: Sequence[Edit], dialect: Dialect = PLAIN) -> bytes:
    """Return the list with the edits made."""
    if data.startswith(_BINARY):
        root = _load_binary(data)
        _merge(root, nested(edits), ())
        # From the last item of a list to the first, so that no removal moves one still to come.
        unwanted = [tokens(change.address) for change in edits if change.leaf is None]
        for path in sorted(
            unwanted, key=lambda path: [(is_index(t) and int(t), t) for t in path], reverse=True
        ):
            _cut(root, path)
        try:
            return plistlib.dumps(root, fmt=plistlib.FMT_BINARY, sort_keys=False)
        except OverflowError:
            why = "it has a number of more than 64 bits, which cannot be written again"
            raise NotWritable(edits[0].address, why) from None
    text = decode_xml(data)
    return text.encode(edit_text(text.characters, edits, _Writer()), edits[0].address)


def _load_binary(data: bytes) -> Any:
    try:
        root = plistlib.loads(data, fmt=plistlib.FMT_BINARY)
    except (plistlib.InvalidFileException, ValueError, OverflowError, IndexError, TypeError) as error:
        raise DocumentError(f"it is no binary property list: {error or 'it is damaged'}") from None
    _check_size(root)
    return root


def _as_written(value: Any) -> Any:
    """Return what was loaded with its dates as XML has them, so that both forms say the same."""
    if isinstance(value, datetime.datetime):
        return Native("date", f"{value.isoformat()}Z")
    if isinstance(value, dict):
        return {name: _as_written(below) for name, below in value.items()}
    return [*map(_as_written, value)] if isinstance(value, list) else value


def _check_size(root: Any) -> None:
    """Refuse a list whose objects refer to each other: taken apart, a small one may be without end."""
    waiting, count = [root], 0
    while waiting:
        holder = waiting.pop()
        count += 1
        if count > MOST_OBJECTS:
            raise DocumentError("its objects are used again and again, without end")
        if isinstance(holder, dict):
            if not all(isinstance(name, str) for name in holder):
                raise DocumentError("it has a key that is no text, so its settings have no clear address")
            waiting += holder.values()
        elif isinstance(holder, list):
            waiting += holder


def _root(top: Element) -> Element:
    values = [child for child in top.children if child.tag]
    if top.tag != "plist" or len(values) != 1:
        raise DocumentError("it is XML, but no property list")
    return values[0]


def _value(element: Element) -> Any:
    """Return the value of an element; raises `DocumentError` for what no property list has."""
    tag, text = element.tag, element.text
    if element.children and tag not in ("dict", "array"):
        raise DocumentError(f"<{tag}> holds other elements")
    try:
        if tag == "dict":
            return {name: _value(value) for name, value in _pairs(element)}
        if tag == "array":
            return [_value(child) for child in element.children]
        if tag == "string":
            return text
        if tag in ("true", "false"):
            return tag == "true"
        if tag == "integer":
            return int(text, 16) if text.strip().lower().startswith(("0x", "-0x")) else int(text)
        if tag == "real":
            return float(text)
        if tag == "data":
            return base64.b64decode("".join(text.split()), validate=True)
        if tag == "date":
            _moment(text)
            return Native("date", text)
    except (ValueError, NotBase64):
        raise DocumentError(f"<{tag}> holds {text[:40]!a}") from None
    raise DocumentError(f"it has an element <{tag}>, which no property list has")


def _moment(text: str) -> datetime.datetime:
    """Return a date, which is one of UTC; raises `ValueError` for a text that is no date."""
    found = _DATE.fullmatch(text)
    if found is None:
        raise ValueError(text)
    year, month, day, hour, minute, second = (
        int(found[number] or number in (2, 3)) for number in range(1, 7)
    )
    part = int((found[7] or "").ljust(6, "0"))
    return datetime.datetime(year, month, day, hour, minute, second, part)


def _date(text: str, address: str) -> datetime.datetime:
    try:
        return _moment(text)
    except ValueError:
        raise NotWritable(address, f"{text!a} is no date, as 2026-11-20T08:00:00Z is one") from None


def _pairs(element: Element) -> list[tuple[str, Element]]:
    keys, values = element.children[::2], element.children[1::2]
    names = [key.text for key in keys]
    if len(keys) != len(values) or any(key.tag != "key" or key.children for key in keys):
        raise DocumentError("a <dict> has a value without a key, or a key without a value")
    if len(set(names)) < len(names):
        raise DocumentError("a <dict> has the same key twice, so its settings have no clear address")
    return list(zip(names, values, strict=True))


class _Writer:
    fixed = 1

    def parse(self, text: str) -> Node:
        return _node(_root(parse(text)), is_root=True)

    def replace(self, text: str, node: Node, leaf: Leaf, address: str) -> Iterable[Splice]:
        element: Element = node.own
        written = _written(leaf, address, _line(text, element.start))
        comments = beside_comments(text[element.inner : element.close], "")
        yield Splice(element.start, element.end, written + comments)

    def insert(
        self, text: str, path: tuple[str, ...], node: Node, new: Additions, last: Node | None
    ) -> Iterable[Splice]:
        element: Element = node.own
        line = _line(text, element.start)
        step = _line(text, element.children[0].start) if element.children else line + ("\t" if line else "")
        added = "".join(
            step
            + ("" if node.is_list else f"<key>{escaped(name, pointer(*path, name))}</key>{step}")
            + _written(below, pointer(*path, name), step)
            for name, below in new.items()
        )
        if last is not None:
            yield Splice(last.end, last.end, added)
        elif element.is_closed:
            yield Splice(element.start, element.end, f"<{element.tag}>{added}{line}</{element.tag}>")
        else:
            inside = text[element.inner : element.close].rstrip()  # a comment, maybe
            yield Splice(element.inner, element.close, f"{inside}{added}{line}")

    def remove(self, text: str, path: tuple[str, ...], node: Node, names: Sequence[str]) -> Iterable[Splice]:
        element: Element = node.own
        if len(names) == len(node.children or {}):
            yield Splice(element.start, element.end, f"<{element.tag}/>")
            return
        for name in names:
            own: Element = (node.children or {})[name].own
            at = element.children.index(own)
            start = own.start if node.is_list else element.children[at - 1].start
            yield Splice(back(text, start), own.end, "")


def _node(element: Element, is_root: bool = False) -> Node:
    node = Node(element.start, element.end, is_list=element.tag == "array", own=element)
    if element.tag == "dict":
        node.children = {name: _node(value) for name, value in _pairs(element)}
    elif element.tag == "array":
        children = node.children = {
            str(number): _node(child) for number, child in enumerate(element.children)
        }
        are_plain = all(child.children is None and is_plain(child.value) for child in children.values())
        node.is_flat = bool(children) and not is_root and are_plain
    else:
        node.value = _value(element)
    return node


def _line(text: str, at: int) -> str:
    """Return the line end and the indentation before a place, or "" if it is not the first of its line."""
    start = back(text, at, " \t")
    if start and text[start - 1] == "\n":
        return ("\r\n" if text[start - 2 : start - 1] == "\r" else "\n") + text[start:at]
    return ""


def _written(value: Leaf | Additions, address: str, line: str) -> str:
    """Return a value as XML; `line` is the line end and the indentation that it stands behind."""
    deeper = line + ("\t" if line else "")
    if isinstance(value, Leaf):
        if value.type == "list" and value.value:
            items = "".join(deeper + _written(leaf_of(item), address, deeper) for item in value.value)
            return f"<array>{items}{line}</array>"
        return _scalar(value, address)
    if is_list(value):
        return (
            f"<array>{''.join(deeper + _written(v, address, deeper) for v in value.values())}{line}</array>"
        )
    pairs = "".join(
        f"{deeper}<key>{escaped(name, address)}</key>{deeper}{_written(below, address, deeper)}"
        for name, below in value.items()
    )
    return f"<dict>{pairs}{line}</dict>"


def _scalar(leaf: Leaf, address: str) -> str:
    kind, value = leaf.type, leaf.value
    if kind == "text":
        return f"<string>{escaped(value, address)}</string>"
    if kind == "bool":
        return "<true/>" if value else "<false/>"
    if kind == "int":
        return f"<integer>{value}</integer>"
    if kind == "float":
        return f"<real>{value}</real>"
    if kind == "bytes":
        return f"<data>{value}</data>"
    if kind == "date":
        if _date(value, address).microsecond:
            raise NotWritable(address, f"{value!a} has parts of a second, which XML has no form for")
        return f"<date>{escaped(value, address)}</date>"
    if kind in ("object", "list") and not value:
        return "<dict/>" if kind == "object" else "<array/>"
    raise NotWritable(address, f"a property list has no {kind}")


def _merge(holder: Any, new: Additions, path: tuple[str, ...]) -> None:
    """Put additions into nested data."""
    for name, below in new.items():
        at = (*path, name)
        key = _key(holder, name, at)
        is_there = key < len(holder) if isinstance(holder, list) else key in holder
        if is_there and isinstance(below, Additions):
            _merge(holder[key], below, at)
            continue
        value = _whole(below, pointer(*at))
        if isinstance(holder, list) and key == len(holder):
            holder.append(value)
        elif not (is_there and value in ({}, []) and type(holder[key]) is type(value)):
            holder[key] = value


def _whole(below: Additions | Leaf, address: str) -> Any:
    if isinstance(below, Leaf):
        return _native(below, address)
    if is_list(below):
        return [_whole(item, address) for item in below.values()]
    return {name: _whole(item, address) for name, item in below.items()}


def _cut(root: Any, path: tuple[str, ...]) -> None:
    """Remove a value, and the maps and lists that this leaves empty."""
    chain = [root]
    for depth, token in enumerate(path):
        key = _key(chain[-1], token, path[: depth + 1])
        try:
            chain.append(chain[-1][key])
        except (KeyError, IndexError):
            raise NotWritable(pointer(*path), "it is not there") from None
    for holder, token in zip(reversed(chain[:-1]), reversed(path), strict=True):
        del holder[_key(holder, token, path)]
        if holder:
            return


def _key(holder: Any, token: str, path: tuple[str, ...]) -> Any:
    if isinstance(holder, dict):
        return token
    if isinstance(holder, list) and is_index(token) and int(token) <= len(holder):
        return int(token)
    raise NotWritable(pointer(*path), "something else stands there, with another structure")


def _native(leaf: Leaf, address: str) -> Any:
    kind, value = leaf.type, leaf.value
    if kind == "bytes":
        return base64.b64decode(value)
    if kind == "int":
        return int(value)
    if kind == "float":
        return float(value)
    if kind == "date":
        return _date(value, address)
    if kind == "uid":
        return plistlib.UID(value)
    if kind in ("text", "bool", "object", "list"):
        return value
    raise NotWritable(address, f"a property list has no {kind}")

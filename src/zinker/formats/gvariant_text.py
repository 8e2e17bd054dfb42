"""GVariant text, as `g_variant_parse` takes it: read into values with their types ("GVariant Text Format" of GLib).

A type is told by an annotation (`uint32 7`, `@as []`), by what is expected, or by the value itself; in a list, by
the first item that tells more than a plain number does.
"""

import re
import struct
from collections.abc import Callable
from typing import Any, NamedTuple

from zinker.formats.gvariant import ESCAPES, FIXED, WORDS, Variant, signatures
from zinker.formats.limits import DEEPEST_VARIANT
from zinker.model.errors import DocumentError

_TOKEN = re.compile(
    r"""\s*(?:
      (?P<bytes>b(?:'(?:[^'\\]|\\.)*'|"(?:[^"\\]|\\.)*"))
    | (?P<text>'(?:[^'\\]|\\.)*'|"(?:[^"\\]|\\.)*")
    | @(?P<type>[a-z(){}]+)
    | (?P<number>[-+]?(?:0x[0-9a-fA-F]+|(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?|inf(?:inity)?|nan))(?![\w.])
    | (?P<word>[a-z]+[0-9]*)
    | (?P<mark>[][(){}<>,:])
    )""",
    re.VERBOSE | re.DOTALL,
)
_KEYWORDS = {word: kind for kind, word in WORDS.items()}


class _Node(NamedTuple):
    """A value as it was written: its kind, what it holds, and the type that it was said to have."""

    kind: str
    content: Any
    said: str = ""


def parse_variant(text: str, signature: str = "") -> Variant:
    """Read a value, of a type where that is known; raises `DocumentError` for anything else, or another type."""
    tokens = _Tokens(text)
    node = tokens.value(0)
    if tokens.kind:
        raise DocumentError(f"something follows on a value: {text[:40]!a}")
    return _typed(node, signature)


class _Tokens:
    """The words of a text, one at a time."""

    def __init__(self, text: str) -> None:
        self._text, self._at = text, 0
        self.kind, self.word = "", ""
        self.go_on()

    def go_on(self) -> None:
        found = _TOKEN.match(self._text, self._at)
        if found is None:
            if self._text[self._at :].strip():
                raise DocumentError(f"it is no value: {self._text[self._at : self._at + 40]!a}")
            self.kind, self.word = "", ""
            return
        self._at = found.end()
        self.kind = str(found.lastgroup)
        self.word = found[self.kind]

    def take(self, mark: str) -> bool:
        """Go past a mark, if it is the next word."""
        is_it = self.kind == "mark" and self.word == mark
        if is_it:
            self.go_on()
        return is_it

    def need(self, mark: str) -> None:
        if not self.take(mark):
            raise DocumentError(f"{mark} is missing in {self._text[:40]!a}")

    def value(self, depth: int) -> _Node:
        """Read a value from here on."""
        if depth > DEEPEST_VARIANT:
            raise DocumentError("its values are nested too deeply")
        kind, word = self.kind, self.word
        self.go_on()
        if kind == "type":
            if len(list(signatures(word))) != 1:
                raise DocumentError(f"there is no type {word}")
            return self.value(depth + 1)._replace(said=word)
        if kind == "word" and word in _KEYWORDS:
            return self.value(depth + 1)._replace(said=_KEYWORDS[word])
        if kind == "word" and word in ("true", "false"):
            return _Node("bool", word == "true")
        if kind == "word" and word == "nothing":
            return _Node("nothing", None)
        if kind == "word" and word == "just":
            return _Node("just", self.value(depth + 1))
        if kind == "number" or (kind == "word" and word in ("inf", "nan", "infinity")):
            return _Node("number", word)
        if kind in ("text", "bytes"):
            return _Node(kind, word)
        if kind == "mark" and word in "[(<{":
            return self._container(word, depth)
        raise DocumentError(f"a value is missing in {self._text[:40]!a}")

    def _container(self, mark: str, depth: int) -> _Node:
        if mark == "<":
            inner = self.value(depth + 1)
            self.need(">")
            return _Node("variant", inner)
        if mark == "{":
            return self._dictionary(depth)
        end = {"[": "]", "(": ")"}[mark]
        items: list[_Node] = []
        while not self.take(end):
            items.append(self.value(depth + 1))
            if not self.take(","):
                self.need(end)
                break
        return _Node("list" if mark == "[" else "tuple", items)

    def _dictionary(self, depth: int) -> _Node:
        pairs: list[_Node] = []
        while not self.take("}"):
            key = self.value(depth + 1)
            if not pairs and self.take(","):  # an entry by itself
                pair = _Node("entry", [key, self.value(depth + 1)])
                self.need("}")
                return pair
            self.need(":")
            pairs.append(_Node("entry", [key, self.value(depth + 1)]))
            if not self.take(","):
                self.need("}")
                break
        return _Node("dictionary", pairs)


def _typed(node: _Node, wanted: str) -> Variant:
    """Give a value the type that is wanted, or the one that it has by itself; raises `DocumentError`."""
    signature = node.said or wanted
    if node.said and wanted and node.said != wanted:
        if wanted[0] == "m":
            return Variant(wanted, _typed(node, wanted[1:]))
        raise DocumentError(f"a value is of the type {node.said}, and not {wanted}")
    if not signature:
        signature = _own_type(node)
    if signature[0] == "m":
        if node.kind == "nothing":
            return Variant(signature, None)
        inner = node.content if node.kind == "just" else node._replace(said="")
        return Variant(signature, _typed(inner, signature[1:]))
    value = _BUILDERS.get(node.kind, _wrong)(node, signature)
    return Variant(signature, value)


def _own_type(node: _Node) -> str:
    """Return the type that a value has where nothing is said of it."""
    if node.said:
        return node.said
    plain = {"bool": "b", "text": "s", "bytes": "ay", "variant": "v"}.get(node.kind)
    if plain:
        return plain
    if node.kind == "number":
        return "i" if _is_whole(node.content) else "d"
    if node.kind == "just":
        return f"m{_own_type(node.content)}"
    if node.kind in ("tuple", "entry"):
        marks = "()" if node.kind == "tuple" else "{}"
        return marks[0] + "".join(map(_own_type, node.content)) + marks[1]
    if node.kind in ("list", "dictionary") and node.content:
        if node.kind == "dictionary":
            keys, values = ([pair.content[at] for pair in node.content] for at in (0, 1))
            return f"a{{{_common(keys)}{_common(values)}}}"
        return f"a{_common(node.content)}"
    raise DocumentError("the type of an empty value is not said")


def _common(nodes: list[_Node]) -> str:
    """Return the type of all items of a list: what the first tells that is more than a plain number."""
    found: list[str] = []
    for node in nodes:
        try:
            found.append(_own_type(node))
        except DocumentError:
            continue  # an empty one is of the type of the others
    told = [one for one in found if one not in ("i", "s")] or found
    maybe = next((one for one in told if one[0] == "m"), "")
    if not told or (not maybe and any(node.kind == "nothing" for node in nodes)):
        inner = told[0] if told else ""
        if not inner:
            raise DocumentError("the type of an empty value is not said")
        return f"m{inner}"
    return maybe or told[0]


def _is_whole(word: str) -> bool:
    return re.fullmatch(r"[-+]?(0x[0-9a-fA-F]+|\d+)", word) is not None


def _wrong(node: _Node, signature: str) -> Any:
    raise DocumentError(f"a value is not of the type {signature}")


def _number(node: _Node, signature: str) -> Any:
    word = node.content
    if signature == "d":
        return float(int(word, 0)) if _is_whole(word) and "x" in word else float(word)
    if signature in "bd" or signature not in FIXED or not _is_whole(word):
        return _wrong(node, signature)
    digits = word.lstrip("+-")
    base = 16 if digits[:2] == "0x" else 8 if digits[:1] == "0" and len(digits) > 1 else 10
    try:
        number = int(word, base)
        struct.pack(f"<{FIXED[signature][1]}", number)
    except ValueError:
        return _wrong(node, signature)
    except struct.error:
        raise DocumentError(f"{word} is out of the range of the type {signature}") from None
    return number


def _text(node: _Node, signature: str) -> Any:
    if signature not in ("s", "o", "g"):
        return _wrong(node, signature)

    def plain(found: re.Match[str]) -> str:
        code = found[1] or found[2]
        return chr(int(code, 16)) if code else ESCAPES.get(found[3], found[3])

    escaped = r"\\(?:u([0-9a-fA-F]{4})|U([0-9a-fA-F]{8})|(.))"
    try:
        text = re.sub(escaped, plain, node.content[1:-1].replace("\\\n", ""), flags=re.DOTALL)
        text.encode()
    except (ValueError, OverflowError):
        raise DocumentError("a text holds what is no character") from None
    return text


def _bytes(node: _Node, signature: str) -> Any:
    if signature != "ay":
        return _wrong(node, signature)

    def plain(found: re.Match[str]) -> str:
        return chr(int(found[1], 8) & 0xFF) if found[1] else ESCAPES.get(found[2], found[2])

    text = re.sub(r"\\(?:([0-7]{1,3})|(.))", plain, node.content[2:-1], flags=re.DOTALL)
    # What is no byte by itself stands for those of its encoding; the list ends with a zero.
    data = b"".join(c.encode("latin-1") if ord(c) < 256 else c.encode() for c in text) + b"\0"
    return [Variant("y", byte) for byte in data]


def _items(node: _Node, signature: str) -> Any:
    if signature[0] != "a" or signature[1] == "{":
        return _wrong(node, signature)
    return [_typed(item, signature[1:]) for item in node.content]


def _members(node: _Node, signature: str) -> Any:
    marks = "()" if node.kind == "tuple" else "{}"
    if signature[0] != marks[0]:
        return _wrong(node, signature)
    inner = list(signatures(signature[1:-1]))
    if len(inner) != len(node.content):
        return _wrong(node, signature)
    return [_typed(item, own) for item, own in zip(node.content, inner, strict=True)]


def _pairs(node: _Node, signature: str) -> Any:
    if signature[:2] != "a{":
        return _wrong(node, signature)
    return [Variant(signature[1:], _members(pair, signature[1:])) for pair in node.content]


def _truth(node: _Node, signature: str) -> Any:
    return node.content if signature == "b" else _wrong(node, signature)


def _variant(node: _Node, signature: str) -> Any:
    return _typed(node.content, "") if signature == "v" else _wrong(node, signature)


_BUILDERS: dict[str, Callable[[_Node, str], Any]] = {
    "number": _number,
    "text": _text,
    "bytes": _bytes,
    "list": _items,
    "tuple": _members,
    "entry": _members,
    "dictionary": _pairs,
    "bool": _truth,
    "variant": _variant,
}

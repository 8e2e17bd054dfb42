"""GVariant: values as the desktop's settings database keeps them, read from bytes and written as text.

Bytes are read as in the "GVariant Specification" (the serialisation is little- or big-endian); the text is what
`g_variant_print` gives, so that what was read from a disk equals what was read through the desktop's own library.
"""

import struct
import unicodedata
from collections.abc import Iterator
from typing import Any, Final, NamedTuple

from zinker.formats.limits import DEEPEST_VARIANT
from zinker.model.errors import DocumentError

# Type characters with a size of their own: size and alignment in bytes, and how they are packed.
FIXED: Final = {
    kind: (struct.calcsize(f"<{code}"), code) for kind, code in zip("bynqiuhxtd", "BBhHiIiqQd", strict=True)
}
# What types are called in text.
WORDS: Final = {
    "b": "boolean",
    "y": "byte",
    "n": "int16",
    "q": "uint16",
    "i": "int32",
    "u": "uint32",
    "h": "handle",
    "x": "int64",
    "t": "uint64",
    "d": "double",
    "s": "string",
    "o": "objectpath",
    "g": "signature",
}
# What stands for a character behind a backslash.
ESCAPES: Final = {"a": "\a", "b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t", "v": "\v", "\\": "\\"}
_ESCAPED = {ord(character): f"\\{letter}" for letter, character in ESCAPES.items()}


class Variant(NamedTuple):
    """A value with its signature; containers hold Variants."""

    signature: str
    value: Any


def read_variant(data: bytes, order: str = "<") -> Variant:
    """Read a value of the type `v`: its bytes, a zero, and its signature. Raises `DocumentError`."""
    return _Reader(order).variant(data, 0)


def signatures(text: str) -> Iterator[str]:
    """Take the signatures of several values apart; raises `DocumentError`.

    >>> list(signatures("sa{sv}(ii)"))
    ['s', 'a{sv}', '(ii)']
    """
    at = 0
    while at < len(text):
        end = _end(text, at, 0)
        yield text[at:end]
        at = end


def _end(text: str, at: int, depth: int) -> int:
    first = text[at : at + 1]
    if depth > DEEPEST_VARIANT or not first:
        raise DocumentError("it has a value of a type that there is not")
    if first in "am":
        return _end(text, at + 1, depth + 1)
    if first in "({":
        close = ")" if first == "(" else "}"
        at += 1
        while text[at : at + 1] != close:
            at = _end(text, at, depth + 1)
        return at + 1
    if first in FIXED or first in "sogv":
        return at + 1
    raise DocumentError("it has a value of a type that there is not")


class _Reader:
    def __init__(self, order: str) -> None:
        self._order = order

    def variant(self, data: bytes, depth: int) -> Variant:
        at = data.rfind(b"\0")
        if at < 0:
            raise DocumentError("it has a value without a type")
        signature = data[at + 1 :].decode("ascii", "replace")
        if len(list(signatures(signature))) != 1:
            raise DocumentError("it has a value of a type that there is not")
        return self.read(signature, data[:at], depth + 1)

    def read(self, signature: str, data: bytes, depth: int) -> Variant:
        """Read a value from all of the bytes."""
        if depth > DEEPEST_VARIANT:
            raise DocumentError("its values are nested too deeply")
        first = signature[0]
        if first in FIXED:
            size, code = FIXED[first]
            if len(data) != size:
                raise DocumentError(f"a value of the type {first} has {len(data)} bytes")
            return Variant(signature, struct.unpack(self._order + code, data)[0])
        if first in "sog":
            if data[-1:] != b"\0" or b"\0" in data[:-1]:
                raise DocumentError("a text has no end")
            return Variant(signature, _decoded(data[:-1]))
        if first == "v":
            return Variant(signature, self.variant(data, depth))
        if first == "m":
            return Variant(signature, self._maybe(signature[1:], data, depth))
        if first == "a":
            return Variant(signature, self._array(signature[1:], data, depth))
        return Variant(signature, self._tuple(list(signatures(signature[1:-1])), data, depth))

    def _maybe(self, inner: str, data: bytes, depth: int) -> Variant | None:
        if not data:
            return None
        return self.read(inner, data if _size(inner) else data[:-1], depth + 1)

    def _array(self, inner: str, data: bytes, depth: int) -> list[Variant]:
        if not data:
            return []
        size = _size(inner)
        if size:
            if len(data) % size:
                raise DocumentError("a list does not fit its items")
            return [self.read(inner, data[at : at + size], depth + 1) for at in range(0, len(data), size)]
        width = _width(len(data))
        end = int.from_bytes(data[-width:], "little")
        count, rest = divmod(len(data) - end, width)
        if end > len(data) or rest or not count:
            raise DocumentError("a list has no sound table of its items")
        start, items = 0, []
        for number in range(count):
            at = end + number * width
            stop = int.from_bytes(data[at : at + width], "little")
            start += -start % _alignment(inner)
            if stop < start or stop > end:
                raise DocumentError("a list has items on top of each other")
            items.append(self.read(inner, data[start:stop], depth + 1))
            start = stop
        return items

    def _tuple(self, inner: list[str], data: bytes, depth: int) -> list[Variant]:
        width = _width(len(data))
        at, table, items = 0, len(data), []
        for number, signature in enumerate(inner):
            at += -at % _alignment(signature)
            size = _size(signature)
            if size:
                stop = at + size
            elif number == len(inner) - 1:
                stop = table
            else:
                table -= width
                stop = int.from_bytes(data[table : table + width], "little") if table >= 0 else -1
            if stop < at or stop > table:
                raise DocumentError("a group of values does not fit its bytes")
            items.append(self.read(signature, data[at:stop], depth + 1))
            at = stop
        return items


def _width(length: int) -> int:
    """Return the bytes of an offset in a container of so many bytes."""
    return next(width for width in (1, 2, 4, 8) if length < 256**width)


def _alignment(signature: str) -> int:
    if signature[0] in "am":
        return _alignment(signature[1:])
    if signature[0] in "({":
        return max((_alignment(inner) for inner in signatures(signature[1:-1])), default=1)
    return 8 if signature[0] == "v" else FIXED.get(signature[0], (1, ""))[0]


def _size(signature: str) -> int:
    """Return the size of every value of a type; 0 where it depends."""
    if signature[0] in FIXED:
        return FIXED[signature[0]][0]
    if signature[0] not in "({":
        return 0
    total = 0
    for inner in signatures(signature[1:-1]):
        size = _size(inner)
        if not size:
            return 0
        total += -total % _alignment(inner) + size
    return total + -total % _alignment(signature) if total else 1


def _decoded(data: bytes) -> str:
    try:
        return data.decode()
    except UnicodeDecodeError:
        raise DocumentError("a text is not UTF-8") from None


def text_of(value: Variant, annotate: bool = False) -> str:
    """Write a value as text; with `annotate`, so that its type can be told from it."""
    signature, content = value
    first = signature[0]
    if first in FIXED:
        return _number(first, content, annotate)
    if first in "sog":
        return (f"{WORDS[first]} " if annotate and first != "s" else "") + _quoted(content)
    if first == "v":
        return f"<{text_of(content, True)}>"
    if first == "m":
        return _maybe_text(signature, content, annotate)
    if signature == "ay" and content and content[-1].value == 0 and all(item.value for item in content[:-1]):
        return _byte_text(bytes(item.value for item in content[:-1]))
    if first == "a":
        if not content:
            return f"{f'@{signature} ' if annotate else ''}{'{}' if signature[1] == '{' else '[]'}"
        # The first item tells the type of all.
        items = [(item, annotate and not number) for number, item in enumerate(content)]
        if signature[1] == "{":
            pairs = (": ".join(text_of(part, noted) for part in item.value) for item, noted in items)
            return "{" + ", ".join(pairs) + "}"
        return "[" + ", ".join(text_of(item, noted) for item, noted in items) + "]"
    parts = ", ".join(text_of(item, annotate) for item in content)
    if first == "{":
        return "{" + parts + "}"
    return f"({parts},)" if len(content) == 1 else f"({parts})"


def _number(kind: str, content: Any, annotate: bool) -> str:
    if kind == "b":
        return "true" if content else "false"
    if kind == "y":
        text = f"0x{content:02x}"
    elif kind == "d":
        text = f"{content:.17g}"
        return text if any(mark in text for mark in ".en") else f"{text}.0"
    else:
        text = str(content)
    return f"{WORDS[kind]} {text}" if annotate and kind != "i" else text


def _maybe_text(signature: str, content: Variant | None, annotate: bool) -> str:
    mark = f"@{signature} " if annotate else ""
    depth, inner = 0, content
    while inner is not None and inner.signature[0] == "m":
        depth, inner = depth + 1, inner.value
    if inner is None:
        return mark + "just " * depth + "nothing"
    return mark + text_of(inner)


# What GLib's g_unichar_isprint does not take for printable; spaces of every kind are.
_NOT_PRINTED = ("Cc", "Cf", "Cn", "Cs")


def _quoted(text: str) -> str:
    quote = '"' if "'" in text else "'"
    pieces = []
    for character in text:
        code = ord(character)
        if character == quote or code in _ESCAPED:
            pieces.append(_ESCAPED.get(code, f"\\{character}"))
        elif unicodedata.category(character) not in _NOT_PRINTED:
            pieces.append(character)
        else:
            pieces.append(f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}")
    return quote + "".join(pieces) + quote


def _byte_text(data: bytes) -> str:
    escapes = _ESCAPED | {7: "", 34: '\\"'}
    quote = '"' if b"'" in data else "'"
    pieces = [escapes.get(code) or (chr(code) if 32 <= code < 127 else f"\\{code:03o}") for code in data]
    return f"b{quote}{''.join(pieces)}{quote}"

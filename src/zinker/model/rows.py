"""Rows: the settings of one document as text, half-way to their lines.

A million settings as objects take a gigabyte; as text they take what they are long. A row sorts as its address
does, and is turned into its line of a profile by putting the document before it:

    address NUL NUL "type",value]

Where the address is not written in JSON as it is (it has a quote, a backslash or a control character in it),
the row holds it twice, first as what it sorts by, then as JSON has it:

    address NUL NUL SOH address-in-JSON NUL NUL "type",value]

In what a row sorts by, a NUL of the address is written NUL SOH, so that it still sorts before all else.
"""

import json
import re
from collections.abc import Iterable, Iterator
from typing import Any, Final, TypeAlias

import msgspec

from zinker.model.setting import Leaf

END: Final = "\0\0"
_ODD: Final = END + "\1"
_ESCAPED = re.compile(r'["\\\0-\x1f]')
_SURROGATE = re.compile("[\ud800-\udfff]")
_encoder = msgspec.json.Encoder()


# Some rows of a document, in no order.
Block: TypeAlias = list[str]
_BLOCK = 5000  # rows that are handed on at a time


def blocks_of(rows: list[str]) -> Iterator[Block]:
    """Yield rows in blocks."""
    for at in range(0, len(rows), _BLOCK):
        yield rows[at : at + _BLOCK]


def is_escaped(address: str) -> bool:
    """Tell whether JSON writes an address otherwise than it is."""
    return _ESCAPED.search(address) is not None


def row(address: str, tail: str) -> str:
    """Return the row of an address and a tail, `"type",value]`."""
    if _ESCAPED.search(address):
        key = address.replace("\0", "\0\1")
        return f"{key}{_ODD}{quoted(address)[1:-1]}{END}{tail}"
    return f"{address}{END}{tail}"


def tail(type: str, value: Any) -> str:
    """Return what a row ends with: type and value as a line of a profile has them."""
    return f"{quoted(type)},{quoted(value)}]"


def text_tail(text: str, type: str = "sz") -> str:
    """Return the tail of a text, fast for plain ones."""
    if not text.isprintable():
        return tail(type, text)
    if "\\" in text or '"' in text:
        text = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{type}","{text}"]'


def named_row(prefix: str, name: str, tail: str) -> str:
    """Return the row of a name below an address that ends with a slash."""
    if "~" in name or "/" in name:
        name = name.replace("~", "~0").replace("/", "~1")
    return row(prefix + name, tail)


def block_of(prefix: str, values: Iterable[tuple[str, str, Any]]) -> Block:
    """Return the rows of values, each with name, type and value, below an address that ends with a slash."""
    return [named_row(prefix, name, tail(type, value)) for name, type, value in values]


def row_of(address: str, leaf: Leaf) -> str:
    """Return the row of a setting."""
    return row(address, tail(leaf.type, leaf.value))


def address_of(row: str) -> str:
    """Return the address of a row."""
    return row[: row.index(END)].replace("\0\1", "\0")


def leaf_of(row: str) -> Leaf:
    """Return type and value of a row."""
    return Leaf(*json.loads("[" + row[row.rindex(END) + 2 :]))


def quoted(value: Any) -> str:
    """Return the JSON of a value, as lines of profiles have it."""
    try:
        return _encoder.encode(value).decode()
    except UnicodeEncodeError:  # a lone surrogate
        text = json.dumps(value, ensure_ascii=False, separators=(",", ":"))
        return _SURROGATE.sub(lambda found: f"\\u{ord(found[0]):04x}", text)


def encode_rows(document: str, rows: list[str]) -> bytes:
    """Return the lines of some rows of a document, each with its line end."""
    if not rows:
        return b""
    start = f'[{quoted(document)},"'
    text = "\n".join(rows)
    if _ODD in text:
        text = "\n".join([one.partition(_ODD)[2] or one for one in rows])
    text = text.replace(END, '",').replace("\n", "\n" + start)
    try:
        return f"{start}{text}\n".encode()
    except UnicodeEncodeError:
        return _SURROGATE.sub(lambda found: f"\\u{ord(found[0]):04x}", f"{start}{text}\n").encode()

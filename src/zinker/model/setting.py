"""Settings: one typed value at an address of a document, and its one-line form in a profile.

A line is a JSON array, `["document", "/address", "type", value]`. Lines are sorted by document, then by
address, by Unicode code point. A document opens with a line at the address "", which says what it is:
type `document` (it was read into settings) or `whole` (it is carried as it is), with size and SHA-256.
"""

import base64
import json
import re
from collections.abc import Mapping, Sequence
from types import NoneType
from typing import Any, Final

import msgspec

from zinker.model.errors import Damaged
from zinker.model.plain_json import fitted, known

# Integers beyond this are written as decimal text: most readers of JSON round them (RFC 7493, section 2.2).
LARGEST_PLAIN_INTEGER: Final = 2**53 - 1

DOCUMENT: Final = "document"
WHOLE: Final = "whole"
WITHHELD: Final = "withheld"
# What is told to remove: a value, a key with all below it.
GONE: Final = "gone"
KEY_GONE: Final = "key-gone"

# Permission bits that are not worth telling.
USUAL_MODES: Final = ("644", "664", "666")

# The forms that the values of a type have in JSON, where that is all there is to say about them.
_JSON_FORM: Final[dict[str, tuple[type, ...]]] = {
    "text": (str,),
    "date": (str,),
    "sz": (str,),
    "expand_sz": (str,),
    "link": (str,),
    "xml": (str,),
    "alias": (str,),
    "tagged": (str,),
    "float": (float, int, str),
    "bool": (bool,),
    "null": (NoneType,),
    "gone": (NoneType,),
    "key-gone": (NoneType,),
    "key": (NoneType,),
    "list": (list,),
    "object": (dict,),
    WITHHELD: (dict,),
}
# What is said of a file besides its format and content; a secret one has a fingerprint instead of the content.
_FINGERPRINT: Final = ("key", "mark")
_ABOUT: Final = ("mode", "link", "folder", *_FINGERPRINT)
# How types without a value are read aloud.
_WORDS: Final = {
    "null": "no value",
    "key": "empty key",
    "gone": "to be removed",
    "key-gone": "key to be removed",
}
_INTEGERS: Final = frozenset({"int", "dword", "qword", "uid"})
_BYTES: Final = frozenset({"bytes", "binary", "none"})

_POINTER: Final = re.compile("(?:/(?:[^/~]|~[01])*)*", re.DOTALL)
_SURROGATE = re.compile("[\ud800-\udfff]")


class Setting(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """One typed value at an address; `value` is in the form JSON has for it (`text_of` reads it aloud)."""

    document: str
    address: str
    type: str
    value: Any

    @property
    def key(self) -> tuple[str, str]:
        """What settings are sorted and matched by."""
        return self.document, self.address

    @property
    def is_head(self) -> bool:
        """Whether this line opens a document."""
        return not self.address and self.type in (DOCUMENT, WHOLE)

    @property
    def leaf(self) -> "Leaf":
        """The typed value alone."""
        return Leaf(self.type, self.value)


class Leaf(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """A typed value, without saying where it stands.

    In lists, `true` is not 1, and 1 is not 1.0, though Python takes them for equal.
    """

    type: str
    value: Any

    def __eq__(self, other: object) -> bool:
        """Tell whether it is the same value of the same type."""
        if not isinstance(other, Leaf) or self.type != other.type or self.value != other.value:
            return False
        return self.type != "list" or [*map(type, self.value)] == [*map(type, other.value)]

    def __hash__(self) -> int:
        """Return the same number for equal values."""
        return hash(self.type)


_encoder = msgspec.json.Encoder()
_decoder = msgspec.json.Decoder(known(Setting))  # noqa: TID251


def encode_line(setting: Setting) -> bytes:
    """Encode one setting as its line, without the line end. The same setting gives the same bytes."""
    try:
        return _encoder.encode(setting)
    except UnicodeEncodeError:
        # Registry strings and file names may hold lone surrogates, which UTF-8 has no bytes for.
        fields = [setting.document, setting.address, setting.type, setting.value]
        text = json.dumps(fields, ensure_ascii=False, separators=(",", ":"))
        return _SURROGATE.sub(lambda found: f"\\u{ord(found[0]):04x}", text).encode()


def encode_lines(settings: Sequence[Setting]) -> bytes:
    """Encode settings as lines, each with its line end."""
    try:
        return _encoder.encode_lines(settings)
    except UnicodeEncodeError:
        return b"".join(encode_line(setting) + b"\n" for setting in settings)


def decode_line(line: bytes) -> Setting:
    """Decode one line; raises `Damaged` if it is not a setting whose value fits its type."""
    try:
        setting = _decode(line)
        is_sound = _is_sound(setting)
    except (ValueError, TypeError, RecursionError):
        is_sound = False
    if not is_sound:
        why = f"it holds a line that is no setting: {line[:60].decode(errors='replace')!a}"
        raise Damaged("Profile not read", why, "Use another copy of it, or another version.")
    return setting


def _decode(line: bytes) -> Setting:
    try:
        return _decoder.decode(line)
    except msgspec.ValidationError:
        raise
    except msgspec.DecodeError:
        return fitted(json.loads(line), Setting)


def _is_sound(setting: Setting) -> bool:
    kind, value = setting.type, setting.value
    if not _POINTER.fullmatch(setting.address):
        return False  # one value must not have two addresses
    if kind in _JSON_FORM:
        return type(value) in _JSON_FORM[kind]
    if kind in _INTEGERS:
        return type(value) is int or (type(value) is str and value.lstrip("-").isdecimal())
    if kind in _BYTES or kind.startswith("registry:"):
        return type(value) is str and base64.b64decode(value, validate=True) is not None
    if kind.startswith("gvariant:"):
        return type(value) is str
    if kind == "multi_sz":
        return type(value) is list and all(type(item) is str for item in value)
    return kind in (DOCUMENT, WHOLE) and not setting.address and _is_content(value)


def _is_content(value: Any) -> bool:
    if type(value) is not dict or not set(value) <= {"format", "size", "sha256", *_ABOUT}:
        return False
    if any(type(value.get(name, "")) is not str for name in _FINGERPRINT):
        return False
    digest, format, mode = value.get("sha256", ""), value.get("format", ""), value.get("mode", "")
    if type(value.get("link", "")) is not str or type(value.get("folder", True)) is not bool:
        return False
    if type(mode) is not str or not re.fullmatch("([0-7]{1,3})?", mode, re.ASCII):
        return False
    is_digest = type(digest) is str and re.fullmatch("([0-9a-f]{64})?", digest, re.ASCII) is not None
    size = value.get("size", 0)
    return is_digest and type(format) is str and type(size) is int and size >= 0


def plain_int(number: int) -> int | str:
    """Return the JSON form of an integer: a number where every reader keeps it exactly, else its digits."""
    return number if abs(number) <= LARGEST_PLAIN_INTEGER else str(number)


def text_of(leaf: Leaf | Setting | None) -> str:
    """Read a value aloud: for tables and messages, never for storing."""
    if leaf is None:
        return ""
    kind, value = leaf.type, leaf.value
    if kind == WITHHELD:
        return "withheld"
    if kind == WHOLE:
        return _text_of_file(value)
    if kind in _WORDS:
        return _WORDS[kind]
    if kind == "object":
        return "an object" if value else "an empty object"
    if kind in ("bytes", "binary", "none") or kind.startswith("registry:"):
        return base64.b64decode(value).hex(" ") or "no bytes"
    if isinstance(value, str):
        return value if value else '""'
    return json.dumps(value, ensure_ascii=False)


def _text_of_file(value: Mapping[str, Any]) -> str:
    if "link" in value:
        return f"link to {value['link']}"
    if value.get("folder"):
        return "an empty folder"
    if "mark" in value:
        return "withheld as a whole"
    mode = f", mode {value['mode']}" if value.get("mode", "644") not in USUAL_MODES else ""
    return f"file {str(value.get('sha256', ''))[:8]}, {value.get('size', 0):,} bytes{mode}"

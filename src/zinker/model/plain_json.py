"""JSON for our own files: like msgspec's, but it also holds the lone surrogates of registry and file names."""

import json
import threading
from inspect import cleandoc
from typing import Any, TypeVar

import msgspec

T = TypeVar("T")

_known: set[Any] = set()
_learning = threading.Lock()


def encode(value: Any, indent: int = 0) -> bytes:
    """Encode a struct; `indent` makes it readable, one member a line, with a line end."""
    try:
        data = msgspec.json.encode(value)
    except UnicodeEncodeError:
        plain = msgspec.to_builtins(value)
        if indent:
            return json.dumps(plain, indent=indent).encode() + b"\n"
        return json.dumps(plain, separators=(",", ":")).encode()
    return msgspec.json.format(data, indent=indent) + b"\n" if indent else data


def decode(data: bytes, kind: type[T]) -> T:
    """Decode into a struct; raises `ValueError` for what is no JSON or does not fit the struct."""
    try:
        return msgspec.json.decode(data, type=known(kind))
    except msgspec.ValidationError:
        raise
    except msgspec.DecodeError:
        return fitted(json.loads(data), kind)


def fitted(plain: Any, kind: type[T]) -> T:
    """Take what was read already (of TOML, of looser JSON) as a struct; raises `ValueError` if it does not fit."""
    return msgspec.convert(plain, known(kind))


def known(kind: type[T]) -> type[T]:
    """Return the type, now that msgspec has learned it.

    It learns a struct when first asked to fill one, and the process dies when two threads ask at once (0.22): one
    finds what the other has half finished. So nobody else asks; the linter sees to that.
    """
    if kind not in _known:
        with _learning:
            msgspec.json.Decoder(kind)
            _known.add(kind)
    return kind


def schema_of(kind: Any, title: str, *others: Any) -> dict[str, Any]:
    """Return the JSON Schema (2020-12) of a struct, or of one of several types, the same on every Python."""
    found, described = msgspec.json.schema_components((kind, *others), ref_template="#/$defs/{name}")
    for one in described.values():
        # Python takes the indentation off docstrings from 3.13 on.
        one["description"] = cleandoc(one.get("description", ""))
    own = {"anyOf": list(found)} if others else found[0]
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": title,
        **own,
        "$defs": described,
    }

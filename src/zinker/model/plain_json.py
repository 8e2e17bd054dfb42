"""JSON for our own files: like msgspec's, but it also holds the lone surrogates of registry and file names."""

import json
from inspect import cleandoc
from typing import Any, TypeVar

import msgspec

T = TypeVar("T")


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
        return msgspec.json.decode(data, type=kind)
    except msgspec.ValidationError:
        raise
    except msgspec.DecodeError:
        return msgspec.convert(json.loads(data), kind)


def schema_of(kind: type, title: str) -> dict[str, Any]:
    """Return the JSON Schema (2020-12) of a struct, the same on every Python."""
    found = msgspec.json.schema(kind)
    for described in found["$defs"].values():
        # Python takes the indentation off docstrings from 3.13 on.
        described["description"] = cleandoc(described.get("description", ""))
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title, **found}

"""A record that proves itself: JSON whose last member is the SHA-256 of everything before it.

{"format":2, ... ,"sha256":"<of all bytes before the comma>"}
"""

import hashlib
import re
from typing import Any, TypeVar

from zinker.model.plain_json import decode, encode

T = TypeVar("T")
_END = re.compile(rb',"sha256":"([0-9a-f]{64})"\}\n?\Z')


def stamped(value: Any, indent: int = 0) -> bytes:
    """Encode a struct or object with its digest."""
    body = encode(value, indent).rstrip()[:-1].rstrip()
    return body + b',"sha256":"' + hashlib.sha256(body).hexdigest().encode() + b'"}\n'


def is_stamped(data: bytes) -> bool:
    """Tell whether a record has a digest; those of format 1 have none."""
    return _END.search(data[-100:]) is not None


def checked(data: bytes, kind: type[T]) -> T:
    """Decode a record; raises `ValueError` where it is not what was written."""
    end = _END.search(data[-100:])
    if end is None:
        raise ValueError("its digest is missing")
    body = data[: len(data) - len(end[0])]
    if hashlib.sha256(body).hexdigest().encode() != end[1]:
        raise ValueError("it does not have the digest that it was written with")
    return decode(body + b"}", kind)


def digest(data: bytes) -> str:
    """Return the digest of a whole record, in hexadecimal."""
    return hashlib.sha256(data).hexdigest()

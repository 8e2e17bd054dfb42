"""Registry values: type number and bytes, as registries keep them, and the form they have in a profile.

The numbers are those of Windows (winnt.h, MS-RRP section 3.1.1.5). A value whose bytes are not what its type
calls for (a text without its end, a dword of three bytes) keeps its bytes, under the type `registry:<number>`.
"""

import base64
import binascii
from typing import Any

from zinker.model.setting import plain_int

NONE, SZ, EXPAND_SZ, BINARY, DWORD, LINK, MULTI_SZ, QWORD = 0, 1, 2, 3, 4, 6, 7, 11
_TYPES = {
    NONE: "none",
    SZ: "sz",
    EXPAND_SZ: "expand_sz",
    BINARY: "binary",
    DWORD: "dword",
    LINK: "link",
    MULTI_SZ: "multi_sz",
    QWORD: "qword",
}
_NUMBERS = {name: number for number, name in _TYPES.items()}
_WIDTHS = {"dword": 4, "qword": 8}


def from_bytes(number: int, data: bytes) -> tuple[str, Any]:
    """Return the type and the value, in the form that a profile has, of a value's number and bytes."""
    if number in (SZ, EXPAND_SZ):
        text = data.decode("utf-16-le", "surrogatepass") if not len(data) % 2 else ""
        if text.endswith("\0"):
            return _TYPES[number], text[:-1]
    elif number == DWORD and len(data) == 4:
        return "dword", int.from_bytes(data, "little")
    elif number == QWORD and len(data) == 8:
        return "qword", plain_int(int.from_bytes(data, "little"))
    elif number in (NONE, BINARY):
        return _TYPES[number], base64.b64encode(data).decode()
    elif number == MULTI_SZ and not len(data) % 2:
        texts = data.decode("utf-16-le", "surrogatepass").split("\0")
        # Each text has an end, and so has the list; an empty text would be taken for that.
        if texts[-2:] == ["", ""] and all(texts[:-2]):
            return "multi_sz", texts[:-2]
    elif number == LINK and not len(data) % 2:
        return "link", data.decode("utf-16-le", "surrogatepass")
    return f"registry:{number}", base64.b64encode(data).decode()


def to_bytes(type: str, value: Any) -> tuple[int, bytes]:
    """Return number and bytes of a value; raises `ValueError` for what no registry can hold."""
    if type.startswith("registry:") and type[9:].isdecimal():
        return int(type[9:]), base64.b64decode(value)
    if type not in _NUMBERS:
        raise ValueError(f"a registry has no values of the type {type}")
    number = _NUMBERS[type]
    if type in ("sz", "expand_sz"):
        return number, f"{value}\0".encode("utf-16-le", "surrogatepass")
    if type == "link":
        return number, str(value).encode("utf-16-le", "surrogatepass")
    if type == "multi_sz":
        return number, "".join([f"{text}\0" for text in [*value, ""]]).encode("utf-16-le", "surrogatepass")
    if type in _WIDTHS:
        try:
            return number, int(value).to_bytes(_WIDTHS[type], "little")
        except OverflowError:
            raise ValueError(f"{value} is too large for a {type}") from None
    try:
        return number, base64.b64decode(value, validate=True)
    except binascii.Error:
        raise ValueError("its bytes are not Base64") from None

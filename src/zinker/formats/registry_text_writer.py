"""Writes registration text files, so that other programs can import them."""

import codecs
import re
from collections.abc import Iterable, Iterator

from zinker.disk.sorted_rows import SortedRows
from zinker.formats.registry_text import ANSI, ANSI_CHARACTERS, UNICODE
from zinker.formats.registry_values import to_bytes
from zinker.model.address import tokens
from zinker.model.errors import NotWritable
from zinker.model.rows import END
from zinker.model.setting import GONE, KEY_GONE, WITHHELD, Setting

_CONTROLS = re.compile("[\0-\x1f]")
# The way back from ANSI; what has no place in there becomes what Latin-1 has no place for.
_ANSI_CODES = dict.fromkeys(ANSI_CHARACTERS, "\uffff") | {
    ord(character): chr(code) for code, character in ANSI_CHARACTERS.items()
}


def write_registry_text(settings: Iterable[Setting], ansi: bool = False) -> Iterator[bytes]:
    """Yield the registration text of settings whose documents are keys, key by key.

    What is withheld stands there as a comment. Raises `NotWritable` for what such a file cannot hold.
    """
    by_key = SortedRows()
    by_key.add([_placed(setting, ansi) for setting in settings if not setting.is_head])
    yield b"" if ansi else codecs.BOM_UTF16_LE
    yield _encoded(f"{ANSI if ansi else UNICODE}\r\n", ansi)
    last = ""
    for block in by_key.blocks():
        pieces: list[str] = []
        for one in block:
            place, _, line = one.partition(END)
            if place != last or line == _REMOVED:
                minus = "-" if line == _REMOVED else ""
                pieces.append("\r\n[" + minus + place.replace("\1", "\\") + "]\r\n")
                last = place
            pieces.append(line.lstrip("\0"))
        yield _encoded("".join(pieces), ansi)
    yield _encoded("\r\n", ansi)


_REMOVED = "\0"  # sorts before every value


def _placed(setting: Setting, ansi: bool) -> str:
    """Return a setting's line behind its key, so that sorting brings the values of a key together."""
    names = tokens(setting.address)
    path = names[:-2] if setting.type == KEY_GONE else names[:-1]
    place = "\1".join([*setting.document.split("\\"), *path])
    if any(mark in setting.address for mark in "\0\1"):
        raise NotWritable(setting.address, "its name has a character that no registration text file can hold")
    if setting.type == KEY_GONE:
        return f"{place}{END}{_REMOVED}"
    try:
        line = "" if setting.type == "key" else _value_line(names[-1], setting, ansi)
        _encoded(line + place, ansi)
    except UnicodeEncodeError as error:
        why = f"the older registration text has no {error.object[error.start]!a}"
        raise NotWritable(setting.address, why) from None
    except ValueError as error:
        raise NotWritable(setting.address, str(error)) from None
    return f"{place}{END}{line}"


def _value_line(name: str, setting: Setting, ansi: bool) -> str:
    start = f'"{_escaped(name)}"=' if name else "@="
    type, value = setting.type, setting.value
    if type == WITHHELD:
        return f"; {start} is a secret, withheld\r\n"
    if type == GONE:
        return f"{start}-\r\n"
    if type == "sz" and not _CONTROLS.search(value):
        return f'{start}"{_escaped(value)}"\r\n'
    if type == "dword":
        return f"{start}dword:{value:08x}\r\n"
    number, data = to_bytes(type, value)
    if ansi and number in (1, 2, 7):
        data = _encoded(data.decode("utf-16-le", "surrogatepass"), ansi)
    words = "hex:" if number == 3 else f"hex({number:x}):"
    return _wrapped(start + words, data.hex(",")) + "\r\n"


def _wrapped(start: str, digits: str) -> str:
    """Break a value's digits into lines of 80 columns at most, as people are used to."""
    width = max((76 - len(start)) // 3, 1) * 3
    lines = [digits[:width], *(digits[at : at + 75] for at in range(width, len(digits), 75))]
    return start + "\\\r\n  ".join(line for line in lines if line)


def _escaped(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"')


def _encoded(text: str, ansi: bool) -> bytes:
    if not ansi:
        return text.encode("utf-16-le", "surrogatepass")
    return text.translate(_ANSI_CODES).encode("latin-1") if not text.isascii() else text.encode()

"""Plain sections of registration text files, taken apart as a whole: most of a large file is nothing else.

A section is plain if every line of it is `"name"=value` in the form in which Windows writes it, and no name has
anything in it that is written otherwise in an address. Whatever is not plain is read line by line.
"""

import re
from binascii import b2a_base64
from collections.abc import Callable, Sequence
from typing import Final

from zinker.formats.registry_values import from_bytes
from zinker.model.rows import tail

# A name that begins with an equals sign would look like what stands between a name and its value.
_NAME = r'(?:"(?!=)[^"\\~/\0-\x1f]*"|@)'
# Escapes are those of JSON, so that such a text is the same in a line of a profile.
_TEXT = r'"[^"\\\0-\x1f]*(?:\\[\\"][^"\\\0-\x1f]*)*"'
_HEX = r"hex(?:\([0-9a-f]{1,8}\))?:[0-9a-f,]*"
_VALUE = rf"{_NAME}=(?:{_TEXT}|dword:[0-9a-f]{{8}}|{_HEX})\r?\n"
_PLAIN = re.compile(
    rf'(?P<key>[^\]\r\n"~/\0-\x1f-][^\]\r\n"~/\0-\x1f]*)\]\r?\n(?P<body>(?:{_VALUE})*)(?:\r?\n)*'
).fullmatch
_BREAK: Final = "\x1c"  # stands between sections: no plain one has it
_WRAPPED = ",\\\r\n  "
_ESCAPED_ASSIGNMENT = '\\"='
_VALUE_NAME = re.compile('\n"([^"]*)')


def plain_section(section: str) -> tuple[str, str] | None:
    """Return key and body of a section that is plain, without its first bracket; None for any other."""
    if _ESCAPED_ASSIGNMENT in section:
        return None  # it would be taken for the end of a name
    found = _PLAIN(section.replace(_WRAPPED, ","))
    return (found[1], found[2]) if found else None


def names_of(body: str) -> list[str]:
    """Return the names of the values in a plain body; one that stands there twice is returned twice."""
    names = _VALUE_NAME.findall(f"\n{body}")
    if body.startswith("@=") or "\n@=" in body:
        names.append("")
    return names


def plain_rows(sections: Sequence[tuple[str, str]], decode: Callable[[int, bytes], bytes]) -> list[str]:
    """Return the rows of plain sections, each the address of its key, with a slash at its end, and its body.

    `decode` turns the bytes of a value, by its type number, into those that a registry keeps. Raises
    `ValueError` where the bytes of a value are not two digits each.
    """
    text = _BREAK.join(["\n" + body for _, body in sections]).replace("\r\n", "\n")
    text = text.replace("\n@=", '\n""=').replace('"="', '\0\0"sz","').replace('"\n', '"]\n')
    first, *others = text.split('"=dword:')
    text = first + "".join([f'\0\0"dword",{int(part[:8], 16)}]{part[8:]}' for part in others])
    first, *others = text.split('"=hex')
    if others:
        text = first + "".join([_hex_value(part, decode) for part in others])
    rows: list[str] = []
    for (prefix, _), body in zip(sections, text.split(_BREAK), strict=True):
        if len(body) > 1:
            rows += (prefix + body[2:-1].replace('\n"', f"\n{prefix}")).split("\n")
    return rows


def _hex_value(part: str, decode: Callable[[int, bytes], bytes]) -> str:
    """Return the tail of a value of the form `(7):61,00`, with what follows it."""
    value, _, rest = part.partition("\n")
    kind, _, digits = value.partition(":")
    data = bytes.fromhex(digits.replace(",", " "))
    if not kind:
        return f'\0\0"binary","{b2a_base64(data, newline=False).decode()}"]\n{rest}'
    number = int(kind[1:-1], 16)
    return f"\0\0{tail(*from_bytes(number, decode(number, data)))}\n{rest}"

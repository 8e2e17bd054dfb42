"""Plain sections of INI files, taken apart as a whole: most of a large file is nothing else.

A section is plain if every line of it is a key and a value with the same delimiter between them, the same spaces
around that, and nothing in it that is written otherwise in a row. Whatever is not plain is read line by line.
"""

import re
from collections.abc import Sequence
from itertools import repeat
from typing import Protocol

from zinker.formats.text import lines
from zinker.model.address import pointer
from zinker.model.rows import END, is_escaped

_HEADER = re.compile(r"[^\[\]]*\]").fullmatch
_INDENTED = re.compile(r"\n[^\S\n]+\[")  # opens a section, too
_TEXT = f'{END}"text","'
_END = "\n"
_FIRST = 1000  # lines that tell the delimiter
# What a text beyond ASCII must not have in it: what rows or lines have otherwise, and odd spaces at a line's start.
_ODD = re.compile(r'["\\\0-\x09\x0b-\x1f]|\n\s')


class Grammar(Protocol):
    """The plain dialect of a file."""

    marks: tuple[str, ...]

    def choose_delimiter(self, raw: Sequence[str]) -> str:
        """Return the delimiter, one character."""
        ...

    def plain_rows(self, raw: Sequence[str], first: int = 1) -> list[str]:
        """Return the rows of lines; raises `DocumentError`."""
        ...


def ini_rows(characters: str, grammar: Grammar) -> list[str]:
    """Return the rows of a file in a plain dialect, in no order; raises `DocumentError`."""
    text = characters.replace("\r\n", "\n") if "\r" in characters else characters
    if "\r" in text:
        return grammar.plain_rows(lines(characters))
    delimiter = grammar.choose_delimiter(text.split("\n", _FIRST)[:_FIRST])
    first, *others = f"\n{text}".split("\n[")
    headers = [section.partition("\n")[0] for section in others]
    is_simple = all(map(_HEADER, headers)) and not _INDENTED.search(f"\n{text}")
    if not is_simple or len(set(headers)) < len(headers) or (first.strip() and "]" in headers):
        return grammar.plain_rows(lines(characters))  # a section may be in two places
    rows = grammar.plain_rows(lines(first[1:]))
    number = first.count("\n") + 1
    usual = next((sign for section in others if (sign := _sign(section.partition("\n")[2], delimiter))), "")
    is_clean = not _has_odd(text, usual, grammar.marks)  # looked at once, where that is enough
    for header, section in zip(headers, others, strict=True):
        body = f"\n{section[len(header) + 1 :].rstrip(_END)}"
        sign = _sign(body[1:], delimiter)
        is_odd = not (is_clean and sign == usual) and _has_odd(body, sign, grammar.marks)
        plain = [] if is_odd else _plain(header, body, sign)
        rows += plain or grammar.plain_rows(lines(f"[{section}"), number)
        number += section.count("\n") + 1
    return rows


def _plain(header: str, body: str, sign: str) -> list[str]:
    """Return the rows of a section without anything odd in it; none where it is not plain all the same."""
    pieces = body.split("\n")[1:]
    is_regular = body.count(sign.strip()) == len(pieces) and all(map(str.__contains__, pieces, repeat(sign)))
    if not is_regular:
        return []
    keys = body.replace(sign, "\n").split("\n")[1::2]
    names = "".join(keys)
    prefix = f"{pointer(header[:-1])}/"
    if "" in pieces or "/" in names or "~" in names or len(set(keys)) < len(keys) or is_escaped(prefix):
        return []
    text = body.replace(sign, _TEXT).replace("\n", f'"]\n{prefix}')
    return f'{text[3:]}"]'.split("\n")


def _sign(body: str, delimiter: str) -> str:
    """Return the delimiter with the spaces that the first line has around it, one at most; "" where it has none."""
    key, found, value = body[: body.find("\n")].partition(delimiter)
    return " " * (key[-1:] == " ") + delimiter + " " * (value[:1] == " ") if found else ""


def _has_odd(text: str, sign: str, marks: tuple[str, ...]) -> bool:
    """Whether there is anything in a text that has to be looked at line by line."""
    if not sign:
        return True
    if text.isascii():
        is_odd = '"' in text or "\\" in text or not text.replace("\n", "").isprintable() or "\n " in text
    else:
        is_odd = _ODD.search(text) is not None
    spaced = (f"{sign} ", f" {sign}", " \n", f"\n{sign}", f"{sign}\n", *(f"\n{mark}" for mark in marks))
    return is_odd or text.endswith((" ", sign)) or any(found in text for found in spaced)

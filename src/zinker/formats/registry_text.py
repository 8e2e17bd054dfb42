r"""Registration text files, in which people hand registry branches to each other: read, and written.

Two generations: `Windows Registry Editor Version 5.00` in UTF-16 with a byte-order mark (also met in UTF-8), and
`REGEDIT4` in the ANSI encoding of the machine it is from, whose texts in hexadecimal are in that encoding, too.

    Windows Registry Editor Version 5.00

    [HKEY_CURRENT_USER\Software\X]
    @="the default value"
    "Width"=dword:000004b0
    "Paths"=hex(7):43,00,3a,00,\
      00,00,00,00
    "Gone"=-

    [-HKEY_CURRENT_USER\Software\X\Old]

Files are read in pieces, never as a whole, and whatever can be done with a piece at once is. A line that means
nothing is named by its number, and the rest is read.
"""

import codecs
import re
from collections.abc import Callable, Iterator
from functools import cached_property
from itertools import repeat
from typing import IO, Final, NamedTuple

from zinker.formats.registry_sections import ANSI, LARGEST_VALUE, UNICODE, SectionReader, header_of
from zinker.model.errors import DocumentError
from zinker.model.rows import Block

SUFFIX: Final = ".reg"

# A key that is not to be removed, on a line of its own.
_PLAIN_HEADER = re.compile(r"\n\[([^\]\r\n-][^\]\r\n]*)\]\r?(?=\n)")
_CHUNK = 2 * 1024 * 1024
_MOST_TROUBLES = 100
ANSI_CHARACTERS = {code: bytes([code]).decode("cp1252", "ignore") or chr(code) for code in range(128, 160)}


class Mistake(NamedTuple):
    """A line that means nothing; the line 0 stands for further ones."""

    line: int
    why: str


# Says where a key belongs: its document, and its path in there; None for nowhere.
Locate = Callable[[str], tuple[str, str] | None]


def by_root(key: str) -> tuple[str, str]:
    r"""Locate a key in the document of its root: `HKEY_CURRENT_USER\A\B` is `A\B` in there."""
    root, _, path = key.partition("\\")
    return root.upper(), path


class RegistryText:
    """A registration text file. Raises `DocumentError` for anything else."""

    def __init__(self, open: Callable[[], IO[bytes]], locate: Locate = by_root) -> None:
        self._open = open
        self.find = locate
        with open() as stream:
            self._encoding, self.is_ansi = _generation(stream.read(4096))
        self.mistakes: list[Mistake] = []
        # Keys that nothing locates.
        self.elsewhere: list[str] = []

    def blocks(self) -> Iterator[tuple[str, Block]]:
        """Yield the settings, by document; afterwards, `mistakes` and `elsewhere` are known."""
        reader = SectionReader(self)
        for piece in self._pieces():
            yield from reader.read(piece)
        yield from reader.rest()

    @cached_property
    def headers(self) -> list[tuple[bool, str]]:
        """The keys in the order of the file, and whether they are to be removed."""
        found: list[tuple[bool, str]] = []
        for piece in self._pieces():
            text = f"\n{piece}"
            plain = _PLAIN_HEADER.findall(text)
            if len(plain) == text.count("\n["):
                found += zip(repeat(False), plain)
                continue
            headers = (header_of(section.partition("\n")[0]) for section in text.split("\n[")[1:])
            found += [header for header in headers if header]
        return found

    def locate(self, key: str) -> tuple[str, str] | None:
        """Say where a key belongs, and remember those that belong nowhere."""
        found = self.find(key)
        if found is None:
            self.elsewhere.append(key)
        return found

    def bytes_of(self, number: int, data: bytes) -> bytes:
        """Return a value's bytes as registries keep them: texts of the older generation are in ANSI."""
        if self.is_ansi and number in (1, 2, 7):
            return data.decode("latin-1").translate(ANSI_CHARACTERS).encode("utf-16-le")
        return data

    def note(self, line: int, why: str) -> None:
        """Remember a mistake; of very many, only the first."""
        if len(self.mistakes) < _MOST_TROUBLES:
            self.mistakes.append(Mistake(line, why))
        elif len(self.mistakes) == _MOST_TROUBLES:
            self.mistakes.append(Mistake(0, "there are more such lines"))

    def _pieces(self) -> Iterator[str]:
        """Yield the text in pieces that end with a line."""
        decoder = codecs.getincrementaldecoder(self._encoding)(
            "surrogatepass" if self._encoding != "latin-1" else "strict"
        )
        rest, is_first = "", True
        with self._open() as stream:
            data = b"-"
            while data:
                data = stream.read(_CHUNK)
                try:
                    text = rest + decoder.decode(data, final=not data)
                except UnicodeDecodeError as error:
                    why = f"it is not in {self._encoding}, as it begins: {error.reason}"
                    raise DocumentError(why) from None
                if is_first:
                    text, is_first = text.removeprefix("\ufeff"), False
                if self._encoding == "latin-1":
                    text = text.translate(ANSI_CHARACTERS) if not text.isascii() else text
                if "\n" not in text and "\r" in text[:-1]:
                    text = text.replace("\r", "\n")  # line ends as older Macs have them
                at = text.rfind("\n") if data else len(text)
                piece, rest = text[: at + 1], text[at + 1 :]
                if len(rest) > LARGEST_VALUE:
                    raise DocumentError("it has a line of more than 64 million characters")
                if piece:
                    yield piece


def _generation(start: bytes) -> tuple[str, bool]:
    """Return the encoding, and whether it is the older generation."""
    marks = {codecs.BOM_UTF16_LE: "utf-16-le", codecs.BOM_UTF16_BE: "utf-16-be", codecs.BOM_UTF8: "utf-8"}
    marked = next((encoding for mark, encoding in marks.items() if start.startswith(mark)), "")
    encoding = marked or ("utf-16-le" if start[1:2] == b"\0" else "utf-8")
    text = start.decode(encoding, "replace").lstrip("\ufeff").lstrip()
    if text.startswith(UNICODE):
        return encoding, False
    if text.startswith(ANSI):
        return marked or ("latin-1" if encoding == "utf-8" else encoding), True
    raise DocumentError(f"it does not begin with `{UNICODE}` or `{ANSI}`, as registration text files do")

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

Files are read line by line, never as a whole. What Windows writes is told by its shape; a line of any other shape
is looked at with care, as people and other programs write them, too: indented, with spaces around the equals sign,
comments behind values, bytes of one digit. A line that means nothing is named by its number, the rest is read.
"""

import codecs
import re
from binascii import b2a_base64
from collections.abc import Callable, Iterator
from functools import cached_property
from itertools import chain
from typing import IO, Final, NamedTuple

from zinker.formats.limits import LARGEST_VALUE, MOST_TROUBLES
from zinker.formats.registry_values import from_bytes
from zinker.model.address import folded
from zinker.model.errors import DocumentError
from zinker.model.rows import Block, address_of, is_escaped, named_row, row, tail
from zinker.model.setting import GONE, KEY_GONE

# What such files begin with.
UNICODE: Final = "Windows Registry Editor Version 5.00"
ANSI: Final = "REGEDIT4"
# Below a key, this stands for the key itself: no key's name is empty.
KEY_ITSELF: Final = "//"
# A text of the older generation may have bytes that its code page does not know.
ANSI_CHARACTERS = {code: bytes([code]).decode("cp1252", "ignore") or chr(code) for code in range(128, 160)}

_CHUNK = 2 * 1024 * 1024
_BLOCK = 20_000  # rows that are handed on at a time
_EMPTY = tail("key", None)
# A name that is the same in an address and in a profile, with the quotation mark before it.
_PLAIN_NAME = re.compile(r'"[\w .,:{}()-]*').fullmatch
_MOST_NAMES = 100_000  # that are known
# Values in bytes, by how a line of them begins.
_NUMBERS: Final = {"hex": 3, "hex(0)": 0, "hex(1)": 1, "hex(2)": 2, "hex(3)": 3, "hex(7)": 7, "hex(b)": 11}
# What a line may be that does not look as Windows writes it, without its end.
_NAMED = re.compile(r'\s*(?:"((?:[^"\\]|\\.)*)"|@)\s*=\s*(.*)', re.DOTALL).fullmatch
_BROKEN_NAME = re.compile(r'\s*"(?:[^"\\]|\\[^"\\])*"\s*=').match
_NEXT_VALUE = re.compile(r'\s*"[^"]*"\s*=').match
_TEXT = re.compile(r'"((?:[^"\\]|\\.)*+)"(.*)', re.DOTALL).fullmatch
_HEX = re.compile(r"hex(?:\(([0-9a-fA-F]{1,8})\))?:([0-9a-fA-F, \t]*)(.*)", re.DOTALL).fullmatch
_NUMBER = re.compile(r"dword:\s*([0-9a-fA-F]{1,8})(.*)", re.DOTALL).fullmatch
_REST = re.compile(r"\s*(?:;.*)?", re.DOTALL).fullmatch
_ESCAPED = re.compile(r"\\(.)", re.DOTALL)
_INDENTED = re.compile(r"\n[ \t]+(\[[^\n]*)")


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
            self._encoding, self.is_ansi = _generation(stream)
        self.mistakes: list[Mistake] = []
        # Keys that nothing locates.
        self.elsewhere: list[str] = []

    def blocks(self) -> Iterator[tuple[str, Block]]:
        """Yield the settings, by document; afterwards, `mistakes` and `elsewhere` are known."""
        yield from _Reader(self).read(chain.from_iterable(piece.split("\n") for piece in self._pieces()))

    @cached_property
    def headers(self) -> list[tuple[bool, str]]:
        """The keys in the order of the file, and whether they are to be removed."""
        found: list[tuple[bool, str] | None] = []
        for piece in self._pieces():
            text = f"\n{piece}"
            lines = [section.partition("\n")[0] for section in text.split("\n[")[1:]]
            found += [_header_of(f"[{line}") for line in lines]
            if _INDENTED.search(text):
                found += map(_header_of, _INDENTED.findall(text))
        return [header for header in found if header]

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
        if len(self.mistakes) < MOST_TROUBLES:
            self.mistakes.append(Mistake(line, why))
        elif len(self.mistakes) == MOST_TROUBLES:
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
                piece, rest = text[: max(at, 0)], text[at + 1 :]
                if len(rest) > LARGEST_VALUE:
                    raise DocumentError("it has a line of more than 64 million characters")
                if at >= 0:
                    yield piece


def _generation(stream: IO[bytes]) -> tuple[str, bool]:
    """Return the encoding, and whether it is the older generation."""
    marks = {codecs.BOM_UTF16_LE: "utf-16-le", codecs.BOM_UTF16_BE: "utf-16-be", codecs.BOM_UTF8: "utf-8"}
    start = stream.read(4096)
    marked = next((encoding for mark, encoding in marks.items() if start.startswith(mark)), "")
    encoding = marked or ("utf-16-le" if start[1:2] == b"\0" else "utf-8")
    text = start.decode(encoding, "replace").lstrip("\ufeff").lstrip()
    is_ansi = text.startswith(ANSI)
    if not is_ansi and not text.startswith(UNICODE):
        raise DocumentError(f"it does not begin with `{UNICODE}` or `{ANSI}`, as registration text files do")
    if encoding != "utf-8" or marked:
        return encoding, is_ansi
    return "latin-1" if is_ansi or not _is_utf8(start, stream) else encoding, is_ansi


def _is_utf8(start: bytes, stream: IO[bytes]) -> bool:
    decoder, data = codecs.getincrementaldecoder("utf-8")("surrogatepass"), start
    try:
        while data:
            decoder.decode(data)
            data = stream.read(_CHUNK)
        decoder.decode(b"", final=True)
    except UnicodeDecodeError:
        return False
    return True


class _Reader:
    """Takes lines apart. Keys that stand there twice, or may be hit by a removal, wait until the end."""

    def __init__(self, text: RegistryText) -> None:
        self._text = text
        self._number = 0  # of the line that is being read
        self._unread: list[str] = []  # lines that are to be read again
        self._waiting: dict[str, dict[str, str]] = {}  # by key; its rows by address
        self._removed: tuple[str, ...] = ()
        self._above: set[str] = set()  # keys with others below them
        self._survey()
        self._document = ""
        self._done: list[str] = []
        self._ready: list[tuple[str, Block]] = []
        # Of the section that is being read:
        self._key = self._prefix = ""
        self._is_open = self._is_odd = False
        self._rows: list[str] = []
        self._names: list[str] = []

    def _survey(self) -> None:
        seen: set[str] = set()
        removed = []
        for is_gone, key in self._text.headers:
            name = folded(key)
            if is_gone:
                removed.append(name)
            elif name in seen:
                self._waiting[name] = {}
            seen.add(name)
        above = {name.rpartition("\\")[0] for name in seen} - {""}
        while above:
            self._above |= above
            above = {name.rpartition("\\")[0] for name in above} - self._above - {""}
        self._removed = tuple(removed)

    def read(self, lines: Iterator[str]) -> Iterator[tuple[str, Block]]:
        """Yield the settings, by document: in the order of the file but for what has to wait."""
        base = lines
        again: Iterator[str] = iter(())  # lines that are read again
        names, rows, is_ending = self._names, self._rows, False
        known: dict[str, str | None] = {}  # names, each with its quotation mark; None for one that needs care
        while not is_ending:
            for line in lines:
                self._number += 1
                start = self._number
                name, sign, rest = line.partition('"=')
                plain, ending = None, ""
                if sign and not self._is_odd:
                    plain = known[name] if name in known else self._learn(name, known)
                    if plain is not None:
                        rest = rest.removesuffix("\r")
                        if rest[:1] == '"' == rest[-1:] and len(rest) > 1:
                            text = rest[1:-1]
                            bare = text.replace("\\\\", "") if "\\" in text else text
                            # Escapes are those of JSON, so that such a text is the same in a line of a profile.
                            if '"' not in bare and "\\" not in bare and text.isprintable():
                                ending = f'"sz","{text}"]'
                        elif rest[:6] == "dword:":
                            ending = _number_ending(rest[6:])
                        elif rest[:3] == "hex":
                            rest = self._whole_line(rest, lines)
                            ending = self._bytes_ending(rest)
                            line = f'{name}"={rest}'
                if plain is not None and ending:
                    names.append(plain)
                    rows.append(f"{self._prefix}{plain}\0\0{ending}")
                elif line[:1] == "[" or line.lstrip()[:1] == "[":
                    self._turn(line)
                    if self._ready:
                        yield from self._ready
                        self._ready = []
                elif line and line != "\r":
                    self._careful(line, lines, start)
                    if self._unread:
                        break
            else:
                is_ending = True
            again = iter([*self._unread, *again])
            lines, self._unread = chain(again, base), []
        self._close()
        self._flush()
        yield from self._ready
        for key, held in self._waiting.items():
            located = self._text.locate(key) if held else None
            if located is not None:
                yield located[0], list(held.values())

    @staticmethod
    def _learn(name: str, known: dict[str, str | None]) -> str | None:
        """Remember whether a name is the same in an address and in a profile: most are seen again and again."""
        if len(known) > _MOST_NAMES:
            known.clear()
        known[name] = plain = name[1:] if _PLAIN_NAME(name) else None
        return plain

    def _bytes_ending(self, rest: str) -> str:
        """Return the tail of a row for bytes as Windows writes them, or ""."""
        kind, _, digits = rest.partition(":")
        number = _NUMBERS.get(kind)
        try:
            data = bytes.fromhex(digits.replace(",", " "))
        except ValueError:
            return ""
        if number == 3:
            return f'"binary","{b2a_base64(data, newline=False).decode()}"]'
        return "" if number is None else tail(*from_bytes(number, self._text.bytes_of(number, data)))

    def _careful(self, line: str, lines: Iterator[str], start: int) -> None:
        """Read a line of another shape, with the lines in which it goes on; `start` is the number of the first."""
        bare = line.removesuffix("\r")
        try:
            whole = self._whole_text(line, lines) if bare.lstrip()[:1] == '"' else line
            found = _NAMED(whole)
            if found:
                name, ending = _unescaped(found[1] or ""), self._ending(found[2], lines)
        except ValueError as error:
            self._text.note(start, str(error))
            return
        if found:
            self._names.append(name)
            self._rows.append(named_row(self._prefix, name, ending))
        elif not _REST(bare) and bare.strip() not in (UNICODE, ANSI):
            why = _LONE if _BROKEN_NAME(bare) else "it is neither a key, a value nor a comment"
            self._text.note(start, why)

    def _ending(self, rest: str, lines: Iterator[str]) -> str:
        """Return the tail of a row for what stands behind a name; raises `ValueError`."""
        found = _TEXT(rest)
        if found and _REST(found[2]):
            return tail("sz", _unescaped(found[1]))
        rest = self._whole_line(rest, lines)
        found = _NUMBER(rest)
        if found and _REST(found[2]):
            return f'"dword",{int(found[1], 16)}]'
        found = _HEX(rest)
        if found and _REST(found[3]):
            number, data = int(found[1] or "3", 16), _bytes(found[2])
            return tail(*from_bytes(number, self._text.bytes_of(number, data)))
        if rest.partition(";")[0].strip() == "-":
            return f'"{GONE}",null]'
        raise ValueError("what stands behind its name is no value")

    def _whole_text(self, line: str, lines: Iterator[str]) -> str:
        """Return a line with those that its texts go on in, until they have an end; raises `ValueError`."""
        pieces, size, quotes = [line], len(line), _quotes(line)
        while quotes % 2:
            more = next(lines, None)
            if more is None or _NEXT_VALUE(more) or size > LARGEST_VALUE:
                self._unread = [*pieces[1:], *([] if more is None else [more])]
                self._number -= len(pieces) - 1
                raise ValueError("its text has no end")
            self._number += 1
            pieces.append(more)
            size, quotes = size + len(more), quotes + _quotes(more)
        return "\n".join(pieces)

    def _whole_line(self, rest: str, lines: Iterator[str]) -> str:
        """Return a line with those in which it goes on, as a backslash at its end says."""
        pieces = [rest.strip()]
        size = 0
        while pieces[-1].endswith("\\") and (more := next(lines, None)) is not None:
            self._number += 1
            size += len(more)
            if size > LARGEST_VALUE:
                raise DocumentError("it has a value of more than 64 million characters")
            more = more.strip()
            if more[:1] != ";":  # a comment may stand between
                pieces[-1] = pieces[-1][:-1]
                pieces.append(more)
        return "".join(pieces).removesuffix("\\")

    def _turn(self, line: str) -> None:
        """Go on to the section of a line."""
        self._close()
        found = _header_of(line)
        if found is None:
            self._text.note(self._number, "a key has no closing bracket")
            return
        is_gone, self._key = found
        located = self._text.locate(self._key)
        self._is_open = located is not None and not is_gone
        if located is None:
            return
        document, path = located
        if document != self._document:
            self._flush()
            self._document = document
            self._ready.append((document, []))  # it is there even if it holds nothing
        escaped = path.replace("~", "~0").replace("/", "~1").replace("\\", "/")
        self._prefix = f"/{escaped}/" if path else "/"
        self._is_odd = is_escaped(self._prefix)
        if is_gone:
            self._remove()

    def _remove(self) -> None:
        """Take away a key with all below it, and all that was said of them before."""
        own = folded(self._key)
        for key, rows in self._waiting.items():
            if key == own or key.startswith(f"{own}\\"):
                rows.clear()
        self._waiting.setdefault(own, {})["/"] = row(self._prefix + "/", tail(KEY_GONE, None))

    def _close(self) -> None:
        """Finish a section; of a value that stands there twice, the later one counts."""
        names, rows = self._names[:], self._rows[:]
        self._names.clear()
        self._rows.clear()
        if not self._is_open:
            return
        self._is_open = False
        if not rows and self._prefix != "/" and folded(self._key) not in self._above:
            rows.append(row(self._prefix, _EMPTY))
        elif len(set(map(str.upper if "".join(names).isascii() else folded, names))) < len(names):
            rows = list({folded(address_of(one)): one for one in rows}.values())
        if not (self._waiting or self._removed) or not self._has_to_wait(rows):
            self._done += rows
            if len(self._done) > _BLOCK:
                self._flush()

    def _has_to_wait(self, rows: Block) -> bool:
        """Keep the rows of a key until all of the file is read, if something else may be said of it."""
        own = folded(self._key)
        if own not in self._waiting and not any(f"{own}\\".startswith(f"{key}\\") for key in self._removed):
            return False
        known = self._waiting.setdefault(own, {})
        if rows and known.get(folded(self._prefix), "").endswith(_EMPTY):
            del known[folded(self._prefix)]  # it is not empty after all
        known.update((folded(address_of(one)), one) for one in rows)
        return True

    def _flush(self) -> None:
        if self._done:
            self._ready.append((self._document, self._done))
            self._done = []


_LONE: Final = "it has a backslash that is not doubled"


def _unescaped(text: str) -> str:
    """Return the text that is written so; raises `ValueError` for a lone backslash."""
    if "\\" not in text:
        return text
    if any(found[1] not in '"\\' for found in _ESCAPED.finditer(text)):
        raise ValueError(_LONE)
    return _ESCAPED.sub(r"\1", text)


def _number_ending(digits: str) -> str:
    """Return the tail of a row for a number of eight digits, or ""."""
    if len(digits) != 8 or not (digits.isalnum() and digits.isascii()):
        return ""
    try:
        return f'"dword",{int(digits, 16)}]'
    except ValueError:
        return ""


def _quotes(text: str) -> int:
    """Count the quotation marks that are not escaped."""
    return (text.replace("\\\\", "").replace('\\"', "") if "\\" in text else text).count('"')


def _bytes(digits: str) -> bytes:
    """Return the bytes between commas, of one or two hexadecimal digits; raises `ValueError`."""
    try:
        return bytes.fromhex(digits.replace(",", " "))
    except ValueError:
        pass
    try:
        return bytes(int(one, 16) for one in digits.replace(",", " ").split())
    except ValueError:
        raise ValueError("its bytes are not all of two hexadecimal digits") from None


def _header_of(line: str) -> tuple[bool, str] | None:
    """Return whether a key is to be removed, and the key, of a line that begins with a bracket."""
    line = line.strip()
    if not line.endswith("]"):
        line, bracket, comment = line.rpartition("]")
        while bracket and not _REST(comment):
            line, bracket, more = line.rpartition("]")
            comment = f"{more}]{comment}"
        line += bracket
    minus = line.startswith("[-")
    key = line[1 + minus : -1]
    return (minus, key) if key else None

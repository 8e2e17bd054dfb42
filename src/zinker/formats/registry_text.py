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

Files are read in pieces, never as a whole, and whatever can be done with a piece at once is: a million values
are read in a second or two. A line that means nothing is named by its number, and the rest is read.
"""

import base64
import codecs
import itertools
import re
from binascii import b2a_base64, unhexlify
from collections.abc import Callable, Iterable, Iterator
from typing import IO, Final, NamedTuple

from zinker.formats.registry_values import from_bytes, to_bytes
from zinker.model.address import tokens
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.rows import END, Block, SortedRows, address_of, row, tail
from zinker.model.setting import WITHHELD, Setting

UNICODE: Final = "Windows Registry Editor Version 5.00"
ANSI: Final = "REGEDIT4"
SUFFIX: Final = ".reg"

# Types of settings that only such a file has: what it tells to remove.
GONE: Final = "gone"
KEY_GONE: Final = "key-gone"
# Below a key, this stands for the key itself: no key's name is empty.
KEY_ITSELF: Final = "//"

_CHUNK = 2 * 1024 * 1024
_LARGEST_VALUE = 64 * 1024 * 1024  # characters
_MOST_TROUBLES = 100
_TEXT = re.compile(r'="([^"\\]*)"(.*)', re.DOTALL)
_NEXT_VALUE = re.compile(r'"[^"]*"=')
_ODD = re.compile(r'["\\\0-\x1f]')
# Names that are written the same in a file, an address and a line of a profile.
_SAFE_NAME = re.compile(r"[\w .,:{}()-]*").fullmatch
_HEX = re.compile(r"=hex(?:\(([0-9a-fA-F]{1,8})\))?:([0-9a-fA-F, \t]*)(.*)")
_DWORD = re.compile(r"=dword:([0-9a-fA-F]{1,8})(.*)")
_COMMENT = re.compile(r"[ \t]*(?:;.*)?\r?")
# A piece of two million characters cannot hold all of these without being odd.
_RARE = [chr(code) for code in (*range(0xA1, 0xC0), *range(0x2010, 0x3000)) if not chr(code).isalnum()]
_EMPTY = tail("key", None)
_LONE_BACKSLASH = "it has a backslash that is not doubled"
_CONTROLS = re.compile("[\0-\x1f]")
_DWORD_LINE = re.compile(r"=dword:([0-9a-fA-F]{8})\r?").fullmatch
_HEX_LINE = re.compile(r"=hex:((?:[0-9a-fA-F]{2},)*[0-9a-fA-F]{2})\r?").fullmatch
_ANSI_CHARACTERS = {code: bytes([code]).decode("cp1252", "ignore") or chr(code) for code in range(128, 160)}
# The way back; what has no place in there becomes what Latin-1 has no place for.
_ANSI_CODES = dict.fromkeys(_ANSI_CHARACTERS, "\uffff") | {
    ord(character): chr(code) for code, character in _ANSI_CHARACTERS.items()
}


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
    """A registration text file. Raises `DocumentError` for what is none."""

    def __init__(self, open: Callable[[], IO[bytes]], locate: Locate = by_root) -> None:
        self._open = open
        self._locate = locate
        with open() as stream:
            self._encoding, self.is_ansi = _generation(stream.read(4096))
        self.mistakes: list[Mistake] = []
        # Keys that nothing locates.
        self.elsewhere: list[str] = []

    def blocks(self) -> Iterator[tuple[str, Block]]:
        """Yield the settings, by document; afterwards, `mistakes` and `elsewhere` are known."""
        reader = _Reader(self)
        for piece in self._pieces():
            yield from reader.read(piece)
        yield from reader.rest()

    def headers(self) -> Iterator[tuple[bool, str]]:
        """Yield the keys in the order of the file, and whether they are to be removed."""
        for piece in self._pieces():
            for section in f"\n{piece}".split("\n[")[1:]:
                found = _header(section.partition("\n")[0])
                if found:
                    yield found

    def locate(self, key: str) -> tuple[str, str] | None:
        """Say where a key belongs, and remember those that belong nowhere."""
        found = self._locate(key)
        if found is None:
            self.elsewhere.append(key)
        return found

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
                    text = text.translate(_ANSI_CHARACTERS) if not text.isascii() else text
                if "\n" not in text and "\r" in text[:-1]:
                    text = text.replace("\r", "\n")  # line ends as older Macs have them
                at = text.rfind("\n") if data else len(text)
                piece, rest = text[: at + 1], text[at + 1 :]
                if len(rest) > _LARGEST_VALUE:
                    raise DocumentError("it has a line of more than 64 million characters")
                if piece:
                    yield piece


def _header(line: str) -> tuple[bool, str] | None:
    """Return whether a key is to be removed, and the key, of a line without its opening bracket."""
    line = line.rstrip()
    if not line.endswith("]"):
        line, bracket, comment = line.rpartition("]")
        while bracket and not _COMMENT.fullmatch(comment):
            line, bracket, more = line.rpartition("]")
            comment = f"{more}]{comment}"
        line += bracket
    minus = line.startswith("-")
    key = line[minus:-1]
    return (minus, key) if key else None


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


def is_registry_text(start: bytes) -> bool:
    """Tell from its beginning whether a file is a registration text file."""
    try:
        _generation(start)
    except DocumentError:
        return False
    return True


class _Reader:
    """Takes pieces apart. Keys that stand there twice, or may be hit by a removal, wait until the end."""

    def __init__(self, text: RegistryText) -> None:
        self._text = text
        self._line = 0  # lines before the piece
        self._pending = ""
        self._stand_ins = ("", "")
        self._waiting: dict[str, dict[str, str]] = {}  # by key; its rows by address
        self._removed: tuple[str, ...] = ()
        self._above: set[str] = set()
        self._survey()
        self._document = ""
        self._done: list[str] = []
        self._done_names: list[str] = []
        # Of the section that is being read:
        self._key = self._prefix = ""
        self._is_open = self._is_odd = False
        self._rows: list[str] = []
        self._names: list[str] = []

    def _survey(self) -> None:
        seen: set[str] = set()
        removed = []
        for is_gone, key in self._text.headers():
            name = key.casefold()
            if is_gone:
                removed.append(name)
            elif name in seen:
                self._waiting[name] = {}
            seen.add(name)
            while (at := name.rfind("\\")) > 0 and (name := name[:at]) not in self._above:
                self._above.add(name)
        self._removed = tuple(removed)

    def read(self, piece: str) -> Iterator[tuple[str, Block]]:
        """Yield the settings of a piece, but for those that wait."""
        piece, self._pending = self._pending + piece, ""
        self._stand_ins = backslash, quote = _unused(piece)
        lines = piece.replace("\\\\", backslash).replace('\\"', quote).split("\n")
        at, last = 0, len(lines) - (not lines[-1])
        while at < last:
            line = lines[at]
            at += 1
            parts = line.split('"')
            count = len(parts)
            if count == 5 and not parts[0] and parts[2] == "=" and parts[4] in ("\r", ""):
                name, value = parts[1], parts[3]
                if "\\" in value:
                    self._mistake(at, _LONE_BACKSLASH)
                    continue
                if value.isprintable():
                    value = value.replace(backslash, "\\\\").replace(quote, '\\"')
                    ending = f'"sz","{value}"]'
                else:
                    ending = tail("sz", self._plain(value))
            elif count == 3 and not parts[0] and (number := _DWORD_LINE(parts[2])):
                name = parts[1]
                ending = f'"dword",{int(number[1], 16)}]'
            elif line == "\r" or not line:
                continue
            elif line[:1] == "[":
                yield from self._turn(line, at)
                continue
            elif count == 3 and not parts[0] and (digits := _HEX_LINE(parts[2])):
                name = parts[1]
                data = b2a_base64(unhexlify(digits[1].replace(",", "")), newline=False)
                ending = f'"binary","{data.decode()}"]'
            else:
                found, at = self._other_line(lines, at, last)
                if found is None:
                    continue
                name, ending = found
            if "\\" in name:
                self._mistake(at, _LONE_BACKSLASH)
                continue
            self._names.append(name)
            if not self._is_odd and (name.isalnum() or _SAFE_NAME(name)):
                self._rows.append(f"{self._prefix}{name}\0\0{ending}")
            else:
                address = self._prefix + self._plain(name).replace("~", "~0").replace("/", "~1")
                self._rows.append(row(address, ending))
        self._line += last
        yield from self._flush()

    def rest(self) -> Iterator[tuple[str, Block]]:
        """Yield what waited."""
        if self._pending:
            self._text.note(self._line, "its text has no end")
        self._close()
        yield from self._flush()
        for key, rows in self._waiting.items():
            found = self._text.locate(key) if rows else None
            if found is not None:
                yield found[0], Block(list(rows.values()), "\n".join(map(address_of, rows.values())))

    def _turn(self, line: str, at: int) -> Iterator[tuple[str, Block]]:
        """Go on to the section of a line."""
        self._close()
        found = _header(self._raw(line[1:]))
        if found is None:
            self._mistake(at, "a key has no closing bracket")
            self._is_open = False
            return
        is_gone, key = found
        located = self._text.locate(key)
        self._key = key.casefold()
        self._is_open = located is not None and not is_gone
        if located is None:
            return
        document, path = located
        if document != self._document:
            yield from self._flush()
            self._document = document
            yield document, Block([], "")
        self._prefix = f"/{_escaped_path(path)}/" if path else "/"
        self._is_odd = _ODD.search(self._prefix) is not None
        self._names.append(path.rpartition("\\")[2])
        if is_gone:
            self._remove()

    def _remove(self) -> None:
        """Take away a key with all below it, and all that was said of them before."""
        for key, rows in self._waiting.items():
            if key == self._key or key.startswith(self._key + "\\"):
                rows.clear()
        gone = row(self._prefix + "/", tail(KEY_GONE, None))
        self._waiting.setdefault(self._key, {})["/"] = gone

    def _close(self) -> None:
        """Finish a section; of a value that stands there twice, the later one counts."""
        names, rows = self._names, self._rows
        if self._is_open:
            if not rows and self._key not in self._above and self._prefix != "/":
                rows.append(row(self._prefix, _EMPTY))
            elif len({name.casefold() for name in names[1:]}) != len(names) - 1:
                rows = list({address_of(one).casefold(): one for one in rows}.values())
            held = self._key in self._waiting or any(
                self._key == removed or self._key.startswith(removed + "\\") for removed in self._removed
            )
            if held:
                known = self._waiting.setdefault(self._key, {})
                if known.get(self._prefix.casefold(), "").endswith(_EMPTY) and rows:
                    del known[self._prefix.casefold()]  # it is not empty after all
                known.update((address_of(one).casefold(), one) for one in rows)
            else:
                self._done += rows
                self._done_names += names
        self._rows, self._names = [], []

    def _flush(self) -> Iterator[tuple[str, Block]]:
        if self._done:
            names = "\n".join(self._done_names)
            yield self._document, Block(self._done, names)
            self._done, self._done_names = [], []

    def _plain(self, text: str) -> str:
        """Return the text that a name or value stands for."""
        backslash, quote = self._stand_ins
        return text.replace(backslash, "\\").replace(quote, '"')

    def _raw(self, text: str) -> str:
        """Return what stands in the file."""
        backslash, quote = self._stand_ins
        return text.replace(backslash, "\\\\").replace(quote, '\\"')

    def _mistake(self, at: int, why: str) -> None:
        self._text.note(self._line + at, why)

    def _other_line(self, lines: list[str], at: int, last: int) -> tuple[tuple[str, str] | None, int]:
        """Read a line that is not simply a text; returns its name and ending, and the line to go on with."""
        line = lines[at - 1]
        if line[:1] == "@":
            line = f'""{line[1:]}'
        if line[:1] != '"':
            if not _COMMENT.fullmatch(line) and line.strip() not in (UNICODE, ANSI):
                self._mistake(at, "it is neither a key, a value nor a comment")
            return None, at
        start = at
        line, at = self._whole_line(line, lines, at, last)
        if not line:
            return None, at
        _, name, rest = line.split('"', 2)
        try:
            ending = self._ending(rest)
        except ValueError as error:
            self._mistake(start, str(error))
            return None, at
        return ((name, ending) if self._is_open else None), at

    def _whole_line(self, line: str, lines: list[str], at: int, last: int) -> tuple[str, int]:
        """Add the lines with which a value goes on; "" where it has no end, or none in this piece."""
        start, pieces, quotes = at, [line], line.count('"')
        while True:
            is_text = quotes % 2 == 1  # its end is on another line
            if not is_text:
                stripped = pieces[-1].rstrip()
                if not stripped.endswith("\\"):
                    return "".join(pieces), at
                pieces[-1] = stripped[:-1]
            if at == last:
                break
            more = lines[at]
            if is_text and _NEXT_VALUE.match(more):
                self._mistake(start, "its text has no end")
                return "", start
            at += 1
            quotes += more.count('"') if is_text else 0
            if is_text:
                pieces.append(f"\n{more}")
            else:
                pieces.append("\\" if more.lstrip().startswith(";") else more.strip())
        self._pending = self._raw("\n".join(lines[start - 1 :]))
        self._line -= last - start + 1
        if len(self._pending) > _LARGEST_VALUE:
            raise DocumentError("it has a value of more than 64 million characters")
        return "", last

    def _ending(self, rest: str) -> str:
        """Return the tail of a row for what stands behind a value's name; raises `ValueError`."""
        found = _HEX.fullmatch(rest)
        if found and _COMMENT.fullmatch(found[3]):
            number = int(found[1] or "3", 16)
            try:
                data = bytes.fromhex(found[2].replace(",", " "))
            except ValueError:
                raise ValueError("its bytes are not all two hexadecimal digits") from None
            if number == 3:
                return f'"binary","{base64.b64encode(data).decode()}"]'
            if self._text.is_ansi and number in (1, 2, 7):
                data = data.decode("latin-1").translate(_ANSI_CHARACTERS).encode("utf-16-le")
            return tail(*from_bytes(number, data))
        found = _DWORD.fullmatch(rest)
        if found and _COMMENT.fullmatch(found[2]):
            return f'"dword",{int(found[1], 16)}]'
        if rest.strip() == "=-":
            return f'"{GONE}",null]'
        found = _TEXT.fullmatch(rest)
        if found and _COMMENT.fullmatch(found[2]):
            return tail("sz", self._plain(found[1]))
        if rest[:2] == '="' and "\\" in rest:
            raise ValueError(_LONE_BACKSLASH)
        raise ValueError("what stands behind its name is no value")


def _escaped_path(path: str) -> str:
    """Return the address of a key's path, without the slash at its beginning."""
    if "~" in path or "/" in path:
        path = path.replace("~", "~0").replace("/", "~1")
    return path.replace("\\", "/")


def _unused(piece: str) -> tuple[str, str]:
    """Return two characters that are not in a piece."""
    free = (one for one in itertools.chain(_RARE, map(chr, range(0xE000, 0x110000))) if one not in piece)
    first, second = next(free, ""), next(free, "")
    if not second:
        raise DocumentError("it is no text that people or programs write")
    return first, second


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

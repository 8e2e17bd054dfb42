"""The sections of a registration text file: plain ones are taken as a whole, others line by line."""

import base64
import itertools
import re
from binascii import b2a_base64, unhexlify
from collections.abc import Iterator
from typing import Final, Protocol

from zinker.formats.registry_bulk import names_of, plain_rows, plain_section
from zinker.formats.registry_values import from_bytes
from zinker.model.address import folded
from zinker.model.errors import DocumentError
from zinker.model.rows import Block, address_of, row, tail
from zinker.model.setting import GONE, KEY_GONE

# What such files begin with.
UNICODE: Final = "Windows Registry Editor Version 5.00"
ANSI: Final = "REGEDIT4"
HEADINGS: Final = (UNICODE, ANSI)

# Types of settings that only such a file has: what it tells to remove.
# Below a key, this stands for the key itself: no key's name is empty.
KEY_ITSELF: Final = "//"

LARGEST_VALUE = 64 * 1024 * 1024  # characters
_TEXT = re.compile(r'="([^"\\]*)"(.*)', re.DOTALL)
_NEXT_VALUE = re.compile(r'"[^"]*"=')
_ODD = re.compile(r'["\\\0-\x1f]')
# Names that are written the same in a file, an address and a line of a profile.
_SAFE_NAME = re.compile(r"[\w .,:{}()-]*").fullmatch
_HEX = re.compile(r"=hex(?:\(([0-9a-fA-F]{1,8})\))?:([0-9a-fA-F, \t]*)(.*)")
_DWORD = re.compile(r"=dword:([0-9a-fA-F]{1,8})(.*)")
_COMMENT = re.compile(r"[ \t]*(?:;.*)?\r?")
# What a piece of two million characters cannot hold all of without being odd.
_RARE = [chr(code) for code in (*range(0xA1, 0xC0), *range(0x2010, 0x3000)) if not chr(code).isalnum()]
_EMPTY = tail("key", None)
_SEPARATOR = "\\"
_LONE_BACKSLASH = "it has a backslash that is not doubled"
_DWORD_LINE = re.compile(r"=dword:([0-9a-fA-F]{8})\r?").fullmatch
_HEX_LINE = re.compile(r"=hex:((?:[0-9a-fA-F]{2},)*[0-9a-fA-F]{2})\r?").fullmatch


class Source(Protocol):
    """The file that the sections are of."""

    @property
    def headers(self) -> list[tuple[bool, str]]:
        """The keys in the order of the file, and whether they are to be removed."""
        ...

    def locate(self, key: str) -> tuple[str, str] | None:
        """Say where a key belongs: its document, and its path in there."""
        ...

    def bytes_of(self, number: int, data: bytes) -> bytes:
        """Return a value's bytes as registries keep them."""
        ...

    def note(self, line: int, why: str) -> None:
        """Remember a mistake."""
        ...


def header_of(line: str) -> tuple[bool, str] | None:
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


class SectionReader:
    """Takes pieces apart. Keys that stand there twice, or may be hit by a removal, wait until the end."""

    def __init__(self, text: Source) -> None:
        self._text = text
        self._line = 0  # lines before the piece
        self._pending = ""
        self._stand_ins = ("", "")
        self._waiting: dict[str, dict[str, str]] = {}  # by key; its rows by address
        self._removed: tuple[str, ...] = ()
        self._above: set[str] = set()
        self._survey()
        self._document = ""
        self._sections: list[tuple[str, str]] = []  # sections: the address of the key, and the body
        self._texts: list[tuple[int, str]] = []  # the same with their lines, as they stand in the file
        self._done: list[str] = []
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

    def read(self, piece: str) -> Iterator[tuple[str, Block]]:
        """Yield the settings of a piece, but for those that wait: plain sections as a whole, others by line."""
        piece, self._pending = self._pending + piece, ""
        first, *sections = f"\n{piece}".split("\n[")
        first = (f"{first}\n" if sections else first)[1:]
        careful, is_whole = [first] if first else [], first.count('"') % 2 == first.count('\\"') % 2
        for number, section in enumerate(sections, 1):
            # What was split off is a line end but for the last section of the piece.
            is_last = number == len(sections)  # the next piece may go on with it
            section = section if is_last else f"{section}\n"
            if (
                is_whole
                and not is_last
                and (plain := plain_section(section))
                and self._is_simple(folded(plain[0]))
            ):
                if careful:
                    yield from self._by_line("".join(careful))
                    self._give_up()
                    careful = []
                self._close()
                yield from self._take(*plain, section)
                self._line += section.count("\n")
            else:
                # A bracket after a line end may stand in a text, which has an end somewhere.
                is_whole ^= (section.count('"') - section.count('\\"')) % 2 == 1
                careful.append(f"[{section}")
        if careful:
            yield from self._by_line("".join(careful))
        yield from self._flush()

    def _give_up(self) -> None:
        """Say of what has no end before the next section that it has none."""
        if self._pending:
            self._mistake(1, "its text has no end")
            self._line += self._pending.count("\n") + (not self._pending.endswith("\n"))
            self._pending = ""

    def _is_simple(self, key: str) -> bool:
        return not self._removed and key not in self._waiting

    def _take(self, key: str, body: str, section: str) -> Iterator[tuple[str, Block]]:
        """Take a plain section."""
        self._is_open = False
        located = self._text.locate(key)
        if located is None:
            return
        document, path = located
        yield from self._go_to(document)
        prefix = f"/{path.replace(_SEPARATOR, '/')}/" if path else "/"
        names = names_of(body)
        if not names and path and folded(key) not in self._above:
            self._done.append(row(prefix, _EMPTY))
        elif len(set(map(str.upper if body.isascii() else folded, names))) < len(names):
            yield from self._by_line(f"[{section}")
            self._line -= section.count("\n")
        else:
            self._sections.append((prefix, body))
            self._texts.append((self._line, section))

    def _by_line(self, piece: str) -> Iterator[tuple[str, Block]]:
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

    def rest(self) -> Iterator[tuple[str, Block]]:
        """Yield what waited."""
        self._give_up()
        self._close()
        yield from self._flush()
        for key, rows in self._waiting.items():
            found = self._text.locate(key) if rows else None
            if found is not None:
                yield found[0], list(rows.values())

    def _turn(self, line: str, at: int) -> Iterator[tuple[str, Block]]:
        """Go on to the section of a line."""
        self._close()
        found = header_of(self._raw(line[1:]))
        if found is None:
            self._mistake(at, "a key has no closing bracket")
            self._is_open = False
            return
        is_gone, key = found
        located = self._text.locate(key)
        self._key = folded(key)
        self._is_open = located is not None and not is_gone
        if located is None:
            return
        document, path = located
        yield from self._go_to(document)
        self._prefix = f"/{_escaped_path(path)}/" if path else "/"
        self._is_odd = _ODD.search(self._prefix) is not None
        self._names.append(path.rpartition("\\")[2])
        if is_gone:
            self._remove()

    def _go_to(self, document: str) -> Iterator[tuple[str, Block]]:
        """Go on with a document, which is there even if it holds nothing."""
        if document != self._document:
            yield from self._flush()
            self._document = document
            yield document, []

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
            elif len({folded(name) for name in names[1:]}) != len(names) - 1:
                rows = list({folded(address_of(one)): one for one in rows}.values())
            held = self._key in self._waiting or any(
                self._key == removed or self._key.startswith(removed + "\\") for removed in self._removed
            )
            if held:
                known = self._waiting.setdefault(self._key, {})
                if known.get(folded(self._prefix), "").endswith(_EMPTY) and rows:
                    del known[folded(self._prefix)]  # it is not empty after all
                known.update((folded(address_of(one)), one) for one in rows)
            else:
                self._done += rows
        self._rows, self._names, self._is_open = [], [], False

    def _flush(self) -> Iterator[tuple[str, Block]]:
        sections, texts, self._sections, self._texts = self._sections, self._texts, [], []
        try:
            self._done += plain_rows(sections, self._text.bytes_of) if sections else []
        except ValueError:
            # One of them has bytes that are none; line by line, it is found out which.
            now = self._line
            for self._line, section in texts:
                yield from self._by_line(f"[{section}")
            self._close()
            self._line = now
        if self._done:
            yield self._document, self._done
            self._done = []

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
            if not _COMMENT.fullmatch(line) and line.strip() not in HEADINGS:
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
        if len(self._pending) > LARGEST_VALUE:
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
            return tail(*from_bytes(number, self._text.bytes_of(number, data)))
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

r"""Properties files, as `java.util.Properties` documents them: `key=value`, `key: value` or `key value`.

An address is `/key`. A line ending in a backslash goes on in the next one, without that one's indentation;
`\t \n \r \f \uXXXX` are escapes, and a backslash before anything else is left out. Comments begin with `#` or
`!`. Files that are not UTF-8 are Latin-1, and what that lacks is written as an escape.
"""

import re
from collections.abc import Iterator, Sequence

from zinker.formats.dialect import Dialect
from zinker.formats.line_file import Grammar, Scanned, joined, line_format
from zinker.formats.text import Text, decode
from zinker.model.setting import Leaf

_KEY = re.compile(r"[ \t\f]*((?:[^\\=: \t\f\r\n]|\\(?:\r\n|.|\n|\r))*)", re.DOTALL)
_DELIMITER = re.compile(r"[ \t\f]*(?:[=:][ \t\f]*)?(?:\\(?:\r\n|\n|\r)[ \t\f]*)*")
_ESCAPE = re.compile(r"\\(?:u([0-9a-fA-F]{4})|(\r\n|\n|\r)[ \t\f]*|(.)|\Z)", re.DOTALL)
_NAMED = {"t": "\t", "n": "\n", "r": "\r", "f": "\f"}
_WRITTEN = {"\t": "\\t", "\n": "\\n", "\r": "\\r", "\f": "\\f", "\\": "\\\\"}


def _decode(data: bytes, dialect: Dialect) -> Text:
    return decode(data, fallback="latin-1", declared=dialect.encoding)


class _Properties(Grammar):
    bare = Leaf("text", "")
    is_literal = False

    def __init__(self, text: Text) -> None:
        # A file without a character beyond ASCII may be read as Latin-1 by its application.
        self._encoding = "ascii" if text.characters.isascii() else text.encoding

    def scan(self, raw: Sequence[str]) -> Iterator[Scanned]:
        for line in joined(raw, lambda first: first.lstrip(" \t\f")[:1] not in ("#", "!")):
            bare = line.strip(" \t\f\r\n")
            if not bare or bare[0] in "#!":
                yield line, "", None, None
                continue
            end, start = self._parts(line)
            name, written = self.value(line[:end].lstrip(" \t\f")), line[start:].rstrip("\r\n")
            yield line, "", name, written if written or line[end:].strip() else None

    def place(self, raw: str, written: str) -> int:
        return min(self._parts(raw)[1], len(raw.rstrip("\r\n")))

    def _parts(self, line: str) -> tuple[int, int]:
        """Return where the key ends, and where the value begins."""
        key = _KEY.match(line)
        end = key.end() if key else 0
        delimiter = _DELIMITER.match(line, end)
        return end, delimiter.end() if delimiter else end

    def value(self, written: str) -> str:
        if "\\" not in written:
            return written
        # A character beyond the first plane is written as two escapes.
        units = _ESCAPE.sub(_unescaped, written).encode("utf-16-le", "surrogatepass")
        return units.decode("utf-16-le", "surrogatepass")

    def written(self, value: str, model: str, indent: str) -> str | None:
        text = "".join(map(self._escaped, value))
        return "\\" + text if text[:1] in (" ", "=", ":") else text

    def start(self, key: str, has_value: bool, indent: str, before: str) -> str | None:
        if not key:
            return None
        name = "".join(self._escaped(c) if c not in " =:#!" else f"\\{c}" for c in key)
        found = re.search(r"[ \t]*[=:][ \t]*\Z|[ \t]+\Z", before)
        return indent + name + ((found[0] if found else "=") if has_value else "")

    def joint(self, raw: str) -> str:
        return "="

    def _escaped(self, character: str) -> str:
        if character in _WRITTEN:
            return _WRITTEN[character]
        if character < " " or "\ud800" <= character <= "\udfff" or not _has(self._encoding, character):
            units = character.encode("utf-16-be", "surrogatepass").hex()
            return "".join(f"\\u{units[at : at + 4]}" for at in range(0, len(units), 4))
        return character


read, edit = line_format(_decode, lambda text, dialect: _Properties(text))


def _has(encoding: str, character: str) -> bool:
    try:
        character.encode(encoding)
    except UnicodeEncodeError:
        return False
    return True


def _unescaped(found: re.Match[str]) -> str:
    code, line_end, character = found.groups()
    if code:
        return chr(int(code, 16))
    return "" if line_end or not character else _NAMED.get(character, character)

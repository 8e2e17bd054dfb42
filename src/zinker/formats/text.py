"""Characters of a document: encodings, byte-order marks and line ends, found and kept, never guessed away."""

import codecs
import re
from collections.abc import Callable
from functools import lru_cache
from typing import NamedTuple, TypeVar

from zinker.formats.limits import LARGEST_REMEMBERED
from zinker.model.errors import DocumentError, NotWritable

T = TypeVar("T")

# UTF-32 first: its little-endian mark begins with that of UTF-16.
_MARKS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF32_LE, "utf-32-le"),
    (codecs.BOM_UTF32_BE, "utf-32-be"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)
_BINARY = re.compile("[\x00-\x08\x0b\x0e-\x1f]")
_CONTROLS = bytes(code for code in range(32) if _BINARY.match(chr(code)))
# What str.splitlines takes for the end of a line besides CR, LF and CRLF.
_OTHER_ENDS = re.compile("[\x0b\x0c\x1c-\x1e\x85\u2028\u2029]")
# A character beyond ASCII in UTF-8: what 8-bit encodings have there is no text that people write.
_MULTIBYTE = b"[\xc3-\xc5][\x80-\xbf]|[\xe0-\xef][\x80-\xbf]{2}|[\xf0-\xf4][\x80-\xbf]{3}"
_LINE = r"[^\r\n]*(?:\r\n|\n|\r)|[^\r\n]+\Z"


class Text(NamedTuple):
    """A document's characters, and what is needed to make the same bytes of them again."""

    characters: str
    encoding: str
    mark: bytes

    def encode(self, characters: str, address: str = "") -> bytes:
        """Encode characters as the document was; raises `NotWritable` where its encoding has none."""
        try:
            return self.mark + characters.encode(self.encoding)
        except UnicodeEncodeError as error:
            missing = error.object[error.start]
            why = f"the file is written in {self.encoding}, which has no {missing!a}"
            raise NotWritable(address, why) from None


def decode(data: bytes, fallback: str = "cp1252", declared: str = "") -> Text:
    """Decode a document: by its mark, else as UTF-8, else as declared or as the 8-bit encoding given.

    Raises `DocumentError` for what is no text, and for what mixes UTF-8 with something else. Encoding the
    result gives back the same bytes.
    """
    for mark, encoding in _MARKS:
        if data.startswith(mark):
            return _checked(data, mark, encoding)
    if declared and (codec := codecs.lookup(declared).name) != "utf-8":
        # The plain names of these codecs would write a mark that the document does not have.
        return _checked(data, b"", {"utf-16": "utf-16-le", "utf-32": "utf-32-le"}.get(codec, codec))
    try:
        return _checked(data, b"", "utf-8")
    except DocumentError:
        if not fallback or declared or b"\0" in data:
            raise
    mixed = re.search(_MULTIBYTE, data)
    if mixed:
        line = data.count(b"\n", 0, mixed.start()) + 1
        raise DocumentError(f"it mixes UTF-8 (line {line}) with another encoding")
    try:
        return _checked(data, b"", fallback)
    except DocumentError:
        return _checked(data, b"", "latin-1")


def _checked(data: bytes, mark: bytes, encoding: str) -> Text:
    try:
        characters = data[len(mark) :].decode(encoding)
    except UnicodeDecodeError as error:
        raise DocumentError(f"it is not {encoding.upper()}: byte {error.start + len(mark)}") from None
    is_clean = not encoding.startswith("utf-16") and len(data.translate(None, _CONTROLS)) == len(data)
    found = None if is_clean else _BINARY.search(characters)
    if found:
        line = characters.count("\n", 0, found.start()) + 1
        raise DocumentError(f"it is not text: character {found[0]!a} in line {line}")
    return Text(characters, encoding, mark)


def lines(characters: str) -> list[str]:
    r"""Split into lines with their ends; only CR, LF and CRLF end a line.

    >>> lines("a\r\nb\nc")
    ['a\r\n', 'b\n', 'c']
    """
    return re.findall(_LINE, characters) if _OTHER_ENDS.search(characters) else characters.splitlines(True)


def line_end(line: str) -> str:
    """Return the end of a line: CRLF, LF, CR, or nothing."""
    return line[len(line.rstrip("\r\n")) :]


def usual_end(characters: str) -> str:
    """Return the end that new lines of a document have."""
    return "\r\n" if "\r\n" in characters else "\n"


def skip(expression: re.Pattern[str], characters: str, at: int) -> int:
    """Return where what stands at a place ends, or the place itself where it does not stand there."""
    found = expression.match(characters, at)
    return found.end() if found else at


def back(characters: str, at: int, over: str = " \t\r\n") -> int:
    """Return where the white space before a place begins."""
    while at and characters[at - 1] in over:
        at -= 1
    return at


def remembered(parse: Callable[[str], T]) -> Callable[[str], T]:
    """Return a way to take texts apart that knows the last two: an edit, and its proof, ask for the same again.

    What comes of them is not to be changed.
    """
    kept = lru_cache(maxsize=2)(parse)
    return lambda text: kept(text) if len(text) <= LARGEST_REMEMBERED else parse(text)

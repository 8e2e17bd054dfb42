"""An XML document (XML 1.0, fifth edition) as a tree of elements that know where they stand in it.

The standard library's expat says what is well-formed and where things are. Entities that a document declares
itself are never expanded, nothing is ever fetched, and depth costs no recursion.
"""

import codecs
import re
from dataclasses import dataclass, field
from typing import Any
from xml.parsers import expat  # noqa: S406 - hardened below

from zinker.formats.text import Text, back, decode, remembered
from zinker.model.errors import DocumentError, NotWritable

_DECLARATION = re.compile(rb"""<\?xml[^>]*?\sencoding\s*=\s*["']([A-Za-z][A-Za-z0-9._-]*)["']""")
_SAID = re.compile(r"""<\?xml[^>]*?\sencoding\s*=\s*["']([A-Za-z][A-Za-z0-9._-]*)["']""")
_TAG = re.compile(rb"""<[^\s/>]+(?:[^"'>]|"[^"]*"|'[^']*')*>""")
_ATTRIBUTE = re.compile(r"""\s([^\s=/>"'<]+)\s*=\s*("[^"]*"|'[^']*')""")
_MARKUP = re.compile(r"<!--.*?-->|<\?.*?\?>", re.DOTALL)
# Characters that XML 1.0 has no way to write (section 2.2).
_FORBIDDEN = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]")


@dataclass(slots=True, eq=False)
class Element:
    """An element, in characters from `start` to `end`; what it holds from `inner` to `close`.

    A tag that closes itself has `inner` == `close` == `end`.
    """

    tag: str
    start: int
    attributes: dict[str, str]
    inner: int = 0
    close: int = 0
    end: int = 0
    children: list["Element"] = field(default_factory=list)
    text: str = ""
    spans: dict[str, tuple[int, int, int]] = field(default_factory=dict)  # of its attributes, once asked for

    @property
    def is_closed(self) -> bool:
        """Whether its tag closes itself."""
        return self.inner == self.end

    @property
    def is_mixed(self) -> bool:
        """Whether text stands between its children."""
        return bool(self.children) and not self.text.isspace() and self.text != ""


def decode_xml(data: bytes, declared: str = "") -> Text:
    """Decode a document by its mark, else by its declaration, else as UTF-8 (XML 1.0, appendix F)."""
    if data.startswith((b"<\x00", b"\x00<")):
        return decode(data, declared="utf-16-le" if data[:1] == b"<" else "utf-16-be")
    found = _DECLARATION.match(data)
    name = found[1].decode("ascii") if found else "utf-8"
    try:
        text = decode(data, fallback="", declared=declared or name)
        said = _SAID.match(text.characters)
        if text.mark and said and codecs.lookup(said[1]).name[:6] != text.encoding[:6]:
            raise DocumentError(
                f"it says its encoding is {said[1]}, and begins as {text.encoding.upper()} does"
            )
        return text
    except LookupError:
        raise DocumentError(f"it says its encoding is {name}, which is unknown") from None


@remembered
def parse(text: str) -> Element:
    """Take a document apart; raises `DocumentError` for one that is not well-formed or declares entities."""
    try:
        data = text.encode("utf-8")
    except UnicodeEncodeError:
        raise DocumentError("it holds half a surrogate pair") from None
    return _Parser(data, text.isascii()).run()


def unbound(text: str) -> bool:
    """Tell whether a document has a prefix that it does not declare (Namespaces in XML 1.0, section 5)."""
    parser = expat.ParserCreate("utf-8", namespace_separator=" ")
    try:
        parser.Parse(text.encode("utf-8"), True)
    except expat.ExpatError as error:
        return error.code == expat.errors.codes[expat.errors.XML_ERROR_UNBOUND_PREFIX]
    return False


class _Parser:
    def __init__(self, data: bytes, is_ascii: bool) -> None:
        self._data, self._is_ascii = data, is_ascii
        self._open: list[Element] = []
        self._root: Element | None = None
        self._parser = expat.ParserCreate("utf-8")
        self._parser.buffer_text = True
        self._parser.specified_attributes = True  # not those that a document type gives by default
        self._parser.StartElementHandler = self._start
        self._parser.EndElementHandler = self._end
        self._parser.CharacterDataHandler = self._characters
        self._parser.EntityDeclHandler = self._entity
        self._parser.SkippedEntityHandler = self._skipped

    def run(self) -> Element:
        # The declaration may name another encoding; what is parsed here is UTF-8 already.
        try:
            self._parser.Parse(self._data, True)
        except expat.ExpatError as error:
            message = expat.errors.messages[error.code]
            raise DocumentError(f"line {error.lineno}, column {error.offset + 1}: {message}") from None
        if self._root is None:
            raise DocumentError("it has no element")
        if not self._is_ascii:
            _to_characters(self._root, self._data)
        return self._root

    def _start(self, tag: str, attributes: dict[str, str]) -> None:
        at = self._parser.CurrentByteIndex
        element = Element(tag, at, attributes)
        found = _TAG.match(self._data, at)
        element.inner = found.end() if found else at
        if self._open:
            self._open[-1].children.append(element)
        self._root = self._root or element
        self._open.append(element)

    def _end(self, tag: str) -> None:
        element = self._open.pop()
        at = self._parser.CurrentByteIndex
        if self._data[element.inner - 2 : element.inner] == b"/>":
            element.close = element.end = element.inner
        else:
            element.close = at
            element.end = self._data.index(b">", at) + 1

    def _characters(self, text: str) -> None:
        if self._open:
            self._open[-1].text += text

    def _entity(self, *_: Any) -> None:
        raise DocumentError("it declares entities of its own, which are not expanded")

    def _skipped(self, *_: Any) -> None:
        raise DocumentError("it uses entities that another document declares, and nothing is fetched")


def _to_characters(root: Element, data: bytes) -> None:
    """Turn places in bytes into places in characters."""
    elements, waiting = [], [root]
    while waiting:
        element = waiting.pop()
        elements.append(element)
        waiting += element.children
    places = sorted({p for e in elements for p in (e.start, e.inner, e.close, e.end)})
    characters, last, count = {}, 0, 0
    for place in places:
        count += len(data[last:place].decode("utf-8"))
        characters[place], last = count, place
    for e in elements:
        e.start, e.inner = characters[e.start], characters[e.inner]
        e.close, e.end = characters[e.close], characters[e.end]


def attribute_span(text: str, element: Element, name: str) -> tuple[int, int, int]:
    """Return where an attribute begins (with the space before it), and where its value does and ends."""
    if not element.spans:
        found = _ATTRIBUTE.finditer(text, element.start + 1 + len(element.tag), element.inner)
        element.spans = {one[1]: (one.start(), one.start(2) + 1, one.end(2) - 1) for one in found}
    return element.spans[name]


def escaped(value: str, address: str, quote: str = "") -> str:
    """Return text as it is written in XML; raises `NotWritable` for what XML cannot hold."""
    if _FORBIDDEN.search(value):
        raise NotWritable(address, "its value has characters that XML cannot hold")
    value = value.replace("&", "&amp;").replace("<", "&lt;").replace("\r", "&#13;")
    if quote:
        value = value.replace("\n", "&#10;").replace("\t", "&#9;")
        return value.replace(quote, "&quot;" if quote == '"' else "&apos;")
    return value.replace("]]>", "]]&gt;")


def beside_comments(inside: str, written: str) -> str:
    """Return a new text of an element between the comments and instructions that stand around the old one."""
    pieces = _MARKUP.findall(inside)
    if not any(pieces):
        return written
    texts = _MARKUP.sub("\0", inside).split("\0")
    first = next((number for number, one in enumerate(texts) if one.strip()), len(texts))
    return "".join([*pieces[:first], written, *pieces[first:]])


def indentation(text: str, holder: Element) -> tuple[str, str]:
    """Return what stands before a new last child, and what before the closing tag of its holder.

    Both are "" where the children stand in one line.
    """
    if holder.children:
        before = _white_before(text, holder.children[-1].start)
        return before, _white_before(text, holder.close)
    own = _white_before(text, holder.start)
    if "\n" not in own:
        return ("\n  ", "\n") if holder.start == 0 or "\n" in text[: holder.start] else ("", "")
    line = own[own.rindex("\n") :]
    step = re.search(r"\n([ \t]+)<", text)
    return line + (step[1] if step else "  "), line


def _white_before(text: str, at: int) -> str:
    white = text[back(text, at) : at]
    cut = white.rfind("\n")
    if cut < 0:
        return ""
    return white[cut - 1 :] if white[cut - 1 : cut] == "\r" else white[cut:]

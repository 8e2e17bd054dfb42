r"""INI files: sections in brackets, one key a line, comments after `;` or `#`.

An address is `/section/key`; what stands before the first section has the section "". A section's name is
what stands between the first bracket of its line and the last, so that `[a][b]` is the section `a][b`. A key
without a delimiter has the type `null`, everything else is `text`.

The delimiter is `=`, or `:` in a file where more lines have that one first. Continuation lines, comments
behind values, quotation marks and case are part of a value or a name unless the dialect says otherwise.
"""

import re
from collections.abc import Callable, Iterator, Sequence

from zinker.formats.dialect import PLAIN, Dialect
from zinker.formats.ini_bulk import ini_rows
from zinker.formats.leaves import Edit, Leaves
from zinker.formats.line_file import EMPTY_SECTION, HEADER, NO_VALUE, Scanned, edit_lines, read_lines
from zinker.formats.text import decode
from zinker.model.address import pointer
from zinker.model.errors import DocumentError
from zinker.model.rows import END, row, row_of, tail, text_tail

_SECTION = re.compile(r"[ \t]*\[(.*)\][ \t]*(?:[;#].*)?\Z")
_NO_VALUE = tail(NO_VALUE.type, NO_VALUE.value)
_CONTINUED = re.compile(r"(?:\\\\)*\\(?:\r\n|\n|\r)\Z")
_FOLD = re.compile(r"\\(?:\r\n|\n|\r)[ \t]*")
_QUOTED = re.compile(r""""(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*'""")


def read(data: bytes, dialect: Dialect = PLAIN) -> Leaves:
    """Return the settings of an INI file by address; raises `DocumentError`."""
    return read_lines(decode(data, declared=dialect.encoding).characters, Ini(dialect))


def read_rows(data: bytes, dialect: Dialect = PLAIN) -> list[str]:
    """Return the same as `read` as rows, in no order; raises `DocumentError`."""
    characters, grammar = decode(data, declared=dialect.encoding).characters, Ini(dialect)
    if not grammar.is_plain:
        return [row_of(address, leaf) for address, leaf in read_lines(characters, grammar).items()]
    return ini_rows(characters, grammar)


def edit(data: bytes, edits: Sequence[Edit], dialect: Dialect = PLAIN) -> bytes:
    """Return the file with the edits made; every other line stays as it is."""
    return edit_lines(decode(data, declared=dialect.encoding), Ini(dialect), edits)


class Ini:
    """The grammar of INI files in one dialect."""

    bare = NO_VALUE
    is_literal = False

    def __init__(self, dialect: Dialect, has_sections: bool = True) -> None:
        self.has_sections = has_sections
        self._dialect = dialect
        self.marks = dialect.comments or (";", "#")
        self.inline_marks = self.marks if dialect.inline else ()
        self.is_literal = not (dialect.continued or dialect.quotes)
        self._delimiter: str = dialect.delimiter
        is_usual = not (dialect.inline or dialect.ignore_case or dialect.continued or dialect.quotes)
        has_usual_marks = not any(mark[0].isalnum() for mark in self.marks)
        self.is_plain = is_usual and has_usual_marks and has_sections and len(dialect.delimiter) < 2
        marks = "|".join(map(re.escape, self.marks))
        self._comment = re.compile(rf"(?<=[ \t])(?:{marks})") if dialect.inline else None

    def scan(self, raw: Sequence[str]) -> Iterator[Scanned]:
        """Take the lines apart; raises `DocumentError`."""
        dialect, marks = self._dialect, self.marks
        delimiter, has_sections = self.choose_delimiter(raw), self.has_sections
        find = str.find if len(delimiter) == 1 else _first_of(delimiter)
        size = 0 if delimiter == "space" else 1
        simple = not (dialect.inline or dialect.ignore_case)
        section = ""
        for number, line in enumerate(self._joined(raw) if dialect.continued else raw, 1):
            stripped = line.strip()
            if not stripped or stripped.startswith(marks):
                yield line, section, None, 0, -1
            elif has_sections and stripped[0] == "[":
                section = section_of(line, number)
                section = section.lower() if dialect.ignore_case else section
                yield line, section, HEADER, 0, -1
            else:
                at = find(line, delimiter)
                key = line[:at].strip(" \t") if at >= 0 else stripped
                if not key:
                    raise DocumentError(f"line {number}: a value without a key")
                if at < 0:
                    start, stop = 0, -1
                else:
                    rest = line[at + size :]
                    value = rest.strip(" \t\r\n")
                    start = line.index(value, at + size) if value else len(line) - len(rest.lstrip(" \t"))
                    stop = start + len(value)
                if simple:
                    yield line, section, key, start, stop
                else:
                    yield self._refined(line, section, key, start, stop)

    def choose_delimiter(self, raw: Sequence[str]) -> str:
        """Return the delimiter, which the lines tell if the dialect does not."""
        self._delimiter = self._delimiter or _delimiter(raw, self.marks)
        return self._delimiter

    def plain_rows(self, raw: Sequence[str], first: int = 1) -> list[str]:
        """Return the rows of lines in a plain dialect, where one that begins with a letter or digit is a setting.

        The first line has the number `first`. Raises `DocumentError`.
        """
        delimiter = self.choose_delimiter(raw)
        rows: list[str] = []
        seen: set[str] = set()
        counts: dict[str, int] = {}
        sections: dict[str, bool] = {}  # whether they have keys
        prefix, section, is_new = "//", "", True
        for number, line in enumerate(raw, first):
            key, found, value = line.partition(delimiter)
            key = key.strip(" \t")
            if not (found and key[:1].isalnum()):
                stripped = line.strip()
                if not stripped or stripped.startswith(self.marks):
                    continue
                if stripped[0] == "[":
                    section = section_of(line, number)
                    sections.setdefault(section, False)
                    prefix, is_new = f"{pointer(section)}/", True
                    continue
                if found and not key:
                    raise DocumentError(f"line {number}: a value without a key")
                key = key if found else stripped
            if is_new:
                sections[section], is_new = True, False
            address = prefix + (key if "/" not in key and "~" not in key else pointer(key)[1:])
            if address in seen:
                counts[address] = nth = counts.get(address, 1) + 1
                address = f"{address}/{nth}"
            seen.add(address)
            ending = text_tail(value.strip(" \t\r\n"), "text") if found else _NO_VALUE
            if address.isprintable() and '"' not in address and "\\" not in address:
                rows.append(f"{address}{END}{ending}")
            else:
                rows.append(row(address, ending))
        return rows + [
            row_of(pointer(name), EMPTY_SECTION) for name, filled in sections.items() if not filled
        ]

    def _refined(self, line: str, section: str, key: str, start: int, stop: int) -> Scanned:
        if self._comment:
            begin = start
            quoted = _QUOTED.match(line, start) if self._dialect.quotes else None
            begin = quoted.end() if quoted else max(0, start - 1)
            found = self._comment.search(line, begin)
            if stop >= 0 and found:
                stop = max(start, len(line[: found.start()].rstrip(" \t")))
            elif stop < 0 and (found := self._comment.search(line)):
                key = line[: found.start()].strip(" \t")
        return line, section, key.lower() if self._dialect.ignore_case else key, start, stop

    def _joined(self, raw: Sequence[str]) -> Iterator[str]:
        """Put the lines of a value that goes on together."""
        by_indent = self._dialect.continued == "indent"
        held = ""
        for line in raw:
            if held and self._goes_on(held, line):
                held += line
                continue
            if held:
                yield held
            held = line if not by_indent or self._may_go_on(line.strip()) else ""
            if not held:
                yield line
        if held:
            yield held

    def _goes_on(self, held: str, line: str) -> bool:
        """Tell whether a line belongs to the value before it."""
        if self._dialect.continued == "backslash":
            return bool(_CONTINUED.search(held))
        bare = line.strip()
        return bool(bare) and line[0] in " \t" and not bare.startswith(self.marks)

    def _may_go_on(self, bare: str) -> bool:
        return bool(bare) and not bare.startswith((*self.marks, "["))

    def value(self, written: str) -> str:
        """Return the value that is written so."""
        if self._dialect.continued == "indent" and ("\n" in written or "\r" in written):
            written = "\n".join(line.strip(" \t") for line in re.split(r"\r\n|\n|\r", written))
        elif self._dialect.continued == "backslash" and "\\" in written:
            written = _FOLD.sub("", written)
        if self._dialect.quotes and len(written) >= 2 and written[0] == written[-1] and written[0] in "\"'":
            return written[1:-1]
        return written

    def written(self, value: str, model: str, indent: str) -> str | None:
        """Return how a value is written: between quotation marks if its model is, or if it needs them."""
        if "\n" in value and self._dialect.continued == "indent":
            return f"\n{indent}    ".join(value.split("\n"))
        if "\n" in value or "\r" in value:
            return None
        if self._dialect.quotes:
            mark = model[0] if len(model) >= 2 and model[0] == model[-1] and model[0] in "\"'" else ""
            needs = value != value.strip(" \t") or value[:1] in ("'", '"')
            needs = needs or bool(self._comment and self._comment.search(f" {value}"))
            mark = mark or ('"' if needs else "")
            return f"{mark}{value}{mark}"
        return value

    def start(self, key: str, has_value: bool, indent: str, before: str) -> str | None:
        """Return what stands in a new line before the value."""
        if not has_value:
            return indent + key
        if self._delimiter == "space":
            found = re.search(r"[ \t]+\Z", before)
            return indent + key + (found[0] if found else " ")
        found = re.search(r"[ \t]*[=:][ \t]*\Z", before)
        return indent + key + (found[0] if found else self._delimiter[0])

    def after(self, key: str) -> str:
        """Return nothing: a line ends with its value."""
        return ""

    def joint(self, raw: str) -> str:
        """Return the delimiter."""
        return {"space": " ", "": "="}.get(self._delimiter, self._delimiter[:1])


def section_of(line: str, number: int) -> str:
    """Return the section that a line opens; raises `DocumentError`."""
    header = _SECTION.match(line.rstrip("\r\n"))
    if not header:
        raise DocumentError(f"line {number}: a section name without its closing bracket")
    return header[1]


def _delimiter(raw: Sequence[str], marks: tuple[str, ...]) -> str:
    """Return the delimiter that more lines have first; most files are told by their first thousand lines."""
    firsts = [
        found[0]
        for line in raw[:1000]
        if (found := re.search("[=:]", line)) and not line.lstrip().startswith((*marks, "["))
    ]
    return ":" if firsts.count(":") > firsts.count("=") else "="


def _first_of(delimiter: str) -> Callable[[str, str], int]:
    expression = re.compile(r"(?<=[^ \t])[ \t]" if delimiter == "space" else "[=:]")

    def find(line: str, _: str) -> int:
        found = expression.search(line.rstrip())
        return found.start() if found else -1

    return find

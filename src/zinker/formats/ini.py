r"""INI files: sections in brackets, one key a line, comments after `;` or `#`.

An address is `/section/key`; what stands before the first section has the section "". A section's name is
what stands between the first bracket of its line and the last, so that `[a][b]` is the section `a][b`. A key
without a delimiter has the type `null`, everything else is `text`.

The delimiter is `=`, or `:` in a file where more lines have that one first. Continuation lines, comments
behind values, quotation marks and case are part of a value or a name unless the dialect says otherwise.
"""

import re
from collections.abc import Callable, Iterator, Sequence

from zinker.formats.dialect import Dialect
from zinker.formats.line_file import HEADER, Grammar, Scanned, joined, line_format, plainly
from zinker.formats.text import Text
from zinker.model.address import pointer
from zinker.model.errors import DocumentError, NotWritable

_SECTION = re.compile(r"[ \t]*\[(.*)\][ \t]*(?:[;#].*)?\Z")
_NESTED = re.compile(r"[ \t]*(\[+)([^\[\]\r\n]+)(\]+)[ \t]*(?:#.*)?\r?\n?\Z")
_LONE_RETURN = re.compile(r"\r(?!\n)")
_FOLD = re.compile(r"\\(?:\r\n|\n|\r)[ \t]*")
_QUOTED = re.compile(r""""(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*'""")


def _decode(data: bytes, dialect: Dialect) -> Text:
    text = plainly(data, dialect)
    if dialect.spaces and _LONE_RETURN.search(text.characters):
        raise DocumentError("it has a carriage return without a line feed, which may be the end of a value")
    return text


class Ini(Grammar):
    """The grammar of INI files in one dialect."""

    def __init__(self, dialect: Dialect, has_sections: bool = True) -> None:
        self.has_sections, self.is_nested = has_sections, dialect.nested
        self._dialect = dialect
        self._marks = dialect.comments or (";", "#")
        self.inline_marks = self._marks if dialect.inline else ()
        self.is_literal = not (dialect.continued or dialect.quotes)
        self._delimiter: str = dialect.delimiter
        marks = "|".join(map(re.escape, self._marks))
        self._comment = re.compile(rf"(?<=[ \t])(?:{marks})") if dialect.inline else None

    def scan(self, raw: Sequence[str]) -> Iterator[Scanned]:
        """Take the lines apart; raises `DocumentError`."""
        dialect, marks, has_sections = self._dialect, self._marks, self.has_sections
        delimiter = self._delimiter = self._delimiter or _delimiter(raw, marks)
        is_simple = not (dialect.inline or dialect.ignore_case or dialect.nested or dialect.continued)
        split = str.partition if len(delimiter) == 1 else _split_at(delimiter)
        spaces = "\r\n" if dialect.spaces else " \t\r\n"
        has_odd_marks = any(mark[0].isalnum() for mark in marks)
        section, number = "", 0
        names: tuple[str, ...] = ()
        for line in self._joined(raw) if dialect.continued else raw:
            number += 1
            key, found, value = split(line, delimiter)
            key = key.strip(" \t")
            if not (found and key[:1].isalnum()) or (has_odd_marks and key.startswith(marks)):
                stripped = line.strip()
                if not stripped or stripped.startswith(marks):
                    yield line, section, None, None
                    continue
                if stripped[0] == "[" and has_sections:
                    names = self._section_of(line, names, number)
                    section = pointer(*names)[1:]
                    yield line, section, HEADER, None
                    continue
                if found and not key:
                    raise DocumentError(f"line {number}: a value without a key")
                key = key if found else stripped
            written = value.rstrip(spaces).lstrip(" \t") if found else None
            if is_simple:
                yield line, section, key, written
                continue
            if dialect.continued and "\n" in line[:-1]:
                number += line.count("\n", 0, -1)
                if not found:
                    raise DocumentError(f"line {number}: it goes on with a value that has not begun")
            yield self._refined(line, section, key, written)

    def place(self, raw: str, written: str) -> int:
        """Return where in a line its value stands."""
        split = str.partition if len(self._delimiter) == 1 else _split_at(self._delimiter)
        key, found, value = split(raw, self._delimiter)
        at = len(key) + len(found)
        return raw.index(written, at) if written else at + len(value) - len(value.lstrip(" \t"))

    def _section_of(self, line: str, names: tuple[str, ...], number: int) -> tuple[str, ...]:
        """Return the names of the section that a line opens, and of those that it is in."""
        if self._dialect.nested:
            header = _NESTED.match(line)
            depth = len(header[1]) if header else 0
            if header is None or depth != len(header[3]):
                raise DocumentError(f"line {number}: a section name without its closing brackets")
            if depth > len(names) + 1:
                raise DocumentError(f"line {number}: a section in one that is not there")
            return (*names[: depth - 1], _unquoted(header[2].strip()))
        header = _SECTION.match(line.rstrip("\r\n"))
        if not header:
            raise DocumentError(f"line {number}: a section name without its closing bracket")
        return (header[1].lower() if self._dialect.ignore_case else header[1],)

    def _refined(self, line: str, section: str, key: str, written: str | None) -> Scanned:
        if self._comment and written is None:
            found = self._comment.search(key)
            key = key[: found.start()].strip(" \t") if found else key
        elif self._comment and written is not None and "\n" not in written:
            quoted = _QUOTED.match(written) if self._dialect.quotes else None
            found = self._comment.search(f" {written}", quoted.end() + 1 if quoted else 0)
            written = written[: found.start() - 1].rstrip(" \t") if found else written
        if self._dialect.nested:
            key = _unquoted(key)
            if (written or "").startswith(("'''", '"""')):
                raise DocumentError(
                    f"the value of {key!a} goes on over several lines, between quotation marks"
                )
        return line, section, key.lower() if self._dialect.ignore_case else key, written

    def _joined(self, raw: Sequence[str]) -> Iterator[str]:
        """Put the lines of a value that goes on together."""
        if self._dialect.continued == "indent":
            return self._joined_by_indent(raw)
        return joined(raw, lambda line: self._may_go_on(line.strip()))

    def _joined_by_indent(self, raw: Sequence[str]) -> Iterator[str]:
        """Put what is indented deeper than a key to its value; a blank line or a comment does not end that."""
        held: list[str] = []
        indent = 0
        waiting: list[str] = []  # blank lines and comments, which may be within the value
        for line in raw:
            bare = line.strip()
            if held and (not bare or bare.startswith(self._marks)):
                waiting.append(line)
            elif held and line.index(bare[0]) > indent:
                held += [*waiting, line]
                waiting = []
            else:
                if held:
                    yield "".join(held)
                    yield from waiting
                held, waiting = [], []
                if self._may_go_on(bare):
                    held, indent = [line], line.index(bare[0])
                else:
                    yield line
        if held:
            yield "".join(held)
        yield from waiting

    def _may_go_on(self, bare: str) -> bool:
        return bool(bare) and not bare.startswith((*self._marks, "["))

    def value(self, written: str) -> str:
        """Return the value that is written so."""
        if self._dialect.continued == "indent" and ("\n" in written or "\r" in written):
            return "\n".join(self._without_comments(written)).rstrip()
        if self._dialect.continued == "backslash" and "\\" in written:
            written = _FOLD.sub("", written)
        return _unquoted(written) if self._dialect.quotes else written

    def _without_comments(self, written: str) -> Iterator[str]:
        """Yield the lines of a value that goes on, without the comments that stand in it."""
        for line in re.split(r"\r\n|\n|\r", written):
            found = self._comment.search(line) if self._comment else None
            line = line[: found.start()] if found else line
            if not line.lstrip().startswith(self._marks):
                yield line.strip()

    def written(self, value: str, model: str, indent: str) -> str | None:
        """Return how a value is written: between quotation marks if its model is, or if it needs them."""
        if self._dialect.continued == "indent" and "\n" in model and self._is_commented(model):
            raise NotWritable("", "a comment stands in the middle of its value")
        if "\n" in value and self._dialect.continued == "indent":
            written = f"\n{indent}    ".join(value.split("\n"))
            return written if self.value(written) == value else None
        if "\n" in value or "\r" in value:
            return None
        if self._dialect.quotes:
            mark = model[0] if len(model) >= 2 and model[0] == model[-1] and model[0] in "\"'" else ""
            needs = value != value.strip(" \t") or value[:1] in ("'", '"')
            needs = needs or bool(self._comment and self._comment.search(f" {value}"))
            mark = mark or ('"' if needs else "")
            return f"{mark}{value}{mark}"
        return value

    def _is_commented(self, written: str) -> bool:
        """Tell whether comments stand in a value that goes on over several lines."""
        kept = list(self._without_comments(written))
        return "".join("".join(kept).split()) != "".join(written.split())

    def start(self, key: str, has_value: bool, indent: str, before: str) -> str | None:
        """Return what stands in a new line before the value."""
        if not has_value:
            return indent + key
        if self._delimiter == "space":
            found = re.search(r"[ \t]+\Z", before)
            return indent + key + (found[0] if found else " ")
        found = re.search(r"[ \t]*[=:][ \t]*\Z", before)
        return indent + key + (found[0] if found else self._delimiter[0])

    def joint(self, raw: str) -> str:
        """Return the delimiter."""
        return {"space": " ", "": "="}.get(self._delimiter, self._delimiter[:1])

    def header(self, names: tuple[str, ...]) -> str | None:
        """Return the line that opens a section, with as many brackets as it is deep."""
        depth = len(names)
        is_odd = self.is_nested and not re.fullmatch(
            r"[^\s\[\]\"',](?:[^\[\]\"'\r\n]*[^\s\[\]\"'])?", names[-1]
        )
        return (
            None
            if is_odd or "\n" in names[-1] or "\r" in names[-1]
            else f"{'[' * depth}{names[-1]}{']' * depth}"
        )


read, edit = line_format(_decode, lambda text, dialect: Ini(dialect))


def _unquoted(text: str) -> str:
    is_quoted = len(text) >= 2 and text[0] == text[-1] and text[0] in "\"'"
    return text[1:-1] if is_quoted else text


def _delimiter(raw: Sequence[str], marks: tuple[str, ...]) -> str:
    """Return the delimiter that more lines have first; most files are told by their first thousand lines."""
    firsts = [
        found[0]
        for line in raw[:1000]
        if (found := re.search("[=:]", line)) and not line.lstrip().startswith((*marks, "["))
    ]
    return ":" if firsts.count(":") > firsts.count("=") else "="


def _split_at(delimiter: str) -> Callable[[str, str], tuple[str, str, str]]:
    """Return what parts a line as `str.partition` does, at white space or at whichever delimiter comes first."""
    expression = re.compile(r"(?<=[^ \t])[ \t](?=[ \t]*[^\s])" if delimiter == "space" else "[=:]")

    def split(line: str, _: str) -> tuple[str, str, str]:
        found = expression.search(line)
        return (line[: found.start()], found[0], line[found.end() :]) if found else (line, "", "")

    return split

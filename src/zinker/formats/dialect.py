"""What a subject file may say about the way its application writes a format (docs/formats.md shows each)."""

import re
from typing import Annotated, Literal

import msgspec

from zinker.formats.limits import LONGEST_PATTERN

Name = Literal[
    "ini",
    "json",
    "key-value",
    "pattern",
    "plist",
    "properties",
    "sqlite",
    "toml",
    "whole",
    "xml",
    "yaml",
]


class Table(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A table of a preference database: the columns that name a row, and the one that holds its value, if one does.

    What the other columns have are settings of their own, below the row's address.
    """

    table: str
    key: Annotated[tuple[str, ...], msgspec.Meta(min_length=1)]
    value: str = ""


class Dialect(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How documents of a part are written, where that cannot be seen from themselves.

    encoding       that of a document without a byte-order mark that is not UTF-8: a Python codec's name
    delimiter      ini: what ends a key; "=:" is whichever comes first, "space" is white space
    comments       ini, key-value, pattern: what begins a line that is a comment
    inline         ini, key-value: a comment mark after white space ends a value
    continued      ini: a value goes on in the next line if that is indented deeper than its key, or if a
                   backslash ends its own
    nested         ini: sections in sections, `[[inner]]` in `[outer]`
    spaces         ini: spaces behind a value are part of it
    quotes         ini, key-value: quotation marks around a value are not part of it
    ignore_case    ini: keys and sections are the same in any case; their addresses are in small letters
    named_by       xml: what names an element among others of its tag, as `attribute` or `child/@attribute`;
                   several that only together name it are joined by `+`
    pattern        pattern: a regular expression with the groups `key` and `value` for the lines that count
    line           pattern: how a new line is written, with `{key}` and `{value}`
    tables         sqlite: the tables that hold settings
    """

    encoding: str = ""
    delimiter: Literal["", "=", ":", "=:", "space"] = ""
    comments: tuple[str, ...] = ()
    inline: bool = False
    continued: Literal["", "indent", "backslash"] = ""
    nested: bool = False
    spaces: bool = False
    quotes: bool = False
    ignore_case: bool = False
    named_by: tuple[str, ...] = ("name", "id", "key")
    pattern: Annotated[str, msgspec.Meta(max_length=LONGEST_PATTERN)] = ""
    line: str = ""
    tables: tuple[Table, ...] = ()


PLAIN = Dialect()

# Which formats each key of a dialect is for.
_MEANT_FOR = {
    "delimiter": ("ini",),
    "comments": ("ini", "key-value", "pattern"),
    "inline": ("ini", "key-value"),
    "continued": ("ini",),
    "nested": ("ini",),
    "spaces": ("ini",),
    "quotes": ("ini", "key-value"),
    "ignore_case": ("ini",),
    "named_by": ("xml",),
    "pattern": ("pattern",),
    "line": ("pattern",),
    "tables": ("sqlite",),
}


def mistake(format: str, dialect: Dialect) -> str:
    """Say what is wrong with a dialect for a format, or "".

    >>> mistake("json", Dialect(quotes=True))
    'the dialect key `quotes` is for ini and key-value, not for json'
    """
    for key, formats in _MEANT_FOR.items():
        is_given = getattr(dialect, key) != getattr(PLAIN, key)
        if is_given and format not in formats:
            return f"the dialect key `{key}` is for {' and '.join(formats)}, not for {format or 'a guessed format'}"
    if format == "pattern":
        return _pattern_mistake(dialect)
    if format == "sqlite" and not dialect.tables:
        return "a part of the format `sqlite` needs `tables` in its dialect"
    if dialect.encoding:
        try:
            "".encode(dialect.encoding)
        except LookupError:
            return f"there is no encoding `{dialect.encoding}`"
    return ""


def _pattern_mistake(dialect: Dialect) -> str:
    try:
        groups = re.compile(dialect.pattern).groupindex
    except re.error as error:
        return f"the pattern `{dialect.pattern}` is no regular expression: {error}"
    if not {"key", "value"} <= set(groups):
        return f"the pattern `{dialect.pattern}` needs the groups (?P<key>...) and (?P<value>...)"
    if dialect.line and not ("{key}" in dialect.line and "{value}" in dialect.line):
        return f"the line `{dialect.line}` must hold {{key}} and {{value}}"
    return ""

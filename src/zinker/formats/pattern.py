"""Lines matched by a pattern that the subject file gives, for preference files that look like a script.

An address is `/key`, from the pattern's group `key`; the value is the text of its group `value`, as it
stands there. Lines that do not match are nobody's business and stay as they are. Nothing is ever run.
"""

import re
from collections.abc import Iterator, Sequence

from zinker.formats.dialect import PLAIN, Dialect
from zinker.formats.leaves import Edit, Leaves
from zinker.formats.line_file import NO_VALUE, Scanned, edit_lines, read_lines
from zinker.formats.text import decode

# A pattern may take time that grows with the square of a line's length, or worse.
_LONGEST_LINE = 100_000


def read(data: bytes, dialect: Dialect = PLAIN) -> Leaves:
    """Return the settings by address; raises `DocumentError`."""
    return read_lines(decode(data, declared=dialect.encoding).characters, _Pattern(dialect))


def edit(data: bytes, edits: Sequence[Edit], dialect: Dialect = PLAIN) -> bytes:
    """Return the file with the edits made; every other line stays as it is."""
    return edit_lines(decode(data, declared=dialect.encoding), _Pattern(dialect), edits)


class _Pattern:
    bare = NO_VALUE
    is_literal = True
    inline_marks: tuple[str, ...] = ()
    has_sections = False

    def __init__(self, dialect: Dialect) -> None:
        self._pattern = re.compile(dialect.pattern)
        self._comments = dialect.comments
        self._before, _, self._behind = dialect.line.partition("{value}")

    def scan(self, raw: Sequence[str]) -> Iterator[Scanned]:
        for line in raw:
            bare = line.rstrip("\r\n")
            is_skipped = len(bare) > _LONGEST_LINE or (
                self._comments and bare.lstrip().startswith(self._comments)
            )
            found = None if is_skipped else self._pattern.search(bare)
            if found and found["key"]:
                start, stop = found.span("value")
                yield line, "", found["key"], max(start, 0), stop
            else:
                yield line, "", None, 0, -1

    def value(self, written: str) -> str:
        return written

    def written(self, value: str, model: str, indent: str) -> str | None:
        return None if "\n" in value or "\r" in value else value

    def start(self, key: str, has_value: bool, indent: str, before: str) -> str | None:
        return self._before.replace("{key}", key) if has_value and self._before else None

    def after(self, key: str) -> str:
        return self._behind.replace("{key}", key)

    def joint(self, raw: str) -> str:
        return ""

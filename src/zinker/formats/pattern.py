"""Lines matched by a pattern that the subject file gives, for preference files that look like a script.

An address is `/key`, from the pattern's group `key`; the value is the text of its group `value`, as it
stands there. Lines that do not match stay as they are. Nothing is ever run.
"""

from collections.abc import Iterator, Sequence

import regex

from zinker.formats.dialect import Dialect
from zinker.formats.limits import LONGEST_MATCHED_LINE, LONGEST_SEARCH
from zinker.formats.line_file import Grammar, Scanned, line_format, plainly
from zinker.model.errors import DocumentError

# A pattern may take time that grows with the square of a line's length, or worse: no line longer than this, in
# characters, is looked at, and none for longer than so many seconds. `regex`, unlike `re`, can be told to stop,
# and lets other threads run, among them the one that hears Ctrl+C.


class _Pattern(Grammar):
    def __init__(self, dialect: Dialect) -> None:
        try:
            self._pattern = regex.compile(dialect.pattern)
        except regex.error as error:
            raise DocumentError(f"its pattern is no regular expression: {error}") from error
        self._comments = dialect.comments
        self._before, _, self._behind = dialect.line.partition("{value}")

    def scan(self, raw: Sequence[str]) -> Iterator[Scanned]:
        for number, line in enumerate(raw, 1):
            bare = line.rstrip("\r\n")
            is_skipped = len(bare) > LONGEST_MATCHED_LINE or (
                self._comments and bare.lstrip().startswith(self._comments)
            )
            try:
                found = None if is_skipped else self._search(bare)
            except TimeoutError:
                why = f"the pattern does not come to an end within {LONGEST_SEARCH:g} seconds"
                raise DocumentError(f"line {number}: {why}") from None
            yield line, "", (found["key"] or None) if found else None, found["value"] if found else None

    def place(self, raw: str, written: str) -> int:
        found = self._search(raw.rstrip("\r\n"))
        return found.start("value") if found else 0

    def _search(self, bare: str) -> "regex.Match[str] | None":
        return self._pattern.search(bare, timeout=LONGEST_SEARCH, concurrent=True)

    def written(self, value: str, model: str, indent: str) -> str | None:
        return None if "\n" in value or "\r" in value else value

    def start(self, key: str, has_value: bool, indent: str, before: str) -> str | None:
        return self._before.replace("{key}", key) if has_value and self._before else None

    def after(self, key: str) -> str:
        return self._behind.replace("{key}", key)


read, edit = line_format(plainly, lambda text, dialect: _Pattern(dialect))

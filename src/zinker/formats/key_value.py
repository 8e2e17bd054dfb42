"""Lines of a key and a value with white space between them, or an equals sign; comments after `#`.

An address is `/key`; a key that stands there again is `/key/2`, and so on. Where a line has an equals sign
right behind its first word, that is the delimiter.
"""

from collections.abc import Sequence

import msgspec

from zinker.formats.dialect import PLAIN, Dialect
from zinker.formats.ini import Ini
from zinker.formats.leaves import Edit, Leaves
from zinker.formats.line_file import edit_lines, read_lines
from zinker.formats.text import Text, decode


def read(data: bytes, dialect: Dialect = PLAIN) -> Leaves:
    """Return the settings by address; raises `DocumentError`."""
    text = decode(data, declared=dialect.encoding)
    return read_lines(text.characters, _grammar(text, dialect))


def edit(data: bytes, edits: Sequence[Edit], dialect: Dialect = PLAIN) -> bytes:
    """Return the file with the edits made; every other line stays as it is."""
    text = decode(data, declared=dialect.encoding)
    return edit_lines(text, _grammar(text, dialect), edits)


def _grammar(text: Text, dialect: Dialect) -> Ini:
    comments = dialect.comments or ("#",)
    return Ini(msgspec.structs.replace(dialect, comments=comments, delimiter="space"), has_sections=False)

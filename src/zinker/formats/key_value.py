"""Lines of a key and a value with white space between them, or an equals sign; comments after `#`.

An address is `/key`; a key that stands there again is `/key/2`, and so on. Where a line has an equals sign
right behind its first word, that is the delimiter.
"""

import msgspec

from zinker.formats.dialect import Dialect
from zinker.formats.ini import Ini
from zinker.formats.line_file import line_format, plainly
from zinker.formats.text import Text


def _grammar(text: Text, dialect: Dialect) -> Ini:
    comments = dialect.comments or ("#",)
    return Ini(msgspec.structs.replace(dialect, comments=comments, delimiter="space"), has_sections=False)


read, edit = line_format(plainly, _grammar)

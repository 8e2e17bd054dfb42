"""How much readers take before they give up: far above what people and programs write, far below what does harm.

Text formats have no limit on their size, as reading and editing grow with it (docs/benchmarks.md has the table); a
document that does not fit into memory, or is nested deeper than Python's stack, is refused in words.
"""

from typing import Final

DEEPEST_YAML: Final = 500  # maps and lists in each other
DEEPEST_VARIANT: Final = 64  # as GLib's
LONGEST_PATTERN: Final = 500  # characters; what takes longer than this to write is no pattern for a line
LONGEST_MATCHED_LINE: Final = 100_000  # characters of a line that a pattern is tried on
LONGEST_SEARCH: Final = 10.0  # seconds that a pattern may take for a line
LONGEST_KEY: Final = 65_536  # characters of a key in a settings database
MOST_TABLES: Final = 100_000  # in a settings database
MOST_KEYS: Final = 1_000_000  # below a key of a hive
MOST_VALUES: Final = 1_000_000  # of a key of a hive
MOST_OBJECTS: Final = 2_000_000  # in a binary property list, one that is used again counted again
LARGEST_LOG: Final = 2**31  # bytes of a hive's log
LARGEST_VALUE: Final = 64 * 1024 * 1024  # characters of a value in a registration text file
MOST_TROUBLES: Final = 100  # lines of a registration text file that are named as meaning nothing
MOST_COMPARED: Final = 1_000_000  # pairs of items of an old and a new list
LARGEST_REMEMBERED: Final = (
    4 * 1024 * 1024
)  # characters of a document that is taken apart once for several uses

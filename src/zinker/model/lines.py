"""What can be told of many lines of a profile without taking them apart."""

import re
from bisect import bisect_right
from collections.abc import Iterable, Iterator
from itertools import accumulate

from zinker.model.setting import Setting, decode_line

# In the opening line of a document, and in no other but those of addresses that hold it themselves, escaped.
_NO_ADDRESS = b'","","'
# The opening line of a document that was taken apart.
_OPENING = re.compile(rb'^\["(?:[^"\\]|\\.)*","","document",', re.MULTILINE)
_WORD = re.compile(r"[A-Za-z0-9_-]+")


def heads_in(piece: bytes) -> Iterator[Setting]:
    """Yield the opening lines among some lines."""
    if _NO_ADDRESS in piece:
        for line in piece.split(b"\n"):
            if _NO_ADDRESS in line and (setting := decode_line(line)).is_head:
                yield setting


def count_settings(piece: bytes) -> int:
    """Count the lines but those that open a document that was taken apart."""
    openings = len(_OPENING.findall(piece)) if b',"","document",' in piece else 0
    return piece.count(b"\n") - openings


def lines_with(lines: list[bytes], words: Iterable[bytes]) -> list[int]:
    """Return which of some lines have any of some words in them."""
    text = b"\n".join(lines)
    found = [at for word in words for at in _places(text, word)]
    if not found:
        return []
    ends = list(accumulate(len(line) + 1 for line in lines))
    return sorted({bisect_right(ends, at) for at in found})


def _places(text: bytes, word: bytes) -> Iterator[int]:
    at = text.find(word)
    while at >= 0:
        yield at
        at = text.find(word, at + 1)


def words_of(patterns: Iterable[str]) -> list[bytes] | None:
    """Return a word for each of some patterns of addresses that stands in every address which fits it.

    None where a pattern has no such word, so that every address may fit.
    """
    words: list[bytes] = []
    for pattern in patterns:
        longest = max(_WORD.findall(pattern), key=len, default="")
        if not longest:
            return None
        words.append(longest.encode())
    return words

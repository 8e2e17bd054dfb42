"""Values, sizes, times and names in words for people; `--json` has them exactly."""

import datetime
import json
import re

from zinker.model.setting import Leaf, Setting, text_of
from zinker.subjects.subject import Part

# The width of what is no terminal: a file, or a program that reads on, gets everything whole.
UNCUT = 1_000_000_000

# Control characters could drive the terminal, bidirectional marks could lie about what is written, and what is no
# character has no place in XML. Compiled when it is needed, which is seldom.
_UNSEEN = "[\x00-\x1f\x7f-\x9f\u061c\u200b-\u200f\u2028-\u202e\u2066-\u2069\ufeff\ufffe\uffff\ud800-\udfff]"

_UNITS = ((1000, "kB"), (1000**2, "MB"), (1000**3, "GB"))


def visible(text: str) -> str:
    r"""Return a text from a profile so that nothing in it can act on a terminal.

    >>> visible("a\x1b[31m")
    'a\\u001b[31m'
    """
    if text.isprintable():  # none of those is
        return text
    return re.sub(
        _UNSEEN,
        lambda found: json.dumps(found[0])[1:-1] if found[0] < "\x80" else ascii(found[0])[1:-1],
        text,
    )


def cut(text: str, width: int) -> str:
    """Cut a text in its middle to a width.

    >>> cut("a long value", 9)
    'a lo…alue'
    """
    if len(text) <= width:
        return text
    keep = max(2, width - 1)
    return text[: keep - keep // 2] + "…" + text[len(text) - keep // 2 :]


def value(leaf: Leaf | Setting | None) -> str:
    """Return a value for a table."""
    return visible(text_of(leaf))


def size(count: int) -> str:
    """Return a number of bytes in words.

    >>> size(999), size(4_100), size(2_000_000)
    ('999 bytes', '4.1 kB', '2.0 MB')
    """
    if count < 1000:
        return f"{count} byte{'s' if count != 1 else ''}"
    scale, unit = next((pair for pair in _UNITS if count < 999.95 * pair[0]), _UNITS[-1])
    return f"{count / scale:.1f} {unit}"


def count(number: int, one: str, many: str = "") -> str:
    """Return a number with its word.

    >>> count(1, "setting"), count(2000, "setting")
    ('1 setting', '2,000 settings')
    """
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def age(captured: str, now: datetime.datetime | None = None) -> str:
    """Return how long ago something was captured."""
    then = datetime.datetime.fromisoformat(captured)
    seconds = ((now or datetime.datetime.now().astimezone()) - then).total_seconds()
    if seconds < -3600:
        return "dated ahead"
    for length, word in ((2 * 31_556_952, "year"), (86400, "day"), (3600, "hour"), (60, "minute")):
        if seconds >= length:
            return count(int(seconds // (length // 2 if word == "year" else length)), word)
    return "just now"


def ago(captured: str, now: datetime.datetime | None = None) -> str:
    """Return how long ago something was captured, in a sentence.

    >>> ago("2024-11-20T08:00:00+01:00", datetime.datetime.fromisoformat("2026-11-26T08:00:00+01:00"))
    '2 years ago'
    """
    told = age(captured, now)
    return told if told in ("just now", "dated ahead") else f"{told} ago"


def when(captured: str) -> str:
    """Return a point in time as the technician's clock shows it, to the minute."""
    return str(datetime.datetime.fromisoformat(captured).astimezone())[:16]


def title(part: Part | None, address: str) -> str:
    """Return what people call a setting: the title from the subject file, or its address."""
    named = part.titles.get(address) if part else None
    return named or address

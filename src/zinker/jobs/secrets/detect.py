"""Tells which settings are secrets: those the subject file marks, and those that look like one."""

import math
import re
from bisect import bisect_right
from collections import Counter
from collections.abc import Iterator
from itertools import accumulate

from zinker.formats.leaves import Leaves
from zinker.model.address import matches, pointer, tokens
from zinker.model.lines import lines_with, words_of
from zinker.model.rows import Block, address_of, leaf_of
from zinker.model.setting import WITHHELD, Leaf
from zinker.subjects.subject import Part

_TEXTS = frozenset({"text", "sz", "expand_sz", "gvariant:s"})
# A quick look at an address: most have none of this in them.
_TELLING_WORDS = (
    "pass",
    "pw",
    "secret",
    "token",
    "key",
    "credential",
    "auth",
    "session",
    "cookie",
    "salt",
    "pswd",
)
# The same of a value: a private key, a token, a URI with a password.
_TELLING_SIGNS = ("PRIVATE KEY", "eyJ", "@")
_TELLING = re.compile("|".join(_TELLING_WORDS), re.IGNORECASE)
_BATCH = 5_000
_IN_VALUE = re.compile(
    r"-----BEGIN [A-Z0-9 ]*PRIVATE KEY"  # PEM (RFC 7468)
    r"|\AeyJ[\w-]{10,}\.[\w-]{10,}\.[\w-]*\Z"  # a JSON Web Token (RFC 7519)
    r"|\A[a-z][a-z0-9+.-]*://[^/@\s:]+:[^/@\s]+@"  # a URI with a password (RFC 3986, section 3.2.1)
)
_WORD = re.compile(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])|\d+")
_PASSWORD = frozenset({"password", "passwd", "passphrase", "passcode", "pass", "pwd", "pw", "pswd"})
_TOKEN = frozenset({"token", "secret", "credential", "credentials", "apikey", "authkey", "privatekey"})
_KEY_OF = frozenset(
    {"api", "access", "private", "secret", "auth", "encryption", "session", "shared", "signing"}
)
_RANDOM_UNDER = frozenset({"auth", "session", "cookie", "salt", "key", "hash"})
# What is said about a secret, and is none itself.
_ABOUT = frozenset(
    """
    ask bar button chars color count dialog enabled enable expires expiry field file folder font
    generator hide hint hidden icon label length limit lifetime lock manager max menu method min mode
    name only path policy position prompt remember require required retries save saved script shortcut
    show size store storage strength timeout title tool toolbar type url use visible width window
    """.split()  # noqa: SIM905 - as a list it would be forty lines
)
_NO_SECRET = re.compile(
    r"true|false|yes|no|on|off|none|null|never|always|ask|default|\d{1,3}|[\d.]+|#[0-9a-f]{3,8}|"
    r"(?:(?:ctrl|alt|shift|meta|cmd|super)\+)+.{1,12}",
    re.IGNORECASE,
)
_RANDOM = re.compile(r"[A-Za-z0-9+/=_.:~-]{20,}")


def is_secret(part: Part, address: str) -> bool:
    """Tell whether the subject marks an address, or one above it, as secret."""
    return bool(part.secret) and _is_marked(part.secret, address)


def _is_marked(patterns: tuple[str, ...], address: str) -> bool:
    path = tokens(address)
    above = [pointer(*path[:depth]) for depth in range(1, len(path) + 1)]
    return any(matches(pattern, upper) for pattern in patterns for upper in above)


def holds_secret(part: Part, address: str, leaf: Leaf) -> bool:
    """Tell whether a setting is secret: marked as such, a list with an item that is, or looking like one."""
    if not leaf.value or leaf.value in ("''", '""') or (leaf.type == "list" and not any(leaf.value)):
        return False
    if part.secret:
        items = range(len(leaf.value)) if leaf.type == "list" else ()
        if is_secret(part, address) or any(is_secret(part, f"{address}/{item}") for item in items):
            return True
    if leaf.type == WITHHELD or not looks_secret(address, leaf):
        return False
    return not (part.not_secret and _is_marked(part.not_secret, address))


def secrets_in(part: Part, leaves: Leaves) -> Leaves:
    """Return the settings that are secret."""
    if part.secret:
        return {address: leaf for address, leaf in leaves.items() if holds_secret(part, address, leaf)}
    found: Leaves = {}
    addresses = list(leaves)
    for at in range(0, len(addresses), _BATCH):
        batch = addresses[at : at + _BATCH]
        # One look at many names at once: most documents have none that tells anything.
        names = "\n".join(batch).lower()
        texts = [leaf.value for leaf in map(leaves.__getitem__, batch) if leaf.type in _TEXTS]
        if any(word in names for word in _TELLING_WORDS) or _may_tell("\n".join(texts)):
            found |= {a: leaves[a] for a in batch if holds_secret(part, a, leaves[a])}
    return found


def secret_rows(part: Part, block: Block) -> Iterator[int]:
    """Yield which of the rows hold a secret; most blocks are looked at as a whole, and have none."""
    rows = block.rows
    for number in range(len(rows)) if part.secret else _suspects(block):
        if holds_secret(part, address_of(rows[number]), leaf_of(rows[number])):
            yield number


def _suspects(block: Block) -> list[int]:
    """Return which rows have anything telling in them, by looking at all of them at once."""
    names, text = block.names.lower(), "\n".join(block.rows)
    words = [word for word in _TELLING_WORDS if word in names]
    telling = [sign for sign in _TELLING_SIGNS if sign in text]
    if not words and not telling:
        return []
    lower = text.lower() if words else ""
    if len(lower) not in (0, len(text)):  # in lower case a few characters are two
        return list(range(len(block.rows)))
    found = [at for word in words for at in _places(lower, word)]
    found += [at for sign in telling for at in _places(text, sign)]
    ends = list(accumulate(len(row) + 1 for row in block.rows))
    return sorted({bisect_right(ends, at) for at in found})


def _places(text: str, word: str) -> Iterator[int]:
    at = text.find(word)
    while at >= 0:
        yield at
        at = text.find(word, at + 1)


def _may_tell(value: str) -> bool:
    return any(sign in value for sign in _TELLING_SIGNS)


def looks_secret(address: str, leaf: Leaf) -> bool:
    """Tell whether a setting looks like a secret, by its name and its value.

    >>> looks_secret("/account/api_key", Leaf("text", "f81d4fae7dec11d0a76500a0"))
    True
    >>> looks_secret("/keys/show-password", Leaf("text", "Ctrl+P"))
    False
    """
    if leaf.type not in _TEXTS:
        return False
    value = leaf.value[1:-1] if leaf.type == "gvariant:s" else leaf.value  # such stand in quotes
    if _may_tell(value) and _IN_VALUE.search(value):
        return True
    if not _TELLING.search(address) or _NO_SECRET.fullmatch(value):
        return False
    return any(_is_telling(token, value) for token in tokens(address)[-2:])


def _is_telling(token: str, value: str) -> bool:
    words = [word.lower() for word in _WORD.findall(token)]
    for at, word in enumerate(words):
        if _ABOUT.intersection(words[at + 1 :]) or (
            at and words[at - 1] in ("show", "hide", "save", "remember")
        ):
            continue
        if word in _PASSWORD:
            return True
        is_key = word == "key" and at > 0 and words[at - 1] in _KEY_OF
        if (word in _TOKEN or is_key) and len(value) >= 8 and " " not in value:
            return True
        if word in _RANDOM_UNDER and _is_random(value):
            return True
    return False


def _is_random(value: str) -> bool:
    """Tell whether a text is long, of letters and digits, and spread like random ones."""
    if not _RANDOM.fullmatch(value) or sum(c.isdigit() for c in value) < 3 or value.count("/") > 2:
        return False
    share = [count / len(value) for count in Counter(value).values()]
    return -sum(p * math.log2(p) for p in share) > 3.3  # bits a character; words and paths have less


def suspects(part: Part, lines: list[bytes]) -> list[int]:
    """Return which lines of a profile may hold a secret: one that stands there, or the mark of one."""
    # A secret item of a list stands in the line of the list.
    marked = words_of(re.sub(r"/\d+\Z", "", pattern) or "/" for pattern in part.secret)
    if marked is None:
        return list(range(len(lines)))
    text = b"\n".join(lines).decode("utf-8", "replace")
    own = text.split("\n")
    telling = _suspects(Block(own, text)) if len(own) == len(lines) else list(range(len(lines)))
    # What JSON writes as an escape may be any letter of a telling word.
    return sorted({*telling, *lines_with(lines, (*marked, b'"withheld"', b'"mark"', b"\\u"))})

"""Tells which settings are secrets: those that the subject file marks, and those that look like one.

This is the one place that decides it: by where a value stands, what it is called and what it looks like.
"""

import base64
import re
from binascii import a2b_base64
from collections.abc import Callable, Iterable, Iterator

from zinker.formats.leaves import Leaves
from zinker.jobs.secrets.shapes import assigned, fits, key_in, look_of, may_look
from zinker.jobs.secrets.words import NAME_NAMES, STRENGTH, VALUE_NAMES, Kind, may_tell, telling
from zinker.model.address import matches, pointer, tokens
from zinker.model.lines import lines_with, words_of
from zinker.model.rows import END, address_of, leaf_of
from zinker.model.setting import WITHHELD, Leaf
from zinker.subjects.subject import Part

# How the rule begins that a subject file gives.
MARK = "the mark"
_BATCH = 5_000
_NO_TEXT = frozenset(
    {"bool", "null", "date", "object", "key", "gone", "key-gone", "document", "whole", WITHHELD}
)
_NUMBERS = frozenset({"int", "dword", "qword", "uid"})
_BYTES = frozenset({"bytes", "binary", "none"})
# What a value that stands in the text of the desktop's database has in quotes.
_QUOTED = re.compile(r"'((?:[^'\\]|\\.)*)'|\"((?:[^\"\\]|\\.)*)\"")
_BETWEEN = '","'  # document and address in a line of a profile; JSON has it nowhere inside a text
# Names that say nothing of their own.
_ANY = re.compile(
    r"[#@]?(?:value|val|text|data|content|current|secure|plain|clear|encrypted|raw|string|\d+|_+|\$t)?",
    re.IGNORECASE,
)
# What could be random in a row; of bytes, anything could.
_LONG = re.compile(r"[A-Za-z0-9+/=_.:~-]{20}")
# What names tell, of one and of several one above the other: those of a million settings are few, but for digits.
_KINDS: dict[str, Kind] = {}
_DIGITS = "0123456789"
_SIGNS_OF_BYTES = ('"binary","', '"bytes","', '"none","', '"registry:')
_NO_TEXT_BYTES = bytes({*range(1, 9), *range(14, 32)})
_LEAST_BYTES = {"password": 4, "token": 8, "random": 16}


def mark_of(patterns: tuple[str, ...], address: str) -> str:
    """Return the first of some patterns that fits an address, or one above it, or ""."""
    if not patterns:
        return ""
    path = tokens(address)
    above = [pointer(*path[:depth]) for depth in range(1, len(path) + 1)]
    return next((pattern for pattern in patterns if any(matches(pattern, upper) for upper in above)), "")


def holds_secret(part: Part, address: str, leaf: Leaf) -> bool:
    """Tell whether a setting is secret."""
    return bool(rule_of(part, address, leaf))


def rule_of(part: Part, address: str, leaf: Leaf) -> str:
    """Say by which rule a setting is secret, or "" if it is none."""
    if leaf.value is None or leaf.value in ("", "''", '""', [], {}):
        return ""
    if leaf.type == "list" and not any(leaf.value):
        return ""
    if part.secret:
        items = [f"{address}/{item}" for item in range(len(leaf.value))] if leaf.type == "list" else []
        for one in (address, *items):
            if mark := mark_of(part.secret, one):
                return f"{MARK} {mark}"
    if leaf.type == WITHHELD:
        return ""
    rule = rule_of_looks(address, leaf)
    return "" if rule and mark_of(part.not_secret, address) else rule


def rule_of_looks(address: str, leaf: Leaf) -> str:
    """Say why a setting looks like a secret, by its name or its value, or "".

    >>> rule_of_looks("/account/api_key", Leaf("text", "f81d4fae7dec11d0a76500a0"))
    'its name: apikey'
    >>> rule_of_looks("/keys/show-password", Leaf("text", "Ctrl+P"))
    ''
    """
    if leaf.type in _NO_TEXT:
        return ""
    texts = _texts(leaf)
    for text in texts:
        if look := look_of(text):
            return f"its look: {look}"
        if given := next(assigned(text), None):
            return f"its look: it gives a value to {given[0]}"
    if _is_bytes(leaf.type) and (look := key_in(base64.b64decode(leaf.value))):
        return f"its look: {look}"
    kind, word = _told(address)
    return f"its name: {word}" if kind and _may_be(kind, leaf, texts) else ""


def rule_of_name(part: Part, address: str) -> str:
    """Say by which rule a withheld setting was one, as far as its address tells."""
    if mark := mark_of(part.secret, address) or mark_of(part.secret, f"{address}/0"):  # an item of a list
        return f"{MARK} {mark}"
    word = _told(address)[1]
    return f"its name: {word}" if word else "its look"


def _told(address: str) -> tuple[str, str]:
    """Return what the names in an address tell: the kind of secret, and the word that says so."""
    path = tokens(address)
    if not path or any(telling(name).is_text for name in path[:-1]):
        return "", ""
    last = telling(path[-1])
    if last.kind:
        return last.kind, last.word
    if last.is_about:
        return "", ""
    for distance, name in enumerate(reversed(path[-4:-1])):
        above = telling(name)
        if above.kind and (above.is_plural or (distance == 0 and _ANY.fullmatch(path[-1]))):
            return above.kind, above.word
    return "", ""


def _texts(leaf: Leaf) -> list[str]:
    """Return the texts that a value is, or holds."""
    if leaf.type.startswith("gvariant:"):
        return [one or other for one, other in _QUOTED.findall(str(leaf.value))]
    if _is_bytes(leaf.type):
        return _decoded(base64.b64decode(leaf.value))
    if isinstance(leaf.value, list):
        return [item for item in leaf.value if isinstance(item, str)]
    return [leaf.value] if isinstance(leaf.value, str) else []


def _is_bytes(type: str) -> bool:
    return type in _BYTES or type.startswith("registry:")


def _decoded(data: bytes) -> list[str]:
    """Return the text that some bytes are, if they are one."""
    for encoding in ("utf-8", "utf-16-le") if data[1:2] != b"\0" else ("utf-16-le",):
        try:
            text = data.decode(encoding).rstrip("\0")
        except UnicodeDecodeError:
            continue
        if text and text.replace("\n", "").replace("\r", "").replace("\t", "").isprintable():
            return [text]
    return []


def _may_be(kind: str, leaf: Leaf, texts: list[str]) -> bool:
    """Tell whether a value could be the secret that its name tells of."""
    if leaf.type in _NUMBERS or isinstance(leaf.value, int):
        return kind in ("password", "number") and len(str(leaf.value).lstrip("-")) >= 4
    if _is_bytes(leaf.type):
        data = base64.b64decode(leaf.value)
        return (
            len(data) >= _LEAST_BYTES.get(kind, 2)
            and len(set(data)) > 1
            and (kind != "random" or len(set(data)) > 8)
        )
    if leaf.type == "float":
        return False
    if leaf.type.startswith("gvariant:") and not texts:  # a number, or bytes one by one
        return kind != "random" and leaf.type != "gvariant:d" and sum(map(str.isdigit, leaf.value)) >= 4
    return any(fits(kind, text) for text in texts)


def secrets_in(part: Part, leaves: Leaves) -> Leaves:
    """Return the settings that are secret."""
    found: Leaves = {}
    addresses = list(leaves)
    for at in range(0, len(addresses), _BATCH):
        batch = addresses[at : at + _BATCH]
        those = [leaves[address] for address in batch]
        values = [leaf.value if type(leaf.value) is str else _value_of(leaf) for leaf in those]
        names = [address.rpartition("/") for address in batch]
        suspect = set(_suspects(part, names, values, "\n".join(values), is_named=False))
        if any(map(_is_bytes, {leaf.type for leaf in those})):
            suspect.update(n for n, leaf in enumerate(those) if _is_bytes(leaf.type) and _is_text(leaf.value))
        found |= {one: leaves[one] for n in sorted(suspect) if holds_secret(part, one := batch[n], those[n])}
        found |= {
            batch[number]: those[number]
            for number in _named_beside(names, lambda number: those[number])  # noqa: B023 - used at once
            if not mark_of(part.not_secret, batch[number])
        }
    return found


def _named_beside(names: list[tuple[str, str, str]], leaf_at: Callable[[int], Leaf]) -> Iterator[int]:
    """Yield which settings are secrets by a name that stands beside them: `{"name": "password", "value": "x"}`."""
    called = {last for last in {last for _, _, last in names} if last.lower() in VALUE_NAMES}
    if not called:
        return
    values = [(number, path) for number, (path, _, last) in enumerate(names) if last in called]
    paths = {path for _, path in values}
    kinds: dict[str, Kind] = {}
    for number, (path, _, last) in enumerate(names):
        if path in paths and last.lower() in NAME_NAMES and isinstance(name := leaf_at(number).value, str):
            kinds[path] = kinds.get(path) or _kind_of(name[:200])
    for number, path in values:
        leaf = leaf_at(number)
        if (kind := kinds.get(path)) and leaf.type not in _NO_TEXT and _may_be(kind, leaf, _texts(leaf)):
            yield number


def _value_of(leaf: Leaf) -> str:
    """Return the texts of a value that is none itself."""
    return "\n".join(map(str, leaf.value)) if isinstance(leaf.value, list) else ""


def secret_rows(part: Part, rows: list[str]) -> Iterator[int]:
    """Yield which of the rows hold a secret; most are only looked at together, and have none."""
    names = [row[: row.index(END)].rpartition("/") for row in rows]
    for number in _suspects(part, names, rows, "\n".join(rows)):
        if holds_secret(part, address_of(rows[number]), leaf_of(rows[number])):
            yield number
    for number in _named_beside(names, lambda number: leaf_of(rows[number])):
        if not mark_of(part.not_secret, address_of(rows[number])):
            yield number


def suspects(part: Part, lines: list[bytes]) -> list[int]:
    """Return which lines of a profile may hold a secret: one that stands there, or the mark of one."""
    text = b"\n".join(lines).decode("utf-8", "replace")
    rows = text.split("\n")
    found: Iterable[int] = range(len(lines))
    if len(rows) == len(lines):
        names = [row.partition(_BETWEEN)[2].partition('",')[0].rpartition("/") for row in rows]
        found = _suspects(part, names, rows, text)
    # What JSON writes as an escape may be any letter of a telling word.
    return sorted({*found, *lines_with(lines, (b'"withheld"', b'"mark"', b"\\u"))})


def _suspects(
    part: Part, names: list[tuple[str, str, str]], rows: list[str], text: str, is_named: bool = True
) -> list[int]:
    """Return which settings may be secrets, by a quick look at all of them.

    `names` are their addresses, each without its last name, and that; `rows` their values, with all else that
    stands in their rows if it `is_named`, and `text` all of those.
    """
    found: set[int] = set()
    signs = [sign for sign in _SIGNS_OF_BYTES if sign in text] if is_named else []
    if signs:
        # What is in bytes cannot be seen in their Base64, which looks like a token of any kind.
        those = {number for sign in signs for number, row in enumerate(rows) if sign in row}
        found.update(n for n in those if _is_text(rows[n][rows[n].rfind('","') + 3 : -2]))
        plain = [number for number in range(len(rows)) if number not in those]
        others = [rows[number] for number in plain]
        found.update(plain[number] for number in may_look(others, "\n".join(others)))
    else:
        found.update(may_look(rows, text))
    found.update(_telling(names, rows, is_named))
    if part.secret:
        # A secret item of a list stands in the row of the list.
        words = words_of(re.sub(r"/\d+\Z", "", pattern) or "/" for pattern in part.secret)
        if words is None:
            return list(range(len(rows)))
        sought = [word.decode() for word in words]
        found.update(n for n, name in enumerate(names) if any(word in "".join(name) for word in sought))
    return sorted(found)


def _telling(names: list[tuple[str, str, str]], rows: list[str], is_named: bool) -> Iterator[int]:
    """Yield which settings have names, or stand below some, that tell of a secret; each name is looked at once."""
    if len(_KINDS) > 100_000:
        _KINDS.clear()
    lasts = {last for _, _, last in names}
    by_name = {last: kind for last in lasts if (kind := _kind_of(last.rstrip(_DIGITS)))}
    above = {path: kinds for path in {path for path, _, _ in names} if any(kinds := _kinds_above(path))}
    if not by_name and not above:
        return
    nameless = {last for last in lasts if _ANY.fullmatch(last)} if above else set()
    of_all = {path for path, (kind, _) in above.items() if kind}
    told = [
        number
        for number, (path, _, last) in enumerate(names)
        if last in by_name or path in of_all or (last in nameless and path in above)
    ]
    for number in told:
        path, _, last = names[number]
        most = by_name.get(last) or above[path][0] or above[path][1]
        if most != "random" or _LONG.search(rows[number], len(path) + len(last) if is_named else 0):
            yield number


def _is_text(encoded: str) -> bool:
    """Tell whether bytes, in Base64, may be a text, by what they begin with, or a key in DER (ITU-T X.690)."""
    try:
        beginning = a2b_base64(encoded[:64])
    except ValueError:
        return True  # it is none
    return beginning[:1] == b"0" or len(beginning.translate(None, _NO_TEXT_BYTES)) == len(beginning)


def _kind_of(name: str) -> Kind:
    """Return what a name tells."""
    kind = _KINDS.get(name)
    if kind is None:
        kind = telling(_plain(name)).kind if may_tell(name) else ""
        _KINDS[name] = kind
    return kind


def _kinds_above(path: str) -> tuple[Kind, Kind]:
    """Return what the names above a setting tell of it: of any, and of one whose own name says nothing."""
    names = path.rsplit("/", 3)[-3:]
    kinds = [_KINDS[name] if name in _KINDS else _kind_of(name) for name in names]
    if not any(kinds):
        return "", ""
    several = (
        kind for name, kind in zip(names, kinds, strict=True) if kind and telling(_plain(name)).is_plural
    )
    return max(several, key=STRENGTH.index, default=""), kinds[-1]


def _plain(name: str) -> str:
    return name.replace("~1", "/").replace("~0", "~")

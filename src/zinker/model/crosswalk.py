"""A crosswalk translates settings from one place's world to another's.

It replaces paths and names inside text values, moves settings to other addresses, and gives settings the value
that one place has for them. Crosswalk files are TOML; docs/crosswalk.schema.json is made from these classes.
"""

import ntpath
import re
from collections.abc import Callable, Iterable, Mapping
from functools import cached_property
from typing import Annotated, Any, Literal

import msgspec

from zinker.model.address import matches
from zinker.model.plain_json import schema_of
from zinker.model.setting import Setting

FORMAT = 1
SUFFIX = ".crosswalk.toml"

_TEXT_TYPES = frozenset({"text", "sz", "expand_sz"})
_LIST_TYPES = frozenset({"list", "multi_sz"})
# What a path does not go on after, if it is quoted or all there is, and if it stands in the middle of a text.
_REST = re.compile(r"""[\\/][^"'<>|;\n\r\t]*""")
_PLAIN_REST = re.compile(r"""[\\/][^"'<>|;,\s]*""")
# A quoted text inside the printed form of a desktop value, without anything escaped in it.
_QUOTED = re.compile(r"'([^'\\]*)'")

Address = Annotated[str, msgspec.Meta(pattern="^/", description="An address: a JSON Pointer (RFC 6901).")]


class _Table(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A table in which an unknown key is a mistake."""


class Replace(_Table, frozen=True, rename={"from_": "from"}):
    """A text inside values that is another one at the other place.

    `path`: a folder or drive, with what lies below it; slashes become the other place's own. `word`: a user,
    host or account name, where it stands as a whole word. `text`: wherever it stands. `whole`: where nothing else
    stands there. Without `parts` and
    `addresses` (patterns), it counts everywhere.
    """

    from_: Annotated[str, msgspec.Meta(min_length=1)]
    to: str
    kind: Literal["path", "word", "text", "whole"] = "text"
    any_case: bool = False
    parts: tuple[str, ...] = ()
    addresses: tuple[Address, ...] = ()


class Move(_Table, frozen=True, rename={"from_": "from"}):
    """A setting, or all below an address, that stands at another address; perhaps in another document or part.

    `since` is the version of the application that moved it: from an older to a newer one it is moved, from a
    newer to an older one it is moved back, and between others it is not.
    """

    part: str
    from_: Address
    to: Address
    document: str = ""
    to_part: str = ""
    to_document: str = ""
    since: str = ""


class Value(_Table, frozen=True):
    """A setting that has a value of its own at some places; `at` has them by the name of the place."""

    part: str
    address: Address
    at: dict[str, Any]
    document: str = ""


class Rules(_Table, frozen=True):
    """The content of a crosswalk file.

    `subjects` names those that are another edition's at the other place, `groups` and `users` those of a tenant
    that policies count for, or name.
    """

    format: Literal[1]
    title: str = ""
    replace: tuple[Replace, ...] = ()
    move: tuple[Move, ...] = ()
    value: tuple[Value, ...] = ()
    subjects: dict[str, str] = {}
    groups: dict[str, str] = {}
    users: dict[str, str] = {}


class Crosswalk(msgspec.Struct, frozen=True, dict=True):
    """Rules, for one pair of places; those for paths are tried the longest first, the others in their order.

    `place` is the name of the place that is translated for; `renames` has the documents, by part and name, that
    are called otherwise there.
    """

    replaces: tuple[Replace, ...] = ()
    moves: tuple[Move, ...] = ()
    values: tuple[Value, ...] = ()
    place: str = ""
    renames: dict[tuple[str, str], str] = {}

    @property
    def is_empty(self) -> bool:
        """Whether nothing is translated at all."""
        return not (self.replaces or self.moves or self.values or self.renames)

    def is_moving(self, part: str) -> bool:
        """Tell whether settings of a part, or into it, come to other addresses."""
        moves = any(part in (move.part, move.to_part) for move in self.moves)
        return moves or any(part == renamed for renamed, _ in self.renames)

    @cached_property
    def _patterns(self) -> tuple[tuple[Replace, re.Pattern[str]], ...]:
        order = sorted(
            self.replaces, key=lambda rule: (rule.kind != "path", -len(rule.from_) * (rule.kind == "path"))
        )
        return tuple((rule, _pattern(rule)) for rule in order)

    def translate(self, part: str, setting: Setting) -> Setting:
        """Return the setting with the value the other place would give it; the same object if nothing applies."""
        for own in self.values:
            if self.place in own.at and _is_at(own.part, own.document, own.address, part, setting):
                value = own.at[self.place]
                return setting if value == setting.value else Setting(*setting.key, setting.type, value)
        rules = [pair for pair in self._patterns if _applies(pair[0], part, setting.address)]
        value = _translated(setting, lambda text: _replaced(text, rules)) if rules else setting.value
        return setting if value == setting.value else Setting(*setting.key, setting.type, value)

    def used(self, texts: Iterable[str]) -> tuple[Replace, ...]:
        """Return the rules that apply to any of some texts, in the order they are given in."""
        texts = list(texts)
        found = {id(rule) for rule, pattern in self._patterns if any(pattern.search(text) for text in texts)}
        return tuple(rule for rule in self.replaces if id(rule) in found)

    def moved(self, part: str, document: str, address: str) -> tuple[str, str, str]:
        """Return part, document and address of a setting at the other place."""
        document = self.renames.get((part, document), document)
        for move in self.moves:
            is_there = part == move.part and document == (move.document or document)
            if is_there and f"{address}/".startswith(f"{move.from_}/"):
                rest = address[len(move.from_) :]
                return move.to_part or part, move.to_document or document, move.to + rest
        return part, document, address


def schema() -> dict[str, Any]:
    """Return the JSON Schema (2020-12) of crosswalk files."""
    return schema_of(Rules, "Zinker crosswalk")


def between(old: Mapping[str, str], new: Mapping[str, str]) -> tuple[Replace, ...]:
    """Make the rules for the path variables of two places, the longest folders first.

    >>> [(rule.from_, rule.to) for rule in between({"home": "/home/ivy"}, {"home": "/home/fern"})]
    [('/home/ivy', '/home/fern')]
    """
    pairs = {(old[name], new[name]) for name in old.keys() & new.keys() if old[name] != new[name]}
    chosen: list[Replace] = []
    for one, other in sorted(
        (pair for pair in pairs if len(pair[0]) > 1), key=lambda pair: (len(pair[0]), pair)
    ):
        # What lies below a folder comes along with it.
        below = Crosswalk(tuple(chosen)).translate("", Setting("", "/", "text", one)).value
        if below != other:
            chosen.append(Replace(one, other, "path"))
    return tuple(chosen[::-1])


def _is_at(part: str, document: str, address: str, own: str, setting: Setting) -> bool:
    return part == own and setting.address == address and document in ("", setting.document)


def _applies(rule: Replace, part: str, address: str) -> bool:
    is_meant = not rule.addresses or any(matches(pattern, address) for pattern in rule.addresses)
    return is_meant and (not rule.parts or part in rule.parts)


def _is_windows(path: str) -> bool:
    return bool(ntpath.splitdrive(path)[0]) or "\\" in path


def _pattern(rule: Replace) -> re.Pattern[str]:
    flags = re.IGNORECASE if rule.any_case else re.NOFLAG
    text = re.escape(rule.from_)
    if rule.kind == "word":
        return re.compile(rf"(?<![\w-]){text}(?![\w-])", flags)
    if rule.kind == "path":
        if _is_windows(rule.from_):
            names = re.split(r"[\\/]", rule.from_)
            text, flags = r"[\\/]".join(map(re.escape, names)), re.IGNORECASE
        # At the start, or after a quote, a folder may go on with a space; elsewhere that ends it.
        starts = rf"""(?:^|(?<=["'])){text}(?=[\\/"'<>|;:,\n]|$)"""
        inside = rf"""(?:(?<=[^\w.\\/"'-])|(?<=file://)|(?<=file:///)){text}(?=[\\/"'<>|;:,\s]|$)"""
        return re.compile(f"{starts}|{inside}", flags)
    return re.compile(rf"\A{text}\Z" if rule.kind == "whole" else text, flags)


def _replaced(text: str, rules: list[tuple[Replace, re.Pattern[str]]]) -> str:
    """Apply rules to a text, in one pass: what one of them has put in is not translated again."""
    done, at = [], 0
    while at < len(text):
        found = [
            (match.start(), order, match, rule)
            for order, (rule, pattern) in enumerate(rules)
            if (match := pattern.search(text, at))
        ]
        if not found:
            break
        start, _, match, rule = min(found, key=lambda item: item[:2])
        done.append(text[at:start])
        at = match.end()
        if rule.kind != "path":
            done.append(rule.to)
            continue
        is_all = start == 0 or text[start - 1] in "\"'"
        rest = (_REST if is_all else _PLAIN_REST).match(text, at)
        below = rest[0] if rest else ""
        at += len(below)
        others = [pair for pair in rules if pair[0].kind != "path"]
        done.append(_path(rule, match[0], _replaced(below, others), text[:start].lower()))
    return "".join([*done, text[at:]])


def _path(rule: Replace, found: str, below: str, before: str) -> str:
    """Return a path as the other place writes it; in the URL of a file (RFC 8089), with slashes only."""
    is_url = before.endswith(("file://", "file:///"))
    if is_url or ("\\" not in found + below and _is_windows(rule.to) and _is_windows(rule.from_)):
        whole = (rule.to + below).replace("\\", "/")
        return (
            whole.removeprefix("/")
            if before.endswith("///")
            else f"/{whole.removeprefix('/')}"
            if is_url
            else whole
        )
    return rule.to + (below.replace("/", "\\") if _is_windows(rule.to) else below.replace("\\", "/"))


def _translated(setting: Setting, change: Callable[[str], str]) -> Any:
    """Return a value with all texts in it changed."""
    kind, value = setting.type, setting.value
    if kind in _TEXT_TYPES and isinstance(value, str):
        return change(value)
    if kind in _LIST_TYPES:
        return _each(value, change)
    if kind.startswith("gvariant:") and "s" in kind:

        def quoted(found: re.Match[str]) -> str:
            text = change(found[1])
            return found[0] if "'" in text else "'" + text.replace("\\", "\\\\") + "'"

        return _QUOTED.sub(quoted, value)
    return value


def _each(value: Any, change: Callable[[str], str]) -> Any:
    if isinstance(value, list):
        return [_each(item, change) for item in value]
    return change(value) if isinstance(value, str) else value

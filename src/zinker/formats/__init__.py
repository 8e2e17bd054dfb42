"""Formats turn the bytes of a document into settings, and write edits back, touching only what changed.

A new format is one file of its name with the two functions of `Format`, and that name in `dialect.Name`. Bytes in,
bytes out: nothing in here opens a file.
"""

import re
from collections.abc import Mapping, Sequence
from importlib import import_module
from typing import Protocol, cast, get_args

from zinker.formats.dialect import PLAIN, Dialect, Name
from zinker.formats.leaves import Edit, Leaves
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.setting import WHOLE

_FORMATS = frozenset(get_args(Name)) - {WHOLE}

_SUFFIXES = {
    ".cfg": "ini",
    ".conf": "ini",
    ".desktop": "ini",
    ".ini": "ini",
    ".json": "json",
    ".json5": "json",
    ".jsonc": "json",
    ".plist": "plist",
    ".properties": "properties",
    ".toml": "toml",
    ".xml": "xml",
    ".yaml": "yaml",
    ".yml": "yaml",
}


# What a file without a telling name begins with.
_SIGNS = (
    # Which tables of a database hold settings, only a subject file can say.
    (re.compile(rb"SQLite format 3\0"), WHOLE),
    (re.compile(rb"bplist0|\s*<\?xml[^>]*>\s*<!DOCTYPE plist"), "plist"),
    (re.compile(rb"(?:\xef\xbb\xbf)?\s*<(?:\?xml|!--|!DOCTYPE|[A-Za-z_])"), "xml"),
    (re.compile(rb"(?:\xef\xbb\xbf)?\s*(?:\{\s*[\"}]|\[\s*[\[{\"\d\]])"), "json"),
    (re.compile(rb"(?:\xef\xbb\xbf)?(?:\s*(?:[;#][^\n]*)?\n)*\s*\[[^\]\n]+\]\s*\n"), "ini"),
)


class Format(Protocol):
    """What a format module offers."""

    def read(self, data: bytes, dialect: Dialect) -> Leaves:
        """Return all settings of a document by address; raises `DocumentError`."""
        ...

    def edit(self, data: bytes, edits: Sequence[Edit], dialect: Dialect) -> bytes:
        """Return the document, which `read` takes, with the edits made; raises `NotWritable`."""
        ...


def _format(name: str) -> Format:
    if name not in _FORMATS:
        raise KeyError(name)
    return cast(Format, import_module(f"zinker.formats.{name.replace('-', '_')}"))


def guess(file_name: str, beginning: bytes = b"") -> str:
    """Tell the format of a file where the subject file does not say it: from its name, else its beginning."""
    suffix = file_name.lower().rpartition("/")[2].rpartition(".")
    named = _SUFFIXES.get(f".{suffix[2]}") if suffix[1] else None
    return named or next((name for sign, name in _SIGNS if sign.match(beginning)), WHOLE)


def read(format: str, data: bytes, dialect: Dialect = PLAIN) -> Leaves:
    """Return the settings of a document by address; raises `DocumentError` where it breaks its format."""
    try:
        return _format(format).read(data, dialect)
    except (RecursionError, MemoryError):
        raise DocumentError("it is nested too deeply") from None


class Reader:
    """Takes documents apart, and remembers what came of the last ones: the same bytes are taken apart once."""

    def __init__(self, most: int = 8 * 1024 * 1024) -> None:
        """Remember documents of `most` bytes in all."""
        self._most = most
        self._known: dict[tuple[str, bytes, Dialect], Leaves] = {}

    def read(self, format: str, data: bytes, dialect: Dialect = PLAIN) -> Leaves:
        """Return the settings of a document, as `read` does; they are not to be changed."""
        name, known = (format, data, dialect), self._known
        found = known.get(name)
        if found is None:
            found = read(format, data, dialect)
            if len(data) > self._most:
                return found
            while known and sum(len(other) for _, other, _ in list(known)) + len(data) > self._most:
                known.pop(next(iter(known)), None)
            known[name] = found
        return found


def edit(
    format: str, data: bytes, edits: Sequence[Edit], dialect: Dialect = PLAIN, reader: Reader | None = None
) -> bytes:
    """Return the document with the edits made, every other byte as it was.

    The result is read again before it is returned: a document in which an edit does not hold, or in which
    anything else has changed, is never handed out. Raises `NotWritable` with the address concerned, "" where it
    is the document: a profile may say of one what it is not.
    """
    if format not in _FORMATS:
        raise NotWritable("", f"the profile has it in a format that is not known here: {format or 'none'}")
    reader = reader or Reader()
    try:
        before = reader.read(format, data, dialect)
    except DocumentError as error:
        raise NotWritable("", f"it cannot be read as {format.upper()}: {error}") from None
    edits = [
        edit
        for edit in edits
        if edit.address and (edit.leaf is None or before.get(edit.address) != edit.leaf)
    ]
    if not edits:
        return data
    try:
        result = _format(format).edit(data, edits, dialect)
        after = reader.read(format, result, dialect)
    except RecursionError:
        raise NotWritable(edits[0].address, "it is nested too deeply") from None
    except DocumentError as error:
        why = f"the document would not be readable any more: {error}"
        raise NotWritable(edits[0].address, why) from None
    _prove(before, after, edits)
    return result


def _prove(before: Leaves, after: Leaves, edits: Sequence[Edit]) -> None:
    wanted: Mapping[str, Edit] = {edit.address: edit for edit in edits}
    for address, edit in wanted.items():
        found = after.get(address)
        if found != edit.leaf:
            why = "this document's format has no way to write it there"
            if edit.leaf is None:
                is_same = found == before.get(address)
                why = (
                    "comments still stand in it" if is_same else "what stands behind it would take its place"
                )
            raise NotWritable(address, why)
    for address in before.keys() | after.keys():
        if address not in wanted and before.get(address) != after.get(address):
            leaf = after.get(address, before.get(address))
            if leaf is None or leaf.value not in ({}, []):  # an emptied or filled container is no loss
                raise NotWritable(address, "writing the rest would change it, so the document was left alone")

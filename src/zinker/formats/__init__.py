"""Formats turn the bytes of a document into settings, and write edits back, touching only what changed.

A new format is one file with the two functions of `Format` and one line in `_FORMATS`. Bytes in, bytes out:
nothing in here opens a file.
"""

from collections.abc import Mapping, Sequence
from importlib import import_module
from typing import Protocol, cast

from zinker.formats.leaves import Edit, Leaves
from zinker.model.errors import NotWritable
from zinker.model.setting import WHOLE

_FORMATS = {"ini": "zinker.formats.ini", "json": "zinker.formats.json"}

_SUFFIXES = {".ini": "ini", ".conf": "ini", ".cfg": "ini", ".json": "json"}


class Format(Protocol):
    """What a format module offers."""

    def read(self, data: bytes) -> Leaves:
        """Return all settings of a document by address; raises `DocumentError`."""
        ...

    def edit(self, data: bytes, edits: Sequence[Edit]) -> bytes:
        """Return the document with the edits made; raises `DocumentError` and `NotWritable`."""
        ...


def _format(name: str) -> Format:
    return cast(Format, import_module(_FORMATS[name]))


def guess(file_name: str) -> str:
    """Tell the format of a file from its name, where the subject file does not say it."""
    return next((name for suffix, name in _SUFFIXES.items() if file_name.lower().endswith(suffix)), WHOLE)


def read(format: str, data: bytes) -> Leaves:
    """Return the settings of a document by address; raises `DocumentError` where it breaks its format."""
    return _format(format).read(data)


def edit(format: str, data: bytes, edits: Sequence[Edit]) -> bytes:
    """Return the document with the edits made, every other byte as it was.

    The result is read again before it is returned: a document in which an edit does not hold, or in which
    anything else has changed, is never handed out. Raises `NotWritable` with the address concerned.
    """
    edits = [edit for edit in edits if edit.address]
    if not edits:
        return data
    result = _format(format).edit(data, edits)
    _prove(_format(format).read(data), _format(format).read(result), edits)
    return result


def _prove(before: Leaves, after: Leaves, edits: Sequence[Edit]) -> None:
    wanted: Mapping[str, Edit] = {edit.address: edit for edit in edits}
    for address, edit in wanted.items():
        if after.get(address) != edit.leaf:
            raise NotWritable(address, "this document's format has no way to write it there")
    for address in before.keys() | after.keys():
        if address not in wanted and before.get(address) != after.get(address):
            leaf = after.get(address, before.get(address))
            if leaf is None or leaf.value not in ({}, []):  # an emptied or filled container is no loss
                raise NotWritable(address, "writing the rest would change it, so the document was left alone")

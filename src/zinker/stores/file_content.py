"""Reading the content of a file: held in memory, or streamed, and taken apart where it has a format."""

import hashlib
import io
from collections.abc import Callable
from typing import IO

from zinker import formats
from zinker.disk.files import CHUNK
from zinker.formats.dialect import PLAIN, Dialect
from zinker.model.errors import DocumentError
from zinker.model.file_state import FileState
from zinker.model.setting import WHOLE
from zinker.stores.reading import BEGINNING, Content, Reading, Trouble

_BEGINNING = 4096
# Files up to this size, in bytes, are read once and held while they are captured; a few are at a time.
_HELD = 8 * 1024 * 1024


def read_bytes(
    document: str,
    format: str,
    data: bytes,
    dialect: Dialect = PLAIN,
    mode: str = "",
    reader: formats.Reader | None = None,
) -> Reading:
    """Read a document from its bytes; one that breaks its format is carried whole, with the reason.

    `reader` takes them apart.
    """
    reader = reader or formats.Reader()
    content = held(data)
    troubles: tuple[Trouble, ...] = ()
    if format != WHOLE:
        file = FileState(format, content.size, content.sha256, mode)
        try:
            leaves = reader.read(format, data, dialect)
            return Reading(document, format, leaves, content, file=file, dialect=dialect)
        except DocumentError as error:
            troubles = (Trouble("", f"it cannot be read as {format.upper()}: {error}"),)
    file = FileState(WHOLE, content.size, content.sha256, mode)
    return Reading(document, WHOLE, content=content, troubles=troubles, file=file)


def beginning_of(file: IO[bytes]) -> bytes:
    """Return the first 4096 bytes of a file, and go back to its beginning."""
    data = file.read(_BEGINNING)
    file.seek(0)
    return data


def content_of(file: IO[bytes], size: int, reopen: Callable[[], IO[bytes]]) -> Content:
    """Return the content of an open file of `size` bytes: held if small, else to be read again by `reopen`."""
    file.seek(0)
    if size <= _HELD:
        return held(file.read())
    size, digest, beginning = 0, hashlib.sha256(), b""
    while chunk := file.read(CHUNK):
        beginning = beginning or chunk[:BEGINNING]
        digest.update(chunk)
        size += len(chunk)
    return Content(size, digest.hexdigest(), reopen, beginning)


def held(data: bytes) -> Content:
    """Return content that is in memory."""
    sha256 = hashlib.sha256(data).hexdigest()
    return Content(len(data), sha256, lambda: io.BytesIO(data), data[:BEGINNING], is_held=True)

"""What a store hands out: one document as it stands at a place now."""

from collections.abc import Callable
from typing import IO

import msgspec

from zinker.formats.leaves import Leaves


class Content(msgspec.Struct, frozen=True):
    """The bytes of a document that is a file: size in bytes, SHA-256 in hexadecimal, and how to open it."""

    size: int
    sha256: str
    open: Callable[[], IO[bytes]]


class Trouble(msgspec.Struct, frozen=True):
    """Something in a document that could not be read; the address is "" for the whole document."""

    address: str
    why: str


class Reading(msgspec.Struct, frozen=True):
    """One document at a place. `content` is None where the store has no files.

    A document that could not be read at all has the format "" and one trouble. One that breaks its format
    has the format `whole`, its content, and one trouble.
    """

    document: str
    format: str
    leaves: Leaves = {}
    content: Content | None = None
    troubles: tuple[Trouble, ...] = ()

    @property
    def is_readable(self) -> bool:
        """Whether anything could be read at all."""
        return bool(self.format)

"""What a store hands out: one document as it stands at a place now."""

from collections.abc import Callable, Iterable, Iterator
from typing import IO

import msgspec

from zinker.formats.dialect import PLAIN, Dialect
from zinker.formats.leaves import Leaves
from zinker.model.errors import Refused
from zinker.model.rows import Block, address_of, leaf_of
from zinker.model.setting import stamp

BEGINNING = 64 * 1024


class StoreError(Refused):
    """A store refused something; `why` says it in plain words."""


class Content(msgspec.Struct, frozen=True):
    """The bytes of a document that is a file: size in bytes, SHA-256 in hexadecimal, and how to open it.

    `beginning` holds the first of them, `BEGINNING` at most. `is_held` tells that they are in memory, so that
    what `open` gives is what was hashed.
    """

    size: int
    sha256: str
    open: Callable[[], IO[bytes]]
    beginning: bytes = b""
    is_held: bool = False


class Trouble(msgspec.Struct, frozen=True):
    """Something in a document that could not be read; the address is "" for the whole document.

    `withheld` tells of a document that is a secret as a whole.
    """

    address: str
    why: str
    withheld: bool = False


class Reading(msgspec.Struct, frozen=True):
    """One document at a place. `content` is None where the store has no files.

    A document that could not be read at all has the format "" and one trouble. One that breaks its format
    has the format `whole`, its content, and one trouble. `about` says what a file is besides its content: its
    `mode` (permission bits, octal), the target of a `link`, that it is an empty `folder`, or the fingerprint of one
    that is a secret as a whole, which then has no `content`.
    """

    document: str
    format: str
    leaves: Leaves = {}
    content: Content | None = None
    troubles: tuple[Trouble, ...] = ()
    about: dict[str, str | bool] = {}
    dialect: Dialect = PLAIN
    # The settings of a document that may have millions of them, instead of `leaves`; what could not be read
    # is in `later` when they are all out.
    blocks: Callable[[], Iterator[Block]] | None = None
    later: list[Trouble] = []

    @property
    def stamp(self) -> str:
        """What tells a document that is a file from any other, "" for one that is none; see `stamp`."""
        sha256 = self.content.sha256 if self.content else ""
        return stamp(self.format, {"sha256": sha256, **self.about})

    @property
    def is_readable(self) -> bool:
        """Whether anything could be read at all."""
        return bool(self.format)

    def leaves_at(self, addresses: Iterable[str], fold: Callable[[str], str] = str) -> Leaves:
        """Return the settings at some addresses, by their names as `fold` makes them alike."""
        wanted = {fold(address) for address in addresses}
        if self.blocks is None:
            named = ((fold(address), leaf) for address, leaf in self.leaves.items())
            return {name: leaf for name, leaf in named if name in wanted}
        rows = (row for block in self.blocks() for row in block.rows)
        found = ((fold(address_of(row)), row) for row in rows)
        return {name: leaf_of(row) for name, row in found if name in wanted}

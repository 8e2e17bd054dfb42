"""What a store hands out: one document as it stands at a place now."""

from collections.abc import Callable, Iterable, Iterator
from typing import IO

import msgspec

from zinker.formats.dialect import PLAIN, Dialect
from zinker.formats.leaves import Leaves
from zinker.model.errors import Refused
from zinker.model.file_state import FileState
from zinker.model.rows import Block, address_of, leaf_of
from zinker.model.setting import Leaf, Setting

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
    """One document at a place.

    A document that could not be read at all has the format "" and one trouble. One that breaks its format
    has the format `whole`, its content, and one trouble. `file` is its state as a file, None where the store has
    none; `content` its bytes, None for a link, an empty folder, or a file that is a secret as a whole.
    `seen` is what the home tells a document by that has not changed since; `led` the path that links led to;
    `given` are attributes that it has at the place and no profile holds.
    """

    document: str
    format: str
    leaves: Leaves = {}
    content: Content | None = None
    troubles: tuple[Trouble, ...] = ()
    file: FileState | None = None
    dialect: Dialect = PLAIN
    # The settings of a document that may have millions of them, instead of `leaves`; what could not be read
    # is in `later` when they are all out.
    blocks: Callable[[], Iterator[Block]] | None = None
    later: list[Trouble] = []
    seen: object = None
    led: str = ""
    given: tuple[str, ...] = ()

    @property
    def is_readable(self) -> bool:
        """Whether anything could be read at all."""
        return bool(self.format)

    @property
    def head(self) -> Setting:
        """The line that opens the document in a profile."""
        return (self.file or FileState(self.format)).head(self.document)

    def leaves_at(self, addresses: Iterable[str], fold: Callable[[str], str] = str) -> Leaves:
        """Return the settings at some addresses, by their names as `fold` makes them alike."""
        wanted = {fold(address) for address in addresses}
        if not wanted:
            return {}
        if self.blocks is None:
            named = ((fold(address), leaf) for address, leaf in self.leaves.items())
            return {name: leaf for name, leaf in named if name in wanted}
        rows = (row for block in self.blocks() for row in block)
        found = ((fold(address_of(row)), row) for row in rows)
        return {name: leaf_of(row) for name, row in found if name in wanted}

    def all_leaves(self) -> Iterator[tuple[str, Leaf]]:
        """Yield all settings by their addresses."""
        if self.blocks is None:
            yield from self.leaves.items()
            return
        yield from ((address_of(row), leaf_of(row)) for block in self.blocks() for row in block)

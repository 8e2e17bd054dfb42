"""What formats hand out and take in: the leaves of a document, and edits to them."""

from typing import TypeAlias

import msgspec

from zinker.model.setting import Leaf

# The settings of one document by address.
Leaves: TypeAlias = dict[str, Leaf]


class Edit(msgspec.Struct, frozen=True):
    """Set the leaf at an address, or remove it where `leaf` is None."""

    address: str
    leaf: Leaf | None

"""Where something stands in a subject: in which document of which part, and at which address of it."""

from typing import NamedTuple


class Where(NamedTuple):
    """The place of a setting; with the address "", that of a whole document."""

    part: str
    document: str
    address: str = ""

"""How a job says how far it is."""

from collections.abc import Callable
from typing import Final, TypeAlias

# Called with what is being done, how much of it is done, and how much there is; or that this is not known.
Progress: TypeAlias = Callable[[str, int, int], None]
UNKNOWN: Final = -1


def no_progress(what: str, done: int, total: int) -> None:
    """Say nothing."""

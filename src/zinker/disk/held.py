"""Waiting for what somebody else has open just now, so that nobody may read, replace or remove it."""

import time
from collections.abc import Callable
from typing import TypeVar

from zinker.disk.windows import HELD

_Done = TypeVar("_Done")
# So often is looked whether they have let go, and so many seconds lie between two looks.
_LOOKS, _PAUSE = 100, 0.1
_DENIED = 5  # ERROR_ACCESS_DENIED: what Windows says of a file that would be put in the place of an open one


def once_free(do: Callable[[], _Done], is_held: Callable[[OSError], bool]) -> _Done:
    """Do something as soon as nobody stands in its way; raises what it does, also when they do not let go."""
    for _ in range(_LOOKS):
        try:
            return do()
        except OSError as error:
            if not is_held(error):
                raise
        time.sleep(_PAUSE)
    return do()


def is_in_the_way(error: OSError) -> bool:
    """Tell whether a file was not replaced or removed as somebody may have it open, as happens on Windows alone."""
    return getattr(error, "winerror", 0) in (_DENIED, *HELD)

"""How many requests are under way at a time, and when the next may be sent, as a service shows what it can take."""

import threading
import time
from types import TracebackType
from typing import Self

_LEAST = 50  # answers


class Pace:
    """Lets as many in as the service takes.

    After it has asked for patience, half as many are let in, and soon nearly as many as before. Whether it takes
    that many is tried after some more answers; after twice as many each time it did not.
    """

    def __init__(self, most: int) -> None:
        self._most = self._ceiling = most
        self._limit = float(most)
        self._active = 0
        self._not_before = 0.0
        self._calm = 0  # answers since it has asked for patience
        self._trial = 0  # so many are wanted before the ceiling is tried
        self._changed = threading.Condition()
        self._is_over = False

    def __enter__(self) -> Self:
        with self._changed:
            while True:
                left = self._not_before - time.monotonic()
                if self._is_over:  # whoever is let in finds that out by itself
                    left = self._active = 0
                if left > 0:
                    self._changed.wait(left)
                elif self._active >= int(self._limit):
                    self._changed.wait()
                else:
                    self._active += 1
                    return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        with self._changed:
            self._active -= 1
            self._changed.notify()

    def stop(self) -> None:
        """Hold nobody back any more: it is over."""
        with self._changed:
            self._is_over = True
            self._changed.notify_all()

    def answered(self) -> None:
        """Note that a request was answered."""
        with self._changed:
            self._calm += 1
            if self._limit < self._ceiling - 1 or self._calm >= self._trial:
                self._limit = min(self._most, self._limit + 1 / self._limit)
                self._changed.notify()

    def hold(self, seconds: float) -> None:
        """Hold all requests back for some time, because the service asked for that."""
        with self._changed:
            now = time.monotonic()
            if now >= self._not_before and seconds:  # not for those that were under way when it asked first
                is_soon = self._calm < self._trial + _LEAST
                self._trial = max(_LEAST, 2 * self._trial) if is_soon else 0
                self._ceiling, self._limit = int(self._limit), max(1.0, self._limit / 2)
                self._calm = 0
            self._not_before = max(self._not_before, now + seconds)

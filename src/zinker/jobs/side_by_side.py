"""Looks at several places side by side, and waits for none that does not answer."""

import queue
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from typing import Final, TypeVar

from zinker.model.errors import ZinkerError

# How long a place may take to answer.
SECONDS: Final = 60.0
_LOOK_AGAIN = 0.05
Found = TypeVar("Found")


def looked_at(
    names: Iterable[str], look: Callable[[str], Found], seconds: float, concurrency: int
) -> Iterator[tuple[str, Found | str]]:
    """Yield what is found at places as they answer, or why nothing is; nobody waits for one that does not."""
    waiting: queue.SimpleQueue[str] = queue.SimpleQueue()
    answers: queue.SimpleQueue[tuple[str, Found | str]] = queue.SimpleQueue()
    started: dict[str, float] = {}
    pending = set(names)
    for name in names:
        waiting.put(name)

    def work() -> None:
        while True:
            try:
                name = waiting.get_nowait()
            except queue.Empty:
                return
            started[name] = time.monotonic()
            try:
                answers.put((name, look(name)))
            except ZinkerError as error:
                answers.put((name, error.why or str(error)))
            except Exception as error:  # noqa: BLE001 - what goes wrong at one place does not stop the others
                answers.put((name, f"{type(error).__name__}: {error}"))

    def start() -> None:
        threading.Thread(target=work, daemon=True).start()

    for _ in range(min(concurrency, len(pending))):
        start()
    while pending:
        try:
            name, found = answers.get(timeout=_LOOK_AGAIN)
            if name in pending:
                pending.discard(name)
                yield name, found
            continue
        except queue.Empty:
            late = [one for one in pending if time.monotonic() - started.get(one, time.monotonic()) > seconds]
        for name in late:
            pending.discard(name)
            start()  # in place of the one that still waits
            yield name, f"no answer within {seconds:g} s"

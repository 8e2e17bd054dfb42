"""Locks and signs of life on a storage that knows neither, but gives a new name to one run only.

    lock/<number>           who holds the shelf, or held it; the highest number counts
    lock/<number>.free      it has been let go of
    writing/<run>           a run that writes is alive as long as this changes
    writing/<run>.dead      another run took it for dead, as it had not changed for long

Whoever holds something writes it anew every few seconds. Nobody's clock is asked: another run is dead when its
sign has been watched for `LEASE` seconds and has not changed. A run that was asleep for as long, and wakes, finds
that out before it writes or removes anything: each side writes first, and looks then, so that one of them at least
sees the other.
"""

import contextlib
import errno
import secrets
import threading
import time
from collections.abc import Callable, Iterator
from typing import NamedTuple, Protocol

from zinker.model.errors import NoAnswer
from zinker.shelf.storage import Busy

# Seconds without a change after which a run is dead; it writes so often; and so long it may go without looking.
LEASE = 30.0
_BEAT = 7.0
_SURE = 15.0
_PAUSE = 0.3
_FREE = ".free"
_DEAD = ".dead"


class Names(Protocol):
    """What is needed of a storage; everything raises `OSError` and `NoAnswer`."""

    def seen(self, folder: str) -> dict[str, str]:
        """Return the names in a folder, each with what changes when it is written."""
        ...

    def put(self, name: str, data: bytes) -> None:
        """Write a small file."""
        ...

    def put_new(self, name: str, data: bytes) -> bool:
        """Write a small file, unless there is one; one run only succeeds."""
        ...

    def delete(self, name: str) -> None:
        """Remove a file."""
        ...


class _Since(NamedTuple):
    sign: str
    at: float


class Watch:
    """Tells whether signs of others have changed lately."""

    def __init__(self) -> None:
        self._seen: dict[str, _Since] = {}

    def is_dead(self, name: str, sign: str) -> bool:
        """Tell whether a sign is the same as it was `LEASE` seconds ago, when it was first seen so."""
        now = time.monotonic()
        known = self._seen.get(name)
        if known is None or known.sign != sign:
            self._seen[name] = _Since(sign, now)
            return False
        return now - known.at > LEASE


class Life:
    """A sign of life that is kept up in a thread, from `begin` to `end`."""

    def __init__(self, names: Names, name: str, has_ended: Callable[[], bool]) -> None:
        """`has_ended` looks whether another run has taken this one for dead."""
        self._names, self.name, self._has_ended = names, name, has_ended
        self.token = secrets.token_hex(8)
        self._count = 0
        self._last = self._clocks()
        self._over = threading.Event()
        self._turn = threading.Lock()
        self._thread = threading.Thread(target=self._beat, daemon=True)

    def content(self) -> bytes:
        """Return what is written next: another one each time."""
        self._count += 1
        return f"{self.token} {self._count}\n".encode()

    def begin(self) -> None:
        """Begin to write the sign anew."""
        self._last = self._clocks()
        self._thread.start()

    def end(self) -> None:
        """Write it no more; what is under way is waited for."""
        self._over.set()
        self._thread.join()

    def assure(self) -> None:
        """Make sure that no other run has taken this one for dead; raises `OSError` where one has."""
        passed = max(now - then for now, then in zip(self._clocks(), self._last, strict=True))
        if not 0 <= passed < _SURE:
            self._write()

    def _write(self) -> None:
        with self._turn:
            began = self._clocks()
            self._names.put(self.name, self.content())
            if self._has_ended():
                why = "this run was asleep for so long that another one took it for dead"
                error = OSError(errno.ESTALE, why, self.name)
                error.why = why  # type: ignore[attr-defined]
                raise error
            self._last = began

    def _beat(self) -> None:
        while not self._over.wait(_BEAT):
            with contextlib.suppress(OSError, NoAnswer):  # `assure` tells, where it matters
                self._write()

    @staticmethod
    def _clocks() -> tuple[float, float]:
        # The first stands still while the machine sleeps, on some systems; the second can be set.
        return time.monotonic(), time.time()


class Writers:
    """The runs that write: each has a sign of life of its own."""

    def __init__(self, names: Names) -> None:
        self._names, self._watch = names, Watch()

    @contextlib.contextmanager
    def joined(self) -> Iterator[Life]:
        """Be one of them; yields the sign of life."""
        run = f"writing/{secrets.token_hex(8)}"
        life = Life(
            self._names, run, lambda: f"{run}{_DEAD}".rpartition("/")[2] in self._names.seen("writing")
        )
        self._names.put(run, life.content())
        life.begin()
        try:
            yield life
        finally:
            life.end()
            with contextlib.suppress(OSError, NoAnswer):
                self._names.delete(run)

    def count(self, own: str = "") -> int:
        """Count those that live, and remove the signs of those that do not."""
        signs = self._names.seen("writing")
        runs = [name for name in signs if not name.endswith(_DEAD) and f"writing/{name}" != own]
        living = sum(not self._is_gone(name, signs[name]) for name in runs)
        for name in signs:
            if name.endswith(_DEAD) and name.removesuffix(_DEAD) not in signs:
                self._names.delete(f"writing/{name}")
        return living

    def _is_gone(self, name: str, sign: str) -> bool:
        if not self._watch.is_dead(name, sign):
            return False
        self._names.put(f"writing/{name}{_DEAD}", b"")
        if (
            self._names.seen("writing").get(name, sign) != sign
        ):  # it woke in between, and sees what was written
            self._names.delete(f"writing/{name}{_DEAD}")
            return False
        self._names.delete(f"writing/{name}")
        return True


class Lock:
    """A lock that one run holds at a time."""

    def __init__(self, names: Names) -> None:
        self._names, self._watch = names, Watch()
        self.life: Life | None = None

    @contextlib.contextmanager
    def held(self, patience: float) -> Iterator[None]:
        """Hold it; who holds it already goes on. Raises `Busy` where one other run has it for so many seconds.

        As long as it goes from hand to hand, its turn comes; many that write at once are no reason to give up.
        """
        if self.life is not None:
            yield
            return
        number, life = self._acquired(patience)
        self.life = life
        life.begin()
        try:
            yield
        finally:
            self.life = None
            life.end()
            with contextlib.suppress(OSError, NoAnswer):  # it is taken over, then
                self._names.put(f"lock/{number}{_FREE}", b"")

    def _acquired(self, patience: float) -> tuple[int, Life]:
        until, before = 0.0, -1
        while True:
            signs = self._names.seen("lock")
            last = max((int(name) for name in signs if name.isdecimal()), default=0)
            if last != before:  # somebody else has it now
                until, before = time.monotonic() + patience, last
            is_free = not last or f"{last}{_FREE}" in signs
            if is_free or self._watch.is_dead(str(last), signs[str(last)]):
                life = self._taken(last + 1, "" if is_free else signs[str(last)])
                if life is not None:
                    self._tidy(signs, last)
                    return last + 1, life
            if time.monotonic() > until:
                raise Busy
            time.sleep(_PAUSE)

    def _taken(self, number: int, dead: str) -> Life | None:
        """Take the next number; of two runs that try, one has it. `dead` is the sign of who had the last, or ""."""
        name = f"lock/{number}"
        life = Life(self._names, name, lambda: self._is_taken(number + 1))
        if not self._names.put_new(name, life.content()):
            return None
        if dead and self._names.seen("lock").get(str(number - 1), dead) != dead:
            self._names.delete(name)  # it woke in between, and saw that
            return None
        return life

    def _is_taken(self, number: int) -> bool:
        return str(number) in self._names.seen("lock")

    def _tidy(self, signs: dict[str, str], last: int) -> None:
        """Remove what is older than the one before; with that there, no number is ever given twice."""
        for name in signs:
            number = name.removesuffix(_FREE)
            if number.isdecimal() and int(number) < last:
                self._names.delete(f"lock/{name}")

"""The registry of another workstation, over the network: MS-RRP over SMB 3, signed and encrypted.

Several pipes share a connection, and several keys are asked for at a time, so that a branch takes few of the
network's round trips one after the other. A connection that is lost is made anew for the next call; what a lost
call did is found out by reading.
"""

import contextlib
from collections.abc import Callable, Iterator
from concurrent.futures import FIRST_COMPLETED, Executor, Future, ThreadPoolExecutor, wait
from typing import Any, NamedTuple, TypeVar

from zinker.formats.registry_values import from_bytes, to_bytes
from zinker.model.address import folded, pointer
from zinker.model.rows import Block, block_of, row, tail
from zinker.stores.reading import Trouble
from zinker.stores.registry import RegistryError, Value, why_not
from zinker.stores.smb_line import Dial, Line, NoAnswer
from zinker.stores.winreg_rpc import (
    MORE_DATA,
    NO_MORE,
    OPEN_LINK,
    READ,
    WRITE,
    Info,
    RpcError,
    Winreg,
)

__all__ = ["Dial", "NoAnswer", "RemoteRegistry"]

_PIPES = 8
_AT_ONCE = 64  # values or subkeys that are asked for in one piece
_TRIES = 3
_VIEWS = {0: 0, 32: 0x200, 64: 0x100}  # KEY_WOW64_32KEY, KEY_WOW64_64KEY
_Result = TypeVar("_Result")


class RemoteRegistry:
    """The registry of another workstation; a `Registry`. Raises `NoAnswer` wherever it is not reached."""

    def __init__(self, dial: Dial, view: int = 0) -> None:
        self._line = Line(dial)
        self._view = _VIEWS[view]
        self._obstacles: dict[str, str] = {}

    def exists(self, key: str) -> bool:
        """Tell whether there is such a key; one that may not be read is there."""
        try:
            self._with_key(key, READ, lambda service, handle: None)
        except KeyError:
            return False
        except RegistryError:
            return True
        return True

    def subkeys(self, key: str) -> list[str]:
        """Return the names of the keys right below a key."""
        return self._whole(key)[0]

    def values(self, key: str) -> list[Value]:
        """Return name, type and value of a key's values."""
        return self._whole(key)[1]

    def value(self, key: str, name: str) -> Value:
        """Return one value of a key."""
        number, data = self._with_key(key, READ, lambda service, handle: service.query(handle, name))
        return name, *from_bytes(number, data)

    def blocks(self, branch: str, troubles: list[Trouble]) -> Iterator[Block]:
        """Yield all settings of a branch, asking for several keys, and several pieces of a large one, at a time."""
        with ThreadPoolExecutor(_PIPES) as pool:
            waiting: dict[Future[_Piece], _Reading] = {}
            self._ask(pool, waiting, _Reading((), branch))
            try:
                while waiting:
                    done, _ = wait(waiting, return_when=FIRST_COMPLETED)
                    for future in done:
                        reading = waiting.pop(future)
                        if self._took(pool, waiting, reading, future, troubles):
                            for name in reading.names:
                                path = (*reading.path, name)
                                self._ask(pool, waiting, _Reading(path, "\\".join((branch, *path))))
                            yield reading.block()
            finally:
                for future in waiting:
                    future.cancel()

    def _ask(
        self, pool: Executor, waiting: "dict[Future[_Piece], _Reading]", reading: "_Reading", start: int = 0
    ) -> None:
        """Have a piece of a key read."""
        reading.pieces_left += 1
        waiting[pool.submit(self._piece, reading, start)] = reading

    def _took(
        self,
        pool: Executor,
        waiting: "dict[Future[_Piece], _Reading]",
        reading: "_Reading",
        future: "Future[_Piece]",
        troubles: list[Trouble],
    ) -> bool:
        """Take what came of a piece, and ask for the others after the first; tells whether the key is complete."""
        reading.pieces_left -= 1
        try:
            piece = future.result()
        except (RegistryError, KeyError, _Changed) as error:
            reading.error = error
        else:
            if reading.info is None:
                reading.info = piece.info
                for start in range(_AT_ONCE, piece.info.subkeys + piece.info.values, _AT_ONCE):
                    self._ask(pool, waiting, reading, start)
            reading.names += piece.names
            reading.values += piece.values
        if reading.pieces_left:
            return False
        if isinstance(reading.error, _Changed) or (reading.error is None and reading.has_twins):
            try:
                reading.names, reading.values = self._whole(reading.key, follow=not reading.path)
                return True
            except (RegistryError, KeyError) as error:
                reading.error = error
        if reading.error is not None:
            troubles.append(Trouble(pointer(*reading.path), why_not(reading.error)))
            return False
        return True

    def _piece(self, reading: "_Reading", start: int) -> "_Piece":
        """Read a piece of a key; raises `_Changed` where the key is not what it was."""
        options = OPEN_LINK if reading.path else 0
        return self._with_key(
            reading.key,
            READ,
            lambda service, handle: _read_piece(service, handle, reading.info, start),
            options,
        )

    def create(self, key: str) -> None:
        """Make a key with those above it."""
        root, _, path = key.partition("\\")

        def make(service: Winreg, handle: bytes) -> None:
            # Not every service makes those above it, too.
            names = path.split("\\")
            for depth in range(1, len(names) + 1):
                service.close(service.create(handle, "\\".join(names[:depth]), WRITE | self._view))

        self._with_key(root, READ, make)
        self._obstacles.clear()

    def set(self, key: str, name: str, type: str, value: Any) -> None:
        """Set a value, and make its key where it is missing."""
        try:
            number, data = to_bytes(type, value)
        except ValueError as error:
            raise RegistryError(str(error)) from None
        try:
            self._with_key(key, WRITE, lambda service, handle: service.set(handle, name, number, data))
        except KeyError:
            self.create(key)
            self._with_key(key, WRITE, lambda service, handle: service.set(handle, name, number, data))

    def delete_value(self, key: str, name: str) -> None:
        """Remove a value."""
        self._with_key(key, WRITE, lambda service, handle: service.delete_value(handle, name))

    def delete_key(self, key: str) -> None:
        """Remove a key that holds nothing."""
        above, _, name = key.rpartition("\\")
        self._line.forget(key)
        self._with_key(above, WRITE, lambda service, handle: service.delete_key(handle, name))
        self._obstacles.clear()

    def obstacle(self, key: str) -> str:
        """Say why nothing can be written at or below a key, or "" if nothing is seen to prevent it."""
        name = folded(key)
        if name not in self._obstacles:
            try:
                self._with_key(key, WRITE, lambda service, handle: None)
                why = ""
            except KeyError:
                above = key.rpartition("\\")[0]
                why = self.obstacle(above) if above else "there is no such root key"
            except RegistryError as error:
                why = error.why
            self._obstacles[name] = why
        return self._obstacles[name]

    def flush(self) -> None:
        """Do nothing: the service writes on its own, and every call has been answered."""

    def _with_key(
        self, key: str, rights: int, do: Callable[[Winreg, bytes], _Result], options: int = 0
    ) -> _Result:
        return self._line.with_key(key, rights | self._view, do, options)

    def _whole(self, key: str, follow: bool = False) -> tuple[list[str], list[Value]]:
        """Read a key; again where it changes while it is read."""
        for _ in range(_TRIES):
            with contextlib.suppress(_Changed):
                return self._with_key(key, READ, _read_key, 0 if follow else OPEN_LINK)
        raise RegistryError(f"it changed while it was read, {_TRIES} times")


class _Changed(Exception):
    """A key is not what it was a moment ago."""


class _Piece(NamedTuple):
    """Some of what a key holds, subkeys before values."""

    info: Info
    names: list[str]
    values: list[Value]


class _Reading:
    """A key that is being read, piece by piece."""

    def __init__(self, path: tuple[str, ...], key: str) -> None:
        self.path, self.key = path, key
        self.info: Info | None = None
        self.names: list[str] = []
        self.values: list[Value] = []
        self.error: Exception | None = None
        self.pieces_left = 0

    @property
    def has_twins(self) -> bool:
        """Whether something was told twice, as happens where a key changes while its values are counted."""
        names = {name for name, _, _ in self.values}
        return len(set(self.names)) < len(self.names) or len(names) < len(self.values)

    def block(self) -> Block:
        """Return the settings of the key; one that holds nothing at all is a setting, too."""
        prefix = pointer(*self.path, "")
        block = block_of(prefix, self.values)
        if not self.names and not self.values and self.path:
            return [row(prefix, tail("key", None))]
        return block


def _read_key(service: Winreg, handle: bytes) -> tuple[list[str], list[Value]]:
    """Read all of a key."""
    info = service.info(handle)
    names, values = _items(service, handle, info, range(info.subkeys + info.values))
    if len(set(names)) < len(names) or len({name for name, _, _ in values}) < len(values):
        raise _Changed
    return names, values


def _read_piece(service: Winreg, handle: bytes, known: Info | None, start: int) -> _Piece:
    info = service.info(handle)
    if known is not None and info != known:
        raise _Changed
    stop = min(start + _AT_ONCE, info.subkeys + info.values)
    return _Piece(info, *_items(service, handle, info, range(start, stop)))


def _items(service: Winreg, handle: bytes, info: Info, numbers: range) -> tuple[list[str], list[Value]]:
    """Read subkeys, and then values, by their numbers."""
    # Zero characters are told by some services for a key that has names all the same.
    room = max(info.longest_subkey, 255)
    try:
        names = [service.subkey(handle, number, room) for number in numbers if number < info.subkeys]
        values = [
            _value(service, handle, number - info.subkeys, info)
            for number in numbers
            if number >= info.subkeys
        ]
    except RpcError as error:
        if error.code in (NO_MORE, MORE_DATA):
            raise _Changed from None
        raise
    return names, values


def _value(service: Winreg, handle: bytes, number: int, info: Info) -> Value:
    name, type, data = service.value(handle, number, max(info.longest_name, 255), info.largest_value)
    return name, *from_bytes(type, data)

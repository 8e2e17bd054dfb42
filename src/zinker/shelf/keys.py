"""The keys of a sealed shelf: each opens the same 32 bytes, in which all the rest is written.

    seal/<number>.json         a key: its kind, when it was made, what it opens (a JSON Web Encryption, RFC 7516)
    seal/<number>.copy.json    the same once more, as without one of them nothing can be read

Both end with their own digest (record.py). A key is a passphrase (PBES2-HS512+A256KW) or what stands in a key file
(A256KW). Keys come and go; what they open stays.
"""

import contextlib
import datetime
import hashlib
import re
import secrets
from collections.abc import Callable, Iterable, Iterator
from threading import RLock
from typing import Literal, NamedTuple

import msgspec

from zinker.model.errors import Damaged, Refused, reason
from zinker.model.plain_json import schema_of
from zinker.profiles.sealing import Lock, NotOpened, cannot_seal, seal_bytes, unseal_bytes
from zinker.shelf.record import checked, stamped
from zinker.shelf.storage import SEAL, Storage

FORMAT = 1
LENGTH = 32  # bytes
_NAME = re.compile(r"(\d+)(\.copy)?\.json", re.ASCII)


class KeyPage(msgspec.Struct, frozen=True):
    """A key as it stands on the shelf: `sealed` opens to the 32 bytes. `told` names the key of a key file."""

    format: int
    kind: Literal["passphrase", "file"]
    made: str
    told: str
    sealed: str


class Key(NamedTuple):
    """A key of a shelf; `page` is None where neither copy can be read, for the reason `why`."""

    number: int
    page: KeyPage | None
    why: str = ""


class Keys:
    """The keys on a storage. Everything raises `OSError` and `NoAnswer`."""

    def __init__(self, storage: Storage) -> None:
        self._storage = storage

    def all(self) -> list[Key]:
        """Return the keys that there are, in their order."""
        return [self._one(number) for number in sorted(self._numbers())]

    def opened_by(self, lock: Lock, keys: Iterable[Key] | None = None) -> tuple[int, bytes] | None:
        """Return what a lock opens, and by which key, also of some that have been read; None for none of them."""
        for key in self.all() if keys is None else keys:
            if key.page is not None and (key.page.kind == "passphrase") == bool(lock.passphrase):
                try:
                    return key.number, unseal_bytes(key.page.sealed.encode(), lock)
                except (NotOpened, ValueError):
                    continue
        return None

    def add(self, content: bytes, lock: Lock, number: int = 0) -> int | None:
        """Add a key that opens `content`, under that number alone if one is given, and return its number.

        None where another run was faster, and has that number.
        """
        today = datetime.date.today().isoformat()
        kind: Literal["passphrase", "file"] = "passphrase" if lock.passphrase else "file"
        told = fingerprint(lock.machine) if lock.machine else ""
        page = KeyPage(FORMAT, kind, today, told, seal_bytes(content, (lock,)).decode())
        data, own = stamped(page, indent=2), number or max([0, *self._numbers()]) + 1
        while not self._storage.put_new(_name(own), data):
            if number:
                return None
            own += 1
        self._storage.put(_name(own, is_copy=True), data)
        return own

    def remove(self, number: int) -> None:
        """Remove a key."""
        self._storage.delete(_name(number))
        self._storage.delete(_name(number, is_copy=True))

    def problems(self) -> Iterator[tuple[str, str, str]]:
        """Look at both copies of each key, and mend one from the other."""
        for number in sorted(self._numbers()):
            read = {is_copy: self._read(number, is_copy) for is_copy in (False, True)}
            for is_copy, (page, data) in read.items():
                if page is None:
                    other, good = read[not is_copy]
                    mended = ""
                    if other is not None:
                        with contextlib.suppress(OSError):  # where it cannot be written, it is only said
                            self._storage.put(_name(number, is_copy), good)
                            mended = "its other copy"
                    yield f"{'the copy of ' if is_copy else ''}key {number}", data.decode(), mended

    def _one(self, number: int) -> Key:
        page, why = self._read(number, is_copy=False)
        if page is None:
            page, _ = self._read(number, is_copy=True)
        return Key(number, page, "" if page is not None else why.decode())

    def _read(self, number: int, is_copy: bool) -> tuple[KeyPage | None, bytes]:
        """Return a page and its bytes, or None, and why it cannot be read."""
        try:
            with self._storage.open(_name(number, is_copy)) as file:
                data = file.read()
            page = checked(data, KeyPage)
            if page.format != FORMAT:
                raise ValueError(f"it has the format {page.format}, and this Zinker reads {FORMAT}")
            return page, data
        except OSError as error:
            return None, reason(error).encode()
        except ValueError as error:
            return None, str(error).encode()

    def _numbers(self) -> set[int]:
        found = map(_NAME.fullmatch, self._storage.names(SEAL))
        return {int(parts[1]) for parts in found if parts}


class Seal:
    """What opens sealed shelves in this run, in all its threads; `lock` is asked once for each shelf.

    It is given what people call the shelf, and whether that is a new one, and returns a lock and its name.
    """

    def __init__(self, lock: Callable[[str, bool], tuple[Lock, str]]) -> None:
        self._lock, self._turn = lock, RLock()
        self._known: dict[str, tuple[int, bytes]] = {}

    def opened(self, storage: Storage) -> tuple[int, bytes] | None:
        """Return the content of a storage's keys and the number of the one that opened it; None where it has none.

        Raises `Refused` where it does not open, and `Damaged` where no key can be read.
        """
        with self._turn:
            if storage.told not in self._known:
                keys = Keys(storage).all()
                if not keys:
                    return None
                _check()
                if not any(key.page for key in keys):
                    why = f"none of the keys of {storage.told} can be read: {keys[0].why}"
                    raise Damaged("Shelf not opened", why, f"Bring its folder {SEAL} back from elsewhere.")
                lock, told = self._lock(storage.told, False)
                found = Keys(storage).opened_by(lock, keys)
                if found is None:
                    why = f"{told} does not open {storage.told}"
                    then = "`zinker seal` shows which keys do. Check what zinker.toml says as `seal`."
                    raise Refused("Shelf not opened", why, then)
                self._known[storage.told] = found
            return self._known[storage.told]

    def make(self, storage: Storage) -> tuple[int, bytes]:
        """Give a new storage its first key; where another run was faster, open that."""
        with self._turn:
            _check()
            lock, told = self._lock(storage.told, True)
            content = secrets.token_bytes(LENGTH)
            keys = Keys(storage)
            if keys.add(content, lock, number=1) is not None and keys.opened_by(lock) != (1, content):
                raise Refused("Shelf not made", f"{told} does not open it again", "Report this, please.")
            return self.opened(storage) or (1, content)


def schema() -> dict[str, object]:
    """Return the JSON Schema (2020-12) of a key."""
    return schema_of(KeyPage, "Zinker shelf: a key of a sealed one")


def fingerprint(key: bytes) -> str:
    """Return what tells the keys of key files apart, and says nothing of them."""
    return hashlib.sha256(b"zinker key file " + key).hexdigest()[:8]


def _check() -> None:
    if why := cannot_seal():
        then = "Install the package cryptography anew, in a release for this system."
        raise Refused("Shelf not opened", why, then)


def _name(number: int, is_copy: bool = False) -> str:
    return f"{SEAL}/{number}{'.copy' if is_copy else ''}.json"

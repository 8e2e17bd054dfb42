"""A shelf on somebody else's storage, encrypted as a whole: content, names and labels (cipher.py, keys.py).

Whoever has the storage sees how many files there are, how long, and when they come and go; and can keep back or
remove some. What is removed is missed, and what is changed, swapped or cut does not open.
"""

import contextlib
from collections.abc import Iterator
from pathlib import Path
from typing import IO, TYPE_CHECKING, cast

from zinker.model.errors import Damaged, Refused
from zinker.shelf.keys import Keys, Seal
from zinker.shelf.storage import SEAL, Batch, Forged, Storage

if TYPE_CHECKING:
    from zinker.shelf.cipher import Cipher


class SealedStorage(Storage):
    """A storage in which all is encrypted, on another one."""

    # Elsewhere, as seen from the shelf: what is under way is where it can be flushed, and read without a key.
    folder: Path | None = None
    noun = "sealed shelf"
    lists_fast = False  # each name is decrypted

    def __init__(self, inner: Storage, seal: Seal) -> None:
        self.inner, self._seal, self.told = inner, seal, inner.told
        self.side_by_side = inner.side_by_side
        self.keys = Keys(inner)
        self._ready: Cipher | None = None

    @property
    def opened_by(self) -> int:
        """The number of the key that has opened it; 0 for a shelf that is not there yet."""
        found = self._seal.opened(self.inner)
        return found[0] if found else 0

    @property
    def content(self) -> bytes:
        """What its keys open."""
        found = self._seal.opened(self.inner)
        return found[1] if found else b""

    def absence(self) -> str:
        """Say why it cannot be made."""
        return self.inner.absence()

    def prepare(self) -> Iterator[str]:
        """Make it, and its first key."""
        yield from self.inner.prepare()
        if self._cipher() is None:
            if self.inner.names("objects") or self.inner.names("subjects"):
                why = f"the keys of {self.told} are gone, and what is there does not open without"
                raise Damaged("Shelf not opened", why, f"Bring its folder {SEAL} back from elsewhere.")
            self._seal.make(self.inner)

    def names(self, folder: str) -> list[str]:
        """Return the names in a folder; what is not of this shelf is passed over."""
        cipher = self._cipher() if folder != SEAL else None
        if cipher is None:
            return []
        found = []
        for name in self.inner.names(cipher.name(folder)):
            with contextlib.suppress(Forged):
                found.append(cipher.plain(folder, name))
        return found

    def size(self, name: str) -> int:
        """Return how many bytes a file takes there."""
        cipher = self._cipher()
        if cipher is None:
            raise FileNotFoundError(name)
        return self.inner.size(cipher.name(name))

    def open(self, name: str) -> IO[bytes]:
        """Open a file for reading."""
        cipher = self._cipher()
        if cipher is None:
            raise FileNotFoundError(name)
        from zinker.shelf.cipher import opened

        return opened(cipher, name, self.inner.open(cipher.name(name)))

    def delete(self, name: str) -> None:
        """Remove a file."""
        self.inner.delete(self._made().name(name))

    @contextlib.contextmanager
    def batch(self) -> Iterator[Batch]:
        """Begin to write files together."""
        cipher = self._made()
        with self.inner.batch() as batch:
            yield _SealedBatch(cipher, batch)

    def put(self, name: str, data: bytes) -> None:
        """Write a small file."""
        cipher = self._made()
        self.inner.put(cipher.name(name), cipher.encrypted(name, data))

    def put_new(self, name: str, data: bytes) -> bool:
        """Write a small file, unless there is one."""
        cipher = self._made()
        return self.inner.put_new(cipher.name(name), cipher.encrypted(name, data))

    def writers(self) -> int:
        """Sweep what dead runs have begun to write, and count the batches of others that are under way."""
        return self.inner.writers()

    def hold(self, patience: float) -> contextlib.AbstractContextManager[None]:
        """Hold the storage against other runs."""
        return self.inner.hold(patience)

    def free(self) -> int | None:
        """Return how many bytes there is room for."""
        return self.inner.free()

    def problems(self) -> Iterator[tuple[str, str, str]]:
        """Look at its keys."""
        return self.keys.problems()

    def _made(self) -> "Cipher":
        cipher = self._cipher()
        if cipher is None:
            raise FileNotFoundError(f"{self.told}/{SEAL}")
        return cipher

    def _cipher(self) -> "Cipher | None":
        """Return what all is written in; None for a shelf that is still to be made. Raises `Refused`, `Damaged`."""
        if self._ready is None:
            found = self._seal.opened(self.inner)
            if found is None:
                self._check_new()
                return None
            from zinker.shelf.cipher import Cipher

            self._ready = Cipher(found[1])
        return self._ready

    def _check_new(self) -> None:
        """Raise `Refused` where there is a shelf, and it is not sealed: somebody may have put it there."""
        with contextlib.suppress(FileNotFoundError, NotADirectoryError):
            self.inner.size("shelf.json")
            why = f"{self.told} is a shelf that is not sealed, and a sealed one is asked for"
            then = "Name a new folder as `shelf`, and bring there what is kept: zinker copy --from SHELF."
            raise Refused("Shelf not opened", why, then)


class _SealedBatch:
    """Files that are encrypted as they are written."""

    def __init__(self, cipher: "Cipher", batch: Batch) -> None:
        self._cipher, self._batch = cipher, batch

    @contextlib.contextmanager
    def sink(self, name: str) -> Iterator[IO[bytes]]:
        """Open a new file for writing."""
        with self._batch.sink(self._cipher.name(name)) as file:
            sealing = self._cipher.sealing(name, file)
            yield cast(IO[bytes], sealing)
            sealing.close()

    def settle(self) -> None:
        """Flush what was written, and give it its names."""
        self._batch.settle()

    def settle_new(self) -> bool:
        """Do so with one file, unless there is one of its name by now."""
        return self._batch.settle_new()

"""What an export has read from a tenant so far, so that one that was cut off can go on where it was.

Policies may hold secrets, so every line of the file is sealed with a key that stays on this machine (Fernet:
AES-CBC and HMAC-SHA-256). A line that does not open, such as the one at which it was cut off, is passed over.
Where nothing can be sealed, nothing is remembered.
"""

import base64
import json
import os
import threading
from collections.abc import Callable
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

import msgspec

from zinker.disk.files import make_folders, open_own
from zinker.formats.walk import exact
from zinker.model.plain_json import decode
from zinker.stores.tenants.policies import dumped

if TYPE_CHECKING:
    from cryptography.fernet import Fernet


class Fetched(msgspec.Struct):
    """A policy that has been read."""

    collection: str
    id: str
    etag: str
    raw: msgspec.Raw


class Unfinished:
    """The policies read by an export that has not ended; `key` gives 32 bytes."""

    def __init__(self, path: Path, key: Callable[[], bytes]) -> None:
        self._path, self._key = path, key
        self._sealer: Fernet | None = None
        self._cannot_seal = False
        self._file: IO[bytes] | None = None
        self._lock = threading.Lock()
        self._known: dict[tuple[str, str], Fetched] = {}

    def load(self) -> None:
        """Read what an earlier export has left."""
        self._known = {}
        sealer = self._opened() if self._path.exists() else None
        if sealer is None:
            return
        from cryptography.fernet import InvalidToken

        for line in self._path.read_bytes().splitlines():
            try:
                known = decode(sealer.decrypt(line), Fetched)
            except (InvalidToken, ValueError):
                continue
            self._known[known.collection, known.id] = known

    def find(self, collection: str, id: str, etag: str) -> dict[str, Any] | None:
        """Return a policy if that very state of it has been read."""
        known = self._known.get((collection, id))
        is_same = known is not None and etag and known.etag == etag
        return json.loads(bytes(known.raw), parse_float=exact) if known is not None and is_same else None

    def note(self, collection: str, id: str, etag: str, raw: dict[str, Any]) -> None:
        """Remember a policy, if it is one that can be read."""
        try:
            text = dumped(raw)
        except RecursionError:
            return
        data = msgspec.json.encode(Fetched(collection, id, etag, msgspec.Raw(text)))
        with self._lock:
            sealer = self._opened()
            if sealer is None:
                return
            if self._file is None:
                make_folders(self._path.parent)
                opened = open_own(self._path, os.O_WRONLY | os.O_CREAT | os.O_APPEND)
                self._file = os.fdopen(opened, "ab", buffering=0)
            self._file.write(sealer.encrypt(data) + b"\n")

    def forget(self) -> None:
        """Forget everything: the export has got through."""
        with self._lock:
            if self._file is not None:
                self._file.close()
                self._file = None
        self._path.unlink(missing_ok=True)

    def _opened(self) -> "Fernet | None":
        if self._sealer is None and not self._cannot_seal:
            try:
                from cryptography.fernet import Fernet

                self._sealer = Fernet(base64.urlsafe_b64encode(self._key()))
            except ImportError:
                self._cannot_seal = True
        return self._sealer

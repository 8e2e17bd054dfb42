"""A shelf on object storage: `s3://bucket/folder`, `az://container/folder`, `gs://bucket/folder`.

Of what such storage offers, this relies on two things: what was written is seen by everybody from then on, also in
lists; and what is to be written only where there is nothing of that name is written by one run only (If-None-Match
of RFC 9110, section 13.1.2). There are no locks, which `lease` makes up for, and no renaming: a file is there when
all of it was sent.
"""

import contextlib
import errno
import io
import os
import re
import tempfile
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor, wait
from datetime import timedelta
from pathlib import Path
from typing import IO, Any, NamedTuple

from zinker.disk.announce import announce
from zinker.model.errors import NoAnswer, WrongUsage
from zinker.shelf.lease import Life, Lock, Writers
from zinker.shelf.storage import KINDS, Storage
from zinker.stores.tenants.service import is_open

_ADDRESS = re.compile(r"(s3|az|gs)://([a-z0-9][a-z0-9._-]+)/([^?#]+)")
# What is larger is read and sent in pieces of half of that.
_SMALL = 16 * 1024 * 1024
_SIDE_BY_SIDE = 8
# So many objects are asked for one by one before all are listed.
_ASKED = 8
_TRIES, _PATIENCE = 6, timedelta(seconds=45)


class Kept(NamedTuple):
    """Where a shelf is kept: the kind of storage, the bucket, the folder in it, and how that is reached.

    `user` is whose key signs requests: the id of an access key, or the name of an account. Without, what the
    environment or the machine itself has for that is used.
    """

    kind: str
    bucket: str
    folder: str
    endpoint: str = ""
    region: str = ""
    user: str = ""

    @property
    def told(self) -> str:
        """What people call it."""
        return f"{self.kind}://{self.bucket}/{self.folder}"


def kept_at(address: str, endpoint: str = "", region: str = "", user: str = "") -> Kept:
    """Take an address apart; raises `WrongUsage`."""
    found = _ADDRESS.fullmatch(address.rstrip("/"))
    what = "Configuration not read"
    if not found or {"", ".", ".."} & set(found[3].split("/")):
        why = f"{address} is not the address of a folder on object storage"
        raise WrongUsage(what, why, "Write it as in s3://bucket/shelf.")
    if endpoint and is_open(endpoint):
        why = f"object_storage: {endpoint} is not encrypted, and would carry secrets in clear"
        raise WrongUsage(what, why, "Use https.")
    return Kept(found[1], found[2], found[3], endpoint, region, user)


class ObjectStorage(Storage):
    """Object storage; `secret` is asked for the key when it is needed.

    `progress` is told how many files were sent, of how many that are known so far.
    """

    folder: Path | None = None
    side_by_side = _SIDE_BY_SIDE

    def __init__(
        self,
        kept: Kept,
        secret: Callable[[], str],
        progress: Callable[[str, int, int], None] = lambda what, done, total: None,
    ) -> None:
        self._kept, self._secret, self.told, self.progress = kept, secret, kept.told, progress
        self._store: Any = None
        self._lock, self._writers = Lock(self), Writers(self)
        self._life: Life | None = None
        # What is known of objects while a batch is under way: nothing goes then. By name, with the size.
        self._sizes: dict[str, int] = {}
        self._asked = 0

    def absence(self) -> str:
        """Say why it cannot be made: there is no such bucket, or nobody may list it."""
        self.names("")
        return ""

    def prepare(self) -> Iterator[str]:
        """Do nothing: folders are only names there, and who may read them is the bucket's business."""
        yield from ()

    def names(self, folder: str) -> list[str]:
        """Return the names in a folder, in as few requests as there are pages."""
        with self._asking(folder) as (library, store):
            found = library.list_with_delimiter(store, folder or None)
        names = [entry["path"] for entry in found["objects"]] + list(found["common_prefixes"])
        return [name.rstrip("/").rpartition("/")[2] for name in names]

    def seen(self, folder: str) -> dict[str, str]:
        """Return the names of the files in a folder, each with what changes when it is written."""
        with self._asking(folder) as (library, store):
            found = library.list_with_delimiter(store, folder)["objects"]
        return {
            entry["path"].rpartition("/")[2]: f"{entry['e_tag']} {entry['last_modified']}" for entry in found
        }

    def size(self, name: str) -> int:
        """Return how many bytes a file has."""
        is_lasting = self._life is not None and name.startswith("objects/")
        if is_lasting:
            self._asked += 1
            if self._asked == _ASKED:
                self._list_objects()
            if name in self._sizes:
                return self._sizes[name]
            if self._asked > _ASKED:
                raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), name)
        with self._asking(name) as (library, store):
            size = int(library.head(store, name)["size"])
        if is_lasting:
            self._sizes[name] = size
        return size

    def _list_objects(self) -> None:
        with self._asking("objects") as (library, store):
            for page in library.list(store, "objects", chunk_size=1000):
                self._sizes |= {entry["path"]: entry["size"] for entry in page}

    def open(self, name: str) -> IO[bytes]:
        """Open a file for reading."""
        with self._asking(name) as (library, store):
            found = library.get(store, name)
            if found.meta["size"] <= _SMALL:
                return io.BytesIO(bytes(found.bytes()))
            del found
            reader = library.open_reader(store, name, buffer_size=_SMALL // 2)
        return io.BufferedReader(_Reading(self, name, reader), 1024 * 1024)

    def put(self, name: str, data: bytes) -> None:
        """Write a small file."""
        self._send(name, data)

    def put_new(self, name: str, data: bytes) -> bool:
        """Write a small file, unless there is one; one run only succeeds.

        Where the answer to the first try was lost, the second finds what the first has written.
        """
        self.assure()
        try:
            with self._asking(name, "rename") as (library, store):
                library.put(store, name, data, mode="create", use_multipart=False)
        except FileExistsError:
            with contextlib.suppress(FileNotFoundError), self.open(name) as file:
                return file.read() == data
            return False
        return True

    def delete(self, name: str) -> None:
        """Remove a file."""
        self.assure()
        with contextlib.suppress(FileNotFoundError), self._asking(name, "unlink") as (library, store):
            library.delete(store, name)
        self._sizes.pop(name, None)

    @contextlib.contextmanager
    def batch(self) -> Iterator["_ObjectBatch"]:
        """Begin to write files together; one that is begun while another is under way is counted with it."""
        with contextlib.ExitStack() as stack:
            if self._life is None:
                self._life, self._asked = stack.enter_context(self._writers.joined()), 0
                stack.callback(self._forget)
            batch = _ObjectBatch(self)
            stack.callback(batch.close)
            yield batch

    def _forget(self) -> None:
        self._life = None
        self._sizes.clear()

    def writers(self) -> int:
        """Sweep the signs of dead runs, and count the batches of others that are under way."""
        return self._writers.count(self._life.name if self._life is not None else "")

    @contextlib.contextmanager
    def hold(self, patience: float) -> Iterator[None]:
        """Hold the storage against other runs that hold it; who holds it already goes on."""
        with self._lock.held(patience):
            yield

    def free(self) -> None:
        """Return None: there is no end of it."""
        return

    def send(self, name: str, file: IO[bytes], size: int) -> None:
        """Send a file that may be large."""
        self._send(name, file.read() if size <= _SMALL else file)
        self._sizes[name] = size

    def assure(self) -> None:
        """Raise `OSError` where another run has taken this one for dead."""
        for life in (self._life, self._lock.life):
            if life is not None:
                life.assure()

    def _send(self, name: str, data: "bytes | IO[bytes]") -> None:
        with self._asking(name, "rename") as (library, store):
            is_large = not isinstance(data, bytes)
            library.put(store, name, data, use_multipart=is_large, chunk_size=_SMALL // 2, max_concurrency=4)

    @contextlib.contextmanager
    def _asking(self, name: str, verb: str = "") -> Iterator[tuple[Any, Any]]:
        """Yield the library and the store; what goes wrong is said in plain words."""
        if verb:
            announce(verb, Path(name))
        try:
            import obstore
        except ImportError:
            then = "Install it: pip install 'zinker[objects]'."
            raise NoAnswer(
                f"No answer from {self.told}", "the library for it is not installed", then
            ) from None
        from obstore.exceptions import BaseError

        if self._store is None:
            self._store = self._opened()
        try:
            yield obstore, self._store
        except (BaseError, OSError) as error:
            raise self._said(error, name) from error

    def _opened(self) -> Any:
        """Return the store of the library's; nothing is asked yet."""
        from obstore.store import AzureStore, GCSStore, S3Store

        kept = self._kept
        given: dict[str, Any] = {
            "prefix": kept.folder,
            "client_options": {
                "timeout": "60s",
                "connect_timeout": "10s",
                "allow_http": kept.endpoint.startswith("http:"),
            },
            "retry_config": {"max_retries": _TRIES, "retry_timeout": _PATIENCE},
        }
        secret = self._secret() if kept.user else ""
        if kept.kind == "s3":
            given |= {"endpoint": kept.endpoint} if kept.endpoint else {}
            given |= {"region": kept.region or "us-east-1"} if kept.region or kept.endpoint else {}
            given |= {"access_key_id": kept.user, "secret_access_key": secret} if kept.user else {}
            return S3Store(kept.bucket, checksum_algorithm="SHA256", **given)
        if kept.kind == "az":
            given |= {"endpoint": kept.endpoint} if kept.endpoint else {}
            given |= {"account_name": kept.user, "account_key": secret} if kept.user else {}
            return AzureStore(kept.bucket, **given)
        given |= {"service_account_key": secret} if kept.user else {}
        return GCSStore(kept.bucket, **given)

    def _said(self, error: Exception, name: str) -> Exception:
        """Return what is to be raised for an error of the library's: of one file, or of the line."""
        from obstore import exceptions as of

        text = str(error)
        codes = set(re.findall(r"<Code>(\w+)</Code>|\"code\": ?\"(\w+)\"|ErrorCode:(\w+)", text))
        told = {one for code in codes for one in code if one}
        bucket = KINDS[self._kept.kind]
        if told & {"NoSuchBucket", "ContainerNotFound"}:
            why = f"there is no {bucket} {self._kept.bucket}"
            return self._silent(why, "Make it there, or correct `shelf` in zinker.toml.")
        if told & {"RequestTimeTooSkewed", "RequestExpired"}:
            then = "Set this machine's clock, and run this again."
            return self._silent("its clock and this machine's differ by more than it allows", then)
        if isinstance(error, of.AlreadyExistsError | of.PreconditionError):
            return FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), name)
        if isinstance(error, FileNotFoundError):
            return FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), name)
        if isinstance(error, of.UnauthenticatedError) or told & {
            "InvalidAccessKeyId",
            "SignatureDoesNotMatch",
            "AuthenticationFailed",
        }:
            then = "Correct `user` under [object_storage] in zinker.toml, or the secret of the shelf."
            return self._silent("it does not know the key that requests are signed with", then)
        if isinstance(error, of.PermissionDeniedError | PermissionError):
            why = f"the key has no right to do that in the {bucket} {self._kept.bucket}"
            refused = PermissionError(errno.EACCES, why, name)
            refused.why = why  # type: ignore[attr-defined]
            return refused
        return self._silent(f"the line to it is lost: {_cause(text)}", "Run this again when it is back.")

    def _silent(self, why: str, then: str) -> NoAnswer:
        return NoAnswer(f"No answer from {self.told}", why, then)


def _cause(text: str) -> str:
    """Return what the library says in the end, without addresses and counts."""
    line = " ".join(text.partition("\n\nDebug source")[0].split())
    found = re.search(r"(?:Server returned |HTTP error: )(.*)", line)
    return (found[1] if found else line)[:200].rstrip(": ")


class _Reading(io.RawIOBase):
    """A large file that is read piece by piece."""

    def __init__(self, storage: ObjectStorage, name: str, reader: Any) -> None:
        self._storage, self._name, self._reader = storage, name, reader

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def readinto(self, buffer: "memoryview[int]") -> int:  # type: ignore[override]
        with self._storage._asking(self._name):  # noqa: SLF001 - they are one
            data = bytes(self._reader.read(len(buffer)))
        buffer[: len(data)] = data
        return len(data)

    def seek(self, offset: int, whence: int = 0) -> int:
        with self._storage._asking(self._name):  # noqa: SLF001
            return int(self._reader.seek(offset, whence))


class _ObjectBatch:
    """Files that are written on this machine first, and sent side by side.

    Objects are sent as they come: they are named by what they hold, and count for nothing before a version has
    them.
    """

    def __init__(self, storage: ObjectStorage) -> None:
        self._storage = storage
        self._staged: list[tuple[str, IO[bytes], int]] = []
        self._pool: ThreadPoolExecutor | None = None
        self._sent: set[Future[None]] = set()
        self._begun = self._done = 0

    @contextlib.contextmanager
    def sink(self, name: str) -> Iterator[IO[bytes]]:
        """Open a new file for writing; it is in memory as long as it is small, and on this machine's disk then."""
        file = tempfile.SpooledTemporaryFile(_SMALL // 16)  # noqa: SIM115 - closed when it was sent
        try:
            yield file
        except BaseException:
            file.close()
            raise
        size = file.tell()
        file.seek(0)
        self._staged.append((name, file, size))
        if name.startswith("objects/"):
            self._begin(_SIDE_BY_SIDE * 2)

    def settle(self) -> None:
        """Send what was not sent yet, and wait for all of it."""
        self._storage.assure()
        self._begin(0)
        self._storage.assure()

    def _begin(self, most: int) -> None:
        """Begin to send what is staged, and wait until no more than so many files are under way."""
        if self._pool is None:
            self._pool = ThreadPoolExecutor(_SIDE_BY_SIDE)
        while self._staged:
            self._sent.add(self._pool.submit(self._send, *self._staged.pop(0)))
            self._begun += 1
        while len(self._sent) > most:
            done, self._sent = wait(self._sent, return_when="FIRST_COMPLETED")
            for one in done:
                one.result()
            self._done += len(done)
            self._storage.progress("Sent", self._done, self._begun)

    def _send(self, name: str, file: IO[bytes], size: int) -> None:
        with file:
            self._storage.send(name, file, size)

    def close(self) -> None:
        """Let go of what was not settled."""
        if self._pool is not None:
            self._pool.shutdown(cancel_futures=True)
        for _, file, _ in self._staged:
            file.close()

    def settle_new(self) -> bool:
        """Send one file, unless there is one of its name by now; tells whether there was not."""
        ((name, file, _),) = self._staged
        self._staged.clear()
        self._storage.assure()
        with file:
            return self._storage.put_new(name, file.read())

r"""A shelf on a share that this machine has not mounted: SMB 3 (MS-SMB2), by `smb://user@host[:port]/share/folder`.

The server sees to it that one run only gets a name or a lock: a file is made by one run only, and what is open
without sharing is open for one run only, and for no longer than its connection lasts. Renaming is not enough:
servers look whether there is a file of that name, and then rename, in two steps.
"""

import contextlib
import errno
import re
import secrets
import time
import warnings
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO, Any, NamedTuple

from zinker.disk.announce import announce
from zinker.model.errors import NoAnswer, WrongUsage
from zinker.shelf.storage import LOCK, Busy, Storage

_ADDRESS = re.compile(r"smb://([^@/\s]+)@([^:/\s]+)(?::(\d{1,5}))?/([^/\s]+)/(.+)")
_WRITING = "writing"
_PAUSE = 0.05  # seconds between two looks whether another run has let go
_TIMEOUT = 20  # seconds
_PIECE = 512 * 1024


class Share(NamedTuple):
    """Where a folder on a share is, and as whom to sign in."""

    user: str
    host: str
    port: int
    share: str
    folder: str

    @property
    def told(self) -> str:
        """What people call it, without the user."""
        port = f":{self.port}" if self.port != 445 else ""
        return f"smb://{self.host}{port}/{self.share}/{self.folder}"


def share_at(address: str) -> Share:
    """Take an address apart; raises `WrongUsage`."""
    found = _ADDRESS.fullmatch(address.rstrip("/"))
    if not found or ".." in found[5].split("/"):
        why = f"{address} is not the address of a folder on a share"
        raise WrongUsage("Configuration not read", why, "Write it as in smb://ivy@host.example/share/shelf.")
    return Share(found[1], found[2], int(found[3] or 445), found[4], found[5])


class SmbStorage(Storage):
    """A folder on a share; `secret` is asked for the password when it is needed."""

    folder: Path | None = None

    def __init__(self, share: Share, secret: Callable[[], str]) -> None:
        self._share, self._secret, self.told = share, secret, share.told
        self._root = rf"\\{share.host}\{share.share}\{share.folder.replace('/', chr(92))}"
        self._is_open = False
        self._made: set[str] = set()
        self._own = ""
        self._is_held = False
        self._count = 0
        # Connections of our own: those of others may be signed in as somebody else.
        self._more: dict[str, Any] = {"port": share.port, "connection_cache": {}}

    def absence(self) -> str:
        """Say why it cannot be made: the share is not there."""
        with self._session():
            return ""

    def prepare(self) -> Iterator[str]:
        """Make it; who may read it is the server's business."""
        self._make(".")
        yield from ()

    def names(self, folder: str) -> list[str]:
        """Return the names in a folder."""
        try:
            with self._session() as smb:
                return list(smb.listdir(self._at(folder), **self._more))
        except (FileNotFoundError, NotADirectoryError):
            return []

    def size(self, name: str) -> int:
        """Return how many bytes a file has."""
        with self._session() as smb:
            return int(smb.stat(self._at(name), **self._more).st_size)

    def open(self, name: str) -> IO[bytes]:
        """Open a file for reading."""
        with self._session() as smb:
            file = smb.open_file(self._at(name), "rb", buffering=_PIECE, share_access="rwd", **self._more)
            return _Told(file, self._session)  # type: ignore[return-value]

    def delete(self, name: str) -> None:
        """Remove a file."""
        announce("unlink", Path(name))
        with contextlib.suppress(FileNotFoundError), self._session() as smb:
            smb.remove(self._at(name), **self._more)

    @contextlib.contextmanager
    def batch(self) -> Iterator["_SmbBatch"]:
        """Begin to write files together, in a folder of their own; whoever has its lock open is alive.

        One that is begun while another is under way is in the same folder.
        """
        if self._own:
            yield _SmbBatch(self, f"{_WRITING}/{self._own}")
            return
        self._make(_WRITING)
        while True:
            own = secrets.token_hex(8)
            with self._alone(f"{_WRITING}/{own}.lock") as lock:
                if lock is None:
                    continue  # another run looks whether it is dead
                self._make(f"{_WRITING}/{own}")
                self._own = own
                try:
                    yield _SmbBatch(self, f"{_WRITING}/{own}")
                finally:
                    self._own = ""
                    self._remove(own)
            with contextlib.suppress(OSError, NoAnswer):
                self.delete(f"{_WRITING}/{own}.lock")
            return

    def next_part(self, folder: str) -> str:
        """Return a name in a folder for what is written next."""
        self._count += 1
        return f"{folder}/{self._count}"

    def writers(self) -> int:
        """Sweep what dead runs have begun to write, and count the batches of others that are under way."""
        names = {name.partition(".")[0] for name in self.names(_WRITING)} - {self._own, ""}
        return sum(not self._swept(name) for name in sorted(names))

    def _swept(self, name: str) -> bool:
        with self._alone(f"{_WRITING}/{name}.lock") as lock:
            if lock is None:
                return False
            self._remove(name)
        with contextlib.suppress(OSError, NoAnswer):
            self.delete(f"{_WRITING}/{name}.lock")
        return True

    def _remove(self, name: str) -> None:
        """Remove a folder of files that were begun."""
        folder = f"{_WRITING}/{name}"
        with contextlib.suppress(OSError, NoAnswer):
            for file in self.names(folder):
                self.delete(f"{folder}/{file}")
            with self._session() as smb:
                smb.rmdir(self._at(folder), **self._more)
        self._made.discard(folder)

    @contextlib.contextmanager
    def hold(self, patience: float) -> Iterator[None]:
        """Hold the folder against other runs that hold it; who holds it already goes on."""
        if self._is_held:
            yield
            return
        until = time.monotonic() + patience
        while True:
            with self._alone(LOCK) as lock:
                if lock is not None:
                    self._is_held = True
                    try:
                        yield
                    finally:
                        self._is_held = False
                    return
            if time.monotonic() > until:
                raise Busy
            time.sleep(_PAUSE)

    def free(self) -> int:
        """Return how many bytes there is room for."""
        with self._session() as smb:
            root = rf"\\{self._share.host}\{self._share.share}"
            return int(smb.stat_volume(root, **self._more).caller_available_size)

    @contextlib.contextmanager
    def _alone(self, name: str) -> Iterator[Any]:
        """Open a file, made if need be, without sharing it; yields None where another run has it open."""
        try:
            with self._session() as smb:
                file = smb.open_file(self._at(name), "ab", buffering=0, share_access="", **self._more)
        except PermissionError:  # a sharing violation, in the words of smbprotocol
            yield None
            return
        try:
            yield file
        finally:
            with contextlib.suppress(Exception):  # with a lost connection it is let go of by itself
                file.close()

    @contextlib.contextmanager
    def claimed(self, name: str) -> Iterator[bool]:
        """Make a file that is there until this ends, or the connection does; yields False where there is one."""
        from smbprotocol.open import CreateOptions, FilePipePrinterAccessMask

        rights = FilePipePrinterAccessMask.DELETE | FilePipePrinterAccessMask.GENERIC_WRITE
        self._make(name.rpartition("/")[0])
        try:
            with self._session() as smb:
                file = smb.open_file(
                    self._at(name),
                    "xb",
                    buffering=0,
                    share_access="",
                    desired_access=rights,
                    create_options=CreateOptions.FILE_DELETE_ON_CLOSE,
                    **self._more,
                )
        except (FileExistsError, PermissionError):
            yield False
            return
        try:
            yield True
        finally:
            with contextlib.suppress(Exception):  # with a lost connection it goes by itself
                file.close()

    def _make(self, folder: str) -> None:
        if folder not in self._made:
            with self._session() as smb:
                smb.makedirs(self._at(folder), exist_ok=True, **self._more)
            self._made.add(folder)

    def _at(self, name: str) -> str:
        return self._root if name == "." else "\\".join([self._root, *name.split("/")])

    @contextlib.contextmanager
    def _session(self) -> Iterator[Any]:
        """Sign in, if need be; whatever SMB says comes out as `OSError`, a lost line as `NoAnswer`."""
        try:
            import smbclient
            from smbprotocol.exceptions import SMBException, SMBOSError
        except ImportError:
            then = "Install it: pip install 'zinker[remote]'."
            raise NoAnswer(
                f"No answer from {self.told}", "the library for SMB is not installed", then
            ) from None
        # Handles of a connection that was lost cannot be closed any more.
        warnings.filterwarnings("ignore", category=ResourceWarning, module="smbclient")
        try:
            if not self._is_open:
                self._sign_in(smbclient)
            yield smbclient
        except SMBOSError as error:
            if not error.errno:
                raise self._silent(error) from None
            # Of the kind that Python has for it, such as FileNotFoundError.
            raise OSError(error.errno, error.strerror, str(error.filename or self.told)) from None
        except (OSError, SMBException, ValueError) as error:  # what the server did not say is of the line
            raise self._silent(error) from None

    def _sign_in(self, smb: Any) -> None:
        """Sign in, and look whether the share is there: a file of one that is not is only said to be missing."""
        smb.register_session(
            self._share.host,
            username=self._share.user,
            password=self._secret(),
            encrypt=True,
            connection_timeout=_TIMEOUT,
            **self._more,
        )
        try:
            smb.stat(rf"\\{self._share.host}\{self._share.share}", **self._more)
        except OSError as error:
            if error.errno != errno.ENOENT:
                raise
            why = f"it has no share {self._share.share}"
            raise NoAnswer(
                f"No answer from {self.told}", why, "Correct the address in zinker.toml."
            ) from None
        self._is_open = True

    def _silent(self, error: Exception) -> NoAnswer:
        name, text = type(error).__name__, str(error).lower()
        then = "Check that it is switched on and reachable, and run this again."
        if "logon" in text or "Logon" in name or "Authentication" in name:
            why = f"the name {self._share.user} or its password is wrong"
            then = (
                "Correct the address in zinker.toml, or the password in ZINKER_SECRET_SHELF or the keyring."
            )
        elif "access_denied" in text or "AccessDenied" in name:
            why, then = f"{self._share.user} has no right to do this there", "Ask for the right to write."
        elif "refused" in text:
            why = "nothing listens at that address and port"
        elif "closed" in text or "Closed" in name or isinstance(error, OSError):
            why = "the connection was lost"
        else:
            why = f"{name}: {error}"
        return NoAnswer(f"No answer from {self.told}", why, then)


class _SmbBatch:
    """Files in a folder of their own until all are written."""

    def __init__(self, storage: SmbStorage, folder: str) -> None:
        self._storage, self._folder = storage, folder
        self._staged: list[tuple[str, str]] = []

    @contextlib.contextmanager
    def sink(self, name: str) -> Iterator[IO[bytes]]:
        """Open a new file for writing; it is flushed to the server's disk at its end."""
        storage = self._storage
        part = storage.next_part(self._folder)
        announce("create", Path(part))
        with storage._session() as smb:  # noqa: SLF001 - they are one
            path = storage._at(part)  # noqa: SLF001
            file = smb.open_file(path, "xb", buffering=_PIECE, share_access="", **storage._more)  # noqa: SLF001
        told = _Told(file, storage._session)  # noqa: SLF001
        try:
            yield told  # type: ignore[misc]
        except BaseException:
            with contextlib.suppress(Exception):  # what went wrong first is told
                told.close()
            raise
        told.close()
        self._staged.append((part, name))

    def settle(self) -> None:
        """Give the files their names."""
        for part, name in self._staged:
            self._name(part, name, "replace")
        self._staged.clear()

    def settle_new(self) -> bool:
        """Do so with one file, unless there is one of its name by now; tells whether there was not."""
        ((part, name),) = self._staged
        self._staged.clear()
        storage = self._storage
        with storage.claimed(f"{name}.claim") as is_ours:
            if not is_ours:
                return False
            try:
                storage.size(name)
            except FileNotFoundError:
                self._name(part, name, "rename")
                return True
            return False

    def _name(self, part: str, name: str, how: str) -> None:
        storage = self._storage
        storage._make(name.rpartition("/")[0] or ".")  # noqa: SLF001
        announce("rename", Path(name))
        with storage._session() as smb:  # noqa: SLF001
            getattr(smb, how)(storage._at(part), storage._at(name), **storage._more)  # noqa: SLF001


class _Told:
    """A file that is read or written over the line, whose errors are told as those of the storage are."""

    def __init__(self, file: Any, session: Callable[[], contextlib.AbstractContextManager[Any]]) -> None:
        self._file, self._session = file, session

    def read(self, size: int = -1) -> bytes:
        """Read bytes."""
        with self._session():
            return bytes(self._file.read(size))

    def write(self, data: bytes) -> int:
        """Write bytes."""
        with self._session():
            return int(self._file.write(data))

    def close(self) -> None:
        """Flush what was written to the server's disk, and close it."""
        with self._session():
            self._file.flush()
            self._file.raw.flush()
            self._file.close()

    def __getattr__(self, name: str) -> Any:
        """Do all else as the file does."""
        return getattr(self._file, name)

    def __enter__(self) -> "_Told":
        return self

    def __exit__(self, *_: object) -> None:
        with contextlib.suppress(Exception):  # what was read is read
            self._file.close()

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
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO, Any, NamedTuple

from zinker.disk.announce import announce
from zinker.disk.held import once_free
from zinker.model.errors import NoAnswer, WrongUsage
from zinker.shelf.storage import LOCK, Busy, Storage
from zinker.stores.smb_session import SHARED, Share, SmbSession, Told

_ADDRESS = re.compile(r"smb://([^@/\s]+)@([^:/\s]+)(?::(\d{1,5}))?/([^/\s]+)/(.+)")
_WRITING = "writing"
_PAUSE = 0.05  # seconds between two looks whether another run has let go
_PIECE = 512 * 1024
# What servers say while somebody has a file open who does not share it, or as it is being removed.
_HELD = (SHARED, errno.EBUSY)


class At(NamedTuple):
    """A folder on a share."""

    share: Share
    folder: str


def share_at(address: str) -> At:
    """Take an address apart; raises `WrongUsage`."""
    found = _ADDRESS.fullmatch(address.rstrip("/"))
    if not found or ".." in found[5].split("/"):
        why = f"{address} is not the address of a folder on a share"
        raise WrongUsage("Configuration not read", why, "Write it as in smb://ivy@host.example/share/shelf.")
    host, number, share, folder = found[2], int(found[3] or 445), found[4], found[5]
    # What people call it, without the user.
    told = f"smb://{host}{f':{number}' if number != 445 else ''}/{share}/{folder}"
    return At(Share(found[1], host, number, share, told, "ZINKER_SECRET_SHELF or the keyring"), folder)


class SmbStorage(Storage):
    """A folder on a share; `secret` is asked for the password when it is needed."""

    folder: Path | None = None

    def __init__(self, at: At, secret: Callable[[], str]) -> None:
        self._session = SmbSession(at.share, secret)
        self.told, self._share_root = at.share.told, at.share.root
        self._root = rf"{at.share.root}\{at.folder.replace('/', chr(92))}"
        self._made: set[str] = set()
        self._own = ""
        self._is_held = False
        self._count = 0
        self._more = self._session.more

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
            return list(self._ask("listdir", folder))
        except (FileNotFoundError, NotADirectoryError):
            return []

    def size(self, name: str) -> int:
        """Return how many bytes a file has."""
        return int(self._ask("stat", name).st_size)

    def open(self, name: str) -> IO[bytes]:
        """Open a file for reading."""
        file = self._ask("open_file", name, mode="rb", buffering=_PIECE, share_access="rwd")
        return Told(file, self._session)  # type: ignore[return-value]

    def delete(self, name: str) -> None:
        """Remove a file."""
        announce("unlink", Path(name))
        with contextlib.suppress(FileNotFoundError):
            self._ask("remove", name)

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
            self._ask("rmdir", folder)
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
            return int(smb.stat_volume(self._share_root, **self._more).caller_available_size)

    @contextlib.contextmanager
    def _alone(self, name: str) -> Iterator[Any]:
        """Open a file, made if need be, without sharing it; yields None where another run has it, or lets it go."""
        try:
            file = self._ask_once("open_file", name, mode="ab", buffering=0, share_access="")
        except OSError as error:
            if error.errno not in _HELD:
                raise
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
            going = CreateOptions.FILE_DELETE_ON_CLOSE
            given = {"mode": "xb", "buffering": 0, "desired_access": rights, "create_options": going}
            file = self._ask_once("open_file", name, share_access="", **given)
        except OSError as error:  # somebody has it, or is letting go of it
            if error.errno not in (errno.EEXIST, *_HELD):
                raise
            yield False
            return
        try:
            yield True
        finally:
            with contextlib.suppress(Exception):  # with a lost connection it goes by itself
                file.close()

    def _make(self, folder: str) -> None:
        if folder not in self._made:
            self._ask("makedirs", folder, exist_ok=True)
            self._made.add(folder)

    def _ask(self, how: str, *names: str, held: tuple[int, ...] = _HELD, **given: Any) -> Any:
        """Ask something of the server, by a function of the library; waits for who has one of the names open.

        A folder that is being made is not shared until it is there, and what is being removed goes when the last
        one closes it.
        """
        return once_free(lambda: self._ask_once(how, *names, **given), lambda error: error.errno in held)

    def _ask_once(self, how: str, *names: str, **given: Any) -> Any:
        with self._session() as smb:
            return getattr(smb, how)(*map(self._at, names), **given, **self._more)

    def _at(self, name: str) -> str:
        return self._root if name == "." else "\\".join([self._root, *name.split("/")])


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
        ask = storage._ask  # noqa: SLF001 - they are one
        file = ask("open_file", part, mode="xb", buffering=_PIECE, share_access="")
        told = Told(file, storage._session)  # noqa: SLF001
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
        # Nothing takes the place of what somebody reads: servers deny that.
        storage._ask(how, part, name, held=(*_HELD, errno.EACCES))  # noqa: SLF001

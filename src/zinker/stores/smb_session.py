"""A session with a share (SMB 3, MS-SMB2): signed in when it is needed, and what goes wrong is said in plain words.

What the server refuses comes out as `OSError`, of the kind that Python has for it; a lost line as `NoAnswer`.
"""

import contextlib
import errno
import warnings
from collections.abc import Callable, Iterator
from threading import RLock, Semaphore
from typing import Any, NamedTuple

from zinker.model.errors import NoAnswer

_TIMEOUT = 20  # seconds
_MOST = 16  # requests under way at once
_CREDITS = 24  # that one may take: a MiB, and what it needs beside it


class Share(NamedTuple):
    """Where a share is, as whom to sign in, what people call it, and where its password is looked for."""

    user: str
    host: str
    port: int
    share: str
    told: str
    secret_in: str

    @property
    def root(self) -> str:
        """The share as SMB names it."""
        return rf"\\{self.host}\{self.share}"


class SmbSession:
    """One connection to one share; `secret` is asked for the password when it is needed."""

    def __init__(self, share: Share, secret: Callable[[], str], encrypt: bool = True) -> None:
        self.share, self._secret, self._encrypt = share, secret, encrypt
        self._is_open = False
        self._lock = RLock()
        self._turns = Semaphore(1)
        self._tree: Any = None
        # Of its own: who holds this one waits for a turn, and who has a turn may wait for the other.
        self.holding = RLock()
        # Folders that are held open there, by their names from the top of the share.
        self.held: dict[tuple[str, ...], Any] = {}
        # Connections of our own: those of others may be signed in as somebody else.
        self.more: dict[str, Any] = {"port": share.port, "connection_cache": {}}

    @contextlib.contextmanager
    def __call__(self) -> Iterator[Any]:
        """Yield the library, signed in."""
        try:
            import smbclient
            from smbprotocol.exceptions import SMBException, SMBOSError
        except ImportError:
            then = "Install it: pip install 'zinker[remote]'."
            raise self._no_answer("the library for SMB is not installed", then) from None
        # Handles of a connection that was lost cannot be closed any more.
        warnings.filterwarnings("ignore", category=ResourceWarning, module="smbclient")
        try:
            if not self._is_open:
                with self._lock:
                    self._sign_in(smbclient)
            with self._turns:
                yield smbclient
        except SMBOSError as error:
            number, why = _NUMBERS.get(error.ntstatus, (error.errno, ""))
            if not number and (not self._is_open or error.ntstatus in _OF_THE_LINE):
                raise self._silent(error) from None
            if not number:  # an answer, and about one file
                number, why = errno.EIO, f"the other machine answers 0x{error.ntstatus:08X}"
            told = OSError(number, why or error.strerror, str(error.filename or self.share.told))
            if why:
                told.why = why  # type: ignore[attr-defined]
            raise told from None
        except (OSError, SMBException, ValueError) as error:  # what the server did not say is of the line
            raise self._silent(error) from None

    def _sign_in(self, smb: Any) -> None:
        """Sign in, and look whether the share is there: a file of one that is not is only said to be missing."""
        if self._is_open:
            return
        smb.register_session(
            self.share.host,
            username=self.share.user,
            password=self._secret(),
            encrypt=self._encrypt,
            connection_timeout=_TIMEOUT,
            **self.more,
        )
        try:
            smb.stat(self.share.root, **self.more)
        except OSError as error:
            if error.errno != errno.ENOENT:
                raise
            then = "Correct the address in zinker.toml."
            raise self._no_answer(f"it has no share {self.share.share}", then) from None
        self._turns = Semaphore(max(1, min(_MOST, self._credits() // _CREDITS)))
        self._is_open = True

    def tree(self) -> Any:
        """Return the share as those who send requests of their own need it; one is signed in."""
        with self._lock:
            if self._tree is None:
                from smbprotocol.tree import TreeConnect

                (connection,) = self.more["connection_cache"].values()
                self._tree = TreeConnect(next(iter(connection.session_table.values())), self.share.root)
                self._tree.connect()
            return self._tree

    def let_go(self, folder: tuple[str, ...] = ()) -> None:
        """Close what is held open at or below a folder, so that it can be removed; all, without one."""
        with self.holding:
            going = [self.held.pop(one) for one in list(self.held) if one[: len(folder)] == folder]
        with contextlib.suppress(Exception):  # with a lost connection they are let go of by themselves
            for first in range(0, len(going), _CREDITS):
                with self():
                    _close(going[first : first + _CREDITS])

    def _credits(self) -> int:
        """Ask for as many credits as are needed; returns how many were granted (MS-SMB2, section 3.3.1.2).

        The library does not wait for one: who sends more than there are fails.
        """
        (connection,) = self.more["connection_cache"].values()
        connection.echo(next(iter(connection.session_table)), credit_request=_MOST * _CREDITS)
        window = connection.sequence_window
        return int(window["high"] - window["low"])

    def _no_answer(self, why: str, then: str) -> NoAnswer:
        return NoAnswer(f"No answer from {self.share.told}", why, then)

    def _silent(self, error: Exception) -> NoAnswer:
        if isinstance(error, NoAnswer):
            return error
        name, text = type(error).__name__, str(error).lower()
        then = "Check that it is switched on and reachable, and run this again."
        if "logon" in text or "Logon" in name or "Authentication" in name:
            why = f"the name {self.share.user} or its password is wrong"
            then = f"Correct the address in zinker.toml, or the password in {self.share.secret_in}."
        elif "access_denied" in text or "AccessDenied" in name:
            why, then = f"{self.share.user} has no right to do this there", "Ask for the right to write."
        elif "encryption" in text:
            why, then = "it does not encrypt", 'Let it, or set `protection = "signed"` for this place.'
        elif "refused" in text:
            why = "nothing listens at that address and port"
        elif "closed" in text or "Closed" in name or isinstance(error, OSError):
            why = "the connection was lost"
        else:
            why = f"{name}: {error}"
        return self._no_answer(why, then)


class Told:
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

    def __enter__(self) -> "Told":
        return self

    def __exit__(self, *_: object) -> None:
        with contextlib.suppress(Exception):  # what was read is read
            self._file.close()


def _close(folders: list[Any]) -> None:
    """Close some folders in one request."""
    tree = folders[0].tree_connect
    session = tree.session
    requests = [folder.close(send=False) for folder in folders]
    sent = session.connection.send_compound(
        [request for request, _ in requests], session.session_id, tree.tree_connect_id
    )
    for (_, take), one in zip(requests, sent, strict=True):
        take(one)


HELD = "another program holds it open"
SHARED = errno.EPERM  # somebody has it open in a way that does not go with what was asked for
# STATUS_NETWORK_NAME_DELETED, STATUS_USER_SESSION_DELETED, STATUS_NETWORK_SESSION_EXPIRED, STATUS_CONNECTION_*.
_OF_THE_LINE = {0xC00000C9, 0xC0000203, 0xC000035C, 0xC000020C, 0xC000020D, 0xC0000241}
# What servers say, by NTSTATUS, for which the library knows no number.
_NUMBERS = {
    0xC0000022: (errno.EACCES, ""),  # STATUS_ACCESS_DENIED
    0xC0000043: (SHARED, HELD),  # STATUS_SHARING_VIOLATION
    0xC0000054: (errno.EBUSY, "another program has locked it"),  # STATUS_FILE_LOCK_CONFLICT
    0xC0000056: (errno.EBUSY, "it is being removed"),  # STATUS_DELETE_PENDING
    0xC000007F: (errno.ENOSPC, ""),  # STATUS_DISK_FULL
    0xC0000044: (errno.EDQUOT if hasattr(errno, "EDQUOT") else errno.ENOSPC, ""),  # STATUS_QUOTA_EXCEEDED
    0xC00000A2: (errno.EROFS, ""),  # STATUS_MEDIA_WRITE_PROTECTED
    0xC0000121: (errno.EACCES, ""),  # STATUS_CANNOT_DELETE
    0xC0000033: (errno.EINVAL, "this machine takes no such name"),  # STATUS_OBJECT_NAME_INVALID
    0xC0000106: (errno.ENAMETOOLONG, ""),  # STATUS_NAME_TOO_LONG
}

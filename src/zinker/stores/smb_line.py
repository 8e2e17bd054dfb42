"""A line to another workstation: a connection over SMB 3, with a pipe to the registry service for each thread."""

import contextlib
import threading
import uuid
from collections.abc import Callable
from typing import Any, NamedTuple, TypeVar

from zinker.model.address import folded
from zinker.model.errors import Refused
from zinker.stores.registry import RegistryError
from zinker.stores.winreg_rpc import KEY_DELETED, NO_RIGHT, NOT_FOUND, ROOTS, ProtocolError, RpcError, Winreg

_TIMEOUT = 20  # seconds
_MOST_OPEN = 64  # keys that a pipe keeps open
_Result = TypeVar("_Result")


class NoAnswer(Refused):
    """The other workstation does not answer, or not as it should."""

    def __init__(self, where: str, why: str, then: str = "") -> None:
        super().__init__(
            f"No answer from {where}", why, then or "Check that it is switched on and reachable."
        )


class Dial(NamedTuple):
    """Where a workstation is, and as whom to ask; `secret` is asked when it is needed."""

    host: str
    port: int
    user: str
    secret: Callable[[], str]
    encrypt: bool = True


class Line:
    """A connection with its pipes; each thread has a pipe of its own, with the keys it has open."""

    def __init__(self, dial: Dial) -> None:
        self._dial = dial
        self._lock = threading.Lock()
        self._tree: Any = None
        self._local = threading.local()
        self._era = 0  # counts connections, so that pipes of a lost one are known

    def with_key(
        self, key: str, rights: int, do: Callable[[Winreg, bytes], _Result], options: int
    ) -> _Result:
        """Do something with a key; raises `KeyError`, `RegistryError` and `NoAnswer`."""
        where = self._dial.host
        try:
            return self._try(key, rights, do, options)
        except RpcError as error:
            self._local.keys = {}
            if error.code in (NOT_FOUND, KEY_DELETED):
                raise KeyError(key) from None
            raise RegistryError(_words(error.code)) from None
        except ProtocolError as error:
            self._lost()
            raise NoAnswer(where, f"it does not speak as a registry service does: {error}") from None
        except (OSError, ValueError) as error:
            self._lost()
            raise NoAnswer(where, _plain(error)) from None

    def _try(self, key: str, rights: int, do: Callable[[Winreg, bytes], _Result], options: int) -> _Result:
        from smbprotocol.exceptions import SMBException

        try:
            service = self._service()
            return do(service, self._handle(service, key, rights, options))
        except SMBException as error:
            self._lost()
            raise _of_smb(self._dial, error) from None

    def forget(self, key: str) -> None:
        """Close what is open at or below a key, before it is removed."""
        keys: dict[tuple[str, int], bytes] = getattr(self._local, "keys", {})
        name = folded(key)
        for at in [at for at in keys if at[0] == name or at[0].startswith(name + "\\")]:
            with contextlib.suppress(RpcError):
                self._service().close(keys[at])
            del keys[at]

    def hang_up(self) -> None:
        """Close the connection."""
        tree, self._tree = self._tree, None
        if tree is not None:
            from smbprotocol.exceptions import SMBException

            with contextlib.suppress(SMBException, OSError, ValueError):
                tree.session.connection.disconnect(close=False)

    def _service(self) -> Winreg:
        with self._lock:
            if self._tree is None:
                self._tree = _connect(self._dial)
                self._era += 1
            if getattr(self._local, "era", -1) != self._era:
                self._local.service = Winreg(_Pipe(self._tree))
                self._local.keys, self._local.era = {}, self._era
        return self._local.service  # type: ignore[no-any-return]

    def _handle(self, service: Winreg, key: str, rights: int, options: int) -> bytes:
        keys: dict[tuple[str, int], bytes] = self._local.keys
        at = (folded(key), rights | options << 32)
        if at not in keys:
            root, _, path = key.partition("\\")
            top = (folded(root), 0)
            if root.upper() not in ROOTS:
                raise RegistryError("there is no such root key")
            if top not in keys:
                keys[top] = service.root(ROOTS[root.upper()], 0x02000000)  # as much as is allowed
            if not path:
                return keys[top]
            if len(keys) > _MOST_OPEN:
                for old in [one for one in keys if "\\" in one[0]]:
                    service.close(keys.pop(old))
            keys[at] = service.open(keys[top], path, rights, options)
        return keys[at]

    def _lost(self) -> None:
        with self._lock:
            self.hang_up()


class _Pipe:
    """A named pipe to the registry service."""

    def __init__(self, tree: Any) -> None:
        from smbprotocol.open import CreateDisposition, CreateOptions, ImpersonationLevel, Open, ShareAccess

        self._tree = tree
        self._open = Open(tree, "winreg")
        share = ShareAccess.FILE_SHARE_READ | ShareAccess.FILE_SHARE_WRITE
        rights = 0x0012_019F  # read and write
        self._open.create(
            ImpersonationLevel.Impersonation,
            rights,
            0,
            share,
            CreateDisposition.FILE_OPEN,
            CreateOptions.FILE_NON_DIRECTORY_FILE,
        )

    def exchange(self, request: bytes) -> bytes:
        """Send a request and return what comes back first, in one round trip (MS-SMB2, section 2.2.31)."""
        from smbprotocol.exceptions import BufferOverflow
        from smbprotocol.ioctl import CtlCode, IOCTLFlags, SMB2IOCTLRequest, SMB2IOCTLResponse

        ioctl = SMB2IOCTLRequest()
        ioctl["ctl_code"] = CtlCode.FSCTL_PIPE_TRANSCEIVE
        ioctl["file_id"] = self._open.file_id
        ioctl["max_output_response"] = 65_536
        ioctl["flags"] = IOCTLFlags.SMB2_0_IOCTL_IS_FSCTL
        ioctl["buffer"] = request
        session = self._tree.session
        connection = session.connection
        sent = connection.send(ioctl, sid=session.session_id, tid=self._tree.tree_connect_id)
        try:
            answer = connection.receive(sent, timeout=_TIMEOUT)
        except BufferOverflow as error:
            answer = error.header
        body = SMB2IOCTLResponse()
        body.unpack(answer["data"].get_value())
        return bytes(body["buffer"].get_value())

    def send(self, request: bytes) -> None:
        """Write a part of a request."""
        self._open.write(request, 0)

    def more(self) -> bytes:
        """Read what comes next."""
        return bytes(self._open.read(0, 65_536))


def _connect(dial: Dial) -> Any:
    """Sign in; returns the tree that pipes are in."""
    try:
        from smbprotocol.connection import Connection
        from smbprotocol.session import Session
        from smbprotocol.tree import TreeConnect
    except ImportError:
        then = "Install it: pip install 'zinker[remote]'."
        raise NoAnswer(dial.host, "the library for SMB is not installed", then) from None
    connection = Connection(uuid.uuid4(), dial.host, dial.port, require_signing=True)
    connection.connect(timeout=_TIMEOUT)
    try:
        session = Session(connection, dial.user, dial.secret(), require_encryption=dial.encrypt)
        session.connect()
        tree = TreeConnect(session, rf"\\{dial.host}\IPC$")
        tree.connect()
    except BaseException:
        with contextlib.suppress(Exception):
            connection.disconnect(close=False)
        raise
    return tree


def _of_smb(dial: Dial, error: Exception) -> NoAnswer:
    """Say in plain words what went wrong with SMB."""
    from smbprotocol import exceptions

    name = type(error).__name__
    if isinstance(error, exceptions.LogonFailure | exceptions.SMBAuthenticationError):
        why = f"the name {dial.user} or its password is wrong"
        return NoAnswer(dial.host, why, "Correct `user`, or the password in the keyring or ZINKER_SECRET_….")
    if isinstance(error, exceptions.AccessDenied):
        why = f"{dial.user} has no right to use its registry service"
        return NoAnswer(dial.host, why, "Ask for an account that is an administrator there.")
    if isinstance(error, exceptions.ObjectNameNotFound | exceptions.PipeNotAvailable):
        return NoAnswer(
            dial.host, "its registry service is not running", "Start the service Remote Registry there."
        )
    if isinstance(error, exceptions.SMBConnectionClosed):
        return NoAnswer(dial.host, "the connection was lost", "Run this again when it is back.")
    if "encryption" in str(error).lower():
        return NoAnswer(
            dial.host, "it does not encrypt", 'Let it, or set `protection = "signed"` for this place.'
        )
    return NoAnswer(dial.host, f"{name}: {error}")


def _plain(error: Exception) -> str:
    text = str(error).lower()
    if "timed out" in text or isinstance(error, TimeoutError):
        return "nothing came back in time"
    if "refused" in text:
        return "nothing listens at that address and port"
    if "name or service" in text or "getaddrinfo" in text:
        return "that name is unknown"
    return f"the connection failed: {error}"


def _words(code: int) -> str:
    known = {
        NO_RIGHT: "no right to read or write this key",
        19: "the disk there is write-protected",
        87: "the service does not take this name or value",
        206: "the name is too long",
        1020: "a key that is to stay cannot be made below one that does not",
    }
    return known.get(code, f"the service answered with error {code}")

"""The registry of another workstation, over the network: MS-RRP over SMB 3, signed and encrypted.

Several pipes share a connection, and several keys are asked for at a time, so that a branch takes few of the
network's round trips one after the other. A connection that is lost is made anew for the next call; what a lost
call did is found out by reading.
"""

import contextlib
import threading
import uuid
from collections.abc import Callable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from typing import Any, NamedTuple, TypeVar

from zinker.formats.registry_values import from_bytes, to_bytes
from zinker.model.address import folded, pointer
from zinker.model.errors import Refused
from zinker.model.rows import Block, block_of, row, tail
from zinker.stores.reading import Trouble
from zinker.stores.registry import RegistryError, Value
from zinker.stores.winreg_rpc import (
    KEY_DELETED,
    MORE_DATA,
    NO_MORE,
    NO_RIGHT,
    NOT_FOUND,
    OPEN_LINK,
    READ,
    ROOTS,
    WRITE,
    Info,
    ProtocolError,
    RpcError,
    Winreg,
)

_PIPES = 4
_AT_ONCE = 64  # values or subkeys that one pipe asks for in one go
_TRIES = 3
_TIMEOUT = 20  # seconds
_NAME_ROOM = 16_383  # characters
_VIEWS = {0: 0, 32: 0x200, 64: 0x100}  # KEY_WOW64_32KEY, KEY_WOW64_64KEY
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


class RemoteRegistry:
    """The registry of another workstation; a `Registry`. Raises `NoAnswer` wherever it is not reached."""

    def __init__(self, dial: Dial, view: int = 0) -> None:
        self._line = _Line(dial)
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

    def blocks(self, branch: str, troubles: list[Trouble]) -> Iterator[Block]:
        """Yield all settings of a branch, asking for several keys at a time."""
        with ThreadPoolExecutor(_PIPES) as pool:
            waiting: dict[Future[tuple[list[str], list[Value]]], tuple[str, ...]] = {}

            def ask(path: tuple[str, ...]) -> None:
                waiting[pool.submit(self._whole, "\\".join((branch, *path)), not path)] = path

            ask(())
            try:
                while waiting:
                    done, _ = wait(waiting, return_when=FIRST_COMPLETED)
                    for future in done:
                        path = waiting.pop(future)
                        try:
                            names, values = future.result()
                        except RegistryError as error:
                            troubles.append(Trouble(pointer(*path), error.why))
                            continue
                        except KeyError:
                            troubles.append(Trouble(pointer(*path), "it is not there any more"))
                            continue
                        for name in names:
                            ask((*path, name))
                        prefix = pointer(*path, "")
                        block = block_of(prefix, values)
                        if not names and not values and path:
                            block = Block([row(prefix, tail("key", None))], block.names)
                        yield block
            finally:
                for future in waiting:
                    future.cancel()

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

    def close(self) -> None:
        """Hang up."""
        self._line.hang_up()

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


def _read_key(service: Winreg, handle: bytes) -> tuple[list[str], list[Value]]:
    info = service.info(handle)
    try:
        # Zero characters are told by some services for a key that has names all the same.
        room = max(info.longest_subkey, 255)
        names = [service.subkey(handle, number, room) for number in range(info.subkeys)]
        values = [_value(service, handle, number, info) for number in range(info.values)]
    except RpcError as error:
        if error.code in (NO_MORE, MORE_DATA):
            raise _Changed from None
        raise
    if len(set(names)) < len(names) or len({name for name, _, _ in values}) < len(values):
        raise _Changed
    return names, values


def _value(service: Winreg, handle: bytes, number: int, info: Info) -> Value:
    name, type, data = service.value(handle, number, max(info.longest_name, 255), info.largest_value)
    return name, *from_bytes(type, data)


class _Line:
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
            if len(keys) > _AT_ONCE:
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
        return "nobody knows that name"
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

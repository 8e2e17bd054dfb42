"""The remote registry protocol (MS-RRP) on DCE/RPC (C706) over a named pipe: only the calls that are needed.

A pipe is anything that sends a request and hands out the answer; `remote_registry.py` has one over SMB.
"""

import struct
import uuid
from collections.abc import Iterator
from typing import Final, NamedTuple, Protocol

INTERFACE: Final = uuid.UUID("338cd001-2244-31f1-aaaa-900038001003").bytes_le + struct.pack("<HH", 1, 0)
_NDR = uuid.UUID("8a885d04-1ceb-11c9-9fe8-08002b104860").bytes_le + struct.pack("<HH", 2, 0)
_FRAGMENT = 4280
_BIND, _BIND_ACK, _REQUEST, _RESPONSE, _FAULT = 11, 12, 0, 2, 3
_FIRST, _LAST = 1, 2
_LARGEST_ANSWER = 256 * 1024 * 1024

# Opnums (MS-RRP, section 3.1.5).
ROOTS: Final = {
    "HKEY_CLASSES_ROOT": 0,
    "HKEY_CURRENT_USER": 1,
    "HKEY_LOCAL_MACHINE": 2,
    "HKEY_USERS": 4,
    "HKEY_CURRENT_CONFIG": 27,
}
_CLOSE, _CREATE, _DELETE_KEY, _DELETE_VALUE, _ENUM_KEY, _ENUM_VALUE, _FLUSH = 5, 6, 7, 8, 9, 10, 11
_OPEN, _INFO, _QUERY, _SET = 15, 16, 17, 22
_USUAL = 64 * 1024  # bytes that hold most values

READ: Final = 0x20019
WRITE: Final = 0x2001F
OPEN_LINK: Final = 8

SUCCESS, NOT_FOUND, NO_RIGHT, MORE_DATA, NO_MORE, KEY_DELETED = 0, 2, 5, 234, 259, 1018


class Answerer(Protocol):
    """A pipe to a service."""

    def exchange(self, request: bytes) -> bytes:
        """Send a request and return what comes back first."""
        ...

    def send(self, request: bytes) -> None:
        """Send a part of a request that nothing is answered to."""
        ...

    def more(self) -> bytes:
        """Return what comes next."""
        ...


class RpcError(Exception):
    """The service did not do it; `code` is Windows' number of the error."""

    def __init__(self, code: int) -> None:
        super().__init__(f"error {code}")
        self.code = code


class ProtocolError(Exception):
    """What came back is not what this protocol has."""


class Info(NamedTuple):
    """How much a key holds; lengths in characters and bytes."""

    subkeys: int
    longest_subkey: int
    values: int
    longest_name: int
    largest_value: int


class Winreg:
    """The registry service at the other end of a pipe. Raises `RpcError` and `ProtocolError`."""

    def __init__(self, pipe: Answerer) -> None:
        self._pipe = pipe
        self._call = 0
        self._bind()

    def root(self, opnum: int, rights: int) -> bytes:
        """Open a root key; returns its handle."""
        return self._do(opnum, struct.pack("<II", 0, rights)).handle()

    def open(self, key: bytes, path: str, rights: int, options: int = 0) -> bytes:
        """Open a key below another one."""
        return self._do(_OPEN, key + _text(path) + struct.pack("<II", options, rights)).handle()

    def create(self, key: bytes, path: str, rights: int) -> bytes:
        """Make a key, or open it where it is there already."""
        tail = struct.pack("<IIIII", 0, rights, 0, 0x20000, 0)
        return self._do(_CREATE, key + _text(path) + _text("") + tail).handle()

    def close(self, key: bytes) -> None:
        """Let go of a handle."""
        self._do(_CLOSE, key)

    def info(self, key: bytes) -> Info:
        """Ask how much a key holds."""
        answer = self._do(_INFO, key + bytes(8))  # no class is asked for
        answer.text()
        subkeys, name, _, values, value_name, value = (answer.number() for _ in range(6))
        return Info(subkeys, name // 2, values, value_name // 2, value)

    def subkey(self, key: bytes, index: int, longest: int) -> str:
        """Return the name of a subkey by its number."""
        stub = key + struct.pack("<I", index) + _buffer(longest + 1)
        # Room for the class, too, as not every service does without; no time is asked for.
        stub += struct.pack("<I", 0x20004) + _buffer(1) + struct.pack("<I", 0)
        return self._do(_ENUM_KEY, stub).text()

    def value(self, key: bytes, index: int, longest: int, largest: int) -> tuple[str, int, bytes]:
        """Return name, type number and bytes of a value by its number."""
        stub = key + struct.pack("<I", index) + _buffer(longest + 1)
        stub += struct.pack("<II", 0x20004, 0)
        stub += struct.pack("<IIII", 0x20008, largest, 0, 0)
        stub += struct.pack("<IIII", 0x2000C, largest, 0x20010, 0)
        answer = self._do(_ENUM_VALUE, stub)
        name = answer.text()
        number = answer.pointed() or 0
        data = answer.array()
        return name, number, data

    def query(self, key: bytes, name: str) -> tuple[int, bytes]:
        """Return type number and bytes of a value by its name."""
        try:
            return self._query(key, name, _USUAL)
        except RpcError as error:
            if error.code != MORE_DATA:
                raise
            return self._query(key, name, self.info(key).largest_value)

    def _query(self, key: bytes, name: str, room: int) -> tuple[int, bytes]:
        stub = key + _text(name) + struct.pack("<II", 0x20004, 0)
        stub += struct.pack("<IIII", 0x20008, room, 0, 0)
        stub += struct.pack("<IIII", 0x2000C, room, 0x20010, 0)
        answer = self._do(_QUERY, stub)
        number = answer.pointed() or 0
        return number, answer.array()

    def set(self, key: bytes, name: str, number: int, data: bytes) -> None:
        """Set a value."""
        padded = data + bytes(-len(data) % 4)
        stub = (
            key + _text(name) + struct.pack("<II", number, len(data)) + padded + struct.pack("<I", len(data))
        )
        self._do(_SET, stub)

    def delete_value(self, key: bytes, name: str) -> None:
        """Remove a value."""
        self._do(_DELETE_VALUE, key + _text(name))

    def delete_key(self, key: bytes, name: str) -> None:
        """Remove a key that has none below it."""
        self._do(_DELETE_KEY, key + _text(name))

    def flush(self, key: bytes) -> None:
        """Have what was written put on the disk."""
        self._do(_FLUSH, key)

    def _do(self, opnum: int, stub: bytes) -> "_Answer":
        self._call += 1
        for fragment, is_last in _fragments(self._call, opnum, stub):
            if is_last:
                answer = self._answer(self._pipe.exchange(fragment))
            else:
                self._pipe.send(fragment)
        code = struct.unpack("<I", answer[-4:])[0] if len(answer) >= 4 else -1
        if code:
            raise RpcError(code)
        return _Answer(answer)

    def _answer(self, received: bytes) -> bytes:
        """Put the fragments of an answer together."""
        stub = b""
        while True:
            while len(received) < 16 or len(received) < (length := int.from_bytes(received[8:10], "little")):
                received += self._more()
            kind, flags = received[2], received[3]
            if kind == _FAULT:
                raise ProtocolError(f"the service refused the call ({received[24:28][::-1].hex()})")
            if kind != _RESPONSE or length < 24:
                raise ProtocolError("the service answered something else than was asked")
            stub += received[24:length]
            received = received[length:]
            if flags & _LAST:
                return stub
            if len(stub) > _LARGEST_ANSWER:
                raise ProtocolError("the answer is larger than any value may be")

    def _more(self) -> bytes:
        more = self._pipe.more()
        if not more:
            raise ProtocolError("the answer was cut off")
        return more

    def _bind(self) -> None:
        body = struct.pack("<HHIBxxxHBx", _FRAGMENT, _FRAGMENT, 0, 1, 0, 1) + INTERFACE + _NDR
        answer = self._pipe.exchange(_header(_BIND, _FIRST | _LAST, 1, len(body)) + body)
        # The last result of the list: 0 accepts (C706, section 12.6.3.1).
        if len(answer) < 24 + 4 or answer[2] != _BIND_ACK or answer[-24:-22] != b"\0\0":
            raise ProtocolError("there is no registry service")


def _header(kind: int, flags: int, call: int, length: int) -> bytes:
    return struct.pack("<BBBBIHHI", 5, 0, kind, flags, 0x10, 16 + length, 0, call)


def _fragments(call: int, opnum: int, stub: bytes) -> Iterator[tuple[bytes, bool]]:
    room = _FRAGMENT - 24
    starts = range(0, max(len(stub), 1), room)
    for at in starts:
        piece = stub[at : at + room]
        is_last = at == starts[-1]
        flags = (_FIRST if at == 0 else 0) | (_LAST if is_last else 0)
        head = _header(_REQUEST, flags, call, 8 + len(piece))
        yield head + struct.pack("<IHH", len(stub) - at, 0, opnum) + piece, is_last


def _text(text: str) -> bytes:
    """Encode a text with the zero at its end (RRP_UNICODE_STRING)."""
    data = f"{text}\0".encode("utf-16-le", "surrogatepass")
    count = len(data) // 2
    if len(data) > 0xFFFF:
        raise RpcError(206)  # the name is too long
    head = struct.pack("<HHIIII", len(data), len(data), 0x20000, count, 0, count)
    return head + data + bytes(-len(data) % 4)


def _buffer(characters: int) -> bytes:
    """Encode room for a text."""
    size = min(characters * 2, 0xFFFE)
    return struct.pack("<HHIIII", 0, size, 0x20000, size // 2, 0, 0)


class _Answer:
    """The body of an answer, read from its beginning."""

    def __init__(self, data: bytes) -> None:
        self._data = data
        self._at = 0

    def handle(self) -> bytes:
        """Read the handle of a key."""
        return self._take(20)

    def number(self) -> int:
        """Read a number."""
        self._at += -self._at % 4
        return int.from_bytes(self._take(4), "little")

    def pointed(self) -> int | None:
        """Read a number behind a pointer, which may lead nowhere."""
        return self.number() if self.number() else None

    def text(self) -> str:
        """Read a text, without the zero at its end."""
        self._at += -self._at % 4
        length = int.from_bytes(self._take(4)[:2], "little")
        if not self.number():
            return ""
        _, _, count = self.number(), self.number(), self.number()
        if count * 2 < length:
            raise ProtocolError("a name is shorter than it says")
        text = self._take(count * 2)[:length].decode("utf-16-le", "surrogatepass")
        return text.removesuffix("\0")

    def array(self) -> bytes:
        """Read bytes behind a pointer, which may lead nowhere."""
        if not self.number():
            return b""
        _, _, count = self.number(), self.number(), self.number()
        return self._take(count)

    def _take(self, count: int) -> bytes:
        taken = self._data[self._at : self._at + count]
        if len(taken) < count:
            raise ProtocolError("the answer is shorter than it says")
        self._at += count
        return taken

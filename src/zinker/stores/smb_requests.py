"""Requests of SMB 2 that go together (MS-SMB2, section 3.2.4.1.4), and what their answers say of files.

The library sends, signs and encrypts. What is answered is taken apart here, where its own way of doing so takes
most of the time, or loses something: of times, all below the microsecond.
"""

import errno
import os
import stat
import struct
from collections.abc import Callable, Iterator
from types import SimpleNamespace
from typing import Any, cast

SMALL = 256 * 1024  # bytes that are read or written in one request
REPARSE, READ_ONLY, FOLDER = 0x400, 0x1, 0x10  # MS-FSCC, section 2.6
NO_DATA = getattr(errno, "ENODATA", 120)  # what reading an empty file ends with
_HEADER = 64  # bytes of a header, from which offsets count (MS-SMB2, section 2.2.1)
_MOST = 65_536  # bytes that an answer to a question may have
# Times of creation, reading, writing and change; attributes; room and size, names, number (MS-FSCC, section 2.4.2).
_ABOUT = struct.Struct("<qqqqI4xqqI4xQ")
# A name of a listing: how far the next one is, its times, size, attributes, length and number (section 2.4.18).
_ENTRY = struct.Struct("<I4xqqqqq8xII8xQ")
_EPOCH = 116_444_736_000_000_000  # 1970 in the time of Windows, in 100 ns from 1601
_ACCESS = 0x4  # DACL_SECURITY_INFORMATION (MS-DTYP, section 2.4.7)
NO_FOLDER = 0x40  # FILE_NON_DIRECTORY_FILE
NOT_REMOVED = 0x3  # others may read and write it
SHARED_BY_ALL = 0x7  # others may read, write and remove it (MS-SMB2, section 2.2.13)


class Asked:
    """Requests on one file that go together; each is given with what takes its answer apart."""

    def __init__(self, tree: Any, path: str) -> None:
        from smbprotocol.open import Open

        self._tree, self.fd = tree, Open(tree, path)
        self._parts: list[tuple[Any, Callable[[bytes], Any]]] = []

    def add(self, request: Any, take: Callable[[bytes], Any]) -> None:
        """Ask for one thing more."""
        self._parts.append((request, take))

    def answers(self) -> list[Any]:
        """Send all, with the closing of the file, and return the answers; raises what the first failure says."""
        from smbprotocol.exceptions import NoMoreFiles, SMBResponseException
        from smbprotocol.open import SMB2CloseRequest

        closing = SMB2CloseRequest()
        closing["file_id"] = self.fd.file_id
        session = self._tree.session
        connection = session.connection
        sent = connection.send_compound(
            [*(request for request, _ in self._parts), closing],
            session.session_id,
            self._tree.tree_connect_id,
            related=True,
        )
        failures: list[SMBResponseException] = []
        found: list[Any] = []
        for number, one in enumerate(sent):  # every answer is to be fetched, also after a failure
            try:
                answer = connection.receive(one)
                if number < len(self._parts):
                    found.append(self._parts[number][1](answer["data"].get_value()))
            except NoMoreFiles:
                found.append(b"")
            except SMBResponseException as error:
                failures.append(error)
        if failures:
            raise failures[0]
        return found


def _taken(body: bytes) -> bytes:
    """Return what a question was answered with, out of a response of MS-SMB2, section 2.2.34 or 2.2.38."""
    begin = int.from_bytes(body[2:4], "little") - _HEADER
    return body[begin : begin + int.from_bytes(body[4:8], "little")]


def _data(body: bytes) -> bytes:
    """Return what was read, out of a response of MS-SMB2, section 2.2.20."""
    begin = body[2] - _HEADER
    return body[begin : begin + int.from_bytes(body[4:8], "little")]


def read_begin(asked: Asked) -> None:
    """Ask for the beginning of a file, all of it if it is small."""
    asked.add(asked.fd.read(0, SMALL, send=False)[0], _data)


def _query(asked: Asked, kind: int, number: int, more: int = 0) -> None:
    """Ask for what there is to know of a file, as bytes: the library takes some of it apart otherwise."""
    from smbprotocol.open import SMB2QueryInfoRequest

    request = SMB2QueryInfoRequest()
    request["info_type"] = kind
    request["file_info_class"] = number
    request["additional_information"] = more
    request["output_buffer_length"] = _MOST
    request["file_id"] = asked.fd.file_id
    asked.add(request, _taken)


def query_all(asked: Asked) -> None:
    """Ask for all there is to know of a file; `looks_in` takes the answer apart."""
    _query(asked, 1, 18)  # FileAllInformation (MS-FSCC, section 2.4.2)


def query_access(asked: Asked) -> None:
    """Ask for its access control list (MS-DTYP, section 2.4.6)."""
    _query(asked, 3, 0, _ACCESS)


def _names_request(file_id: bytes) -> Any:
    from smbprotocol.open import SMB2QueryDirectoryRequest

    request = SMB2QueryDirectoryRequest()
    request["file_information_class"] = 38  # FileIdFullDirectoryInformation
    request["file_id"] = file_id
    request["buffer"] = "*".encode("utf-16-le")
    request["output_buffer_length"] = 4 * _MOST
    return request


def query_names(asked: Asked) -> None:
    """Ask for names of a folder; the answer is empty when there are no more."""
    asked.add(_names_request(asked.fd.file_id), _taken)


def all_names(tree: Any, path: str, rights: int) -> Iterator[bytes]:
    """Yield the answers that name all of a large folder, which is open meanwhile."""
    from smbprotocol.exceptions import NoMoreFiles
    from smbprotocol.open import CreateDisposition, CreateOptions, ImpersonationLevel, Open

    folder, session = Open(tree, path), tree.session
    how = (CreateDisposition.FILE_OPEN, CreateOptions.FILE_DIRECTORY_FILE)
    folder.create(ImpersonationLevel.Impersonation, rights, 0, SHARED_BY_ALL, *how)
    try:
        while True:
            sent = session.connection.send(
                _names_request(folder.file_id), session.session_id, tree.tree_connect_id
            )
            yield _taken(session.connection.receive(sent)["data"].get_value())
    except NoMoreFiles:
        return
    finally:
        folder.close()


def set_info(asked: Asked, kind: int, number: int, data: bytes, more: int = 0) -> None:
    """Ask for something to be set, by its kind and number (MS-SMB2, section 2.2.39)."""
    from smbprotocol.open import SMB2SetInfoRequest

    request = SMB2SetInfoRequest()
    request["info_type"] = kind
    request["file_info_class"] = number
    request["additional_information"] = more
    request["file_id"] = asked.fd.file_id
    request["buffer"] = data
    asked.add(request, bool)


def set_bits(asked: Asked, bits: int) -> None:
    """Ask for attributes to be set (MS-FSCC, section 2.6)."""
    set_info(asked, 1, 4, struct.pack("<qqqqI4x", 0, 0, 0, 0, bits))  # FileBasicInformation; its times stay


def set_access(asked: Asked, access: bytes) -> None:
    """Ask for an access control list to be set, as `query_access` is answered."""
    set_info(asked, 3, 0, access, _ACCESS)


def looks_in(answer: bytes) -> os.stat_result:
    """Return what there is to know of a file as the functions of `os` would."""
    _, _, written, changed, bits, _, size, links, number = _ABOUT.unpack_from(answer)
    return _as_looks(bits, number, links, size, written, changed)


def names_in(data: bytes) -> Iterator[tuple[str, os.stat_result]]:
    """Yield the names of a listing, with what it tells of each (FileIdFullDirectoryInformation)."""
    at = 0
    while data:
        further, _, _, written, changed, size, bits, length, number = _ENTRY.unpack_from(data, at)
        begin = at + _ENTRY.size
        name = data[begin : begin + length].decode("utf-16-le", "surrogatepass")
        yield name, _as_looks(bits, number, 1, size, written, changed)
        if not further:
            return
        at += further


def _as_looks(bits: int, number: int, links: int, size: int, written: int, changed: int) -> os.stat_result:
    kind = stat.S_IFLNK if bits & REPARSE else stat.S_IFDIR if bits & FOLDER else stat.S_IFREG
    about = SimpleNamespace(
        st_mode=kind | (0o444 if bits & READ_ONLY else 0o666) | (0o111 if bits & FOLDER else 0),
        st_dev=0,
        st_ino=number,
        st_nlink=links,
        st_uid=0,
        st_gid=0,
        st_size=0 if bits & FOLDER else size,
        st_mtime_ns=(written - _EPOCH) * 100,
        st_ctime_ns=(changed - _EPOCH) * 100,
        st_file_attributes=bits,
        st_reparse_tag=int(bool(bits & REPARSE)),
    )
    return cast(os.stat_result, about)

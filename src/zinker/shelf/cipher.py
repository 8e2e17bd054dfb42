"""What a sealed shelf is written in: names that say nothing, and bytes of which none can be changed unnoticed.

A name is encrypted folder by folder, but for the first (`objects`, `subjects`, `changes`), with AES-SIV (RFC 5297),
whose associated data is the plain path of the folder. It is written in hexadecimal, as some disks do not tell
letters from capitals. The same name is the same one every time.

A file is a line that says what it is, 16 random bytes, and pieces of 64 KiB, the last one shorter and perhaps
empty, each encrypted with AES-256-GCM (NIST SP 800-38D) and 16 bytes longer. The key is the file's own: HKDF (RFC
5869, SHA-256) of the shelf's key with the random bytes as salt and `zinker file` and the plain name as info. The
nonce is the number of the piece in 11 bytes, and a byte that is 1 for the last piece. So bytes of another file,
another piece or another length do not open.
"""

import io
import itertools
import secrets
from collections.abc import Iterator
from typing import IO

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM, AESSIV
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

from zinker.shelf.pieces import Pieces
from zinker.shelf.storage import Forged

KEY = 32  # bytes
PIECE = 64 * 1024
# What is in them is nobody's secret, and storage is quicker where it is told apart.
FOLDERS = frozenset({"objects", "subjects", "changes"})
_HEAD = b"zinker sealed 1\n"
_SALT = 16
_TAG = 16


class Cipher:
    """Encrypts what is on one shelf, with its key of 32 bytes."""

    def __init__(self, key: bytes) -> None:
        self._key = key
        self._siv = AESSIV(_derived(key, b"", b"zinker names", 64))
        self._names: dict[str, str] = {}

    def name(self, plain: str) -> str:
        """Return what a name, or the path of a folder, is called on the shelf."""
        folder, _, own = plain.rpartition("/")
        if not folder:
            return own if own in FOLDERS or not own else self._sealed("", own)
        if folder not in self._names:  # few, and each has many files in it
            self._names[folder] = self.name(folder)
        return f"{self._names[folder]}/{self._sealed(folder, own)}"

    def plain(self, folder: str, own: str) -> str:
        """Return what a name in a folder, by its plain path, stands for; raises `Forged` where it is none."""
        if not folder and own in FOLDERS:
            return own
        try:
            return self._siv.decrypt(bytes.fromhex(own), [folder.encode()]).decode()
        except (InvalidTag, ValueError):
            raise Forged(f"{own} is no name of this shelf") from None

    def _sealed(self, folder: str, own: str) -> str:
        return self._siv.encrypt(own.encode(), [folder.encode()]).hex()

    def sealing(self, name: str, file: IO[bytes]) -> "Sealing":
        """Begin to encrypt a file of that plain name."""
        return Sealing(self, name, file)

    def encrypted(self, name: str, data: bytes) -> bytes:
        """Return a small file as it is written."""
        file = io.BytesIO()
        sealing = Sealing(self, name, file)
        sealing.write(data)
        sealing.close()
        return file.getvalue()

    def file_key(self, name: str, salt: bytes) -> AESGCM:
        """Return what encrypts one file, of that plain name."""
        return AESGCM(_derived(self._key, salt, b"zinker file " + name.encode(), KEY))


class Sealing:
    """Encrypts what is written to it, and writes that to a file."""

    def __init__(self, cipher: Cipher, name: str, file: IO[bytes]) -> None:
        salt = secrets.token_bytes(_SALT)
        self._file, self._key = file, cipher.file_key(name, salt)
        self._rest = bytearray()
        self._number = 0
        file.write(_HEAD + salt)

    def write(self, data: bytes) -> int:
        """Take bytes."""
        self._rest += data
        # What may be the last piece is kept back.
        while len(self._rest) > PIECE:
            self._out(bytes(self._rest[:PIECE]), is_last=False)
            del self._rest[:PIECE]
        return len(data)

    def close(self) -> None:
        """Write the last piece."""
        self._out(bytes(self._rest), is_last=True)

    def _out(self, piece: bytes, is_last: bool) -> None:
        self._file.write(self._key.encrypt(_nonce(self._number, is_last), piece, None))
        self._number += 1


def opened(cipher: Cipher, name: str, file: IO[bytes]) -> IO[bytes]:
    """Return what is in an encrypted file, to be read once; it closes the file. Reading raises `Forged`."""
    pieces = _pieces(cipher, name, file)
    try:
        first = next(pieces, b"")
    except BaseException:
        file.close()
        raise
    if len(first) < PIECE:
        file.close()
        return io.BytesIO(first)
    return io.BufferedReader(Pieces(itertools.chain([first], pieces), file), PIECE)


def _pieces(cipher: Cipher, name: str, file: IO[bytes]) -> Iterator[bytes]:
    head = _exactly(file, len(_HEAD) + _SALT)
    if head[: len(_HEAD)] != _HEAD or len(head) < len(_HEAD) + _SALT:
        raise Forged("it is not what a sealed shelf keeps")
    key, number = cipher.file_key(name, head[len(_HEAD) :]), 0
    data = _exactly(file, PIECE + _TAG)
    while True:
        following = _exactly(file, PIECE + _TAG) if len(data) == PIECE + _TAG else b""
        try:
            piece = key.decrypt(_nonce(number, not following), data, None)
        except (InvalidTag, ValueError):
            raise Forged("its bytes are not those that were written") from None
        yield piece
        if not following:
            return
        data, number = following, number + 1


def _exactly(file: IO[bytes], size: int) -> bytes:
    """Read so many bytes; fewer at the end alone."""
    data = file.read(size)
    while data and len(data) < size and (more := file.read(size - len(data))):
        data += more
    return data


def _nonce(number: int, is_last: bool) -> bytes:
    return number.to_bytes(11, "big") + bytes([is_last])


def _derived(key: bytes, salt: bytes, info: bytes, length: int) -> bytes:
    return HKDF(SHA256(), length, salt or None, info).derive(key)

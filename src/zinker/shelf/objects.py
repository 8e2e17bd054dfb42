"""What versions are made of: settings and whole files, each once, named by the SHA-256 of its content.

    objects/<first two digits>/<SHA-256>.zst        the content
    objects/<first two digits>/<SHA-256>.diff.zst   what differs from another one, which it names (delta.py)
    damaged.json                                    those that were found to be damaged, and are kept anew

Packed by Zstandard (RFC 8878). A skippable frame at the end has the SHA-256 of all the bytes before it, so that
every flipped bit is found, also one that unpacking would not notice; other readers pass over it.
"""

import contextlib
import hashlib
import io
import re
import struct
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from typing import IO, Final, NamedTuple, cast

import msgspec
import zstandard

from zinker.disk.files import CHUNK
from zinker.model.errors import Damaged, reason
from zinker.shelf.delta import (
    base_of,
    chunks_of,
    decode_delta,
    encode_delta,
    hunks_between,
    net,
    patched,
    pieces_of,
)
from zinker.shelf.pieces import Pieces
from zinker.shelf.record import checked, stamped
from zinker.shelf.storage import Batch, Forged, Storage

# Fast, and small enough: packing is not what an export waits for.
_LEVEL = 3
# An honest one needs 2 MiB; a hostile one could ask for gigabytes.
_LARGEST_WINDOW = 64 * 1024 * 1024
# So long may a delta be that replaces others, however short these are.
_LEAST = 64 * 1024
_LARGEST_DELTA = 256 * 1024 * 1024
_SKIPPABLE: Final = struct.pack("<II", 0x184D2A5A, 32)
_STAMP = len(_SKIPPABLE) + 32
# Settings are kept whole where it would take more deltas, or where these would be longer than so much of them.
DEEPEST = 50
_SHARE = 8
# A hostile chain may go in circles.
_DEEPEST_READ = 1000
_DIGEST = re.compile("[0-9a-f]{64}", re.ASCII)
_DAMAGED = "damaged.json"
# Who looks for so many names in a folder is told of all of them at once.
_LOOKS = 6
_NAME = re.compile(r"([0-9a-f]{64})(\.diff)?\.zst", re.ASCII)


class _Delta(NamedTuple):
    base: str
    data: bytes


class _Damaged(msgspec.Struct):
    objects: frozenset[str]


class Objects:
    """The objects of a shelf. Whatever is not there, or not what it should be, raises `Damaged`."""

    def __init__(self, storage: Storage) -> None:
        self._storage = storage
        self._damaged: frozenset[str] | None = None
        # Under which names objects were found, "" for none: they go only while nobody else writes.
        self._names: dict[str, str] = {}
        self._looks: Counter[str] = Counter()
        self._listed: dict[str, frozenset[str]] = {}

    def forget(self) -> None:
        """Look anew for what is there: others may have removed some of it."""
        self._names.clear()
        self._looks.clear()
        self._listed.clear()

    def _look_anew(self, sha256: str) -> None:
        self._names.pop(sha256, None)
        self._listed.pop(_folder(sha256), None)

    def has(self, sha256: str) -> bool:
        """Tell whether there is an object of that digest."""
        return self._found(sha256) is not None

    def is_kept(self, sha256: str) -> bool:
        """Tell whether a version may rely on an object: it is there, and was not found to be damaged."""
        return self.has(sha256) and sha256 not in self._known_damaged()

    def _known_damaged(self) -> frozenset[str]:
        if self._damaged is None:
            try:
                with self._storage.open(_DAMAGED) as file:
                    self._damaged = checked(file.read(), _Damaged).objects
            except (OSError, ValueError):
                self._damaged = frozenset()
        return self._damaged

    def note_damaged(self, digests: Iterable[str]) -> None:
        """Remember which objects are damaged, so that they are kept anew when they come again; raises `OSError`."""
        found = frozenset(digests)
        if found != self._known_damaged():
            self._damaged = found
            if found:
                self._storage.put(_DAMAGED, stamped(_Damaged(found)))
            else:
                self._storage.delete(_DAMAGED)

    def stored(self, sha256: str) -> int:
        """Return how many bytes an object takes, 0 for one that is not there."""
        name = self._found(sha256)
        return self._storage.size(name) if name else 0

    def all(self) -> Iterator[str]:
        """Yield the digests of all objects."""
        for folder in sorted(self._storage.names("objects")):
            found = (_NAME.fullmatch(name) for name in self._storage.names(f"objects/{folder}"))
            yield from sorted({name[1] for name in found if name})

    def keep_file(self, batch: Batch, sha256: str, write: Callable[["Sink"], None]) -> int:
        """Keep a whole file, which `write` writes and checks, unless it is there; returns the bytes it took."""
        if self.is_kept(sha256):
            return 0
        with _packed(batch, _whole(sha256)) as sink:
            write(sink)
        return sink.stored

    def keep_settings(
        self, batch: Batch, sha256: str, open: Callable[[], Iterator[bytes]], size: int, bases: list[str]
    ) -> int:
        """Keep sorted settings, of so many bytes, as what differs from one of some others where that is short.

        They are read anew from `open` as often as need be. Returns how many bytes that took.
        """
        if self.is_kept(sha256):
            return 0
        # In place of a damaged one it is kept whole, which is what counts where there are both.
        deltas = (self._delta(sha256, open, size, base) for base in bases if not self.has(sha256))
        delta = next(filter(None, deltas), None)
        with _packed(batch, _diff(sha256) if delta else _whole(sha256)) as sink:
            for piece in [delta] if delta else open():
                sink.write(piece)
        return sink.stored

    def _delta(self, sha256: str, open: Callable[[], Iterator[bytes]], size: int, base: str) -> bytes | None:
        try:
            chain, root = self._chain(base)
            room = min(size // _SHARE, _LARGEST_DELTA) - sum(len(delta.data) for delta in chain)
            if len(chain) + 1 >= DEEPEST or room <= 0:
                return None
            old = _lines_of(self._checked(base, chain, root))
            return encode_delta(base, sha256, hunks_between(old, open()), room)
        except Damaged:  # nothing new is built on what cannot be read
            return None

    def _checked(self, sha256: str, chain: list[_Delta], root: str) -> Iterator[bytes]:
        digest = hashlib.sha256()
        for piece in self._read(chain, root):
            digest.update(piece)
            yield piece
        if digest.hexdigest() != sha256:
            raise _damaged(sha256, "it is not what it was")

    def rebase(self, batch: Batch, sha256: str, is_live: Callable[[str], bool], beside: str = "") -> None:
        """Have an object stand on a live one, so that what it stands on can go.

        Where it stands on none, it stands on the one `beside` it, if these are alike, or is kept whole.
        """
        chain, root = self._chain(sha256)
        bases = [delta.base for delta in chain]
        base = next((one for one in bases if is_live(one)), "")
        if not bases or base == bases[0]:
            return
        most = sum(len(one.data) for one in chain) + (0 if base else _LEAST)
        base = base or beside
        if base and sha256 in _bases(base, self._chain(base)[0]):
            base = ""  # they would stand on each other

        def content() -> Iterator[bytes]:
            return self._checked(sha256, chain, root)

        delta = None
        if base:
            old = _lines_of(self._checked(base, *self._chain(base)))
            delta = encode_delta(base, sha256, hunks_between(old, _lines_of(content())), most)
        with _packed(batch, _diff(sha256) if delta else _whole(sha256)) as sink:
            for piece in [delta] if delta else content():
                sink.write(piece)

    def unlike(self, one: str, other: str) -> tuple[set[bytes], set[bytes]] | None:
        """Return the lines of one that are not in another, and those of the other, without reading them whole.

        None where they do not stand on each other.
        """
        chain, _ = self._chain(other)
        names = _bases(other, chain)
        if one in names:
            deltas = chain[: names.index(one)]
            return net(decode_delta(delta.data) for delta in reversed(deltas))
        back, _ = self._chain(one)
        bases = _bases(one, back)
        common = next((name for name in bases if name in names), "")
        if not common:
            return None
        gone, come = net(decode_delta(delta.data) for delta in reversed(chain[: names.index(common)]))
        lost, got = net(decode_delta(delta.data) for delta in reversed(back[: bases.index(common)]))
        # Seen from the one: what it had got is gone, unless the other has it, too; what it had lost comes back.
        return (got - come) | (gone - lost), (come - got) | (lost - gone)

    def open(self, sha256: str) -> IO[bytes]:
        """Open an object; who reads it checks the digest. Raises `KeyError` where it is not there."""
        if not self.has(sha256):
            raise KeyError(sha256)
        return io.BufferedReader(Pieces(self.pieces(sha256)), CHUNK)

    def pieces(self, sha256: str) -> Iterator[bytes]:
        """Yield the content of an object; who reads it checks the digest."""
        return self._read(*self._chain(sha256))

    def check(self, sha256: str, is_new: bool = False) -> str:
        """Read all of an object, of a new one what it holds; says what is wrong with it, or ""."""
        try:
            digest = hashlib.sha256()
            for piece in self._read(*self._chain(sha256), is_stamped=not is_new):
                digest.update(piece)
        except (Damaged, OSError) as error:
            return error.why if isinstance(error, Damaged) else reason(error)
        return "" if digest.hexdigest() == sha256 else "it is not what it was"

    def own_problem(self, sha256: str) -> str:
        """Say what is wrong with an object's own bytes, whatever it stands on, or ""."""
        try:
            name = self._found(sha256)
            if name is None:
                return "it is missing"
            with self._storage.open(name) as file:
                return _Watched(file).problem()
        except OSError as error:
            return reason(error)
        except Forged as error:
            return str(error)

    def replace(self, batch: Batch, sha256: str, write: Callable[["Sink"], None]) -> None:
        """Keep an object whole, in place of what is there."""
        with _packed(batch, _whole(sha256)) as sink:
            write(sink)

    def base(self, sha256: str) -> str:
        """Return the object that one differs from, "" for one that is kept whole."""
        name = self._found(sha256)
        if name is None or not name.endswith(".diff.zst"):
            return ""
        with _unpacked(sha256), self._storage.open(name) as file:
            try:
                with _reader(file) as stream:
                    return base_of(stream.read(200))
            except ValueError as error:
                raise _damaged(sha256, str(error)) from None

    def delete(self, sha256: str) -> None:
        """Remove an object."""
        self._look_anew(sha256)
        for name in (_whole(sha256), _diff(sha256)):
            self._storage.delete(name)

    def prune(self, sha256: str) -> None:
        """Remove the delta of an object that is there whole, too: it was made to stand alone."""
        self._look_anew(sha256)
        if self._is_there(_whole(sha256)):
            self._storage.delete(_diff(sha256))

    def _chain(self, sha256: str) -> tuple[list[_Delta], str]:
        """Return the deltas that an object stands on, its own first, and the one that is whole."""
        chain: list[_Delta] = []
        while (name := self._found(sha256)) and name.endswith(".diff.zst"):
            if len(chain) > _DEEPEST_READ:
                raise _damaged(sha256, "it stands on itself")
            with _unpacked(sha256), self._storage.open(name) as file:
                source = _Watched(file)
                with _reader(source) as stream:
                    data = stream.read(_LARGEST_DELTA + 1)
                if why := source.problem():
                    raise _damaged(sha256, why)
            if len(data) > _LARGEST_DELTA:
                raise _damaged(sha256, "it is longer than a delta may be")
            try:
                chain.append(_Delta(base_of(data[:200]), data))
            except ValueError as error:
                raise _damaged(sha256, str(error)) from None
            sha256 = chain[-1].base
        if name is None:
            raise _damaged(sha256, "it is missing")
        return chain, sha256

    def _read(self, chain: list[_Delta], root: str, is_stamped: bool = False) -> Iterator[bytes]:
        pieces = self._unpack(root, is_stamped)
        if not chain:
            yield from pieces
            return
        chunks = chunks_of(_lines_of(pieces))
        try:
            for delta in reversed(chain):
                chunks = patched(chunks, decode_delta(delta.data))
        except ValueError as error:
            raise _damaged(root, str(error)) from None
        yield from pieces_of(chunks)

    def _unpack(self, sha256: str, is_stamped: bool) -> Iterator[bytes]:
        """Yield what is in a whole object; whether it is what was written as well, where that `is_stamped`."""
        with _unpacked(sha256), self._storage.open(_whole(sha256)) as file:
            source = _Watched(file) if is_stamped else file
            with _reader(source) as stream:
                while piece := stream.read(CHUNK):
                    yield piece
            if isinstance(source, _Watched) and (why := source.problem()):
                raise _damaged(sha256, why)

    def _found(self, sha256: str) -> str | None:
        """Return the name under which an object is kept."""
        if not _DIGEST.fullmatch(sha256):
            raise _damaged(sha256, "that is no digest")
        known = self._names.get(sha256)
        if known is None:
            names = (_whole(sha256), _diff(sha256))
            there = (name for name in names if self._may_be_there(name) and self._is_there(name))
            known = self._names[sha256] = next(there, "")
        return known or None

    def _may_be_there(self, name: str) -> bool:
        """Tell whether a file is to be looked for: where many are, their folder is listed instead."""
        folder, _, own = name.rpartition("/")
        self._looks[folder] += 1
        if self._looks[folder] <= _LOOKS or not self._storage.lists_fast:
            return True
        if folder not in self._listed:
            self._listed[folder] = frozenset(self._storage.names(folder))
        return own in self._listed[folder]

    def _is_there(self, name: str) -> bool:
        try:
            return self._storage.size(name) > 0
        except FileNotFoundError:
            return False


def _bases(sha256: str, chain: list[_Delta]) -> list[str]:
    """Return an object and those that it stands on."""
    return [sha256, *(delta.base for delta in chain)]


class Sink:
    """Packs what is written to it."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file, self._digest = file, hashlib.sha256()
        self._packer = zstandard.ZstdCompressor(level=_LEVEL).compressobj()
        self.stored = 0

    def write(self, data: bytes) -> None:
        """Take bytes."""
        self._out(self._packer.compress(data))

    def close(self) -> None:
        """Write the rest, and the stamp."""
        self._out(self._packer.flush())
        self._file.write(_SKIPPABLE + self._digest.digest())
        self.stored += _STAMP

    def _out(self, data: bytes) -> None:
        self._digest.update(data)
        self._file.write(data)
        self.stored += len(data)


@contextlib.contextmanager
def _packed(batch: Batch, name: str) -> Iterator[Sink]:
    with batch.sink(name) as file:
        sink = Sink(file)
        yield sink
        sink.close()


def _lines_of(pieces: Iterator[bytes]) -> Iterator[bytes]:
    """Yield the same bytes in pieces of whole lines."""
    rest = b""
    for piece in pieces:
        whole, end, more = piece.rpartition(b"\n")
        if end:
            yield rest + whole + end
            rest = more
        else:
            rest += piece
    if rest:
        yield rest + b"\n"


def _reader(file: "IO[bytes] | _Watched") -> zstandard.ZstdDecompressionReader:
    unpacker = zstandard.ZstdDecompressor(max_window_size=_LARGEST_WINDOW)
    return unpacker.stream_reader(cast(IO[bytes], file), closefd=False)  # it is only read


class _Watched:
    """A packed file that is read, and held against the digest at its end."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file, self._digest, self._last = file, hashlib.sha256(), b""

    def read(self, size: int = -1) -> bytes:
        data = self._file.read(size)
        both = self._last + data
        self._digest.update(both[:-_STAMP])
        self._last = both[-_STAMP:]
        return data

    def problem(self) -> str:
        """Read the rest; says what is wrong with its bytes, or ""."""
        while self.read(CHUNK):
            pass
        is_stamped = self._last == _SKIPPABLE + self._digest.digest()
        return "" if is_stamped else "its bytes are not those that were written"


@contextlib.contextmanager
def _unpacked(sha256: str) -> Iterator[None]:
    try:
        yield
    except (zstandard.ZstdError, EOFError) as error:
        raise _damaged(sha256, f"it cannot be unpacked: {error}") from None
    except Forged as error:
        raise _damaged(sha256, str(error)) from None


def _damaged(sha256: str, why: str) -> Damaged:
    then = "`zinker check --from SHELF` mends it from another shelf that has it."
    return Damaged("Not read", f"the object {sha256[:12]}… of the shelf: {why}", then)


def _folder(sha256: str) -> str:
    return f"objects/{sha256[:2]}"


def _whole(sha256: str) -> str:
    return f"{_folder(sha256)}/{sha256}.zst"


def _diff(sha256: str) -> str:
    return f"{_folder(sha256)}/{sha256}.diff.zst"

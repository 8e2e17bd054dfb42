r"""The files of another workstation, by a share of it (SMB 3, MS-SMB2): the same tree as one on a disk here.

A request takes an answer, so that little is asked: what goes together is sent together, a small file is read, or
written and flushed, in one request, and a listing tells what it has told of every name. No link and no junction is
followed. The servers rename over a file that is there in one step; between the last look at it and that step
is one request, in which a program could still save.
"""

import contextlib
import errno
import io
import os
import stat
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO, Any, cast

from zinker.disk.announce import announce
from zinker.disk.folder import Astray, Folder
from zinker.disk.tree import Tree
from zinker.disk.windows import given
from zinker.stores.smb_requests import (
    FOLDER,
    NO_DATA,
    NO_FOLDER,
    NOT_REMOVED,
    READ_ONLY,
    REPARSE,
    SHARED_BY_ALL,
    SMALL,
    Asked,
    all_names,
    looks_in,
    names_in,
    query_access,
    query_all,
    query_names,
    read_begin,
    set_access,
    set_bits,
    set_info,
)
from zinker.stores.smb_session import SHARED, SmbSession, Told

_SIDE_BY_SIDE = 4
_PIECE = 1024 * 1024
_KEPT = 0x1 | 0x2 | 0x4 | 0x2000  # read-only, hidden, system, not indexed
_LINK = "it is a link, and none is followed on another machine"
_AFTER = "\0"  # no name of a file


class SmbTree(Tree):
    """All that is below a folder of a share; `top` is how people write the share."""

    side_by_side = _SIDE_BY_SIDE
    flushes_later = False
    held_open = 1024

    def __init__(self, session: SmbSession, top: Path) -> None:
        super().__init__(top)
        self.session = session
        # What the last listings have told, by the names from the top.
        self.listed: dict[tuple[str, ...], os.stat_result] = {}
        self._free = -1

    def anew(self) -> "SmbTree":
        """Return the same tree with nothing known of it."""
        return SmbTree(self.session, self.top)

    def exists(self, path: Path) -> bool:
        """Tell whether something is at a path, a link itself included."""
        return self._looks(path) is not None

    def is_folder(self, path: Path) -> bool:
        """Tell whether a folder is at a path."""
        looks = self._looks(path)
        return looks is not None and stat.S_ISDIR(looks.st_mode)

    def _looks(self, path: Path) -> os.stat_result | None:
        *above, name = self._names(path)
        try:
            return self.folder(above).stat(name)
        except (FileNotFoundError, NotADirectoryError, Astray):
            return None

    def room(self, folder: Path) -> tuple[object, int, str]:
        """Return the share, how many bytes are free on it, and its name."""
        if self._free < 0:
            with self.session() as smb:
                volume = smb.stat_volume(self.session.share.root, **self.session.more)
            self._free = int(volume.caller_available_size)
        return self.session.share.root, self._free, str(self.top)

    def longest(self, folder: Path) -> tuple[int, int]:
        """Return what all disks of Windows take."""
        return 255, 32_000

    def _open_top(self) -> Folder:
        return SmbFolder(self.session, self.top, (), self.listed)

    def forget(self) -> None:
        """Forget what was told of names: who asks next is told anew."""
        super().forget()
        self.listed.clear()

    def _check_plain(self, at: Folder, name: str) -> None:
        """Do nothing: `child` takes no link."""

    def _step(self, at: Folder, name: str, links: int) -> Folder:
        return at if name in ("", ".") else at.child(name)


class SmbFolder(Folder):
    """One folder of a share, held open there."""

    can_be_held = True
    has_modes = False

    def __init__(
        self,
        session: SmbSession,
        path: Path,
        parts: tuple[str, ...],
        listed: dict[tuple[str, ...], os.stat_result],
    ) -> None:
        super().__init__(path, parts, None)
        self._session, self._listed = session, listed

    def _unc(self, *names: str) -> str:
        return "\\".join((self._session.share.root, *self.parts, *names))

    def _below(self, name: str) -> str:
        """Return a path as a request within the share has it."""
        return "\\".join((*self.parts, name))

    # Looking.

    def looks(self) -> os.stat_result:
        """Return what there is to know of the folder itself."""
        return self._asked(self._unc())

    def stat(self, name: str) -> os.stat_result:
        """Return what there is to know of a name, a link itself included; raises `OSError`."""
        return self._asked(self._unc(name))

    def listed(self, name: str) -> os.stat_result | None:
        """Return what the last listing has told of a name, once."""
        return self._listed.pop((*self.parts, name), None)

    def looks_after(self, name: str) -> os.stat_result | None:
        """Return what there was to know of a file when it had been read, if it was read as a whole; once."""
        return self._listed.pop((*self.parts, name, _AFTER), None)

    def looks_of(self, file: IO[bytes]) -> os.stat_result:
        """Return what there was to know of a file when it was opened."""
        return cast(os.stat_result, file.looks)  # type: ignore[attr-defined]

    def identity(self) -> tuple[int, int]:
        """Return the same for all: it is held, so that it is still the one that was looked at."""
        return 0, 0

    def attributes(self, name: str, looks: os.stat_result) -> list[str]:
        """Return the names of the attributes that somebody has given to a file."""
        return given(looks)

    def _asked(self, unc: str) -> os.stat_result:
        from smbprotocol.open import FilePipePrinterAccessMask

        (answer,) = self._together(unc, FilePipePrinterAccessMask.FILE_READ_ATTRIBUTES, [query_all])
        return looks_in(answer)

    def _together(
        self,
        unc: str,
        rights: int,
        actions: list[Callable[["Asked"], None]],
        is_new: bool = False,
        options: int = 0,
    ) -> list[Any]:
        """Open a name, do some things with it, and close it, all in one request; raises `OSError`."""
        from smbprotocol.exceptions import SMBOSError, SMBResponseException
        from smbprotocol.open import CreateDisposition, CreateOptions, ImpersonationLevel

        with self._session():
            asked = Asked(self._session.tree(), unc.removeprefix(self._session.share.root).lstrip("\\"))
            how = CreateDisposition.FILE_CREATE if is_new else CreateDisposition.FILE_OPEN
            options |= CreateOptions.FILE_OPEN_REPARSE_POINT
            request, _ = asked.fd.create(
                ImpersonationLevel.Impersonation, rights, 0, SHARED_BY_ALL, how, options, send=False
            )
            asked.add(request, lambda answer: None)
            for action in actions:
                action(asked)
            try:
                return asked.answers()[1:]
            except SMBResponseException as error:
                raise SMBOSError(error.status, unc) from None

    def is_held(self, name: str) -> bool:
        """Tell whether a program over there holds a file open so that it cannot be replaced."""
        from smbprotocol.open import FilePipePrinterAccessMask

        try:
            self._together(self._unc(name), FilePipePrinterAccessMask.DELETE, [])
        except OSError as error:
            return error.errno == SHARED
        return False

    def closed(self) -> str:
        """Say why nothing can be written in here, or "": whether a file may be added is asked for."""
        from smbprotocol.open import DirectoryAccessMask

        try:
            self._together(self._unc(), DirectoryAccessMask.FILE_ADD_FILE, [])
        except OSError as error:
            return (
                "the disk is read-only" if error.errno == errno.EROFS else f"no right to write in {self.path}"
            )
        return ""

    def readlink(self, name: str) -> str:
        """Refuse: what a link there means is known there alone."""
        raise Astray(_LINK)

    def child(self, name: str) -> "SmbFolder":
        """Return a folder in here, which nobody can swap for another while it is held; raises `OSError`.

        That is what holds it open: without sharing its removal, neither it nor what it is in can be renamed.
        """
        parts = (*self.parts, name)
        with self._session.holding:
            if parts not in self._session.held:
                self._session.held[parts] = self._opened(name)
        return SmbFolder(self._session, self.path / name, parts, self._listed)

    def _opened(self, name: str) -> Any:
        from smbprotocol.exceptions import SMBOSError, SMBResponseException
        from smbprotocol.open import (
            CreateDisposition,
            CreateOptions,
            FilePipePrinterAccessMask,
            ImpersonationLevel,
            Open,
        )

        with self._session():
            folder = Open(self._session.tree(), self._below(name))
            rights = FilePipePrinterAccessMask.FILE_READ_ATTRIBUTES | FilePipePrinterAccessMask.FILE_READ_DATA
            how = (CreateDisposition.FILE_OPEN, CreateOptions.FILE_OPEN_REPARSE_POINT)
            try:
                folder.create(ImpersonationLevel.Impersonation, rights, 0, NOT_REMOVED, *how)
            except SMBResponseException as error:
                raise SMBOSError(error.status, self._unc(name)) from None
        bits = int(folder.file_attributes)
        if bits & REPARSE or not bits & FOLDER:
            folder.close()
        if bits & REPARSE:
            raise Astray(f"{self.path / name}: {_LINK}")
        if not bits & FOLDER:
            raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), os.fspath(self.path / name))
        return folder

    def open(self, name: str) -> IO[bytes]:
        """Open a regular file for reading; a small one has been read when this returns. Raises `OSError`."""
        from smbprotocol.open import FilePipePrinterAccessMask

        rights = FilePipePrinterAccessMask.FILE_READ_DATA | FilePipePrinterAccessMask.FILE_READ_ATTRIBUTES
        try:
            answer, data, after = self._together(
                self._unc(name), rights, [query_all, read_begin, query_all], options=NO_FOLDER
            )
        except IsADirectoryError:
            raise Astray("it is not a file") from None
        except OSError as error:
            if error.errno != NO_DATA:
                raise
            (answer,) = self._together(self._unc(name), rights, [query_all])  # an empty file
            data, after = b"", answer
        looks = looks_in(answer)
        if getattr(looks, "st_reparse_tag", 0):
            raise Astray(_LINK)
        if looks.st_size <= len(data):
            self._listed[(*self.parts, name, _AFTER)] = looks_in(after)
            return cast(IO[bytes], _Held(data, looks))
        with self._session() as smb:
            file = smb.open_file(
                self._unc(name), "rb", buffering=_PIECE, share_access="rwd", **self._session.more
            )
        told = Told(file, self._session)
        told.looks = looks  # type: ignore[attr-defined]
        return cast(IO[bytes], told)

    def entries(self) -> Iterator[tuple[str, int]]:
        """Yield names in here, each with what it is: the bits of `stat.S_IFMT`. Raises `OSError`."""
        for name, looks in self._entries():
            if getattr(looks, "st_reparse_tag", 0):
                yield name, stat.S_IFLNK
                continue
            self._listed[(*self.parts, name)] = looks
            yield name, stat.S_IFMT(looks.st_mode)

    def _entries(self) -> list[tuple[str, os.stat_result]]:
        """List the folder: in one request if two answers have all of it, else with as many as it takes."""
        from smbprotocol.open import DirectoryAccessMask

        rights = DirectoryAccessMask.FILE_LIST_DIRECTORY | DirectoryAccessMask.FILE_READ_ATTRIBUTES
        first, second = self._together(self._unc(), rights, [query_names, query_names])
        pieces = [first]
        if second:
            pieces = []
            with self._session():
                pieces = list(all_names(self._session.tree(), "\\".join(self.parts), rights))
        return [entry for piece in pieces for entry in names_in(piece) if entry[0] not in (".", "..")]

    # What changes something.

    def create(self, name: str) -> IO[bytes]:
        """Make a file that is not there yet; a small one is sent when it is closed, and is on the disk then."""
        announce("create", self.path / name)
        return cast(IO[bytes], _New(self, name))

    def dress(self, name: str, file: IO[bytes], mode: int | None) -> None:
        """Give a new file attributes and access control list of the one it is to replace; else it inherits them."""
        from smbprotocol.open import FilePipePrinterAccessMask

        rights = FilePipePrinterAccessMask.READ_CONTROL | FilePipePrinterAccessMask.FILE_READ_ATTRIBUTES
        try:
            answer, access = self._together(self._unc(name), rights, [query_all, query_access])
        except OSError:  # there is none, or what may not be read
            return
        new = cast(_New, file)
        new.bits = looks_in(answer).st_file_attributes & _KEPT  # type: ignore[attr-defined,unused-ignore]
        new.access = access

    def flush_file(self, file: IO[bytes]) -> None:
        """Do nothing: it is flushed when it is closed."""

    def give(self, descriptor: int) -> None:
        """Do nothing: a new file belongs to who signed in."""

    def link(self, name: str, to: str) -> None:
        """Refuse."""
        raise Astray("no link is made on another machine")

    def make(self, name: str, mode: int | None = None) -> "SmbFolder":
        """Make a folder; it is as open as this one. Raises `OSError`."""
        announce("make", self.path / name)
        with self._session() as smb:
            smb.mkdir(self._unc(name), **self._session.more)
        return self.child(name)

    def unlink(self, name: str) -> None:
        """Remove a file; nothing happens if there is none. Raises `OSError`."""
        from smbprotocol.open import CreateOptions, FilePipePrinterAccessMask

        announce("unlink", self.path / name)
        options = CreateOptions.FILE_DELETE_ON_CLOSE | CreateOptions.FILE_NON_DIRECTORY_FILE
        with contextlib.suppress(FileNotFoundError):
            try:
                self._together(self._unc(name), FilePipePrinterAccessMask.DELETE, [], options=options)
            except PermissionError as error:
                if error.errno == SHARED or not self._clear_read_only(name):
                    raise
                self._together(self._unc(name), FilePipePrinterAccessMask.DELETE, [], options=options)

    def _clear_read_only(self, name: str) -> bool:
        from smbprotocol.open import FilePipePrinterAccessMask

        bits = self.stat(name).st_file_attributes  # type: ignore[attr-defined,unused-ignore]
        if bits & READ_ONLY:
            rights = FilePipePrinterAccessMask.FILE_WRITE_ATTRIBUTES
            self._together(
                self._unc(name), rights, [lambda asked: set_bits(asked, (bits & ~READ_ONLY) or 0x80)]
            )
        return bool(bits & READ_ONLY)

    def rmdir(self, name: str) -> None:
        """Remove an empty folder; raises `OSError`."""
        announce("rmdir", self.path / name)
        self._session.let_go((*self.parts, name))
        with self._session() as smb:
            smb.rmdir(self._unc(name), **self._session.more)

    def replace(self, old: str, new: str) -> None:
        """Rename, over what has the new name; raises `OSError`."""
        announce("rename", self.path / new)
        try:
            self._rename(old, new, is_over=True)
        except PermissionError as error:
            if error.errno == SHARED or not self._clear_read_only(new):
                raise
            self._rename(old, new, is_over=True)

    def exchange(self, one: str, other: str) -> bool:
        """Tell that no two names can be swapped."""
        return False

    def rename_new(self, old: str, new: str) -> None:
        """Rename where the new name is free; raises `FileExistsError`, and `OSError`."""
        announce("rename", self.path / new)
        self._rename(old, new, is_over=False)

    def _rename(self, old: str, new: str, is_over: bool) -> None:
        from smbprotocol.file_info import FileRenameInformation
        from smbprotocol.open import FilePipePrinterAccessMask

        wanted = FileRenameInformation()
        wanted["replace_if_exists"] = is_over
        wanted["file_name"] = self._below(new)
        rights = FilePipePrinterAccessMask.DELETE | FilePipePrinterAccessMask.FILE_READ_ATTRIBUTES
        self._together(
            self._unc(old), rights, [lambda asked: set_info(asked, 1, wanted.INFO_CLASS, wanted.pack())]
        )

    def flush(self) -> None:
        """Do nothing: the other machine sees to its names."""

    def send(self, name: str, data: bytes, bits: int, access: bytes) -> None:
        """Make a file with all that it is to have, in one request, flushed to the disk; raises `OSError`."""
        from smbprotocol.open import FilePipePrinterAccessMask

        rights = FilePipePrinterAccessMask.FILE_WRITE_DATA | FilePipePrinterAccessMask.FILE_WRITE_ATTRIBUTES
        actions: list[Callable[[Any], None]] = []
        if data:
            actions.append(lambda asked: asked.add(asked.fd.write(data, 0, send=False)[0], bool))
        if bits:
            actions.append(lambda asked: set_bits(asked, bits))
        if access:
            rights |= FilePipePrinterAccessMask.WRITE_DAC
            actions.append(lambda asked: set_access(asked, access))
        actions.append(lambda asked: asked.add(asked.fd.flush(send=False)[0], bool))
        self._together(self._unc(name), rights, actions, is_new=True)

    def stream(self, name: str) -> Any:
        """Make a file that is sent piece by piece."""
        with self._session() as smb:
            path = self._unc(name)
            return Told(
                smb.open_file(path, "xb", buffering=_PIECE, share_access="r", **self._session.more),
                self._session,
            )

    def finish(self, name: str, bits: int, access: bytes) -> None:
        """Give a file that was sent piece by piece what else it is to have."""
        from smbprotocol.open import FilePipePrinterAccessMask

        if bits:
            rights = FilePipePrinterAccessMask.FILE_WRITE_ATTRIBUTES
            self._together(self._unc(name), rights, [lambda asked: set_bits(asked, bits)])
        if access:
            rights = FilePipePrinterAccessMask.WRITE_DAC
            self._together(self._unc(name), rights, [lambda asked: set_access(asked, access)])


class _Held(io.BytesIO):
    """A file that was read as a whole when it was opened."""

    def __init__(self, data: bytes, looks: os.stat_result) -> None:
        super().__init__(data)
        self.looks = looks


class _New:
    """A new file: held until it is closed if it is small, else sent piece by piece."""

    def __init__(self, folder: SmbFolder, name: str) -> None:
        self._folder, self._name = folder, name
        self._data = io.BytesIO()
        self._sent: Any = None
        self.bits, self.access = 0, b""

    def write(self, data: bytes) -> int:
        """Take bytes."""
        if self._sent is None and self._data.tell() + len(data) <= SMALL:
            return self._data.write(data)
        return int(self._stream().write(data))

    def seek(self, offset: int, whence: int) -> int:
        """Leave a hole."""
        return int(self._stream().write(bytes(offset)))

    def truncate(self) -> None:
        """Do nothing: what was written is all."""

    def _stream(self) -> Any:
        if self._sent is None:
            self._folder.unlink(self._name)
            self._sent = self._folder.stream(self._name)
            self._sent.write(self._data.getvalue())
        return self._sent

    def __enter__(self) -> "_New":
        return self

    def __exit__(self, kind: object, *_: object) -> None:
        if self._sent is not None:
            self._sent.close()
        if kind is not None:
            return
        if self._sent is None:
            try:
                self._folder.send(self._name, self._data.getvalue(), self.bits, self.access)
            except FileExistsError:  # what a run that was cut off has left
                self._folder.unlink(self._name)
                self._folder.send(self._name, self._data.getvalue(), self.bits, self.access)
        else:
            self._folder.finish(self._name, self.bits, self.access)

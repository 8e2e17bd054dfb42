"""Replacing files whole or not at all: beside their places first, then put there by swapping names."""

import contextlib
import os
import stat
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import IO, NamedTuple

from zinker.disk.files import CHUNK, part_name
from zinker.disk.folder import Folder, Seen, seen
from zinker.disk.swap import flush_disk
from zinker.disk.tree import Reached, Tree
from zinker.model.errors import Refused, reason
from zinker.model.file_state import FileState
from zinker.model.plan import DocumentChange
from zinker.stores.file_roots import Root, root_of
from zinker.stores.home import Changed, New, Refusals, Writing

# What a file has nothing in, it has a hole for.
_HOLE = bytes(CHUNK)
# From so many files on, flushing the disk takes less time than flushing them one by one.
_MANY = 100


class _Staged(NamedTuple):
    """What is ready to be put in its place: by what the old one and its folder are known, and the new one."""

    seen: Seen | None
    folder: tuple[int, int]
    made: list[Path]
    part: int = 0  # the inode of the new file; 0 if there is none, 1 on another machine


class FileWriting(Writing):
    """A change to the files of a part.

    The new file stands beside the old one under a name of `disk.files.part_name`. It takes its place by swapping
    names with it, where the system can, so that what stood there in the last instant is looked at once more, and
    put back if it is not what the plan saw.
    """

    def __init__(self, roots: Sequence[Root], tree: Tree) -> None:
        self._roots, self._tree = roots, tree
        self._staged: dict[str, _Staged] = {}
        self._parts: list[Path] = []
        self._touched: set[Path] = set()
        self._pool = ThreadPoolExecutor(tree.side_by_side) if tree.side_by_side else None
        self._under_way: deque[tuple[str, Future[None]]] = deque()

    def _reach(self, document: str) -> Reached:
        root, name = root_of(self._roots, document)
        return self._tree.below(root.base, root.below(name), not root.is_wild)

    def stage(self, change: DocumentChange, new: New) -> None:
        """Write the new content of a document beside it, without touching it; it may not be on the disk yet.

        On another machine, some are written side by side; what goes wrong is told by `flush`, at the latest.
        """
        if self._pool is None:
            self._stage(change, new)
            return
        # Content may come out of a profile, which one thread reads.
        new = new._replace(content=tuple(new.content))
        self._under_way.append((change.document, self._pool.submit(self._stage, change, new)))
        self._await(self._tree.side_by_side * 2)

    def _await(self, most: int = 0) -> None:
        """Wait until no more than so many are under way; raises what went wrong with the first of them."""
        while len(self._under_way) > most:
            document, done = self._under_way.popleft()
            with _naming(document):
                done.result()

    def _stage(self, change: DocumentChange, new: New) -> None:
        root, name = root_of(self._roots, change.document)
        folder = (root.base / root.below(name)).parent
        private = 0o700 if new.mode is not None and not new.mode & 0o077 else None
        made = [] if change.action == "remove" else self._tree.make_folders(folder, private)
        try:
            at = self._reach(change.document)
            identity = at.folder.identity()
            part = 0 if change.action == "remove" else self._write(at, change, new)
        except BaseException:
            self._remove_made(made)
            raise
        before = new.seen if isinstance(new.seen, tuple) else None
        self._staged[change.document] = _Staged(before, identity, made, part)

    def _write(self, at: Reached, change: DocumentChange, new: New) -> int:
        """Write the new file; returns its inode, 0 for a folder, which is made in its place."""
        after, part = change.after or FileState(), part_name(at.name)
        if after.is_folder:
            return 0
        if self._pool is None:
            at.folder.unlink(part)  # what a run that was cut off has left
        try:
            if after.link:
                at.folder.link(part, after.link)
            else:
                with at.folder.create(part) as file:
                    _fill(file, new.content)
                    at.folder.dress(at.name, file, new.mode)
                    at.folder.flush_file(file)
        except BaseException:
            with contextlib.suppress(OSError):
                at.folder.unlink(part)
            raise
        self._parts.append(at.folder.path / part)
        return at.folder.stat(part).st_ino if self._pool is None else 1

    def flush(self) -> None:
        """Have all new files reach the disk."""
        self._await()
        if not self._tree.flushes_later:
            return
        if len(self._parts) > _MANY and hasattr(os, "sync"):
            descriptor = os.open(self._parts[0].parent, os.O_RDONLY)
            try:
                flush_disk(descriptor)
            finally:
                os.close(descriptor)
            return
        for document, staged in self._staged.items():
            if staged.part:
                at = self._reach(document)
                with contextlib.suppress(IsADirectoryError), _to_flush(at.folder, part_name(at.name)) as file:
                    os.fsync(file)

    def commit(self, changes: Sequence[DocumentChange]) -> Refusals:
        """Put files in their places."""
        self._tree.forget()
        if self._pool is None:
            for change in changes:
                self._commit(change, self._staged[change.document])
            return []
        for change in changes:
            done = self._pool.submit(self._commit, change, self._staged[change.document])
            self._under_way.append((change.document, done))
        with contextlib.ExitStack() as stack:
            stack.callback(self._settled)  # whatever went wrong, nobody writes any more when this ends
            self._await()
        return []

    def _settled(self) -> None:
        while self._under_way:
            self._under_way.popleft()[1].exception()

    def _commit(self, change: DocumentChange, staged: _Staged) -> None:
        at = self._reach(change.document)
        if staged.folder != at.folder.identity():
            raise Changed(change.document)
        if change.action == "remove":
            self._remove(at, change, staged)
        elif change.after is not None and change.after.is_folder:
            with contextlib.suppress(FileExistsError):
                at.folder.make(at.name)
        elif root_of(self._roots, change.document)[0].is_database and staged.seen is not None:
            self._put_database(at, change, staged)
        else:
            self._put(at, change, staged)
        self._touched.add(at.folder.path)

    def _put(self, at: Reached, change: DocumentChange, staged: _Staged) -> None:
        part = part_name(at.name)
        if staged.seen is None:
            try:
                at.folder.rename_new(part, at.name)
            except FileExistsError:
                raise Changed(change.document) from None
        elif at.seen() != staged.seen:
            raise Changed(change.document)
        elif at.folder.exchange(part, at.name):
            if not _is_still(at.folder.stat(part), staged.seen):  # somebody saved in the last instant
                at.folder.exchange(part, at.name)
                raise Changed(change.document)
            at.folder.unlink(part)
        else:
            at.folder.replace(part, at.name)
        if at.folder.descriptor is not None and at.stat().st_ino != staged.part:
            raise Changed(change.document)

    def _put_database(self, at: Reached, change: DocumentChange, staged: _Staged) -> None:
        from zinker.stores.databases import write_database

        if at.seen() != staged.seen:
            raise Changed(change.document)
        part = at.folder.path / part_name(at.name)
        write_database(part, at.path)
        at.folder.unlink(part.name)

    def _remove(self, at: Reached, change: DocumentChange, staged: _Staged) -> None:
        """Remove a document, and as many of the folders above it as are said, if nothing else is in them."""
        if not at.folder.has(at.name):
            return
        if at.seen() != staged.seen:
            raise Changed(change.document)
        if change.before is not None and change.before.is_folder:
            at.folder.rmdir(at.name)
        else:
            part = part_name(at.name)
            at.folder.rename_new(at.name, part)
            if staged.seen is None or not _is_still(at.folder.stat(part), staged.seen):
                at.folder.rename_new(part, at.name)
                raise Changed(change.document)
            at.folder.unlink(part)
        remove_folders(self._tree, at.folder, change.new_folders)

    def settle(self) -> None:
        """Have the names of what was put in its place reach the disk."""
        for path in self._touched:
            with contextlib.suppress(OSError):
                self._tree.folder(path.relative_to(self._tree.top).parts).flush()

    def discard(self) -> None:
        """Forget what was prepared, with the folders that were made for it."""
        self._settled()
        for document, staged in reversed(self._staged.items()):
            with contextlib.suppress(OSError):  # whoever sweeps meets it again
                at = self._reach(document)
                if staged.part:
                    at.folder.unlink(part_name(at.name))
            self._remove_made(staged.made)

    def _remove_made(self, made: list[Path]) -> None:
        self._tree.forget()
        for path in reversed(made):
            with contextlib.suppress(OSError):  # somebody uses it by now
                at = self._tree.reach(path, follow=False)
                at.folder.rmdir(at.name)


@contextlib.contextmanager
def _naming(document: str) -> Iterator[None]:
    """Name the document in what goes wrong with it; raises `Refused`."""
    try:
        yield
    except OSError as error:
        raise Refused("Nothing changed", f"{document}: {reason(error)}") from error


def _fill(file: IO[bytes], content: Iterable[bytes]) -> None:
    """Write content; where it is zeros for long, leave a hole, so that a sparse file takes no more than it did."""
    for chunk in content:
        if chunk == _HOLE:
            file.seek(CHUNK, os.SEEK_CUR)
        else:
            file.write(chunk)
    file.truncate()  # a hole at the end counts, too


def remove_folders(tree: Tree, folder: Folder, count: int) -> None:
    """Remove a folder and those above it, up to a number of them, if nothing is in them."""
    names = folder.parts
    tree.forget()
    for end in range(len(names), max(0, len(names) - count), -1):
        try:
            above = tree.folder(names[: end - 1])
            above.rmdir(names[end - 1])
            above.flush()
        except FileNotFoundError:
            continue
        except OSError:
            return  # somebody uses it by now


def _is_still(looks: os.stat_result, was: Seen) -> bool:
    """Tell whether a file that has just been renamed is what it was; renaming changes its last time."""
    return seen(looks)[:4] == was[:4]


@contextlib.contextmanager
def _to_flush(folder: Folder, name: str) -> Iterator[int]:
    """Open a new file for flushing; a link needs none of it."""
    if stat.S_ISLNK(folder.stat(name).st_mode):
        raise IsADirectoryError
    with folder.open(name) as file:
        yield file.fileno()

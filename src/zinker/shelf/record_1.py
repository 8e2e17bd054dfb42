"""Reads what changes of format 1 wrote: plans whose documents are stamps, and whose items may have no address."""

from typing import Any, Literal

import msgspec

from zinker.model.file_state import FileState
from zinker.model.plain_json import decode
from zinker.model.plan import DocumentChange, SettingChange, Since
from zinker.model.setting import DOCUMENT, WHOLE, WITHHELD, Leaf


class _Item(msgspec.Struct):
    address: str
    before: Leaf | None
    after: Leaf | None
    translated: Leaf | None = None
    beneath: Leaf | None = None
    since: Since = ""
    kept: Leaf | None = None
    moved_from: str = ""


class _Document(msgspec.Struct):
    part: str
    document: str
    action: Literal["create", "edit", "replace", "remove"]
    items: tuple[_Item, ...]
    expected: str = ""
    result: str = ""
    source: str = ""
    format: str = ""
    new_folders: int = 0
    origin: str = ""
    size: int = 0
    about: dict[str, Any] = {}


def read_documents(data: bytes) -> tuple[DocumentChange, ...]:
    """Return the documents of a change of format 1; raises `ValueError`."""
    return tuple(map(_document, decode(data, tuple[_Document, ...])))


def _document(old: _Document) -> DocumentChange:
    whole = next((item for item in old.items if not item.address), None)
    items = tuple(
        SettingChange(i.address, i.before, i.after, i.translated, i.beneath, i.since, i.kept, i.moved_from)
        for i in old.items
        if i.address
    )
    action = old.action
    if whole is not None and action == "edit":  # a branch or a policy that came or went
        action = "create" if whole.before is None else "remove" if whole.after is None else "edit"
    sides = (whole.before, whole.after) if whole else (None, None)
    before, after = (
        _state(stamp, old.format, side) for stamp, side in zip((old.expected, old.result), sides, strict=True)
    )
    if after is not None and old.about:
        about = {("is_folder" if name == "folder" else name): value for name, value in old.about.items()}
        after = msgspec.structs.replace(after, **about)
    return DocumentChange(
        old.part, old.document, action, items, before, after, old.source, old.new_folders, old.origin
    )


def _state(stamp: str, format: str, said: Leaf | None) -> FileState | None:
    """Return the state that a stamp stands for: a digest, with a mode or not, a link, or a folder."""
    if not stamp:
        return None
    known = (
        FileState.of(said)
        if said is not None and said.type in (WHOLE, DOCUMENT)
        else FileState(format or WHOLE)
    )
    if stamp.startswith("link:"):
        return FileState(link=stamp.removeprefix("link:"))
    if stamp == "folder":
        return FileState(is_folder=True)
    sha256, _, mode = stamp.partition(":")
    if sha256.startswith(f"{WITHHELD}-"):
        _, key, mark = sha256.split("-", 2)
        return FileState(mode=mode, key=key, mark=mark)
    return msgspec.structs.replace(known, sha256=sha256, mode=mode or known.mode)

"""A plan of thousands of lines, summed up: whole files by their folders, settings by the section they are in."""

from collections.abc import Callable, Iterable, Iterator
from itertools import groupby
from typing import NamedTuple

from zinker.model.address import pointer, tokens
from zinker.model.plan import DocumentChange
from zinker.reports.entries import GAP
from zinker.reports.page import Block, Entry, Paragraph, Section
from zinker.reports.words import count, size
from zinker.stores.kinds import traits_of
from zinker.subjects.subject import Subject

# A plan with more lines is summed up on a terminal, in at most so many lines for each part.
LONG = 200
_FEW = 20


class _Line(NamedTuple):
    """One line of a plan: a whole document, or a setting; `path` is where it stands, without its own name."""

    part: str
    word: str
    path: tuple[str, ...]
    is_document: bool
    size: int


class _Sum(NamedTuple):
    word: str
    path: tuple[str, ...]
    documents: int
    settings: int
    size: int


def is_long(documents: Iterable[DocumentChange]) -> bool:
    """Tell whether the lines of a plan are too many to be read one by one."""
    return sum(1 if change.is_whole else len(change.items) for change in documents) > LONG


def summed_up(documents: Iterable[DocumentChange], subject: Subject | None) -> Iterator[Block]:
    """Yield how much would happen in which folder and section."""
    lines = sorted(line for change in documents for line in _lines(change))
    for id, group in groupby(lines, key=lambda line: line.part):
        part = subject.find_part(id) if subject else None
        store = part.store if part else "file"
        entries = tuple(_entry(one, store) for one in _summed(list(group)))
        yield Section(part.name if part else id, "", entries, is_whole=True)
    yield GAP
    yield Paragraph("This is a long plan, summed up; --full shows every line of it.")


def _entry(one: _Sum, store: str) -> Entry:
    traits = traits_of(store)
    much = [count(one.documents, traits.noun, traits.nouns)] if one.documents else []
    much += [count(one.settings, "setting")] if one.settings else []
    much += [size(one.size)] if one.size else []
    return Entry(one.word, f"{'/'.join(one.path) or 'in all'}: {', '.join(much)}", joined=True)


def _lines(change: DocumentChange) -> Iterator[_Line]:
    names = tuple(change.document.replace("\\", "/").split("/"))
    if change.is_whole:
        state = change.before if change.action == "remove" else change.after
        yield _Line(change.part, change.word, names[:-1], True, state.size if state else 0)
        return
    for item in change.items:
        path = (*names, *map(_as_name, tokens(item.address)[:-1]))
        yield _Line(change.part, item.word, path, False, 0)


def _as_name(token: str) -> str:
    return pointer(token)[1:]


def _summed(lines: list[_Line]) -> list[_Sum]:
    """Sum lines up by as many of their folders as give few sums."""
    deepest = max(len(line.path) for line in lines)
    found: list[_Sum] = []
    for depth in range(deepest, -1, -1):
        found = _by(lines, lambda line, depth=depth: line.path[:depth])  # type: ignore[misc]
        if len(found) <= _FEW:
            break
    return found


def _by(lines: list[_Line], path_of: Callable[[_Line], tuple[str, ...]]) -> list[_Sum]:
    sums: dict[tuple[str, tuple[str, ...]], list[int]] = {}
    for line in lines:
        entry = sums.setdefault((line.word, path_of(line)), [0, 0, 0])
        entry[0] += line.is_document
        entry[1] += not line.is_document
        entry[2] += line.size
    return [_Sum(*key, *entry) for key, entry in sorted(sums.items(), key=lambda one: (one[0][1], one[0][0]))]

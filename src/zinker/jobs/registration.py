"""Registration text files: what somebody hands over as one is read, and a profile is written as one."""

from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Final

from zinker.disk.files import commit_part, open_regular, write_part
from zinker.disk.sorted_rows import SortedRows
from zinker.formats.registry_text import KEY_ITSELF, RegistryText, by_root
from zinker.formats.registry_text_writer import write_registry_text
from zinker.jobs.progress import UNKNOWN
from zinker.jobs.setup import Setup
from zinker.jobs.text_reader import TextReader, held_of
from zinker.model.address import folded
from zinker.model.errors import NotWritable, Refused
from zinker.model.file_state import FileState
from zinker.model.profile import Problem, Snapshot
from zinker.model.rows import address_of
from zinker.model.setting import KEY_GONE
from zinker.profiles.writing import ProfileBuilder
from zinker.stores.registry import FORMAT as REGISTRY
from zinker.subjects.subject import Part, Subject, paths_of

# The subject of a file whose keys no subject file describes: it can be looked at and compared.
UNDESCRIBED = "registry"
# The store whose parts such a file can hold: it is a format of registries, and of nothing else.
STORE: Final = "registry"
_WHAT = "Not read"
_TOLD_AFTER = 5_000  # settings


class RegistrationReader(TextReader):
    """Reads one registration text file."""

    kind = "registration text file"
    system = "Windows"

    def _load(self) -> Subject:
        self._text = RegistryText(lambda: open_regular(self._path))
        subject, homes = _subject_of(self._setup, self._text)
        self._text.find = homes.locate
        self._found = self._documents(self._text, homes)
        return subject

    def _fill(self, subject: Subject, builder: ProfileBuilder) -> None:
        for part in subject.part:
            own = sorted((name, rows) for (id, name), rows in self._found.items() if id == part.id)
            if own:
                with builder.part(part.id, part.name, part.store, part.device_bound):
                    for name, rows in own:
                        builder.add_sorted(FileState(REGISTRY).head(name), rows)

    def _documents(self, text: RegistryText, homes: "_Homes") -> dict[tuple[str, str], SortedRows]:
        """Read everything; returns the rows by part and document."""
        found: dict[tuple[str, str], SortedRows] = {}
        has_removals = any(is_gone for is_gone, _ in text.headers)
        done = told = 0
        for document, block in text.blocks():
            done += len(block)
            if done - told >= _TOLD_AFTER:
                told = done
                self._setup.progress(self._path.name, done, UNKNOWN)
            part = homes.parts[document]
            rows = found.setdefault((part.id, document), SortedRows())
            for guarded in self.withholder.guarded(part, document, [block]):
                rows.add(guarded)
            if not has_removals:
                continue
            gone = [address_of(row) for row in block if f'"{KEY_GONE}",' in row]
            keys = tuple(address[: -len(KEY_ITSELF) + 1] for address in gone if address.endswith(KEY_ITSELF))
            if keys:
                self.removals[part.id, document] = (*self.removals.get((part.id, document), ()), *keys)
        return found

    def _problems(self, subject: Subject) -> Iterator[Problem]:
        part = subject.part[0].id
        for mistake in self._text.mistakes:
            where = f"line {mistake.line}: " if mistake.line else ""
            yield Problem(part, self._path.name, "", f"{where}{mistake.why}")
        for key in sorted(set(self._text.elsewhere)):
            yield Problem(part, key, "", f"{subject.title} has no such branch, so it is left out")


class _Homes:
    """Which document of which part of a subject a key belongs to."""

    def __init__(self, subject: Subject | None = None) -> None:
        self.parts: dict[str, Part] = {}
        self._branches: dict[str, str] = {}
        for part in subject.part if subject else ():
            if part.store == STORE:
                for home in part.homes:
                    self.parts[home.first] = part
                    self._branches |= {folded(path): home.first for path in paths_of(home.path)}
        self._known: dict[str, tuple[str, int] | None] = {}

    def locate(self, key: str) -> tuple[str, str] | None:
        """Return the document of a key, and its path in there."""
        name = folded(key)
        while name and name not in self._branches:
            name = name.rpartition("\\")[0]
        return (self._branches[name], key[len(name) + 1 :]) if name else None


class _RootHomes(_Homes):
    """Every root is a document of its own."""

    def __init__(self, part: Part) -> None:
        super().__init__()
        self._part = part

    def locate(self, key: str) -> tuple[str, str] | None:
        """Return the root of a key, and its path in there."""
        document, path = by_root(key)
        self.parts[document] = self._part
        return document, path


def _subject_of(setup: Setup, text: RegistryText) -> tuple[Subject, _Homes]:
    """Return the subject that most of a file's keys belong to."""
    subjects = [s for s in setup.catalogue.all() if any(part.store == STORE for part in s.part)]
    homes = [_Homes(subject) for subject in subjects]
    counts: Counter[int] = Counter()
    for _, key in text.headers if subjects else ():
        counts.update(number for number, home in enumerate(homes) if home.locate(key))
    if counts:
        best = counts.most_common(1)[0][0]
        return subjects[best], homes[best]
    part = Part("keys", STORE, "HKEY_USERS\\any", "Keys")
    return Subject(1, UNDESCRIBED, "Registry keys", (part,)), _RootHomes(part)


def write_registration(snapshot: Snapshot, path: Path, ansi: bool = False) -> list[Problem]:
    """Write the registry parts of a profile as a registration text file; returns what it does not hold.

    Raises `Refused` where there is nothing that such a file can hold.
    """
    parts, left = held_of(snapshot, STORE, "a registration text file", "registry keys")
    settings = (setting for part in parts for setting in snapshot.settings(part.id))
    try:
        commit_part(write_part(path, write_registry_text(settings, ansi)), path)
    except NotWritable as error:
        then = "Leave --ansi out, or leave that value out." if ansi else "Leave that part out."
        raise Refused("Not exported", f"{error.address}: {error.why}", then) from None
    return left

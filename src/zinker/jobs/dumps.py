"""Dumps of a desktop's settings database: what somebody hands over is read, and a profile is written as one."""

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Final, NamedTuple

from zinker.disk.files import commit_part, open_regular, write_part
from zinker.formats.desktop_text import Dump, fits_dump, read_dump, write_dump_text
from zinker.formats.leaves import Leaves
from zinker.jobs.setup import Setup
from zinker.jobs.text_reader import TextReader, held_of
from zinker.model.address import pointer, tokens
from zinker.model.errors import DocumentError, Refused
from zinker.model.profile import Problem, Snapshot
from zinker.model.setting import Leaf
from zinker.profiles.writing import ProfileBuilder
from zinker.stores.desktop_db import FORMAT as DESKTOP
from zinker.stores.reading import Reading
from zinker.subjects.subject import Part, Subject, paths_of

# The subject of a file whose paths no subject file describes: it can be looked at and compared.
UNDESCRIBED = "desktop"
STORE: Final = "desktop-db"
_WHAT = "Not read"


class _Home(NamedTuple):
    """The subject of a dump, and the path that was dumped."""

    subject: Subject
    below: str


class DumpReader(TextReader):
    """Reads one dump."""

    kind = "dump of a settings database"
    system = "Linux"

    def _load(self) -> Subject:
        with open_regular(self._path) as file:
            self._dump = read_dump(file.read())
        subject, below = _home_of(self._setup, self._dump)
        self._by_path = {
            below + "/".join(filter(None, where)): leaf for where, leaf in self._dump.values.items()
        }
        self._left = dict(self._by_path)
        return subject

    def _fill(self, subject: Subject, builder: ProfileBuilder) -> None:
        for part in subject.part:
            documents = dict(_documents(part, self._by_path))
            if documents:
                with builder.part(part.id, part.name, part.store, part.device_bound):
                    for document, found in sorted(documents.items()):
                        own = {
                            _address(document, path): self._left.pop(path, leaf)
                            for path, leaf in found.items()
                        }
                        reading = self.withholder.withhold(part, Reading(document, DESKTOP, own))
                        builder.add(reading.head, reading.leaves, None)

    def _problems(self, subject: Subject) -> Iterator[Problem]:
        part = subject.part[0].id
        for line, why in self._dump.mistakes:
            yield Problem(part, self._path.name, "", f"line {line}: {why}")
        for folder in sorted({path.rpartition("/")[0] for path in self._left}):
            yield Problem(part, f"{folder}/", "", f"{subject.title} has no such path, so it is left out")


def _documents(part: Part, by_path: Mapping[str, Leaf]) -> Iterator[tuple[str, Leaves]]:
    """Yield the subtrees of a part with what a dump has of them, by whole paths."""
    for home in part.homes if part.store == STORE else ():
        document = home.first
        found = {path: leaf for path, leaf in by_path.items() if path.startswith(document)}
        if found:
            yield document, found


def _address(document: str, path: str) -> str:
    return pointer(*path.removeprefix(document).split("/"))


def _home_of(setup: Setup, dump: Dump) -> _Home:
    """Return the subject that most of a dump belongs to, and below which path it was dumped.

    Where the dump does not say that, it is the path from which on its groups are those of a subject.
    """
    groups = [f"{group}/" if group else "" for group, _ in dump.values]
    best = (0, 0, _Home(_undescribed(), dump.below or "/"))
    for subject in setup.catalogue.all():
        parts = [part for part in subject.part if part.store == STORE]
        for path in (path for part in parts for home in part.homes for path in paths_of(home.path)):
            for below, start in _ways(path, dump.below):
                count = sum(group.startswith(start) for group in groups)
                if count and (count, len(start)) > best[:2]:
                    best = (count, len(start), _Home(subject, below))
    return best[2]


def _ways(path: str, below: str) -> Iterator[tuple[str, str]]:
    """Yield from which paths on a dump can hold a path, and how its groups begin then; `below` if it says one."""
    names = path.strip("/").split("/")
    for at in range(len(names)):
        above = "/" + "".join(f"{name}/" for name in names[:at])
        if below in ("", above):
            yield above, path.removeprefix(above)
    if below.startswith(path):
        yield below, ""


def _undescribed() -> Subject:
    part = Part("settings", STORE, "/", "Settings")
    return Subject(1, UNDESCRIBED, "Desktop settings", (part,))


def write_dump(snapshot: Snapshot, path: Path) -> list[Problem]:
    """Write the settings of a desktop in a profile as a dump; returns what it does not hold.

    Raises `Refused` where there is nothing that such a file can hold, and `OSError`.
    """
    held, left = held_of(snapshot, STORE, "a dump", "settings of a desktop's database")
    values: list[tuple[str, Leaf]] = []
    for part in held:
        for setting in snapshot.settings(part.id):
            whole = setting.document + "/".join(tokens(setting.address))
            if setting.is_head:
                continue
            if not fits_dump(whole):
                left.append(Problem(part.id, *setting.key, "no key file can have that name"))
            else:
                values.append((whole, setting.leaf))
    try:
        commit_part(write_part(path, write_dump_text(values)), path)
    except DocumentError as error:
        raise Refused("Not exported", str(error), "Leave that part out.") from None
    return left

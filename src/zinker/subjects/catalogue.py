"""All subject files that Zinker can see, by their ids."""

import re
from collections.abc import Iterator, Sequence
from difflib import get_close_matches
from pathlib import Path

from zinker.model.errors import WrongUsage
from zinker.subjects.subject import Part, Subject
from zinker.subjects.toml_check import load

SUFFIX = ".subject.toml"
VARIABLES = ("home", "config", "data", "documents", "program", "machine-config")
SHIPPED = Path(__file__).parent / "shipped"


class Catalogue:
    """The subject files in some folders; in the order given, the first of an id counts."""

    def __init__(self, folders: Sequence[Path]) -> None:
        self._folders = [*folders, SHIPPED]

    def files(self) -> dict[str, Path]:
        """Return the subject files by the ids their names give them."""
        found: dict[str, Path] = {}
        for folder in self._folders:
            for path in sorted(folder.glob(f"*{SUFFIX}")):
                found.setdefault(path.name.removesuffix(SUFFIX), path)
        return found

    def find(self, id: str) -> Subject:
        """Load one subject; raises `WrongUsage`, with the nearest names where there is none."""
        files = self.files()
        if id not in files:
            raise unknown("subject", id, files, "`zinker subjects` lists them all.")
        return load_subject(files[id])

    def all(self) -> Iterator[Subject]:
        """Load all subjects in turn; raises `WrongUsage` at the first that has a mistake."""
        for path in self.files().values():
            yield load_subject(path)


def load_subject(path: Path) -> Subject:
    """Load and check one subject file; raises `WrongUsage` with file, line and key."""
    what = "Subject file not read"
    subject = load(path, Subject, what)
    mistake = next(_mistakes(path, subject), "")
    if mistake:
        raise WrongUsage(what, f"{path}, line {_line(path, mistake)}: {mistake}", "Correct that line.")
    return subject


def _mistakes(path: Path, subject: Subject) -> Iterator[str]:
    """Yield what the schema cannot tell; each message quotes the text that is wrong, for finding its line."""
    if subject.id != path.name.removesuffix(SUFFIX):
        yield f"the id `{subject.id}` is not the file's name: a subject stands in ID{SUFFIX}"
    ids = [part.id for part in subject.part]
    for id in ids:
        if ids.count(id) > 1:
            yield f"the part `{id}` stands there twice"
    for part in subject.part:
        yield from _path_mistakes(part)
    version = subject.application.version
    if version and version.part not in ids:
        yield f"the version is to be found in the part `{version.part}`, which there is not"
    for need in subject.application.needs:
        yield from _variable_mistakes(need.path)


def _path_mistakes(part: Part) -> Iterator[str]:
    if part.store == "file":
        yield from _variable_mistakes(part.path)
    elif part.store == "registry" and not re.match(r"HKEY_[A-Z_]+\\[^\\]", part.path):
        yield f"the key `{part.path}` must begin with a root key such as HKEY_CURRENT_USER and a key below it"


def _variable_mistakes(path: str) -> Iterator[str]:
    start = re.match(r"\{([a-z-]+)\}/[^/]", path)
    if not start or start[1] not in VARIABLES:
        names = " ".join(f"{{{name}}}" for name in VARIABLES)
        yield f"the path `{path}` must begin with one of {names} and a slash"
    elif ".." in path.split("/") or "\\" in path:
        yield f"the path `{path}` may have neither `..` nor a backslash"


def _line(path: Path, mistake: str) -> int:
    """Return the line where the text quoted in a mistake stands, as the last of its kind."""
    quoted = re.search("`([^`]*)`", mistake)
    lines = path.read_text(encoding="utf-8-sig").splitlines()
    numbers = [number for number, line in enumerate(lines, 1) if quoted and quoted[1] in line]
    return numbers[-1] if numbers else 1


def unknown(
    kind: str, name: str, known: Iterator[str] | Sequence[str] | dict[str, Path], then: str
) -> WrongUsage:
    """Make the error for a name that does not exist, with the nearest ones that do."""
    near = get_close_matches(name, list(known), n=3, cutoff=0.5)
    hint = f"Did you mean {' or '.join(near)}? {then}" if near else then
    return WrongUsage(f"No {kind} {name}", f"there is no {kind} of that name", hint)

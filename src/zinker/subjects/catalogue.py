"""All subject files that Zinker can see, by their ids."""

import re
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import msgspec

from zinker.formats.dialect import mistake
from zinker.model.address import pointer
from zinker.model.errors import WrongUsage
from zinker.model.names import unknown
from zinker.model.policy import SERVER
from zinker.stores.patterns import is_wild
from zinker.subjects.subject import Part, Paths, SettingAt, Subject, paths_of
from zinker.subjects.toml_check import STAND_IN, check, load

SUFFIX = ".subject.toml"
_ID = re.compile(r"[a-z0-9][a-z0-9-]*", re.ASCII)
VARIABLES = ("home", "config", "data", "documents", "program", "machine-config")
SHIPPED = Path(__file__).parent / "shipped"


class Catalogue:
    """The subject files in some folders; in the order given, the first of an id counts."""

    def __init__(self, folders: Sequence[Path], notify: Callable[[str], None] = lambda text: None) -> None:
        """Look into some folders, and into the shipped one; `notify` is told of a file with a mistake."""
        self._folders, self._notify = [*folders, SHIPPED], notify
        # What was loaded, with the looks of its file then.
        self._loaded: dict[Path, tuple[tuple[int, int, int], Subject]] = {}

    def files(self) -> dict[str, Path]:
        """Return the subject files by the ids their names give them."""
        found: dict[str, Path] = {}
        for folder in self._folders:
            for path in sorted(folder.glob(f"*{SUFFIX}")):
                found.setdefault(path.name.removesuffix(SUFFIX), path)
        return found

    def find(self, id: str) -> Subject:
        """Load one subject; raises `WrongUsage`, with the nearest names if there is none."""
        paths = [folder / f"{id}{SUFFIX}" for folder in self._folders] if _ID.fullmatch(id) else []
        path = next((path for path in paths if path.exists()), None)
        if path is None:
            raise unknown("subject", id, self.files(), "`zinker subjects` lists them all.")
        looks = path.stat()
        seen = (looks.st_mtime_ns, looks.st_ctime_ns, looks.st_size)
        if path not in self._loaded or self._loaded[path][0] != seen:
            self._loaded[path] = seen, load_subject(path)
        return self._loaded[path][1]

    def all(self) -> Iterator[Subject]:
        """Load all subjects in turn; one with a mistake is told, and left out."""
        for path in self.files().values():
            try:
                yield load_subject(path)
            except WrongUsage as error:
                self._notify(f"A subject file is left out: {error.why}")


def load_subject(path: Path) -> Subject:
    """Load and check one subject file; raises `WrongUsage` with file, line and key."""
    what = "Subject file not read"
    subject = load(path, Subject, what)
    subject = msgspec.structs.replace(subject, part=tuple(map(_spelled_out, subject.part)))
    mistake = next(_mistakes(path, subject), "")
    if mistake:
        raise WrongUsage(what, f"{path}, line {_line(path, mistake)}: {mistake}", "Correct that line.")
    return msgspec.structs.replace(subject, part=tuple(map(_completed, subject.part)))


def _spelled_out(part: Part) -> Part:
    """Return a part with its keys and settings paths by their whole names."""
    if part.store == "registry":
        from zinker.stores.registry import whole_key as whole
    elif part.store == "desktop-db":
        from zinker.stores.desktop_db import settings_path as whole
    else:
        return part
    further = tuple(msgspec.structs.replace(home, path=_each(home.path, whole)) for home in part.home)
    return msgspec.structs.replace(part, path=_each(part.path, whole), home=further)


def _each(paths: Paths, whole: Callable[[str], str]) -> Paths:
    """Return paths as they were written, each by its whole name where it has one."""
    if isinstance(paths, str):
        return whole(paths) or paths
    if isinstance(paths, tuple):
        return tuple(whole(path) or path for path in paths)
    each = {system: _each(getattr(paths, system), whole) for system in ("linux", "windows", "macos")}
    return msgspec.structs.replace(paths, **each)


def _completed(part: Part) -> Part:
    """Return a part with what needs no saying: what a service makes is never compared or written."""
    if part.store != "tenant":
        return part
    made = (*(part.policy.ids or ("id",)), *part.policy.made)
    titles = {f"{SERVER}{pointer(name)}": f"made by the service: {name}" for name in made}
    for name, title in (
        (part.policy.changed_by, "last changed by"),
        (part.policy.changed_at, "last changed at"),
    ):
        titles |= {f"{SERVER}{pointer(name)}": title} if name else {}
    return msgspec.structs.replace(
        part, volatile=(*part.volatile, f"{SERVER}/*"), titles=titles | part.titles
    )


_KEY = r"HKEY_[A-Z_]+(\\[^\\]|$)"


def check_subject(path: Path) -> list[str]:
    """Return every mistake in a subject file, each with its line; raises `WrongUsage` where it is no TOML."""
    subject, found = check(path, Subject, "Subject file not read")
    if subject is not None:
        # What stands in for something that is missing is no mistake of the file.
        own = (mistake for mistake in _mistakes(path, subject) if STAND_IN not in mistake)
        found += [(_line(path, mistake), mistake) for mistake in own]
    return [f"line {line}: {mistake}" for line, mistake in sorted(found)]


def _mistakes(path: Path, subject: Subject) -> Iterator[str]:
    """Yield what the schema cannot tell; each message quotes the text that is wrong, for finding its line."""
    if subject.id != path.name.removesuffix(SUFFIX):
        yield f"the id `{subject.id}` is not the file's name: a subject stands in ID{SUFFIX}"
    ids = [part.id for part in subject.part]
    for id in dict.fromkeys(ids):
        if ids.count(id) > 1:
            yield f"the part `{id}` stands there twice"
    for part in subject.part:
        yield from _part_mistakes(part)
    version = subject.application.version
    if version and version.part not in ids:
        yield f"the version is to be found in the part `{version.part}`, which there is not"
    for at, what in _settings_at(subject):
        if at.part not in ids:
            yield f"the part `{at.part}` is to have the setting for {what}, and there is no such part"
    for part in subject.part:
        if part.named_by and (part.store != "file" or part.named_by.part == part.id):
            yield f"the part `{part.id}` cannot be named by that setting: it has to be files, named by another part"
    for need in subject.application.needs:
        yield from _variable_mistakes(need.path)
        yield from (
            f"the part `{id}` is said to need something, and there is no such part"
            for id in need.parts
            if id not in ids
        )


def _settings_at(subject: Subject) -> Iterator[tuple[SettingAt, str]]:
    """Yield the settings that others depend on, and for what."""
    yield from ((part.named_by, f"the home of {part.id}") for part in subject.part if part.named_by)
    yield from ((need.items, need.says) for need in subject.application.needs if need.items)
    yield from ((SettingAt(one.part, one.item), "add-ons") for one in subject.application.add_ons)


def _part_mistakes(part: Part) -> Iterator[str]:
    for home in part.homes:
        if not paths_of(home.path):
            yield f"the part `{part.id}` has a home without a path"
        for path in paths_of(home.path):
            yield from _path_mistakes(part, path)
        for pattern in home.without:
            if part.store != "file" or not any(map(is_wild, paths_of(home.path))):
                yield f"`without` is for files below a path with wild cards, which `{part.id}` has not"
            if pattern.startswith("/") or {"", ".", ".."} & set(pattern.split("/")):
                yield f"`{pattern}` must be a path, or a pattern, below the folder of the part `{part.id}`"
        if part.store == "file" and (wrong := mistake(home.format, home.dialect)):
            yield wrong
    further = [home.id for home in part.home]
    for id in dict.fromkeys(further):
        if further.count(id) > 1:
            yield f"the part `{part.id}` has the home `{id}` twice"
    if part.store != "file" and part.format:
        yield f"the format `{part.format}` is for files, which the part `{part.id}` is not"
    if part.store != "registry" and part.view:
        yield f"the view `{part.view}` is for registry keys, which the part `{part.id}` is not"
    if part.store != "registry" and part.policies:
        yield f"the policies `{part.policies[0]}` are registry keys, which the part `{part.id}` is not"
    for path in part.policies:
        if not re.match(_KEY, path):
            yield f"the key `{path}` must begin with a root key such as HKEY_LOCAL_MACHINE"
    for address in part.titles:
        if not address.startswith("/"):
            yield f"the title for `{address}` is for an address, which begins with a slash"


def _path_mistakes(part: Part, path: str) -> Iterator[str]:
    if part.store == "file":
        yield from _variable_mistakes(path)
    elif part.store == "registry" and not re.match(_KEY, path):
        yield f"the key `{path}` must begin with a root key such as HKEY_CURRENT_USER"
    elif part.store == "tenant" and not re.fullmatch(r"\w[\w.]*(/\w[\w.]*)*", path):
        yield f"the collection `{path}` must be a name of letters and digits, or several with slashes"
    elif part.store == "desktop-db" and not re.fullmatch(r"/([^/]+/)*", path):
        yield f"the path `{path}` must begin and end with a slash"


def _variable_mistakes(path: str) -> Iterator[str]:
    start = re.match(r"\{([a-z-]+)\}/[^/]", path)
    if not start or start[1] not in VARIABLES:
        names = " ".join(f"{{{name}}}" for name in VARIABLES)
        yield f"the path `{path}` must begin with one of {names} and a slash"
    elif ".." in path.split("/") or "\\" in path:
        yield f"the path `{path}` may have neither `..` nor a backslash"
    elif re.search(r"\{(?!instance\})", path[1:]):
        yield f"the path `{path}` may have no other word in braces than {{instance}}"


def _line(path: Path, mistake: str) -> int:
    """Return the line where the text quoted in a mistake stands, as the last of its kind."""
    quoted = re.search("`([^`]*)`", mistake)
    lines = path.read_text(encoding="utf-8-sig").splitlines()
    texts = (quoted[1], quoted[1].replace("\\", "\\\\")) if quoted else ()
    numbers = [number for number, line in enumerate(lines, 1) if any(text in line for text in texts)]
    return numbers[-1] if numbers else 1

"""Looks at what is in a home that no subject file describes yet: which files are settings, and of which kind.

What it says is a proposal by names and contents: what belongs together, what is bound to the machine, what an
application writes by itself. A person looks at it before others rely on it.
"""

import re
from collections.abc import Iterator
from itertools import groupby
from pathlib import PurePosixPath
from typing import Final, NamedTuple

from zinker.formats import read
from zinker.formats.leaves import Leaves
from zinker.jobs.plan.result import leaves_of
from zinker.jobs.progress import Progress
from zinker.jobs.secrets.detect import secrets_in
from zinker.jobs.setup import Setup
from zinker.model.errors import DocumentError
from zinker.model.plain_json import fitted
from zinker.model.setting import WHOLE, Leaf
from zinker.places.place import Place
from zinker.stores.home import Home, NoHome
from zinker.stores.kinds import open_home
from zinker.stores.patterns import is_wild, is_without
from zinker.stores.reading import Reading, StoreError
from zinker.subjects.draft import OTHERS, DraftPart, part_id
from zinker.subjects.subject import Part

# How many documents of a part are read, and how many files of a folder get a part of their own.
_LOOKED_INTO: Final = 200
_LARGEST: Final = 1_000_000  # of a text whose name tells nothing, in bytes
_MOST_PARTS: Final = 12
_WILD: Final = "/**"

# What an application makes again by itself, and what is there while it runs.
_PASSING = (
    (re.compile(r"(?i)(.*[ _-])?(caches?|gpucache|blob_storage|thumbnails?)"), "a cache"),
    (re.compile(r"(?i)logs?|crash(es|[ _-]?reports?)?|.*\.log(\.\w+)?"), "a log"),
    (re.compile(r"(?i).*\.(lock|pid|sock|socket|tmp)|\.?lock(file)?|te?mp|\.~.*"), "there while it runs"),
)
_OF_DEVICE = re.compile(
    r"(?i)licen[cs]e|\.lic$|activation|\bserial([ _-]?(number|key))?\b|machine[ _-]?id|device[ _-]?id|hwid"
)
# Parts of an address that tell where a window was, what was open last, and when: never what a user wants.
_BY_ITSELF = re.compile(
    r"""(?ix)
    .*geometry
    | .*window[ _-]?(state|pos|position|size|width|height|x|y|(is[ _-]?)?maximi[sz]ed)
    | .*splitter[ _-]?(state|sizes?|pos|position)?
    | recent([ _-]?(files?|documents?|projects?|items?|folders?|dirs?|paths?|urls?|list))*([ _-]?\d+)?
    | mru([ _-]?(list|files?|\d+))?
    | last[ _-]?(run|opened|used|seen|updated|checked|start|exit)([ _-]?(at|time|date))?
    """
)
_VERSION = re.compile(r"(?i)(app|application|program)?[ _-]?version")
_NUMBER = re.compile(r"v?\d+(\.\d+)+\S*")
_ASSIGNMENT = re.compile(r"[\w.:/-]+\s*=")


class Passed(NamedTuple):
    """A file or folder that is in no part, how many files that are, and why."""

    path: str
    files: int
    why: str


class Seen(NamedTuple):
    """How many documents and settings a part has, as far as was looked; and what of its home was passed over."""

    documents: int = 0
    settings: int = 0
    passed: tuple[Passed, ...] = ()


def scouted(setup: Setup, place: Place, given: DraftPart) -> list[tuple[DraftPart, Seen]]:
    """Look at a home, and return the parts that it is proposed as: of a folder, those that it consists of."""
    try:
        home = open_home(place, _part(given), setup.reader)
        documents = home.documents()
        if given.store != "file" or not given.path.endswith(_WILD):
            return [_described(home, given, documents, setup.progress)]
        passed = tuple(_passed(documents))
        names = tuple(one.path for one in passed)
        wanted = [name for name in documents if not is_without(names, name)]
        own = list(_own_parts(home, given, wanted))
        taken = tuple(
            part.path.removeprefix(f"{given.path.removesuffix(_WILD)}/").replace("{instance}", "*")
            for part, _ in own
        )
        others = given._replace(id=OTHERS if own else given.id, without=(*taken, *names))
        rest = [name for name in wanted if not is_without(taken, name)]
        described, seen = _described(home, others, rest, setup.progress)
        parts = [_described(home, *one, setup.progress) for one in own]
        return [*parts, (described, seen._replace(passed=passed))]
    except (NoHome, OSError, StoreError):
        return [(given, Seen())]  # what cannot be read now is told when it is captured


def marked(setup: Setup, place: Place, given: DraftPart) -> DraftPart:
    """Return a part with the secrets marked that its home has."""
    try:
        home = open_home(place, _part(given), setup.reader)
        return given._replace(secret=_described(home, given, home.documents(), setup.progress)[0].secret)
    except (NoHome, OSError, StoreError):
        return given


def _part(draft: DraftPart) -> Part:
    described: dict[str, object] = {"id": draft.id, "store": draft.store, "path": draft.path}
    return fitted(described | ({"format": draft.format} if draft.format else {}), Part)


def _passed(documents: list[str]) -> Iterator[Passed]:
    """Yield the files and folders that an application makes again by itself."""
    found: dict[tuple[str, str], int] = {}
    for name in documents:
        steps = name.split("/")
        for number, step in enumerate(steps, 1):
            why = next((why for pattern, why in _PASSING if pattern.fullmatch(step)), "")
            if why and not is_wild(name):  # a pattern would leave out more than was named
                at = ("/".join(steps[:number]), why)
                found[at] = found.get(at, 0) + 1
                break
    for (path, why), many in found.items():
        yield Passed(path, many, why)


def _own_parts(home: Home, given: DraftPart, documents: list[str]) -> Iterator[tuple[DraftPart, list[str]]]:
    """Yield what of a folder is better a part of its own: settings, instances, and what is bound to the machine."""
    base = given.path.removesuffix(_WILD)
    found = 0
    for top, group in groupby(documents, key=lambda name: name.partition("/")[0]):
        names = list(group)
        path, bound = f"{base}/{top}", bool(_OF_DEVICE.search(top))
        if found >= _MOST_PARTS or is_wild(top):
            continue
        if names != [top]:
            ending = "" if bound else _instances(home, names)
            if not bound and not ending:
                continue
            path += _WILD if bound else f"/{{instance}}{ending}"
        elif not bound:
            reading = home.read(top)
            if reading.format in ("", WHOLE) and not _assignments(reading):
                continue
        found += 1
        yield given._replace(id=part_id(PurePosixPath(top).stem, found), path=path, device_bound=bound), names


def _instances(home: Home, names: list[str]) -> str:
    """Return the ending that the files of a folder share where all are of the same kind; else ""."""
    endings = {PurePosixPath(name).suffix for name in names}
    is_flat = all(name.count("/") == 1 for name in names)
    if len(names) < 2 or len(endings) != 1 or not is_flat or not min(endings):
        return ""
    sides = []
    for name in names[:_LOOKED_INTO]:
        reading = home.read(name)
        if reading.format in ("", WHOLE):
            return ""
        sides.append({address.split("/")[1] for address in leaves_of(reading) if "/" in address})
    common = set.intersection(*sides)
    return min(endings) if common and all(len(common) * 2 >= len(side) for side in sides) else ""


def _described(
    home: Home, part: DraftPart, documents: list[str], progress: Progress
) -> tuple[DraftPart, Seen]:
    """Return a part with what its documents show, and how much it is."""
    secret: set[str] = set()
    volatile: set[str] = set()
    settings, version, format = 0, part.version, part.format.replace(WHOLE, "")
    is_one = part.store == "file" and not part.path.endswith(_WILD) and len(documents) == 1 and not format
    looked = documents[:_LOOKED_INTO]
    for number, name in enumerate(looked):
        progress(part.path, number, len(looked))
        reading = home.read(name)
        leaves = leaves_of(reading)
        if is_one:
            leaves = leaves or _assignments(reading)
            format = "ini" if leaves and reading.format == WHOLE else reading.format.replace(WHOLE, "")
        settings += len(leaves)
        secret.update(secrets_in(_part(part), leaves))
        volatile.update(filter(None, map(_by_itself, leaves)))
        version = version or next(
            (at for at, leaf in leaves.items() if _is_version(at, leaf) and at.count("/") < 3), ""
        )
    progress(part.path, len(looked), len(looked))
    described = part._replace(
        format=format,
        secret=tuple(sorted(secret)),
        volatile=part.volatile or tuple(sorted(volatile - secret)),
        version=version,
    )
    return described, Seen(len(documents), settings)


def _assignments(reading: Reading) -> Leaves:
    """Return the settings of a text whose name tells nothing, where each line of it says what something is."""
    content = reading.content
    if reading.format != WHOLE or content is None or not 0 < content.size <= _LARGEST:
        return {}
    with content.open() as file:
        data = file.read()
    try:
        lines = [line.strip() for line in data.decode().splitlines()]
        said = [line for line in lines if line and line[0] not in "#;"]
        return read("ini", data) if len(said) > 1 and all(map(_ASSIGNMENT.match, said)) else {}
    except (UnicodeDecodeError, DocumentError):
        return {}


def _by_itself(address: str) -> str:
    """Return the address of what changes by itself, as a pattern for all that is with it; or ""."""
    steps = address.split("/")
    for number, step in enumerate(steps[1:], 2):
        if _BY_ITSELF.fullmatch(step):
            return "/".join(steps[:number]) + ("/*" if number < len(steps) else "")
        if _BY_ITSELF.fullmatch(f"{steps[number - 2]}_{step}"):  # as in a section [window] with a width
            return "/".join(steps[:number])
    return ""


def _is_version(address: str, leaf: Leaf) -> bool:
    is_named = bool(_VERSION.fullmatch(address.rpartition("/")[2]))
    return is_named and isinstance(leaf.value, str) and bool(_NUMBER.fullmatch(leaf.value))

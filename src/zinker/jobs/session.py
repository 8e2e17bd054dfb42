"""One run at a place: every home is opened once, and every document taken apart once."""

from collections.abc import Iterable, Iterator, Mapping
from functools import cached_property
from types import MappingProxyType

from zinker.jobs.setup import Setup
from zinker.model.errors import Refused, reason
from zinker.model.plan import DocumentChange, SettingChange
from zinker.model.profile import Snapshot
from zinker.model.setting import WITHHELD, Leaf, decode_line, text_of
from zinker.model.where import Where
from zinker.places.given import in_folders
from zinker.places.place import Place
from zinker.stores.file_roots import moved_to
from zinker.stores.home import Home, NoHome, StoreError
from zinker.stores.kinds import open_home
from zinker.stores.reading import Reading
from zinker.subjects.subject import Part, SettingAt, Subject, paths_of

# So many bytes of documents, and of what they would be, are remembered between planning and writing.
_REMEMBERED = 16 * 1024 * 1024


class Session:
    """A subject at a place, while one command works on it."""

    def __init__(
        self,
        setup: Setup,
        place: Place,
        subject: Subject,
        empty_secrets: bool = True,
        moved: Mapping[str, str] = MappingProxyType({}),
    ) -> None:
        """Begin a run; with `empty_secrets`, a file that cannot be without a withheld one has it empty.

        `moved` has the paths of parts whose homes a setting names, where they are not to be asked for.
        """
        # By part; of those that were asked for, and "" for what is where it usually is.
        self.moved: dict[str, str] = dict(moved)
        self.setup, self.place, self.subject, self.empty_secrets = setup, place, subject, empty_secrets
        self.withholder = setup.withholder()
        self._homes: dict[str, Home] = {}
        # The documents of the parts that were read, also those that were not asked for.
        self.documents: dict[str, list[str]] = {}
        self._missing: dict[str, NoHome] = {}
        self._withheld: dict[tuple[int, str], dict[str, list[str]]] = {}
        # What was read last of documents that are taken apart, and the bytes that changes would give them: for as
        # long as a plan is made, and where the same bytes are asked for again.
        self._remembered = 0  # bytes of documents in `_readings`
        self._readings: dict[Where, Reading] = {}
        self.results: dict[Where, tuple[str, tuple[SettingChange, ...], bytes]] = {}

    def withheld(self, source: Snapshot, part: str, document: str) -> list[str]:
        """Return the addresses of the secrets that a source says it had in a document."""
        known = self._withheld.get((id(source), part))
        if known is None:
            known = self._withheld[id(source), part] = {}
            for piece in source.pieces(part):
                lines = piece[:-1].split(b"\n") if b'"withheld"' in piece else []
                for setting in (decode_line(line) for line in lines if b'"withheld"' in line):
                    if setting.type == WITHHELD:
                        known.setdefault(setting.document, []).append(setting.address)
        return known.get(document, [])

    def part(self, id: str) -> Part:
        """Return a part; plans are made for parts the subject has."""
        part = self.subject.find_part(id)
        if part is None:
            raise Refused("Nothing changed", f"{self.subject.id} has no part {id} any more")
        return part

    def home(self, part: Part) -> Home:
        """Return the home of a part at the place; raises `NoHome`, `StoreError` and `OSError`."""
        if part.id in self._missing:
            raise self._missing[part.id]
        if part.id not in self._homes:
            try:
                self._homes[part.id] = open_home(self.place, part, self.setup.reader, self._moved(part))
            except NoHome as error:
                self._missing[part.id] = error
                raise
        return self._homes[part.id]

    def _moved(self, part: Part) -> str:
        """Return where a setting says that a part is, "" for where it usually is; raises `NoHome`."""
        if part.named_by is not None and part.id not in self.moved:
            leaf = self._leaf_at(part.named_by)
            self.move(part, named_in(leaf))
        return self.moved.get(part.id, "")

    def move(self, part: Part, named: str) -> None:
        """Have a part where a path says, as programs at the place write it; raises `NoHome` out of bounds."""
        folder = in_folders(named, self.place) if named else ""
        if named and not folder:
            why = f"a setting says that it is {named}, in none of the folders that are known of {self.place.told}"
            self._missing[part.id] = NoHome(why)
            raise self._missing[part.id]
        self.moved[part.id] = moved_to(paths_of(part.path)[0], folder) if folder else ""

    def known(self) -> Iterator[tuple[str, str]]:
        """Yield the documents of the parts that were read, each with the id of its part."""
        return ((id, name) for id, names in self.documents.items() for name in names)

    def home_of(self, change: DocumentChange) -> Home:
        """Return the home of a document that would be changed."""
        return self.home(self.part(change.part))

    def why_no_home(self, part: Part) -> str:
        """Say why a part has no home at the place, or ""."""
        try:
            self.home(part)
        except NoHome as error:
            return error.why
        except (OSError, StoreError):
            return ""  # there is one, but it cannot be read
        return ""

    def read(self, part: Part, document: str) -> Reading:
        """Read a document as it may be kept: without its secrets."""
        return self.withholder.withhold(part, self.home(part).read(document))

    def remember(self, part: Part, reading: Reading) -> None:
        """Remember what has just been read of a document that is taken apart, for planning on it."""
        content = reading.content
        if content is not None and content.is_held and reading.file and not reading.file.is_whole:
            where = Where(part.id, reading.document)
            known = self._readings.get(where)
            more = content.size - (known.content.size if known and known.content else 0)
            if self._remembered + more <= _REMEMBERED:
                self._readings[where] = reading
                self._remembered += more

    def as_captured(self, part: Part, document: str) -> Reading:
        """Return a document with its secrets: as it was captured, where that is still known, else as it is now."""
        known = self._readings.get(Where(part.id, document))
        return known or self.home(part).read(document)

    def remember_result(self, change: DocumentChange, before: str, data: bytes) -> None:
        """Remember the bytes that a change gives a document, made from those with the digest `before`."""
        if sum(len(known) for _, _, known in self.results.values()) + len(data) <= _REMEMBERED:
            self.results[change.where] = (before, change.items, data)

    def expect(self, changes: Iterable[DocumentChange]) -> None:
        """Begin to read what some changes are about, where that takes an answer each; raises `StoreError`."""
        documents: dict[str, list[str]] = {}
        for change in changes:
            documents.setdefault(change.part, []).append(change.document)
        for id, names in documents.items():
            part = self.subject.find_part(id)
            if part is not None and not self.why_no_home(part):
                self.home(part).expect(names)

    @cached_property
    def version(self) -> str:
        """The version the application has written into its settings, or "" if it is unknown."""
        at = self.subject.application.version
        leaf = self._leaf_at(at) if at else None
        return text_of(leaf) if leaf else ""

    def _leaf_at(self, at: SettingAt) -> Leaf | None:
        """Return a setting as it is now."""
        part = self.subject.find_part(at.part)
        if not part:
            return None
        try:
            home = self.home(part)
            readings = (home.read(document) for document in home.documents())
            found = (reading.leaves_at([at.address]) for reading in readings)
            return next((leaves[at.address] for leaves in found if leaves), None)
        except (NoHome, OSError, StoreError):
            return None


def named_in(leaf: Leaf | None) -> str:
    """Return the file or folder that a setting names, "" for none."""
    return leaf.value if leaf is not None and isinstance(leaf.value, str) else ""


def why_not(error: OSError | StoreError) -> str:
    """Say why something could not be read."""
    return reason(error) if isinstance(error, OSError) else error.why

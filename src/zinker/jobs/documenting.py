"""Write a whole configuration down: every setting with what people call it, document by document."""

import contextlib
from collections.abc import Iterator
from itertools import groupby

import msgspec

from zinker.jobs.capture.selection import Selection
from zinker.jobs.looking import layers_at, selected
from zinker.jobs.references import parse_reference
from zinker.jobs.setup import Setup
from zinker.jobs.sources import Source, opened, subject_of
from zinker.jobs.translate.policies import document_titles, labels_in, own_id, said_change
from zinker.model.address import matches
from zinker.model.lines import heads_in
from zinker.model.policy import SERVER, LastChange
from zinker.model.profile import Manifest, PartRecord
from zinker.model.setting import DOCUMENT, Leaf, Setting
from zinker.stores.kinds import traits_of
from zinker.subjects.subject import Part, Subject

_TOLD_AFTER = 200  # documents


class Piece(msgspec.Struct, frozen=True):
    """One document: its settings in order, or, where it is carried whole, its opening line alone.

    `layers` has words for what is not the user's own, or is locked, by address. `refers` has, by the
    address of a reference, the documents that are meant: the part, or "" where it is none of these, and the name.
    """

    record: PartRecord
    part: Part | None
    document: str
    settings: tuple[Setting, ...]
    layers: dict[str, str] = {}
    refers: dict[str, tuple[tuple[str, str], ...]] = {}
    id: str = ""
    last_change: LastChange | None = None
    # The addresses of what is only the title of other settings.
    labels: frozenset[str] = frozenset()

    @property
    def is_whole(self) -> bool:
        """Whether it is a file that is carried as it is."""
        return bool(self.settings) and self.settings[0].is_head


class Documented(msgspec.Struct, frozen=True):
    """A whole configuration: what it is, the documents with settings of each part, and all of them piece by piece.

    `outline` has the names of documents that are taken apart, by part; `pieces` can be read once.
    """

    name: str
    manifest: Manifest
    subject: Subject | None
    parts: tuple[PartRecord, ...]
    outline: dict[str, tuple[str, ...]]
    pieces: Iterator[Piece]
    is_live: bool = False


@contextlib.contextmanager
def documented(
    setup: Setup, reference: str, parts: tuple[str, ...] = (), documents: tuple[str, ...] = ()
) -> Iterator[Documented]:
    """Open a configuration to be written down; `documents` are names or patterns of those that are meant.

    Raises `WrongUsage`, `Refused` and `Damaged`.
    """
    wanted = parse_reference(reference)
    with opened(setup, wanted, parts) as source:
        subject = subject_of(setup, source)
        selection = selected(source, subject, parts, wanted.instance, documents)
        layers: dict[tuple[str, str, str], str] = {}
        beneath: list[tuple[str, Setting]] = []
        if source.is_live and subject is not None:
            beneath = list(layers_at(setup.place(wanted.place), subject, parts, layers))
        writer = _Writer(setup, source, subject, selection, layers, beneath)
        records = tuple(part for part in source.manifest.parts if not parts or part.id in parts)
        yield Documented(
            source.told,
            source.manifest,
            subject,
            records,
            {record.id: tuple(writer.outline(record)) for record in records},
            (piece for record in records for piece in writer.pieces(record)),
            source.is_live,
        )


class _Writer:
    """What is needed to write every document of one source down."""

    def __init__(
        self,
        setup: Setup,
        source: Source,
        subject: Subject | None,
        selection: Selection,
        layers: dict[tuple[str, str, str], str],
        beneath: list[tuple[str, Setting]],
    ) -> None:
        self._progress, self._source, self._subject = setup.progress, source, subject
        self._selection, self._layers, self._beneath = selection, layers, beneath
        self._named = dict(self._names())

    def _names(self) -> Iterator[tuple[tuple[str, str], str]]:
        """Yield every policy that others may name, by its collection and its name, with the part it is in."""
        parts = self._subject.part if self._subject else ()
        wanted = {to for part in parts for to in part.policy.references.values()}
        for part in parts:
            record = self._source.manifest.part(part.id)
            if record is not None and part.path in wanted:
                yield from (((str(part.path), name), part.id) for name in self.outline(record))

    def outline(self, record: PartRecord) -> Iterator[str]:
        """Yield the names of the documents of a part that are taken apart."""
        part = self._subject.find_part(record.id) if self._subject else None
        for piece in self._source.snapshot.pieces(record.id):
            for head in heads_in(piece):
                if head.type == DOCUMENT and (part is None or self._selection.has(part, head.document)):
                    yield head.document

    def pieces(self, record: PartRecord) -> Iterator[Piece]:
        """Yield the documents of a part."""
        part = self._subject.find_part(record.id) if self._subject else None
        settings = self._source.snapshot.settings(record.id)
        if part is not None and (traits_of(part.store).has_layers or part.policies):
            settings = self._with_layers(part, list(settings))
        done = 0
        for document, group in groupby(settings, key=lambda setting: setting.document):
            if part is not None and not self._selection.has(part, document):
                continue
            found = tuple(s for s in group if not (s.is_head and s.type == DOCUMENT))
            yield self._piece(record, part, document, found)
            done += len(found)
            self._progress(record.title, done, record.settings)

    def _with_layers(self, part: Part, own: list[Setting]) -> Iterator[Setting]:
        known = {setting.key for setting in own}
        more = [s for id, s in self._beneath if id == part.id and s.key not in known]
        yield from sorted([*own, *more], key=lambda setting: setting.key)

    def _piece(
        self, record: PartRecord, part: Part | None, document: str, settings: tuple[Setting, ...]
    ) -> Piece:
        layers = {
            setting.address: words
            for setting in settings
            if self._layers and (words := self._layers.get((record.id, *setting.key)))
        }
        if part is None or not traits_of(part.store).refers:
            return Piece(record, part, document, settings, layers)
        leaves = {setting.address: setting.leaf for setting in settings}
        part = msgspec.structs.replace(part, titles=part.titles | document_titles(part.policy, leaves))
        ids = [str(leaves[address].value) for address in own_id(part.policy) if address in leaves]
        told = tuple(s for s in settings if not s.address.startswith(f"{SERVER}/"))
        refers = dict(self._refers(part, leaves))
        last, labels = said_change(part, leaves), frozenset(labels_in(part.policy, leaves))
        return Piece(record, part, document, told, layers, refers, ", ".join(ids), last, labels)

    def _refers(
        self, part: Part, leaves: dict[str, Leaf]
    ) -> Iterator[tuple[str, tuple[tuple[str, str], ...]]]:
        for pattern, to in part.policy.references.items():
            for address, leaf in leaves.items():
                if matches(pattern, address) or matches(f"{pattern}/*", address):
                    names = [*map(str, leaf.value if isinstance(leaf.value, list) else [leaf.value])]
                    found = tuple((self._named.get((to, name), ""), name) for name in names)
                    if any(where for where, _ in found):
                        yield address, found

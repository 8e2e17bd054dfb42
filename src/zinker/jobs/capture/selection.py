"""Which parts of a subject are meant, which of their documents, and which instance."""

from collections.abc import Iterable

import msgspec

from zinker.model.errors import WrongUsage
from zinker.model.names import fits_document, unknown
from zinker.stores.file_roots import instance_of
from zinker.subjects.subject import Part, Subject


class Selection(msgspec.Struct, frozen=True):
    """Which parts of a subject are meant, which instance ("" for all), and which documents (none for all).

    Documents are meant by name or pattern, see zinker.model.names.
    """

    parts: tuple[Part, ...]
    instance: str = ""
    documents: tuple[str, ...] = ()

    @property
    def is_narrow(self) -> bool:
        """Whether not all documents of the parts are meant."""
        return bool(self.instance or self.documents)

    def has(self, part: Part, document: str, origin: str = "") -> bool:
        """Tell whether a document of a part is meant; by its name, or by the one where it is from."""
        if self.instance and instance_of(part, document) != self.instance:
            return False
        names = (document, origin) if origin else (document,)
        return not self.documents or any(fits_document(one, name) for one in self.documents for name in names)

    def check(self, known: Iterable[tuple[str, str]], where: str) -> None:
        """Raise `WrongUsage`, with the nearest, for a name that fits none of the known documents.

        They come with the ids of their parts; `where` says in words where they are.
        """
        if not self.is_narrow:
            return
        parts = {part.id: part for part in self.parts}
        named = [(id, name) for id, name in known if id in parts]
        instances = {instance_of(parts[id], name) for id, name in named} - {""}
        if self.instance and self.instance not in instances:
            has = ", ".join(sorted(instances))
            then = f"The instances in {where} are {has}." if has else f"{where} has no instances."
            raise unknown("instance", self.instance, instances, then)
        documents = {name for _, name in named}
        for pattern in self.documents:
            if not any(fits_document(pattern, name) for name in documents):
                ends = {name.replace("\\", "/").rpartition("/")[2] for name in documents}
                then = f"`zinker show` lists what is in {where}; * and ? stand for other characters."
                raise unknown("document", pattern, sorted(documents | ends), then)


def select(
    subject: Subject,
    parts: tuple[str, ...],
    without: tuple[str, ...],
    instance: str = "",
    documents: tuple[str, ...] = (),
) -> Selection:
    """Choose parts by name; without names, all. Raises `WrongUsage` for a name that no part has."""
    for id in (*parts, *without):
        if subject.find_part(id) is None:
            known = [part.id for part in subject.part]
            raise unknown("part", id, known, f"The parts of {subject.id} are {', '.join(known)}.")
    chosen = [part for part in subject.part if (not parts or part.id in parts) and part.id not in without]
    if not chosen:
        raise WrongUsage("Nothing chosen", "every part was left out", "Leave fewer out.")
    return Selection(tuple(chosen), instance, documents)

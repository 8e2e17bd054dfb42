"""Which parts of a subject are meant, and which instance."""

import msgspec

from zinker.model.errors import WrongUsage
from zinker.stores.file_roots import instance_of
from zinker.subjects.catalogue import unknown
from zinker.subjects.subject import Part, Subject


class Selection(msgspec.Struct, frozen=True):
    """Which parts of a subject are meant, and which instance ("" for all)."""

    parts: tuple[Part, ...]
    instance: str = ""

    def has(self, part: Part, document: str) -> bool:
        """Tell whether a document of a part is meant."""
        return not self.instance or instance_of(part, document) == self.instance


def select(
    subject: Subject, parts: tuple[str, ...], without: tuple[str, ...], instance: str = ""
) -> Selection:
    """Choose parts by name; without names, all. Raises `WrongUsage` for a name that no part has."""
    for id in (*parts, *without):
        if subject.find_part(id) is None:
            known = [part.id for part in subject.part]
            raise unknown("part", id, known, f"The parts of {subject.id} are {', '.join(known)}.")
    chosen = [part for part in subject.part if (not parts or part.id in parts) and part.id not in without]
    if not chosen:
        raise WrongUsage("Nothing chosen", "every part was left out", "Leave fewer out.")
    return Selection(tuple(chosen), instance)

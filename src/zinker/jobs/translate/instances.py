"""The documents of one instance of a subject, as another instance has them."""

from zinker.model.errors import WrongUsage
from zinker.model.profile import Snapshot
from zinker.stores.file_roots import instance_of
from zinker.subjects.subject import Part, Subject

_WHAT = "Instance not translated"


def as_instance(
    snapshot: Snapshot, name: str, subject: Subject, old: str, new: str
) -> dict[tuple[str, str], str]:
    """Return the documents of an instance, by part and name, with the names that they have in another one.

    Without an old one, the snapshot has to have one only; `name` says what the snapshot is. Raises `WrongUsage`.
    """
    found: dict[tuple[str, str], str] = {}
    aside: dict[tuple[str, str], str] = {}
    instances: set[str] = set()
    for part in subject.part:
        if not snapshot.manifest.part(part.id):
            continue
        for document in snapshot.documents(part.id):
            instance = instance_of(part, document)
            instances |= {instance} - {""}
            if instance and instance == (old or instance):
                found[part.id, document] = _renamed(part, document, instance, new)
            elif instance == new and old:  # two that change names are not in each other's way
                aside[part.id, document] = _renamed(part, document, new, old)
    if not found or (not old and len(instances) > 1):
        known = ", ".join(sorted(instances)) or "none"
        why = f"{name} has " + (f"no instance {old}" if old else "more than one instance")
        raise WrongUsage(_WHAT, why, f"Name one, as in {subject.id}/INSTANCE@VERSION; it has {known}.")
    return found | aside


def _renamed(part: Part, document: str, old: str, new: str) -> str:
    at = -1
    while (at := document.find(old, at + 1)) >= 0:
        name = document[:at] + new + document[at + len(old) :]
        if instance_of(part, name) == new:
            return name
    raise WrongUsage(_WHAT, f"{new!r} cannot be the name of an instance of {part.name}", "Choose another.")

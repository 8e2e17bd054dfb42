"""What a snapshot says about its policies, besides their settings: ids, titles, and which are the same ones."""

from collections.abc import Iterator

from zinker.model.address import matches, pointer
from zinker.model.difference import Difference
from zinker.model.policy import SERVER, LastChange, PolicyShape, Titles
from zinker.model.profile import Snapshot
from zinker.model.setting import Leaf
from zinker.subjects.subject import Part, Subject

_Name = tuple[str, str]  # part, document


def titles_in(subject: Subject | None, *snapshots: Snapshot) -> Titles:
    """Return what a service calls the settings of its policies, where it has titles for them."""
    found: Titles = {}
    for part in subject.part if subject else ():
        for snapshot in snapshots:
            if part.policy.titles and snapshot.manifest.part(part.id):
                for document, own in Policies(part, snapshot).titles.items():
                    found[document] = found.get(document, {}) | own
    return found


class Policies:
    """What one side of a comparison says about its policies, besides their settings."""

    def __init__(self, part: Part, snapshot: Snapshot) -> None:
        self.part = part
        self.settings: dict[str, dict[str, Leaf]] = {}
        for setting in snapshot.settings(part.id):
            if not setting.is_head:
                self.settings.setdefault(setting.document, {})[setting.address] = setting.leaf
        own = own_id(part.policy)
        # What a tenant calls its policies by says nothing about another's.
        self.ids = {
            document: (snapshot.manifest.machine, *(leaves[address].value for address in own))
            for document, leaves in self.settings.items()
            if all(address in leaves for address in own)
        }

    def last_changes(self) -> Iterator[tuple[_Name, LastChange]]:
        """Yield who changed a policy last, and when, where the service says so."""
        for document, leaves in self.settings.items():
            if said := said_change(self.part, leaves):
                yield (self.part.id, document), said

    @property
    def titles(self) -> Titles:
        """The titles that the service has for settings."""
        policy = self.part.policy
        return {
            (self.part.id, name): document_titles(policy, leaves) for name, leaves in self.settings.items()
        }


def own_id(shape: PolicyShape) -> list[str]:
    """Return the addresses at which a policy has its own id."""
    return [f"{SERVER}{pointer(name)}" for name in shape.ids or ("id",)]


def said_change(part: Part, leaves: dict[str, Leaf]) -> LastChange | None:
    """Return who changed a policy last, and when, where the service says so."""
    names = (part.policy.changed_by, part.policy.changed_at)
    said = [leaves.get(f"{SERVER}{pointer(name)}") for name in names]
    by, at = (str(leaf.value) if leaf is not None else "" for leaf in said)
    return LastChange(by, at) if by or at else None


def document_titles(shape: PolicyShape, leaves: dict[str, Leaf]) -> dict[str, str]:
    """Return the titles that a service has for the settings of one policy, by address."""
    by_item = dict(_titles_of(shape, leaves))
    found = {address: _title(address, by_item) for address in leaves}
    return {address: title for address, title in found.items() if title}


def labels_in(shape: PolicyShape, leaves: dict[str, Leaf]) -> Iterator[str]:
    """Yield the addresses at which a service has the titles of other settings."""
    for item, _ in _titles_of(shape, leaves):
        yield f"{item}/{shape.titles[item.rpartition('/')[0]]}"


def _title(address: str, by_item: dict[str, str]) -> str:
    """Return the title of the item that an address is in; of what is not its value, with the property's name."""
    above = address.rpartition("/")[0]
    while above and above not in by_item:
        above = above.rpartition("/")[0]
    rest = address[len(above) + 1 :]
    return by_item[above] if above and rest == "value" else f"{by_item[above]}: {rest}" if above else ""


def joined(
    found: list[Difference], old: Policies, new: Policies, renamed: dict[_Name, str]
) -> tuple[list[Difference], int]:
    """Join what is gone and what is new where it is one policy under another name; notes that in `renamed`.

    It is the same one by its id, or by all that it says. Returns the differences, and how many settings of theirs
    are alike.
    """
    part = old.part
    gone = [document for document in old.settings if document not in new.settings]
    came = [document for document in new.settings if document not in old.settings]
    pairs = dict(_pairs(old, new, gone, came))
    if not pairs:
        return found, 0
    ignored = part.volatile
    kept = [d for d in found if d.document not in {*pairs, *pairs.values()}]
    alike = 0
    for before, after in pairs.items():
        renamed[part.id, after] = before
        first, second = old.settings[before], new.settings[after]
        changed = 0
        for address in sorted({*first, *second}):
            one, other = first.get(address), second.get(address)
            if any(matches(pattern, address) for pattern in ignored):
                continue
            if one == other:
                alike += 1
            else:
                changed += 1
                kept.append(Difference(part.id, after, address, one, other))
        if not changed:
            name = Leaf("text", before), Leaf("text", after)
            kept.append(Difference(part.id, after, pointer(part.policy.name), *name))
    kept.sort(key=lambda d: (d.document, d.address))
    # Those of the old names were counted as neither alike nor gone before.
    return kept, alike


def _pairs(old: Policies, new: Policies, gone: list[str], came: list[str]) -> Iterator[tuple[str, str]]:
    by_id = {new.ids[document]: document for document in came if document in new.ids}
    left = set(came)
    for document in gone:
        other = by_id.get(old.ids[document]) if document in old.ids else None
        if other is None:
            same = [name for name in sorted(left) if _content(old, document) == _content(new, name)]
            other = same[0] if len(same) == 1 else None
        if other is not None and other in left:
            left.discard(other)
            yield document, other


def _content(side: Policies, document: str) -> dict[str, Leaf]:
    out = (*side.part.volatile, *side.part.policy.for_whom)
    leaves = side.settings[document].items()
    return {
        address: leaf for address, leaf in leaves if not any(matches(pattern, address) for pattern in out)
    }


def _titles_of(shape: PolicyShape, leaves: dict[str, Leaf]) -> Iterator[tuple[str, str]]:
    """Yield the addresses below which settings have a title of the service's own, with it."""
    for address, leaf in leaves.items():
        above, _, last = address.rpartition("/")
        if shape.titles.get(above.rpartition("/")[0]) == last and isinstance(leaf.value, str):
            yield above, leaf.value

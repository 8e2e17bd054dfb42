"""What is special about the policies of a tenant when they are brought there: order, names, for whom they count."""

from collections.abc import Iterable, Iterator

import msgspec

from zinker.model.address import matches, pointer
from zinker.model.crosswalk import Crosswalk, Move, Replace, Rules
from zinker.model.difference import Difference
from zinker.model.plan import DocumentPlan
from zinker.model.policy import Titles
from zinker.model.profile import Snapshot
from zinker.model.setting import Leaf, decode_line
from zinker.stores.policies import SERVER, titles_of
from zinker.subjects.subject import Part, Subject, paths_of

_Name = tuple[str, str]  # part, document
_WAVE = 64  # policies written before progress is shown


def in_order(subject: Subject, documents: list[DocumentPlan]) -> list[DocumentPlan]:
    """Return plans so that what others refer to comes before them, and goes after them.

    In a circle, what refers to what is not there yet, or to what goes first, is a plan of its own, in between.
    """
    policies = {part.id: part for part in subject.part if part.store == "tenant"}
    if not policies:
        return documents
    by_path = {paths_of(part.path)[0]: part.id for part in policies.values()}
    planned = {(document.part, document.document): document for document in documents}
    done: dict[_Name, DocumentPlan] = {}

    apart: list[DocumentPlan] = []

    def take(name: _Name, above: tuple[_Name, ...]) -> None:
        if name in done or name not in planned:
            return
        document, circular = planned[name], []
        above = (*above, name)
        for item in document.items:
            leaf = item.after or item.before
            others = list(_referred(policies.get(document.part), item.address, leaf, by_path))
            if any(other in above and _comes_or_goes(planned[other]) for other in others):
                circular.append(item)
            for other in others:
                if other not in above:
                    take(other, above)
        if circular:
            apart.append(msgspec.structs.replace(document, action="edit", items=tuple(circular)))
            kept = tuple(item for item in document.items if item not in circular)
            document = msgspec.structs.replace(document, items=kept)
        done[name] = document

    for name in planned:
        take(name, ())
    gone = [document for document in done.values() if _goes(document)]
    come = [document for document in done.values() if not _goes(document)]
    return come + apart + gone[::-1]


def waves(subject: Subject, documents: Iterable[DocumentPlan]) -> Iterator[list[DocumentPlan]]:
    """Yield plans in their order; together those of policies that know nothing of each other."""
    policies = {part.id: part for part in subject.part if part.store == "tenant"}
    by_path = {paths_of(part.path)[0]: part.id for part in policies.values()}
    wave: list[DocumentPlan] = []
    names: set[_Name] = set()
    referred: set[_Name] = set()
    for document in documents:
        name, part = (document.part, document.document), policies.get(document.part)
        leaves = ((item.address, leaf) for item in document.items for leaf in (item.before, item.after))
        own = {other for address, leaf in leaves for other in _referred(part, address, leaf, by_path)}
        if wave and (part is None or name in names | referred or own & names or len(wave) == _WAVE):
            yield wave
            wave, names, referred = [], set(), set()
        if part is None:
            yield [document]
            continue
        wave.append(document)
        names.add(name)
        referred |= own
    if wave:
        yield wave


def _goes(document: DocumentPlan) -> bool:
    return any(not item.address and item.after is None for item in document.items)


def _comes_or_goes(document: DocumentPlan) -> bool:
    return any(not item.address for item in document.items)


def _referred(part: Part | None, address: str, leaf: Leaf | None, by_path: dict[str, str]) -> Iterator[_Name]:
    """Yield the policies that a value at an address refers to."""
    for pattern, path in part.policy.references.items() if part is not None else ():
        if leaf is not None and path in by_path and matches(pattern, address):
            names = leaf.value if isinstance(leaf.value, list) else [leaf.value]
            yield from ((by_path[path], name) for name in names if isinstance(name, str))


def with_people(crosswalk: Crosswalk, subject: Subject, rules: Rules | None) -> Crosswalk:
    """Return a crosswalk that has policies name the groups and users of the other tenant, by the rules' maps.

    Where a list is told apart by them, its items move; elsewhere values are replaced.
    """
    moves, replaces = list(crosswalk.moves), list(crosswalk.replaces)
    for part in subject.part if rules is not None else ():
        assert rules is not None  # noqa: S101 - there are no parts to look at without
        for patterns, names in ((part.policy.groups, rules.groups), (part.policy.users, rules.users)):
            for pattern in patterns:
                above = _keyed_list(part, pattern)
                for old, new in names.items():
                    if above:
                        moves.append(Move(part.id, f"{above}{pointer(old)}", f"{above}{pointer(new)}"))
                    else:
                        rule = Replace(old, new, "whole", parts=(part.id,), addresses=(pattern,))
                        replaces.append(rule)
    return msgspec.structs.replace(crosswalk, moves=tuple(moves), replaces=tuple(replaces))


def _keyed_list(part: Part, pattern: str) -> str:
    """Return the address of the list whose items a pattern tells apart, or ""."""
    above, wild, key = pattern.rpartition("/*/")
    return above if wild and part.policy.keys.get(above) == key else ""


def renamed(
    subject: Subject, source: Snapshot, prefix: str, suffix: str
) -> tuple[dict[_Name, str], tuple[Replace, ...]]:
    """Return the names that policies would have, and the rules for what refers to them."""
    renames: dict[_Name, str] = {}
    references: list[Replace] = []
    if not prefix and not suffix:
        return renames, ()
    policies = [part for part in subject.part if part.store == "tenant" and source.manifest.part(part.id)]
    for part in policies:
        for setting in map(decode_line, source.lines(part.id)):
            if setting.is_head:
                renames[part.id, setting.document] = f"{prefix}{setting.document}{suffix}"
    by_path = {paths_of(part.path)[0]: part.id for part in policies}
    for part in policies:
        for address, path in part.policy.references.items():
            names = [(old, new) for (owner, old), new in renames.items() if owner == by_path.get(path)]
            references += [
                Replace(old, new, "whole", parts=(part.id,), addresses=(address,)) for old, new in names
            ]
    return renames, tuple(references)


def left_assignments(parts: Iterable[Part], source: Snapshot, is_wanted: bool) -> Iterator[str]:
    """Say how many policies count for somebody in the profile, where that is not written."""
    if is_wanted:
        return
    found: set[_Name] = set()
    for part in parts:
        patterns = part.policy.assignments if part.store == "tenant" and source.manifest.part(part.id) else ()
        for setting in map(decode_line, source.lines(part.id)) if patterns else ():
            is_filled = setting.value not in ([], None) and setting.type != "object"
            if is_filled and any(matches(pattern, setting.address) for pattern in patterns):
                found.add((part.id, setting.document))
    if found:
        yield f"{len(found)} of the policies are assigned to groups; --assignments brings that, too."


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
        for setting in map(decode_line, snapshot.lines(part.id)):
            if not setting.is_head:
                leaf = Leaf(setting.type, setting.value)
                self.settings.setdefault(setting.document, {})[setting.address] = leaf
        own = pointer(part.policy.id)
        found = ((document, leaves.get(f"{SERVER}{own}")) for document, leaves in self.settings.items())
        self.ids = {document: leaf.value for document, leaf in found if leaf is not None}

    @property
    def titles(self) -> Titles:
        """The titles that the service has for settings."""
        titles: Titles = {}
        for document, leaves in self.settings.items():
            by_item = dict(titles_of(self.part.policy, leaves))
            found = {address: _title(address, by_item) for address in leaves}
            titles[self.part.id, document] = {address: title for address, title in found.items() if title}
        return titles


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
        other = by_id.get(old.ids.get(document, ""))
        if other is None:
            same = [name for name in sorted(left) if _content(old, document) == _content(new, name)]
            other = same[0] if len(same) == 1 else None
        if other is not None and other in left:
            left.discard(other)
            yield document, other


def _content(side: Policies, document: str) -> dict[str, Leaf]:
    out = (*side.part.volatile, *side.part.policy.assignments)
    leaves = side.settings[document].items()
    return {
        address: leaf for address, leaf in leaves if not any(matches(pattern, address) for pattern in out)
    }

"""Policies of a tenant as another has them: for whom they count, and what they are called."""

from collections.abc import Iterable, Iterator

import msgspec

from zinker.model.address import matches, pointer
from zinker.model.crosswalk import Crosswalk, Move, Replace, Rules
from zinker.model.profile import Snapshot
from zinker.model.where import Where
from zinker.stores.kinds import traits_of
from zinker.subjects.subject import Part, Subject, paths_of


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
) -> tuple[dict[tuple[str, str], str], tuple[Replace, ...]]:
    """Return the names that policies would have, and the rules for what refers to them."""
    renames: dict[tuple[str, str], str] = {}
    references: list[Replace] = []
    if not prefix and not suffix:
        return renames, ()
    policies = [p for p in subject.part if traits_of(p.store).refers and source.manifest.part(p.id)]
    for part in policies:
        for setting in source.settings(part.id):
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


def told_for_whom(parts: Iterable[Part], source: Snapshot, is_wanted: bool) -> Iterator[str]:
    """Say how many policies count for somebody in the profile, where that is not written."""
    if is_wanted:
        return
    found: set[Where] = set()
    for part in parts:
        patterns = part.policy.for_whom if source.manifest.part(part.id) else ()
        for setting in source.settings(part.id) if patterns else ():
            is_filled = setting.value not in ([], None) and setting.type != "object"
            if is_filled and any(matches(pattern, setting.address) for pattern in patterns):
                found.add(Where(part.id, setting.document))
    if found:
        yield f"{len(found)} of the policies are meant for groups; --for-whom brings that, too."

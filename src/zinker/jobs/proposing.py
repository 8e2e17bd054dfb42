"""Proposing a crosswalk from two places: what is known of both, and what their settings have in common."""

import contextlib
import re
from collections import Counter
from collections.abc import Iterator
from difflib import get_close_matches
from pathlib import Path
from typing import NamedTuple

from zinker.disk.files import write_file
from zinker.jobs.capture.live import LiveSnapshot
from zinker.jobs.capture.selection import select
from zinker.jobs.secrets.detect import holds_secret
from zinker.jobs.session import Session
from zinker.jobs.setup import Setup
from zinker.model.address import matches, tokens
from zinker.model.crosswalk import SUFFIX, Crosswalk, Move, Replace, Value, between
from zinker.model.errors import Refused, WrongUsage, reason
from zinker.model.setting import WITHHELD, Leaf
from zinker.model.system import system_kind
from zinker.places.place import Place
from zinker.subjects.subject import Subject

_Where = tuple[str, str, str]  # part, document, address
# A value this long, in characters, is hardly the same by chance.
_TELLING = 4
# A text that is another one in so many settings is proposed to be replaced everywhere.
_OFTEN = 2
_WORDS = re.compile(r"[\w-]+|[^\w-]")


class Proposal(NamedTuple):
    """What is proposed: rules that count, and settings that only differ, to decide on."""

    replaces: tuple[Replace, ...]
    moves: tuple[Move, ...]
    values: tuple[Value, ...]
    # Groups of a tenant that the other has not, with the one there of the most similar name, or "".
    groups: tuple[tuple[str, str], ...] = ()


def propose(
    setup: Setup, old: str, new: str, subjects: tuple[str, ...] = (), to: Path | None = None
) -> tuple[Path, Proposal]:
    """Write a draft of the crosswalk from one place to another; `subjects` are those to look at, all by default.

    Raises `WrongUsage` for unknown names, and `Refused` where the file is there or a place does not answer.
    """
    first, second = setup.place(old), setup.place(new)
    path = to or Path(f"{old}-to-{new}{SUFFIX}".replace("/", "-"))
    if path.exists():
        raise Refused("No crosswalk written", f"{path} is there already", "Name another file with --to.")
    known = facts(first, second)
    crosswalk = Crosswalk((*known, *between(first.own_folders(), second.own_folders())), place=new)
    chosen = [setup.catalogue.find(id) for id in subjects] if subjects else list(setup.catalogue.all())
    pairs: Counter[tuple[str, str]] = Counter()
    moves: list[Move] = []
    values: list[Value] = []
    for subject in chosen:
        here, there = _settings(setup, first, subject), _settings(setup, second, subject)
        if first.tenant() is None:  # policies of other names are others, and groups have a map of their own
            moves += _moves(here, there)
        for where, leaf in sorted(here.items()):
            other = there.get(where)
            if other is None or not isinstance(leaf.value, str) or leaf.type != other.type:
                continue
            text = _translated(crosswalk, leaf)
            if text == other.value:
                continue
            pairs[_core(text, str(other.value))] += 1
            values.append(Value(where[0], where[2], {old: leaf.value, new: other.value}, where[1]))
    often = tuple(
        Replace(one, other, "word") for (one, other), n in pairs.items() if n >= _OFTEN and one and other
    )
    rest = tuple(
        value
        for value in values
        if not _is_covered(value, old, new, Crosswalk((*crosswalk.replaces, *often)))
    )
    folders = tuple(rule for rule in between(first.own_folders(), second.own_folders()))
    proposal = Proposal((*folders, *known, *often), tuple(moves), rest, tuple(_groups(first, second)))
    try:
        write_file(path, _text(old, new, proposal).encode(), mode=None)
    except OSError as error:
        then = "Choose another folder with --to."
        raise WrongUsage("No crosswalk written", f"{path}: {reason(error)}", then) from None
    return path, proposal


def facts(old: Place, new: Place) -> tuple[Replace, ...]:
    """Return what follows from the names of user and machine; names of one letter stand for too much."""
    found: list[Replace] = []
    if old.tenant() or new.tenant():
        return ()  # a tenant's address is no name that settings would have
    if old.user and new.user and old.user != new.user and len(old.user) > 1:
        is_windows = system_kind(old.system) == "windows"
        found.append(Replace(old.user, new.user, "word", any_case=is_windows))
    if (
        old.machine
        and new.machine
        and old.machine.casefold() != new.machine.casefold()
        and len(old.machine) > 1
    ):
        found.append(Replace(old.machine.lower(), new.machine.lower(), "word", any_case=True))
    return tuple(found)


def _groups(old: Place, new: Place) -> Iterator[tuple[str, str]]:
    first, second = old.tenant(), new.tenant()
    if first is None or second is None:
        return
    there = {name.casefold(): name for name in second.people("Groups").by_name}
    for name in sorted(first.people("Groups").by_name):
        if name.casefold() not in there:
            similar = get_close_matches(name.casefold(), there, 1, 0.5)
            yield name, there[similar[0]] if similar else ""


def _settings(setup: Setup, place: Place, subject: Subject) -> dict[_Where, Leaf]:
    """Return the settings of a subject at a place, without secrets and what changes by itself."""
    found: dict[_Where, Leaf] = {}
    own = subject.application.version
    with contextlib.closing(LiveSnapshot(Session(setup, place, subject), select(subject, (), ()))) as live:
        for part in subject.part:
            for setting in live.settings(part.id):
                leaf = setting.leaf
                is_out = any(matches(pattern, setting.address) for pattern in part.volatile)
                is_out = is_out or bool(own and (own.part, own.address) == (part.id, setting.address))
                if setting.is_head or is_out or setting.type == WITHHELD:
                    continue
                if not holds_secret(part, setting.address, leaf):
                    found[part.id, setting.document, setting.address] = leaf
    return found


def _translated(crosswalk: Crosswalk, leaf: Leaf) -> str:
    from zinker.model.setting import Setting

    return str(crosswalk.translate("", Setting("", "/", leaf.type, leaf.value)).value)


def _core(one: str, other: str) -> tuple[str, str]:
    """Return what of two texts is not the same, in whole words.

    >>> _core("lights.tarnhollow.example", "lamps.tarnhollow.example")
    ('lights', 'lamps')
    """
    first, second = _WORDS.findall(one), _WORDS.findall(other)
    start = 0
    while start < min(len(first), len(second)) and first[start] == second[start]:
        start += 1
    end = 0
    most = min(len(first), len(second)) - start
    while end < most and first[len(first) - 1 - end] == second[len(second) - 1 - end]:
        end += 1
    return "".join(first[start : len(first) - end]), "".join(second[start : len(second) - end])


def _is_covered(value: Value, old: str, new: str, crosswalk: Crosswalk) -> bool:
    return _translated(crosswalk, Leaf("text", value.at[old])) == str(value.at[new])


def _moves(here: dict[_Where, Leaf], there: dict[_Where, Leaf]) -> Iterator[Move]:
    """Yield settings that seem to stand elsewhere: the same value, at an address that only one side has."""
    gone = {where: leaf for where, leaf in here.items() if where not in there}
    new = {where: leaf for where, leaf in there.items() if where not in here}
    by_value: dict[tuple[str, str], list[_Where]] = {}
    for where, leaf in new.items():
        by_value.setdefault((leaf.type, repr(leaf.value)), []).append(where)
    counts = Counter((leaf.type, repr(leaf.value)) for leaf in gone.values())
    for (part, document, address), leaf in sorted(gone.items()):
        value = (leaf.type, repr(leaf.value))
        found = [where for where in by_value.get(value, ()) if where[0] == part]
        is_alone = len(found) == 1 and counts[value] == 1 and address
        if is_alone and (len(value[1]) - 2 >= _TELLING or tokens(address)[-1] == tokens(found[0][2])[-1]):
            _, other, to = found[0]
            renamed = "" if other == document else other
            yield Move(part, address, to, document if renamed else "", "", renamed)


_HEAD = """\
# A crosswalk: how settings of {old} are to be written at {new}. docs/reference.md explains every key.
# Read it, correct it, and look at what it does: zinker import REF --place {new} --crosswalk FILE --preview
format = 1
title = "From {old} to {new}"
"""


def _text(old: str, new: str, proposal: Proposal) -> str:
    lines = [_HEAD.format(old=old, new=new)]
    if proposal.groups:
        lines.append("\n# Groups that are not there, and those of the most similar names:\n[groups]\n")
    for group, similar in proposal.groups:
        pair = f"{_toml(group)} = {_toml(similar)}\n"
        lines.append(pair if similar else f"# {pair}")
    for rule in proposal.replaces:
        lines.append(
            f"\n[[replace]]\nfrom = {_toml(rule.from_)}\nto = {_toml(rule.to)}\nkind = {_toml(rule.kind)}\n"
        )
        if rule.any_case:
            lines.append("any_case = true\n")
    if proposal.moves:
        lines.append("\n# The same values stand at other addresses:\n")
    for move in proposal.moves:
        lines.append(
            f"\n[[move]]\npart = {_toml(move.part)}\nfrom = {_toml(move.from_)}\nto = {_toml(move.to)}\n"
        )
        if move.to_document:
            lines.append(f"document = {_toml(move.document)}\nto_document = {_toml(move.to_document)}\n")
    if proposal.values:
        lines.append(
            "\n# These differ for another reason. Uncomment those of which each place is to have its own:\n"
        )
    for value in proposal.values:
        at = ", ".join(f"{_toml(place)} = {_toml(text)}" for place, text in value.at.items())
        document = f"# document = {_toml(value.document)}\n"
        lines.append(
            f"\n# [[value]]\n# part = {_toml(value.part)}\n{document}# address = {_toml(value.address)}\n"
            f"# at = {{ {at} }}\n"
        )
    return "".join(lines)


def _toml(text: object) -> str:
    """Return a text as TOML has it: as it is between single quotes where that is possible."""
    plain = str(text)
    if "'" not in plain and plain.isprintable():
        return f"'{plain}'"
    escaped = "".join(
        letter if letter.isprintable() and letter not in '"\\' else f"\\U{ord(letter):08X}"
        for letter in plain
    )
    return f'"{escaped}"'

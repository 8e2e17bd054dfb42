"""Crosswalks: loading one, making the one that an import needs, and proposing one from two places."""

from pathlib import Path
from typing import NamedTuple

from zinker.model.crosswalk import Crosswalk, Move, Rules, between
from zinker.model.errors import WrongUsage
from zinker.model.profile import Manifest
from zinker.subjects.toml_check import load

_WHAT = "Crosswalk not read"


class World(NamedTuple):
    """What a crosswalk has to know of a place: its name, its folders, and the application's version there."""

    place: str
    folders: dict[str, str]
    version: str


def load_rules(path: Path) -> Rules:
    """Read a crosswalk file; raises `WrongUsage` with file, line and key of a mistake."""
    return load(path, Rules, _WHAT)


def crosswalk_for(source: Manifest, target: World, rules: Rules | None, translate: bool = True) -> Crosswalk:
    """Make the crosswalk from where a profile is from to another place.

    The rules given come first; with `translate`, the folders of both places follow. Raises `WrongUsage` for a
    move whose version is none.
    """
    folders = between(source.folders, target.folders) if translate else ()
    if rules is None:
        return Crosswalk(folders, place=target.place)
    versions = source.application_version, target.version
    given = {
        rule.from_ for rule in rules.replace if rule.kind == "path" and not rule.parts and not rule.addresses
    }
    moves = tuple(move for one in rules.move if (move := _directed(one, *versions)) is not None)
    return Crosswalk(
        (*rules.replace, *(rule for rule in folders if rule.from_ not in given)),
        moves,
        rules.value,
        target.place,
    )


def _directed(move: Move, old: str, new: str) -> Move | None:
    """Return a move as it counts between two versions of an application: forth, back, or not at all."""
    if not move.since:
        return move
    from packaging.version import InvalidVersion, Version

    try:
        since = Version(move.since)
    except InvalidVersion:
        why = f"the move from {move.from_} has since = {move.since!r}, which is no version"
        raise WrongUsage(_WHAT, why, "Write it as in 4.0.") from None
    try:
        first, second = Version(old), Version(new)
    except InvalidVersion:
        return None
    if first < since <= second:
        return move
    if second < since <= first:
        return Move(
            move.to_part or move.part,
            move.to,
            move.from_,
            move.to_document or move.document,
            move.part,
            move.document,
            move.since,
        )
    return None

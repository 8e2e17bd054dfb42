"""What people type for a document or a setting, and what it fits: names, patterns, sections, titles."""

import re
from collections.abc import Iterable
from functools import cache, lru_cache
from itertools import islice

from zinker.model.address import folded, matches
from zinker.model.errors import WrongUsage

# Of so many names the nearest is looked for; of more, among the first.
_LOOKED_AT = 20_000
_SEPARATOR = re.compile(r"[/\\]")


@lru_cache(10_000)
def fits_document(pattern: str, document: str) -> bool:
    """Tell whether a document is meant by its name, the last of it, or that without its ending, whatever the case.

    `*` and `?` stand for other characters.

    >>> fits_document("bench-*", "devices/Bench-East.json"), fits_document("bench", "bench-east.json")
    (True, False)
    """
    last = _SEPARATOR.split(document)[-1]
    stem = last.rpartition(".")[0] or last
    return any(_glob(pattern).fullmatch(name) is not None for name in (document, last, stem))


def fits_address(text: str, address: str, title: str = "", folds_case: bool = False) -> bool:
    """Tell whether a setting is meant by its address, a pattern, a section that it is in, or its title.

    >>> fits_address("/lamps", "/lamps/north"), fits_address("north*", "/lamps/1", "North lamps: level")
    (True, True)
    """
    if title and _glob(text).fullmatch(title):
        return True
    pattern = "/" + text.strip("/")
    if folds_case:
        pattern, address = folded(pattern), folded(address)
    return matches(pattern, address) or matches(f"{pattern}/*", address)


@cache
def _glob(pattern: str) -> re.Pattern[str]:
    wild = {"*": ".*", "?": "."}
    pieces = [wild.get(piece, re.escape(piece)) for piece in re.split(r"([*?])", pattern)]
    return re.compile("".join(pieces), re.DOTALL | re.IGNORECASE)


def unknown(kind: str, name: str, known: Iterable[str], then: str) -> WrongUsage:
    """Make the error for a name that does not exist, with the nearest ones that do."""
    near = nearest(name, known)
    hint = f"Did you mean {' or '.join(near)}? {then}" if near else then
    return WrongUsage(f"No {kind} {name}", f"there is no {kind} of that name", hint)


def nearest(name: str, known: Iterable[str]) -> list[str]:
    """Return those of some names, at most three, that are most like one with a mistake in it.

    >>> nearest("mosslihgt", ["brindlepot", "Mosslight"])
    ['Mosslight']
    """
    from difflib import get_close_matches  # of use in refusals only

    lower = {one.casefold(): one for one in islice(known, _LOOKED_AT)}
    return [lower[one] for one in get_close_matches(name.casefold(), lower, n=3, cutoff=0.5)]


def place_told(name: str, machine: str = "") -> str:
    """Return what people call a place: its name and its machine; `here` is another one on every machine.

    >>> place_told("potting-shed", "PS-12"), place_told("here", "PS-12"), place_told("here/ivy")
    ('potting-shed (PS-12)', 'PS-12', 'ivy at this machine')
    """
    base, _, account = name.partition("/")
    told = machine or "this machine" if base == "here" else base
    if machine and base != "here" and machine.casefold() != base.casefold():
        told = f"{base} ({machine})"
    return f"{account} at {told}" if account else told


def home_of(place: str, machine: str) -> str:
    """Return what tells one home of settings from all others: the place, and of `here` the machine, too.

    >>> home_of("potting-shed", "PS-12"), home_of("here/ivy", "PS-12")
    ('potting-shed', 'here/ivy on PS-12')
    """
    return f"{place} on {machine}" if place.partition("/")[0] == "here" else place

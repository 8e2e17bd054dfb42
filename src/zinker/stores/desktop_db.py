"""Settings in the desktop's settings database: typed values at paths, in layers.

One subtree is one document, named by its path (`/garden/desk/`). The address of a value is its path below that.
A value is GVariant text, its type `gvariant:` and its signature. What is captured and written is the user's own
layer; beneath it lie what the organisation starts from, and what the applications themselves have as defaults.
"""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Final, Literal, Protocol

from zinker.formats import Reader
from zinker.formats.leaves import Leaves
from zinker.model.address import pointer, tokens
from zinker.model.errors import NotWritable
from zinker.model.plan import DocumentChange
from zinker.model.setting import Leaf
from zinker.stores.home import (
    MEANWHILE,
    Candidates,
    Closed,
    Home,
    New,
    NoHome,
    Offers,
    PartShape,
    SteppedWriting,
    Writing,
)
from zinker.stores.reading import Reading, StoreError, Trouble

FORMAT: Final = "desktop-db"
USER: Final = "user"
ORGANISATION: Final = "organisation"
DEFAULT: Final = "default"
Layer = Literal["user", "organisation", "default"]
BENEATH: tuple[Layer, ...] = (ORGANISATION, DEFAULT)
LOCKED: Final = "locked by the organisation"


class DatabaseError(StoreError):
    """The settings database refused something; `why` says it in plain words."""

    def __init__(self, why: str) -> None:
        super().__init__("Not done in the settings database", why, "Put that right and run this again.")


class SettingsDatabase(Protocol):
    """A desktop's settings database, live or on a disk. Every method raises `DatabaseError`."""

    def layer(self, layer: Layer, path: str) -> dict[str, Leaf]:
        """Return the values of one layer below a path (with a slash at both ends), by their whole paths."""
        ...

    def locked(self, path: str) -> set[str]:
        """Return the paths below a path that the organisation has locked."""
        ...

    def obstacle(self, key: str) -> str:
        """Say why a value cannot be written, or "" if nothing is seen to prevent it."""
        ...

    def closed(self) -> str:
        """Say why nothing at all can be written, or "" if nothing is seen to prevent it."""
        ...

    def write(self, values: Mapping[str, Leaf | None]) -> None:
        """Set values in the user's layer, or remove them there, all in one transaction."""
        ...


def settings_path(text: str) -> str:
    """Return a path of the desktop's settings database, with a slash at both ends, or "" for anything else.

    >>> settings_path("/garden/desk"), settings_path("garden"), settings_path("/")
    ('/garden/desk/', '', '/')
    """
    if not re.fullmatch(r"/|(/[^/\\]+)+/?", text):
        return ""
    return text if text.endswith("/") else f"{text}/"


class DesktopHome(Home):
    """Some subtrees of a settings database, and nothing outside them."""

    def __init__(self, database: SettingsDatabase, paths: tuple[str, ...]) -> None:
        self.database, self.paths = database, paths

    def documents(self) -> list[str]:
        """Return the subtrees in which the user has values, sorted."""
        return sorted(path for path in self.paths if self.database.layer(USER, path))

    def where(self) -> list[str]:
        """Return the subtrees, for people."""
        return list(self.paths)

    def has(self, document: str) -> bool:
        """Tell whether a subtree is there; they all are, if only without values."""
        return document in self.paths

    def unfit(self, document: str) -> str:
        """Say why a name is none of these subtrees', or ""."""
        return "" if document in self.paths else "the subject has no document of that name here"

    def format_of(self, document: str) -> str:
        """Return the one format that subtrees have."""
        return FORMAT

    def read(self, document: str) -> Reading:
        """Read the user's layer of a subtree."""
        try:
            return Reading(document, FORMAT, self._leaves(document, USER))
        except DatabaseError as error:
            return Reading(document, "", troubles=(Trouble("", error.why),))

    def layers(self, document: str) -> Iterator[tuple[str, Leaf, Layer, bool]]:
        """Yield, for every address that has a value in any layer, the one that counts, its layer, and its lock."""
        found: dict[str, tuple[Leaf, Layer]] = {}
        order: tuple[Layer, ...] = (DEFAULT, ORGANISATION, USER)
        locked = {_address(document, key) for key in self.database.locked(document)}
        for layer in order:
            for address, leaf in self._leaves(document, layer).items():
                if not (layer == USER and address in locked and address in found):
                    found[address] = (leaf, layer)
        for address in sorted(found):
            yield address, *found[address], address in locked

    def beneath(self, document: str, layer: Layer) -> Leaves:
        """Return the values of a layer beneath the user's."""
        return self._leaves(document, layer)

    def refusal(self, document: str, address: str) -> str:
        """Say why the value at an address could not be written, or ""."""
        return self.database.obstacle(_key(document, address))

    def closed(self, document: str) -> Closed | None:
        """Say why nothing at all can be written, or None."""
        why = self.database.closed()
        then = "Run this in the session of that user's desktop, or add --leave-unwritable."
        return Closed(document, why, then) if why else None

    def writing(self) -> Writing:
        """Begin to write a change: all values of a subtree in one transaction."""
        return SteppedWriting(self._write)

    def _write(self, change: DocumentChange, new: New) -> Iterator[NotWritable]:
        """Set what is as the plan saw it; raises `DatabaseError` where none of it could be set."""
        now = self._leaves(change.document, USER)
        values: dict[str, Leaf | None] = {}
        for step in new.steps():
            found = now.get(step.address)
            if new.is_as_seen(step.address, found, step.before) or found == step.after:
                values[_key(change.document, step.address)] = step.after
            else:
                yield NotWritable(step.address, MEANWHILE)
        if values:
            self.database.write(values)

    def _leaves(self, document: str, layer: Layer) -> Leaves:
        values = self.database.layer(layer, document)
        return {_address(document, key): leaf for key, leaf in values.items()}


def open_home(place: Offers, part: PartShape, candidates: Candidates, reader: Reader) -> DesktopHome:
    """Return the subtrees of a part; raises `NoHome`."""
    try:
        database = place.desktop_db()
    except DatabaseError as error:
        raise NoHome(error.why) from None
    if database is None:
        raise NoHome(f"{place.told} has no desktop settings database that can be reached")
    return DesktopHome(database, tuple(paths[0] for _, paths in candidates if paths))


def _address(document: str, key: str) -> str:
    return pointer(*key.removeprefix(document).split("/"))


def _key(document: str, address: str) -> str:
    return document + "/".join(tokens(address))


def below(path: str, values: Iterable[str]) -> Sequence[str]:
    """Return those of some keys that lie below a path."""
    return [key for key in values if key.startswith(path)]

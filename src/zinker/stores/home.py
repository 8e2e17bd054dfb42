"""The seam of all stores: a home, what it can do, and a change being written into it.

Whoever works with homes asks them, or their traits, what they can do, and never what kind they are.
"""

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, NamedTuple, Protocol

import msgspec

from zinker.model.errors import NotWritable, Refused
from zinker.model.plan import DocumentChange
from zinker.model.policy import PolicyShape
from zinker.model.setting import Leaf
from zinker.model.system import System
from zinker.stores.reading import Reading, StoreError

if TYPE_CHECKING:
    from zinker.disk.tree import Tree
    from zinker.stores.desktop_db import SettingsDatabase
    from zinker.stores.registry import Registry
    from zinker.stores.tenants.tenant import Tenant

# What is said of something that is not as the plan saw it.
MEANWHILE = "it has changed since the plan was made, so it was left alone"


class Traits(msgspec.Struct, frozen=True):
    """What all homes of a store can do."""

    # What people call one of its documents.
    noun: str = "document"
    nouns: str = "documents"
    # Documents are files: they come, go and are replaced as a whole, byte for byte.
    has_files: bool = False
    # A document that is missing can be made; one whose settings are all to go, goes.
    makes_documents: bool = False
    drops_documents: bool = False
    # Names in other case are the same.
    folds_case: bool = False
    # What the user has not set comes from layers beneath.
    has_layers: bool = False
    # What is gone is as it was before anybody set it.
    has_defaults: bool = True
    # Documents refer to each other, and are written side by side where they do not.
    refers: bool = False
    # What was cut off is taken back; else what is there is of use, and running it again does the rest.
    takes_back: bool = True
    # Documents are read ahead of their turn, as rows.
    reads_ahead: bool = False


class NoHome(Refused):
    """A part has no home at a place; `why` says the reason."""

    def __init__(self, why: str) -> None:
        super().__init__("Not reached", why)


class Closed(NamedTuple):
    """Why a document cannot be written at all: what is meant, the reason, and what to do about it.

    One that is `held` by another program can be read neither, and could be when that lets go of it.
    """

    what: str
    why: str
    then: str
    is_held: bool = False


class Changed(Refused):
    """A document is not as the plan saw it; nothing has been written over."""

    def __init__(self, document: str) -> None:
        super().__init__("Nothing changed", f"{document}: it has changed since the plan was made")


class Step(NamedTuple):
    """One setting that is written: what the plan saw there, and what it is to be; secrets are opened in `after`."""

    address: str
    before: Leaf | None
    after: Leaf | None


class New(NamedTuple):
    """What a document is to be: its bytes, or the steps that lead there.

    `seen` is what the reading said that the bytes were made from; None where there was nothing. `is_as_seen`
    tells whether what stands somewhere now is what a step has as its `before`.
    """

    content: Iterable[bytes] = ()
    steps: Callable[[], Iterable[Step]] = tuple
    seen: object = None
    mode: int | None = None
    is_as_seen: Callable[[str, Leaf | None, Leaf | None], bool] = lambda address, now, before: now == before


class Overruled(NamedTuple):
    """A setting that a policy of the place sets, so that no other value of it counts; `where` the policy stands."""

    address: str
    leaf: Leaf
    where: str


Refusals = list[tuple[DocumentChange, NotWritable]]


class Writing(ABC):
    """One change that is being written into a home."""

    @abstractmethod
    def stage(self, change: DocumentChange, new: New) -> None:
        """Prepare a document without touching it; raises `Changed`, `NotWritable` and `OSError`."""

    @abstractmethod
    def commit(self, changes: Sequence[DocumentChange]) -> Refusals:
        """Put documents that know nothing of each other in their places; returns what was refused.

        Raises `Changed` where one is not as the plan saw it, and `OSError`.
        """

    def flush(self) -> None:
        """Have all that was prepared reach the disk; raises `OSError`."""

    def settle(self) -> None:
        """Have all that was put in its place reach the disk."""

    def discard(self) -> None:
        """Forget what was prepared."""


class Home(ABC):
    """Where the documents of one part are at a place."""

    traits = Traits()

    @property
    def is_far(self) -> bool:
        """Whether it is on another machine, so that several of its documents are read and written side by side."""
        return False

    @abstractmethod
    def documents(self) -> list[str]:
        """Return the names of the documents there are, sorted; raises `OSError` and `StoreError`."""

    @abstractmethod
    def where(self) -> list[str]:
        """Return the homes, for people."""

    @abstractmethod
    def has(self, document: str) -> bool:
        """Tell whether there is a document of that name; raises `StoreError`."""

    @abstractmethod
    def unfit(self, document: str) -> str:
        """Say why there can be no document of that name, or ""; the names in a profile are hostile."""

    @abstractmethod
    def format_of(self, document: str) -> str:
        """Return the format that a document is to have, or "" where that is not known."""

    @abstractmethod
    def read(self, document: str) -> Reading:
        """Read one document; what cannot be read is said in the reading, never raised."""

    @abstractmethod
    def writing(self) -> Writing:
        """Begin to write a change."""

    def instance(self, document: str) -> str:
        """Return the instance a document belongs to, or "" if the part has none."""
        return ""

    def refusal(self, document: str, address: str) -> str:
        """Say why the setting at an address could not be written, or "" if nothing is seen to prevent it."""
        return ""

    def overruled(self, document: str) -> Iterator[Overruled]:
        """Yield what policies of the place set, whatever the document says; raises `StoreError`."""
        return iter(())

    def closed(self, document: str) -> Closed | None:
        """Say why a document could not be written at all, or None if nothing is seen to prevent it."""
        return None

    def holds(self, document: str, address: str) -> bool:
        """Tell whether there is anything beside a setting that tells of an empty key at its address."""
        return False

    def beside(self, document: str, machine: str, place: str) -> Iterator[str]:
        """Yield names under which one from another place could be kept beside a document; none where it cannot."""
        return iter(())

    def sweep(self, change: DocumentChange) -> None:
        """Remove what a run that was cut off has left of a change; raises `OSError`."""

    def rescue(self, change: DocumentChange, is_ours: Callable[[Reading], bool]) -> None:
        """Put back what a run that was cut off had just taken from its place, unless it `is_ours`."""

    def glance(self) -> dict[str, str] | None:
        """Return what tells of each document whether it has changed, without reading any; it has what tells when.

        None where only reading tells. Raises `OSError` and `StoreError`.
        """
        return None

    def expect(self, documents: Iterable[str]) -> None:
        """Begin to read some documents side by side, where that takes an answer each; raises `StoreError`."""

    def begin(self, homes: Sequence["Home"], progress: Callable[[str, int, int], None]) -> Sequence["Home"]:
        """Begin to read the documents of those homes of a place that are read side by side; returns these homes.

        Raises `StoreError`.
        """
        return [self]

    def foresee(self, documents: Iterable[str]) -> None:
        """Begin to look whether some documents can be written, where that takes an answer each."""

    def finish(self) -> None:
        """Forget what was noted in case reading was cut off: it has got through."""

    def notes(self, change: DocumentChange) -> list[str]:
        """Say what else there is to know about writing a document: what happens beside it, what guards it not."""
        return []

    # Of files alone.

    def room(self, document: str) -> tuple[object, int, str] | None:
        """Return which disk a document is, or would be, on, how many bytes are free there, and its name."""
        return None

    def missing_folders(self, document: str) -> int:
        """Count the folders that would have to be made for a document."""
        return 0

    def depth(self, document: str) -> int:
        """Count the folders between a document and the folder of its part."""
        return 0

    def leads_out(self, document: str, link: str) -> bool:
        """Tell whether a link with this target would lead out of the folder of its part."""
        return False

    def taken_for(self, document: str) -> str:
        """Return what the system takes a document's name for: of two that it takes for the same, one can be."""
        return document


class SteppedWriting(Writing):
    """A change that is written setting by setting, by `write`."""

    def __init__(self, write: Callable[[DocumentChange, New], Iterable[NotWritable]]) -> None:
        self._write = write
        self._new: dict[str, New] = {}

    def stage(self, change: DocumentChange, new: New) -> None:
        """Remember what is to be written."""
        self._new[change.document] = new

    def commit(self, changes: Sequence[DocumentChange]) -> Refusals:
        """Write the documents one after another."""
        return [
            (change, refused)
            for change in changes
            for refused in self._write(change, self._new[change.document])
        ]


class PartHome(Protocol):
    """What a subject file says of one home of a part."""

    @property
    def id(self) -> str: ...
    @property
    def format(self) -> str: ...
    @property
    def dialect(self) -> Any: ...
    @property
    def without(self) -> tuple[str, ...]: ...
    @property
    def first(self) -> str: ...
    def candidates(self, system: System) -> tuple[str, ...]: ...


class PartShape(Protocol):
    """What a subject file says of a part, as far as its home is concerned."""

    @property
    def name(self) -> str: ...
    @property
    def store(self) -> str: ...
    @property
    def view(self) -> Literal[0, 32, 64]: ...
    @property
    def policy(self) -> PolicyShape: ...
    @property
    def policies(self) -> Sequence[str]: ...
    @property
    def homes(self) -> Sequence[PartHome]: ...


class Offers(Protocol):
    """What a place offers to stores."""

    @property
    def told(self) -> str: ...
    @property
    def system(self) -> str: ...
    @property
    def top(self) -> Path | None: ...
    def tree(self) -> "Tree | None": ...
    def folder(self, variable: str) -> Path | None: ...
    def registry(self, view: Literal[0, 32, 64] = 0) -> "Registry | None": ...
    def desktop_db(self) -> "SettingsDatabase | None": ...
    def tenant(self) -> "Tenant | None": ...


# The paths or keys of each home of a part that has some under the system of a place.
Candidates = list[tuple[PartHome, tuple[str, ...]]]

__all__ = [
    "MEANWHILE",
    "Candidates",
    "Changed",
    "Closed",
    "Home",
    "New",
    "NoHome",
    "Offers",
    "Overruled",
    "PartHome",
    "PartShape",
    "Refusals",
    "Step",
    "SteppedWriting",
    "StoreError",
    "Traits",
    "Writing",
]

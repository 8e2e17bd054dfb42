"""A change: what one import, transfer, reset or undo did at one place, as it is written down on the shelf."""

import re
from typing import Literal, NamedTuple

import msgspec

from zinker.model.names import place_told
from zinker.model.plan import LeftAlone

# open: begun, not known to be finished. done: everything that was to be written is. partly: some is not, and
# is listed. taken-back: it failed or was cut off, and nothing of it is left. undone: a later change undid it.
# as-it-is: it was cut off, could not be put right, and somebody had the place left as it was.
State = Literal["open", "done", "partly", "taken-back", "undone", "as-it-is"]


_ID = re.compile(r"([1-9]\d{0,11})(?:\.([1-9]\d{0,5}))?", re.ASCII)


class ChangeId(NamedTuple):
    """What a change is called: `12`, or `12.2` for the second member of that of a round; 0 is none."""

    number: int
    member: int = 0

    def __str__(self) -> str:
        return f"{self.number}.{self.member}" if self.member else str(self.number)

    def __bool__(self) -> bool:
        return self.number > 0

    @classmethod
    def of(cls, given: "ChangeId | int | str") -> "ChangeId":
        """Take a number, or the text of one; raises `ValueError`.

        >>> ChangeId.of("12.2"), str(ChangeId.of(7))
        (ChangeId(number=12, member=2), '7')
        """
        if isinstance(given, ChangeId):
            return given
        found = _ID.fullmatch(str(given))
        if found is None:
            raise ValueError(f"{given!r} is no number of a change")
        return cls(int(found[1]), int(found[2] or 0))


NO_CHANGE = ChangeId(0)


class Change(msgspec.Struct, frozen=True):
    """One change, without its plan: the plans of its documents stand in a file of their own.

    One of a round is a `member` of it, counted from 1; the others have 0.
    """

    format: int
    number: int
    kind: Literal["import", "undo", "reset", "transfer"]
    state: State
    subject: str
    place: str
    # The machine that the place is or was: `here`, above all, is another place on every machine.
    place_machine: str
    source: str
    # Who ran Zinker, and on which machine.
    who: str
    machine: str
    started: str
    finished: str = ""
    # Version number of the profile that holds what the change found.
    fallback: int = 0
    undoes: int = 0
    undone_by: int = 0
    items: int = 0
    left: tuple[LeftAlone, ...] = ()
    # The machine whose settings were taken over, where it is another one.
    adopted_from: str = ""
    # Where the homes were that settings name, by part.
    moved: dict[str, str] = {}
    # The digest of the record of its documents, in hexadecimal; "" before format 2.
    documents_sha256: str = ""
    member: int = 0
    undoes_member: int = 0
    undone_by_member: int = 0

    @property
    def id(self) -> ChangeId:
        """What it is called."""
        return ChangeId(self.number, self.member)

    @property
    def undoes_id(self) -> ChangeId:
        """The change that it undid."""
        return ChangeId(self.undoes, self.undoes_member)

    @property
    def undone_by_id(self) -> ChangeId:
        """The change that undid it."""
        return ChangeId(self.undone_by, self.undone_by_member)

    @property
    def told_place(self) -> str:
        """What people call the place."""
        return place_told(self.place, self.place_machine)


class RoundRecord(msgspec.Struct, frozen=True):
    """What a round's change was to do: at which place and to which subject each member of it, in their order."""

    format: int
    number: int
    name: str
    kind: Literal["import", "undo", "reset", "transfer"]
    # The version asked for, the change undone, or "".
    source: str
    members: tuple[tuple[str, str], ...]
    who: str
    machine: str
    started: str

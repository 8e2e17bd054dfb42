"""A change: what one import, transfer, reset or undo did at one place, as it is written down on the shelf."""

from typing import Literal

import msgspec

from zinker.model.names import place_told
from zinker.model.plan import LeftAlone

# open: begun, not known to be finished. done: everything that was to be written is. partly: some is not, and
# is listed. taken-back: it failed or was cut off, and nothing of it is left. undone: a later change undid it.
# as-it-is: it was cut off, could not be put right, and somebody had the place left as it was.
State = Literal["open", "done", "partly", "taken-back", "undone", "as-it-is"]


class Change(msgspec.Struct, frozen=True):
    """One change, without its plan: the plans of its documents stand in a file of their own."""

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

    @property
    def told_place(self) -> str:
        """What people call the place."""
        return place_told(self.place, self.place_machine)

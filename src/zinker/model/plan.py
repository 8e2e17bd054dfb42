"""A plan: everything an import or an undo would write, and everything it would leave alone and why."""

from typing import Literal

import msgspec

from zinker.model.file_state import FileState
from zinker.model.names import place_told
from zinker.model.policy import Titles
from zinker.model.setting import Leaf
from zinker.model.where import Where

Action = Literal["create", "edit", "replace", "remove"]
# Where a setting has changed since the place was last kept: here, there (in the profile), or on both sides;
# "" where that is unknown.
Since = Literal["", "here", "there", "both"]
# Why something would be left alone:
#   device         it is bound to another device, or to this one where it is to be reset
#   withheld       a secret that the profile does not hold, where the place keeps its own
#   enter-again    the same, if there is none at the place
#   put-again      a whole file that is a secret, if there is none at the place
#   own-change     only this place has changed it since it was last kept
#   both-changed   this place and the profile have
#   skipped        something else is there, and was to stay
#   changed-since  somebody has changed it after the plan was made, or after the change to be undone
#   unreadable     what is there, or what the profile has, could not be read, so nothing follows
#   no-home        the place has no home for it, or the subject none of that name
#   unfit          the home, the format or the other document there cannot take it
#   refused        the home did not let it be written
#   not-as-written it was written, and read back otherwise
#   cut-off        the run ended before it was written
Reason = Literal[
    "",
    "device",
    "withheld",
    "enter-again",
    "put-again",
    "own-change",
    "both-changed",
    "skipped",
    "changed-since",
    "unreadable",
    "no-home",
    "unfit",
    "refused",
    "not-as-written",
    "cut-off",
]


class SettingChange(msgspec.Struct, frozen=True, omit_defaults=True):
    """One setting that would change. `translated` is the value in the profile, where it was translated.

    `beneath` is what counts when the user's own value is gone, where a store has layers; `kept` is the value
    when the place was last kept, where `since` tells who has changed it after that; `moved_from` is the address
    in the profile, where that is another one. `counts` is what a policy of the place sets instead, and `counts_by`
    where that stands. The address is never "": what happens to a document as a whole is
    said by its change.
    """

    address: str
    before: Leaf | None
    after: Leaf | None
    translated: Leaf | None = None
    beneath: Leaf | None = None
    since: Since = ""
    kept: Leaf | None = None
    moved_from: str = ""
    counts: Leaf | None = None
    counts_by: str = ""

    @property
    def word(self) -> str:
        """What would happen to the setting: `new`, `changed` or `gone`."""
        if self.before is None:
            return "new"
        return "gone" if self.after is None else "changed"


class DocumentChange(msgspec.Struct, frozen=True, omit_defaults=True):
    """What would happen to one document: it is made, edited setting by setting, replaced as a whole, or goes.

    `before` and `after` are its states as a file, as the plan found it and as it would be; None where there is
    no such document, or where the store has no files. `source` is the attachment that a created or replaced
    file starts from, and `new_folders` counts the folders that would have to be made for it, or that go with
    it. `origin` is its name in the source, where that is another one; `led` is the path that links lead to.
    `since` and `kept` are those of a document that comes, goes or is replaced without settings of its own.
    """

    part: str
    document: str
    action: Action
    items: tuple[SettingChange, ...] = ()
    before: FileState | None = None
    after: FileState | None = None
    source: str = ""
    new_folders: int = 0
    origin: str = ""
    led: str = ""
    since: Since = ""
    kept: FileState | None = None

    @property
    def where(self) -> Where:
        """Which document of which part it is."""
        return Where(self.part, self.document)

    @property
    def is_whole(self) -> bool:
        """Whether it happens to the document as a whole."""
        return self.action != "edit"

    @property
    def count(self) -> int:
        """How many settings would be written or removed; a document without any counts as one."""
        return len(self.items) or int(self.is_whole)

    @property
    def word(self) -> str:
        """What would happen to the document: `new`, `changed` or `gone`."""
        return {"create": "new", "remove": "gone"}.get(self.action, "changed")


class LeftAlone(msgspec.Struct, frozen=True):
    """Something that would not be written, and why: in words, and as a `reason` for programs.

    `wanted` tells whether the user asked for it.
    """

    part: str
    document: str
    address: str
    why: str
    wanted: bool = True
    reason: Reason = ""

    @property
    def where(self) -> Where:
        """What is left alone."""
        return Where(self.part, self.document, self.address)


class Objection(msgspec.Struct, frozen=True):
    """A reason against carrying a plan out, what to do about it, and the option that overrules it."""

    why: str
    then: str
    option: str = ""


class Plan(msgspec.Struct, frozen=True):
    """The whole plan; `source` says in words where the values come from, `origin` names that version."""

    subject: str
    title: str
    place: str
    source: str
    documents: tuple[DocumentChange, ...]
    left: tuple[LeftAlone, ...] = ()
    alike: int = 0
    translations: tuple[tuple[str, str], ...] = ()
    # Why it would not be carried out as things stand, each with what to do about it.
    objections: tuple[Objection, ...] = ()
    # The digest of each part's settings as the plan found them: it is carried out on these or not at all.
    seen: dict[str, str] = {}
    # The last kept version of the place, which the plan was held against; "" if there is none.
    base: str = ""
    # What has to be known before, but speaks against nothing.
    remarks: tuple[str, ...] = ()
    # Whether others depend on the place.
    is_production: bool = False
    # The machine whose profile would be taken over, where it is another one.
    adopted_from: str = ""
    # What a service calls the settings of its policies.
    titles: Titles = {}
    # About how many bytes the fallback would take.
    fallback_size: int = 0
    origin: str = ""
    # How many settings and whole documents only the place has; they stay, and `--exact` would remove them.
    only_here: int = 0
    machine: str = ""
    # When the source was captured, how many newer ones are kept, and the application's version then and here.
    captured: str = ""
    newer: int = 0
    versions: tuple[str, str] = ("", "")

    @property
    def told_place(self) -> str:
        """What people call the place."""
        return place_told(self.place, self.machine)

    @property
    def production(self) -> tuple[str, ...]:
        """The place, if others depend on it."""
        return (self.place,) if self.is_production else ()

    @property
    def count(self) -> int:
        """How many settings and whole documents would be written or removed."""
        return sum(document.count for document in self.documents)

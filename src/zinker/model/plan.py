"""A plan: everything an import or an undo would write, and everything it would leave alone and why."""

from typing import Literal

import msgspec

from zinker.model.setting import Leaf

Action = Literal["create", "edit", "replace", "remove"]


class PlanItem(msgspec.Struct, frozen=True):
    """One setting that would change. `translated` is the value in the profile, where it was translated.

    `beneath` is what counts when the user's own value is gone, where a store has layers.
    """

    address: str
    before: Leaf | None
    after: Leaf | None
    translated: Leaf | None = None
    beneath: Leaf | None = None

    @property
    def word(self) -> str:
        """What would happen to the setting: `new`, `changed` or `gone`."""
        if self.before is None:
            return "new"
        return "gone" if self.after is None else "changed"


class DocumentPlan(msgspec.Struct, frozen=True):
    """What would happen to one document.

    `expected` is the digest of the document as the plan found it, `result` that of the document it would
    leave (stamps, see `model.setting`); both are "" where there is none, or where the store has no digests, and
    are those of the content without its withheld secrets. `source` is the attachment that a created or replaced
    file starts from, and `new_folders` counts the folders that would have to be made for it.
    """

    part: str
    document: str
    action: Action
    items: tuple[PlanItem, ...]
    expected: str = ""
    result: str = ""
    source: str = ""
    format: str = ""
    new_folders: int = 0
    # What the file is to be besides its content: its `mode`, or a `link` or an empty `folder` instead.
    about: dict[str, str | bool] = {}


class LeftAlone(msgspec.Struct, frozen=True):
    """Something that would not be written, and why. `wanted` tells whether the user asked for it."""

    part: str
    document: str
    address: str
    why: str
    wanted: bool = True


class Objection(msgspec.Struct, frozen=True):
    """A reason against carrying a plan out, and what to do about it."""

    why: str
    then: str


class Plan(msgspec.Struct, frozen=True):
    """The whole plan; `source` says in words where the values come from."""

    subject: str
    title: str
    place: str
    source: str
    documents: tuple[DocumentPlan, ...]
    left: tuple[LeftAlone, ...] = ()
    alike: int = 0
    translations: tuple[tuple[str, str], ...] = ()
    # Why it would not be carried out as things stand, each with what to do about it.
    objections: tuple[Objection, ...] = ()
    # The digest of each part's settings as the plan found them: it is carried out on these or not at all.
    seen: dict[str, str] = {}

    @property
    def count(self) -> int:
        """How many settings and whole files would be written or removed."""
        return sum(len(document.items) for document in self.documents)

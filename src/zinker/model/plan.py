"""A plan: everything an import or an undo would write, and everything it would leave alone and why."""

from typing import Literal

import msgspec

from zinker.model.policy import Titles
from zinker.model.setting import Leaf

Action = Literal["create", "edit", "replace", "remove"]
# Where a setting has changed since the place was last kept: here, there (in the profile), or on both sides;
# "" where nobody knows.
Since = Literal["", "here", "there", "both"]


class PlanItem(msgspec.Struct, frozen=True, omit_defaults=True):
    """One setting that would change. `translated` is the value in the profile, where it was translated.

    `beneath` is what counts when the user's own value is gone, where a store has layers; `kept` is the value
    when the place was last kept, where `since` tells who has changed it after that; `moved_from` is the address
    in the profile, where that is another one.
    """

    address: str
    before: Leaf | None
    after: Leaf | None
    translated: Leaf | None = None
    beneath: Leaf | None = None
    since: Since = ""
    kept: Leaf | None = None
    moved_from: str = ""

    @property
    def word(self) -> str:
        """What would happen to the setting: `new`, `changed` or `gone`."""
        if self.before is None:
            return "new"
        return "gone" if self.after is None else "changed"


class DocumentPlan(msgspec.Struct, frozen=True, omit_defaults=True):
    """What would happen to one document.

    `expected` is the digest of the document as the plan found it, `result` that of the document it would
    leave (stamps, see `model.setting`); both are "" where there is none, or where the store has no digests, and
    are those of the content without its withheld secrets. `source` is the attachment that a created or replaced
    file starts from, and `new_folders` counts the folders that would have to be made for it. `origin` is its
    name in the source, where that is another one, and `size` the bytes of the new file.
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
    origin: str = ""
    size: int = 0
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
    """A reason against carrying a plan out, what to do about it, and the option that overrules it."""

    why: str
    then: str
    option: str = ""


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
    # The last kept version of the place, which the plan was held against; "" where there is none.
    base: str = ""
    # What has to be known before, but speaks against nothing.
    remarks: tuple[str, ...] = ()
    # Whether others depend on the place.
    live: bool = False
    # The machine whose profile would be taken over, where it is another one.
    adopted_from: str = ""
    # What a service calls the settings of its policies.
    titles: Titles = {}
    # About how many bytes the fallback would take.
    fallback_size: int = 0

    @property
    def count(self) -> int:
        """How many settings and whole files would be written or removed."""
        return sum(len(document.items) for document in self.documents)

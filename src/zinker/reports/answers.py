"""What `--json` writes, command by command, as types: docs/answers has them as JSON Schemas.

What reports make of the result of a job has a type here; a result that is written as it is has its own. The tests
hold every answer that they get against its schema, with nothing more in it: what is said here is what is written.
"""

from collections.abc import Iterator
from typing import Any, Final

from msgspec import Struct

from zinker.jobs.copying import Copies
from zinker.jobs.exporting import Room
from zinker.jobs.finding import PlaceState, SubjectState
from zinker.jobs.schedule.record import Ran, Run
from zinker.jobs.sealing import SealKey, Seals
from zinker.model.change import Change, RoundRecord
from zinker.model.crosswalk import Move, Replace, Rules
from zinker.model.crosswalk import Value as OwnValue
from zinker.model.file_state import FileState
from zinker.model.plain_json import schema_of
from zinker.model.plan import LeftAlone, Objection
from zinker.model.policy import LastChange
from zinker.model.profile import Manifest, Problem
from zinker.shelf.verifying import Tally
from zinker.shelf.versions import Version


class Reason(Struct, frozen=True):
    """What was refused or failed, why, and what to do next; `code` is the exit code it would have by itself."""

    what: str
    why: str
    then: str
    code: int = 0


class Error(Struct, frozen=True):
    """What every command writes where nothing came of it."""

    error: Reason


class Value(Struct, frozen=True):
    """A typed value (docs/profile.md)."""

    type: str
    value: Any


class Told(Struct, frozen=True):
    """Something, and why."""

    what: str
    why: str


class Setting(Struct, frozen=True):
    """A setting, where it stands, what people call it, which layer it is from, and by which rule it is a secret."""

    part: str
    document: str
    address: str
    title: str
    type: str
    value: Any
    rule: str = ""
    layer: str = ""


class Settings(Struct, frozen=True):
    """The settings of a profile or at a place."""

    source: str
    profile: Manifest
    settings: list[Setting]


class Difference(Struct, frozen=True):
    """What happened to a setting, to a whole document where the address is "".

    `change` is the one that wrote it, `by` whom and when; `was_called` is a policy's name before.
    """

    what: str
    part: str
    document: str
    address: str
    title: str
    before: Value | None
    after: Value | None
    was_called: str = ""
    last_changed: LastChange | None = None
    change: int = 0
    by: str = ""
    at: str = ""


class Comparison(Struct, frozen=True):
    """What is not the same on two sides; `place` where several are compared."""

    subject: str
    before: str
    after: str
    alike: int
    differences: list[Difference]
    not_compared: list[Problem]
    on_one_side_only: list[str]
    not_asked_for: int = 0
    changes: list[Change] = []
    place: str = ""


class Period(Struct, frozen=True):
    """What is not the same on two sides, of several subjects or places."""

    before: str
    after: str
    comparisons: list[Comparison]
    left: list[Told]


class Documented(Struct, frozen=True):
    """A member of a round that was written down, or why it could not be."""

    source: str = ""
    profile: Manifest | None = None
    settings: list[Setting] = []
    place: str = ""
    subject: str = ""
    why: str = ""


class Lost(Struct, frozen=True):
    """A part of which most has gone since the version before."""

    title: str
    gone: int
    held: int


class Kept(Struct, frozen=True):
    """What came of an export: a version or a file, or why there is none.

    `named` is what of a profile for others somebody may want to look at.
    """

    place: str
    subject: str
    reference: str = ""
    path: str = ""
    profile: Manifest | None = None
    room: Room | None = None
    lost: list[Lost] = []
    unchanged: bool = False
    named: list[Problem] = []
    error: Reason | None = None


class KeptVersion(Version, frozen=True, kw_only=True):
    """A version on the shelf; `stale` in lists."""

    reference: str
    stale: bool = False


class Going(Version, frozen=True, kw_only=True):
    """A version that is thinned out, or would be."""

    reference: str
    why: str


class Thinned(Struct, frozen=True):
    """What is thinned out, or would be; sizes in bytes."""

    going: list[Going]
    stays: int
    frees: int
    freed: int
    is_done: bool
    why: str
    has_rules: bool


class Differs(Struct, frozen=True):
    """A file of a profile folder that is not as `profile.json` says."""

    member: str
    why: str


class Checked(Tally, kw_only=True):
    """What was looked at, and what of it is damaged, or differs in a profile folder."""

    name: str
    differs: list[Differs]
    accepted: bool


class SettingWritten(Struct, frozen=True):
    """A setting that would be, or was, written: its value before and after, and in the profile."""

    what: str
    address: str
    before: Value | None
    after: Value | None
    in_profile: Value | None
    since: str = ""
    kept: Value | None = None
    moved_from: str = ""
    counts: Value | None = None
    by: str = ""
    beneath: Value | None = None


class DocumentWritten(Struct, frozen=True):
    """What would be, or was, done to a document."""

    part: str
    document: str
    action: str
    settings: list[SettingWritten]
    before: FileState | None = None
    after: FileState | None = None
    origin: str = ""
    since: str = ""
    kept: FileState | None = None


class Translation(Struct, frozen=True, rename={"old": "from", "new": "to"}):
    """A text that is another one at the place."""

    old: str
    new: str


class Outcome(Struct, frozen=True):
    """A plan, and what came of it."""

    state: str
    subject: str
    place: str
    source: str
    settings: int
    alike: int
    only_here: int
    plan: list[DocumentWritten]
    left: list[LeftAlone]
    objections: list[Objection]
    last_kept: str
    translations: list[Translation]
    remarks: list[str]
    afterwards: list[str]
    change: Change | None


class Member(Struct, frozen=True):
    """A member of a round's change: an outcome, or an error."""

    id: str
    place: str
    subject: str
    state: str
    error: Reason | None = None
    source: str = ""
    settings: int = 0
    alike: int = 0
    only_here: int = 0
    plan: list[DocumentWritten] = []
    left: list[LeftAlone] = []
    objections: list[Objection] = []
    last_kept: str = ""
    translations: list[Translation] = []
    remarks: list[str] = []
    afterwards: list[str] = []
    change: Change | None = None


class Together(Struct, frozen=True):
    """The plans of a round, and what came of them."""

    name: str
    kind: str
    source: str
    number: int | None
    members: list[Member]


class Undoable(Change, frozen=True, kw_only=True):
    """A change in the record, and whether it can be undone as far as the shelf goes."""

    undoable: bool


class Closed(Struct, frozen=True):
    """A change that was closed as it is."""

    change: Change


class Written(Struct, frozen=True):
    """A change with everything that it wrote."""

    change: Change
    written: list[DocumentWritten]


class RoundWritten(Struct, frozen=True):
    """A round's change with everything that its members wrote."""

    round: RoundRecord
    members: list[Written]


class Step(Struct, frozen=True):
    """What changed from one version to the next."""

    before: str
    after: str
    captured: str
    place: str
    counts: dict[str, int]
    changes: list[int]
    settings: list[Difference]


class Constant(Struct, frozen=True):
    """A setting that never changed."""

    version: str
    part: str
    document: str
    address: str
    type: str
    value: Any


class NotRead(Struct, frozen=True):
    """A version that could not be read."""

    version: str
    why: str


class History(Struct, frozen=True):
    """When settings changed, over all kept versions."""

    subject: str
    versions: list[str]
    steps: list[Step]
    constant: list[Constant]
    not_read: list[NotRead]


class Cell(Struct, frozen=True):
    """How a subject stands at a place."""

    place: str
    subject: str
    state: str
    newest: str
    known: str
    changed: int | None
    drift: int | None
    why: str
    right: bool


class OddSetting(Struct, frozen=True):
    """A setting that is not as at most places."""

    part: str
    document: str
    address: str
    usual: Value | None
    own: Value | None
    share: tuple[int, int]


class Odd(Struct, frozen=True):
    """A place that is not like most others."""

    subject: str
    place: str
    version: str
    count: int
    settings: list[OddSetting]


class Survey(Struct, frozen=True):
    """Places and subjects, and what is odd."""

    right: bool
    against: str
    cells: list[Cell]
    odd: list[Odd]


class Spotted(Struct, frozen=True):
    """What a change in the application touched, and what changed by itself."""

    subject: str
    place: str
    touched: list[Difference]
    noise: list[Difference]
    not_watched: list[Problem]
    kept: str
    not_kept: list[str]
    draft: str


class Key(SealKey, frozen=True, kw_only=True):
    """A key of a sealed shelf."""

    in_use: bool


class Keys(Seals, frozen=True, kw_only=True):
    """The keys of a shelf."""

    keys: tuple[Key, ...]


class Shown(Struct, frozen=True):
    """A file of a timer, or a command that is given to one."""

    where: str
    text: str


class Planned(Struct, frozen=True):
    """A schedule that would be, or was, added."""

    format: int
    round: str
    when: str
    system: str
    added: str
    shown: list[Shown]
    lacking: list[str]
    advice: str
    is_done: bool
    thin: bool = False
    on_battery: bool = False


class Listed(Struct, frozen=True):
    """A schedule, and how its last run went."""

    round: str
    when: str
    is_started: bool | None
    next: str
    trouble: str
    log: str
    last: Run | None
    format: int = 1
    system: str = ""
    added: str = ""
    thin: bool = False
    on_battery: bool = False


class Unscheduled(Struct, frozen=True):
    """A round that is not captured regularly any more, and when it was, or ""."""

    round: str
    when: str


class PassedOver(Struct, frozen=True):
    """A file or folder that a draft leaves out, how many files that are, and why."""

    path: str
    files: int
    why: str


class DraftedPart(Struct, frozen=True):
    """A part of a draft, and how much there is of it."""

    id: str
    store: str
    path: str
    format: str
    documents: int
    settings: int
    secret: list[str]
    volatile: list[str]
    device_bound: bool
    left_out: list[PassedOver]


class Drafted(Struct, frozen=True):
    """A draft of a subject file that was written, and the programs of it that were seen to run."""

    file: str
    processes: list[str]
    parts: list[DraftedPart]


class Mistakes(Struct, frozen=True):
    """What is wrong with a subject file."""

    file: str
    mistakes: list[str]


class Proposed(Struct, frozen=True):
    """A crosswalk that was proposed."""

    file: str
    replaces: list[Replace]
    moves: list[Move]
    values: list[OwnValue]
    groups: list[tuple[str, str]]


_CHANGED: Final = (Outcome, Together)
# What each command may write, besides an error.
ANSWERS: Final[dict[str, tuple[Any, ...]]] = {
    "subjects": (list[SubjectState],),
    "subjects show": (list[SubjectState],),
    "subjects new": (Drafted,),
    "subjects check": (Mistakes,),
    "places": (list[PlaceState],),
    "show": (Settings,),
    "compare": (Comparison, Period),
    "document": (Settings, list[Documented]),
    "survey": (Survey,),
    "spot": (Spotted,),
    "export": (list[Kept],),
    "list": (list[KeptVersion],),
    "history": (History,),
    "label": (KeptVersion,),
    "thin": (Thinned,),
    "check": (Checked,),
    "copy": (Copies,),
    "seal": (Keys,),
    "seal add": (Keys,),
    "seal remove": (Keys,),
    "schedule": (list[Listed],),
    "schedule list": (list[Listed],),
    "schedule add": (Planned,),
    "schedule remove": (Unscheduled,),
    "schedule run": (Ran,),
    "import": _CHANGED,
    "transfer": _CHANGED,
    "reset": _CHANGED,
    "undo": (*_CHANGED, Closed),
    "crosswalk new": (Proposed,),
    "crosswalk check": (Rules,),
    "changes": (list[Undoable], Written, RoundWritten),
}


def schemas() -> Iterator[tuple[str, dict[str, Any]]]:
    """Yield the JSON Schema of what each command writes with `--json`."""
    for command, kinds in ANSWERS.items():
        yield command, schema_of(kinds[0], f"zinker {command} --json", *kinds[1:], Error)

"""Carrying out a plan: fallback, journal, write, read back, close. The only code that changes a place."""

import contextlib
import datetime
from collections.abc import Callable
from concurrent.futures import wait
from functools import partial
from typing import Literal

import msgspec

from zinker.formats.leaves import Edit
from zinker.jobs.afterwards import what_now
from zinker.jobs.capturing import Progress, Selection, capture, no_progress
from zinker.jobs.documents import new_content, opened
from zinker.jobs.homes import Home, expect, open_home
from zinker.jobs.policies import waves
from zinker.jobs.setup import Setup
from zinker.jobs.withholding import Withholder
from zinker.model.address import folded
from zinker.model.change import Change
from zinker.model.errors import Damaged, Failed, NotWritable, Refused, ZinkerError, reason
from zinker.model.plan import DocumentPlan, LeftAlone, Plan
from zinker.model.profile import Manifest, Snapshot
from zinker.model.setting import WHOLE, WITHHELD, Leaf, alike, is_secret_file
from zinker.places.folder import technician
from zinker.places.here import Here
from zinker.places.place import Place
from zinker.profiles.writing import ProfileBuilder
from zinker.shelf.changes import FORMAT
from zinker.stores.atomic import flush_files, flush_folder
from zinker.stores.files import FileHome, StagedFile
from zinker.subjects.subject import Part, Subject

Kind = Literal["import", "undo", "reset", "transfer"]
Approve = Callable[[Plan], bool]


class Outcome(msgspec.Struct, frozen=True):
    """How an import or an undo ended.

    state: `previewed` and `declined` (nothing was changed), `alike` (nothing had to be), `done`, or `partly`
    (some of what was wanted was not written; `left` says what and why).
    """

    state: Literal["previewed", "declined", "alike", "done", "partly"]
    plan: Plan
    change: Change | None = None
    left: tuple[LeftAlone, ...] = ()
    # What is left for the user to do, in words.
    afterwards: tuple[str, ...] = ()

    @property
    def is_complete(self) -> bool:
        """Whether nothing that was wanted is left undone."""
        return not any(item.wanted for item in self.left)


class Work(msgspec.Struct, frozen=True):
    """Where a plan is carried out, and with what."""

    setup: Setup
    place: Place
    subject: Subject
    source: Snapshot
    homes: dict[str, Home] = {}  # those opened so far, by part

    def part(self, plan: DocumentPlan) -> Part:
        """Return the part of a document; plans are made for parts the subject has."""
        part = self.subject.find_part(plan.part)
        if part is None:
            raise Refused("Nothing changed", f"{self.subject.id} has no part {plan.part} any more")
        return part

    def home(self, plan: DocumentPlan) -> Home:
        """Return the home of a document."""
        if plan.part not in self.homes:
            self.homes[plan.part] = open_home(self.place, self.part(plan))
        return self.homes[plan.part]


def without_writing(plan: Plan, what: str, preview: bool, approve: Approve) -> Outcome | None:
    """Return how it ends if nothing is to be written; None where the plan is to be carried out.

    Raises `Refused`, with `what` as its head, where something speaks against that.
    """
    if preview:
        return Outcome("previewed", plan, left=plan.left)
    if not plan.documents:
        return Outcome("alike", plan, left=plan.left)
    if plan.objections:
        first, *others = plan.objections
        also = "".join(f"\nAnd: {other.why}\n{other.then}" for other in others)
        raise Refused(what, first.why, first.then + also)
    return None if approve(plan) else Outcome("declined", plan, left=plan.left)


def carry_out(
    work: Work,
    plan: Plan,
    kind: Kind,
    undoes: int = 0,
    progress: Progress = no_progress,
) -> Outcome:
    """Carry out a plan, as it was shown, or not at all.

    Raises `Refused` where nothing was changed, and `Failed` where it failed and was taken back.
    """
    changes = work.setup.shelf.changes
    number = changes.reserve()
    fallback = _keep_fallback(work, plan, number)
    change = Change(
        format=FORMAT,
        number=number,
        kind=kind,
        state="open",
        subject=plan.subject,
        place=plan.place,
        place_machine=work.place.machine,
        source=plan.source,
        who=technician(),
        machine=Here().machine,
        started=_now(),
        fallback=fallback,
        undoes=undoes,
        items=plan.count,
        adopted_from=plan.adopted_from,
    )
    changes.begin(change, plan.documents)
    try:
        staged = _stage(work, plan.documents)
    except BaseException as error:  # also an interrupt: nothing is in its place yet
        with contextlib.suppress(OSError):  # it stays open, then, and the next run sweeps and closes
            sweep(work, plan.documents)
            changes.close(_ended(change, "taken-back"))
        if not isinstance(error, OSError | ZinkerError | NotWritable):
            raise
        why = reason(error) if isinstance(error, OSError) else error.why
        kind_of = Damaged if isinstance(error, Damaged) else Refused
        raise kind_of(
            f"Not {_past(kind)}", why, "Nothing was changed. Put that right and run it again."
        ) from None
    try:
        left = list(plan.left) + _commit(work, plan.documents, staged, progress)
        left += read_back(work, plan.documents, left)
        state: Literal["done", "partly"] = "partly" if any(item.wanted for item in left) else "done"
        ended = _ended(change, state, tuple(left))
        changes.close(ended)
    except BaseException as error:  # also an interrupt: what was begun is taken back first
        _fail(work, change, plan.documents, error)
        raise
    now = what_now(work.place, work.subject, plan, tuple(left))
    return Outcome(state, plan, ended, tuple(left), now if kind != "undo" else ())


def _keep_fallback(work: Work, plan: Plan, number: int) -> int:
    """Put what the plan would touch on the shelf; returns the version number.

    Raises `Refused` if the place is not as the plan found it.
    """
    touched = {document.part for document in plan.documents}
    parts = tuple(part for part in work.subject.part if part.id in touched)

    def build(builder: ProfileBuilder) -> Manifest:
        manifest = capture(work.setup, work.place, work.subject, Selection(parts), builder, is_fallback=True)
        if any(part.sha256 != plan.seen.get(part.id) for part in manifest.parts):
            why = f"the settings at {plan.place} have changed since the plan was made"
            raise Refused("Nothing changed", why, "Run it again to see the plan as it is now.")
        manifest = msgspec.structs.replace(manifest, fallback_of=number, note=f"before {plan.source}")
        builder.finish(manifest)
        return manifest

    shelf = work.setup.shelf
    version = shelf.keep(plan.subject, build)
    with contextlib.closing(shelf.open(version)) as fallback:
        fallback.verify()  # what the disk has taken in bad order is of no use later
    return version.number


def _stage(work: Work, documents: tuple[DocumentPlan, ...]) -> dict[tuple[str, str], StagedFile]:
    """Write the new content of every file beside it; on any error nothing is left of that."""
    staged: dict[tuple[str, str], StagedFile] = {}
    try:
        for plan in documents:
            home = work.home(plan)
            if isinstance(home, FileHome) and plan.action != "remove":
                staged[plan.part, plan.document] = _staged(work, home, plan)
        # All at once: one by one takes many times as long.
        flush_files([file.path for file in staged.values()])
    except BaseException:
        for file in reversed(staged.values()):
            file.discard()
        raise
    return staged


def _staged(work: Work, home: FileHome, plan: DocumentPlan) -> StagedFile:
    if "link" in plan.about:
        return home.stage_link(plan.document, str(plan.about["link"]))
    if plan.about.get("folder"):
        return home.stage_folder(plan.document)
    live = home.read(plan.document) if plan.expected else None
    chunks = new_content(work.part(plan), plan, live, work.source)
    mode = plan.about.get("mode") or ("600" if is_secret_file(plan.about) else None)
    return home.stage(plan.document, chunks, int(str(mode), 8) & 0o777 if mode else None)


def _commit(
    work: Work,
    documents: tuple[DocumentPlan, ...],
    staged: dict[tuple[str, str], StagedFile],
    progress: Progress,
) -> list[LeftAlone]:
    """Put the files in their places, then the values into the registry; returns what was refused."""
    left: list[LeftAlone] = []
    written: list[StagedFile] = []
    done = 0
    for wave in waves(work.subject, documents):
        progress("Writing", done, len(documents))
        done += len(wave)
        home = work.home(wave[0])
        if not isinstance(home, FileHome):
            left += _applied_together(work, wave)
            continue
        for plan in wave:
            if plan.action == "remove":
                home.remove(plan.document, plan.new_folders)
            else:
                written.append(staged[plan.part, plan.document])
                written[-1].commit()
    for folder in {file.target.parent for file in written}:
        flush_folder(folder)
    return left


def _applied_together(work: Work, wave: list[DocumentPlan]) -> list[LeftAlone]:
    """Apply plans, side by side where the place answers so; returns what was refused."""
    tenant = work.place.tenant()
    if tenant is None:
        return [refused for plan in wave for refused in _applied(work, plan)]
    for plan in wave:
        work.home(plan)
    running = [tenant.api.submit(partial(_applied, work, plan)) for plan in wave]
    try:
        return [refused for future in running for refused in future.result()]
    finally:  # also when interrupted: nothing is under way when it is taken back
        for future in running:
            future.cancel()
        wait(running)


def _applied(work: Work, plan: DocumentPlan) -> list[LeftAlone]:
    home = work.home(plan)
    assert not isinstance(home, FileHome)  # noqa: S101 - files are staged and committed
    edits = (Edit(item.address, opened(item, plan, work.source)) for item in plan.items)
    refused = home.apply(plan.document, edits)
    return [LeftAlone(plan.part, plan.document, error.address, error.why) for error in refused]


def sweep(work: Work, documents: tuple[DocumentPlan, ...]) -> None:
    """Remove what was staged and not put in its place; raises `OSError`."""
    for plan in documents:
        home = work.home(plan)
        if isinstance(home, FileHome):
            home.sweep(plan.document, plan.new_folders)


def write_again(work: Work, documents: tuple[DocumentPlan, ...]) -> list[LeftAlone]:
    """Stage and commit without a journal of its own, for taking back what a journal holds already."""
    return _commit(work, documents, _stage(work, documents), no_progress)


def read_back(work: Work, documents: tuple[DocumentPlan, ...], refused: list[LeftAlone]) -> list[LeftAlone]:
    """Read everything again and return what is not as it was to be, apart from what was refused."""
    withholder = Withholder(work.setup.home)
    known = {(item.part, item.document, item.address) for item in refused}
    found: list[LeftAlone] = []
    expect(work.place, documents, work.home)
    for plan in documents:
        part, home = work.part(plan), work.home(plan)
        if plan.action == "remove":
            if home.has(plan.document):
                found.append(LeftAlone(plan.part, plan.document, "", "it is still there"))
            continue
        reading = withholder.withhold(part, home.read(plan.document))
        items = plan.items
        if plan.result:
            if alike(reading.stamp, plan.result):
                # A stamp says nothing about secrets, which are compared by their fingerprints.
                items = tuple(
                    item for item in items if item.after is not None and item.after.type == WITHHELD
                )
            elif not reading.stamp or plan.format == WHOLE:
                why = _why_otherwise(reading.stamp, plan.result)
                found.append(LeftAlone(plan.part, plan.document, "", why))
                continue
        # In a registry the case of names does not count.
        fold = folded if part.store == "registry" else str
        emptied = _emptied(plan) if part.store == "registry" else {}
        leaves = reading.leaves_at([*(item.address for item in items), *emptied], fold)
        for key, address in emptied.items():
            if leaves.get(fold(key)) == Leaf("key", None):
                found.append(LeftAlone(plan.part, plan.document, address, "its key is still there, empty"))
        for item in items:
            if item.address and leaves.get(fold(item.address)) != item.after:
                why = "read back, it does not have the value that was written"
                found.append(LeftAlone(plan.part, plan.document, item.address, why))
    return [item for item in found if (item.part, item.document, item.address) not in known]


def _emptied(plan: DocumentPlan) -> dict[str, str]:
    """Return the keys that values are taken out of, each with one such value; what is to stay empty is left out."""
    gone = (item.address for item in plan.items if item.after is None and item.address)
    keys = {f"{address.rpartition('/')[0]}/": address for address in gone}
    kept = {item.address for item in plan.items if item.after is not None}
    return {key: address for key, address in keys.items() if key not in kept and len(key) > 1}


def _why_otherwise(stamp: str, wanted: str) -> str:
    """Say in what a file that was read back is not as it was to be."""
    content, _, mode = stamp.partition(":")
    if content and content == wanted.partition(":")[0] and content != "link":
        return f"read back, its permissions are {mode}, not {wanted.partition(':')[2]}"
    return "read back, it is another file" if stamp else "it cannot be read back"


def _fail(work: Work, change: Change, documents: tuple[DocumentPlan, ...], error: BaseException) -> None:
    """Take back what was done and raise `Failed`; where even that fails, the journal stays open."""
    from zinker.jobs.recovering import take_back

    what = f"Not {_past(change.kind)}"
    why = reason(error) if isinstance(error, OSError) else getattr(error, "why", "") or str(error)
    try:
        left = take_back(work.setup, work.place, change, documents)
    except (OSError, ZinkerError):
        then = f"Taking it back failed, too. The next run at {change.place} tries that again."
        raise Failed(what, why, then) from error
    with contextlib.suppress(OSError):  # the next run closes it, then
        work.setup.shelf.changes.close(_ended(change, "taken-back", tuple(left)))
    if isinstance(error, Exception):
        others = f", but for {len(left)} changed by somebody else meanwhile" if left else ""
        raise Failed(what, why, f"Everything that had been written was taken back{others}.") from error


def _ended(
    change: Change, state: Literal["done", "partly", "taken-back"], left: tuple[LeftAlone, ...] = ()
) -> Change:
    return msgspec.structs.replace(change, state=state, finished=_now(), left=left)


def _past(kind: str) -> str:
    past = {"import": "imported", "reset": "reset", "transfer": "transferred"}
    return past.get(kind, "undone")


def _now() -> str:
    return datetime.datetime.now().astimezone().isoformat(timespec="seconds")

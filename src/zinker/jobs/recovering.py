"""Putting right what a run that was cut off left at a place, and the reverse of a change that this needs."""

import contextlib
import datetime
import functools
from collections.abc import Iterator

import msgspec

from zinker.jobs.applying import Work, read_back, sweep, write_again
from zinker.jobs.homes import NoHome, expect, open_home
from zinker.jobs.planning import with_result
from zinker.jobs.setup import Setup
from zinker.jobs.withholding import Withholder
from zinker.model.address import folded
from zinker.model.change import Change
from zinker.model.errors import Failed, Refused, ZinkerError
from zinker.model.plan import DocumentPlan, LeftAlone, PlanItem
from zinker.model.profile import Snapshot
from zinker.model.setting import WHOLE, WITHHELD, Leaf, Setting, about_of, alike, decode_line, is_secret_file
from zinker.places.here import Here
from zinker.places.place import Place
from zinker.profiles.reading import Profile
from zinker.stores.files import FileHome
from zinker.stores.reading import Reading
from zinker.subjects.subject import Part, Subject

_SEALED = "it is a secret, and was sealed in for another machine"
_CHANGED_SINCE = "it has been changed again since"


def recover(setup: Setup, place: Place, dead: int = 0) -> None:
    """Finish or take back every change that was cut off at a place, and say so through the setup.

    The caller holds the place, so that a change that is open is one whose run is dead. Whether a run on
    another machine is dead cannot be told from here: unless it is the one that the user says is `dead`,
    `Refused` is raised.
    """
    for change in setup.shelf.changes.open_ones():
        if (change.place, change.place_machine) != (place.name, place.machine):
            continue
        if change.machine != Here().machine and change.number != dead:
            why = f"{change.who} began change {change.number} there on {change.machine}, and it has not ended"
            then = f"Wait for it. If that run is dead, `zinker undo {change.number}` takes it back."
            raise Refused(f"Nothing done at {place.name}", why, then)
        try:
            setup.notify(_recover(setup, place, change))
        except ZinkerError as error:
            what = f"Nothing done at {place.name}"
            why = (
                f"change {change.number} there was cut off and cannot be put right: {error.why or error.what}"
            )
            raise Refused(what, why, error.then or "Put that right and run this again.") from None


def _recover(setup: Setup, place: Place, change: Change) -> str:
    shelf = setup.shelf
    documents = shelf.changes.documents(change)
    subject = setup.catalogue.find(change.subject)
    with contextlib.closing(fallback_of(setup, change)) as fallback:
        work = Work(setup, place, subject, fallback)
        missing = read_back(work, documents, [])
        is_whole = not missing
    when = change.started[:16].replace("T", " ")
    what = f"The {change.kind} of {when} at {place.name} (change {change.number}) was cut off"
    if is_whole:
        sweep(work, documents)
        _close(setup, change, "done", ())
        return f"{what} when everything had been written; it has been read back and counts as done."
    if place.tenant() is not None:
        # Nothing there is half of a whole: what is there is of use, and running it again does the rest.
        left = [
            msgspec.structs.replace(item, why="it was cut off before this was written") for item in missing
        ]
        _close(setup, change, "partly", tuple(left))
        return (
            f"{what}; {len(left)} of its {change.items} settings were not written. Run it again to go on, or take "
            f"it back with `zinker undo {change.number}`."
        )
    left = take_back(setup, place, change, documents)
    _close(setup, change, "taken-back", tuple(left))
    over = f", but for {len(left)} that had been changed again since" if left else ""
    return f"{what}; it has been taken back{over}."


def fallback_of(setup: Setup, change: Change) -> Profile:
    """Open what was kept before a change, with its secrets where this machine sealed them in."""
    fallback = setup.shelf.open(setup.shelf.find(change.subject, str(change.fallback)))
    lock = Withholder(setup.home).lock
    if lock.kind in fallback.manifest.sealed:
        try:
            fallback.unseal(lock)
        except Refused:  # another machine's: these settings are left alone, and that is said
            setup.notify(f"The secrets kept before change {change.number} open on {change.machine} only.")
    return fallback


def _close(setup: Setup, change: Change, state: str, left: tuple[LeftAlone, ...]) -> None:
    now = datetime.datetime.now().astimezone().isoformat(timespec="seconds")
    setup.shelf.changes.close(msgspec.structs.replace(change, state=state, finished=now, left=left))


def take_back(
    setup: Setup, place: Place, change: Change, documents: tuple[DocumentPlan, ...]
) -> list[LeftAlone]:
    """Restore everything a change touched; returns what somebody else has changed in the meantime.

    May be cut off and called again. Raises `Failed` if something does not have its old value afterwards.
    """
    subject = setup.catalogue.find(change.subject)
    with contextlib.closing(fallback_of(setup, change)) as fallback:
        work = Work(setup, place, subject, fallback)
        sweep(work, documents)
        plans, left = plan_reverse(setup, place, subject, documents, fallback)
        refused = write_again(work, tuple(plans))
        wrong = refused + read_back(work, tuple(plans), refused)
    if wrong:
        raise Failed(f"Change {change.number} not taken back", f"{wrong[0].document}: {wrong[0].why}")
    return left


def plan_reverse(
    setup: Setup, place: Place, subject: Subject, documents: tuple[DocumentPlan, ...], fallback: Snapshot
) -> tuple[list[DocumentPlan], list[LeftAlone]]:
    """Plan the way back from a change: a file nobody has touched since comes back byte for byte.

    In everything else, the settings that still have the value the change gave them get back their old one.
    """
    plans: list[DocumentPlan] = []
    left: list[LeftAlone] = []
    before = functools.cache(lambda part: _settings_by_document(fallback, part))
    known = [document for document in documents if subject.find_part(document.part)]
    expect(place, known, Work(setup, place, subject, fallback).home)
    for document in documents:
        part = subject.find_part(document.part)
        if part is None:
            left.append(
                LeftAlone(document.part, document.document, "", "the subject has no such part any more")
            )
            continue
        old = before(part.id).get(document.document, {})
        try:
            reverse = _Reverse(setup, place, part, document, fallback, old)
            plan = reverse.plan()
        except NoHome as error:
            left.append(LeftAlone(document.part, document.document, "", error.why))
            continue
        left += reverse.left
        if plan is not None:
            plans.append(plan)
    # What came last may refer to what came before.
    return plans[::-1], left


def _settings_by_document(fallback: Snapshot, part: str) -> dict[str, dict[str, Setting]]:
    found: dict[str, dict[str, Setting]] = {}
    for line in fallback.lines(part):
        setting = decode_line(line)
        # Only the kinds of document and the keys that were empty are of use later.
        if setting.is_head or setting.type == "key":
            found.setdefault(setting.document, {})[setting.address] = setting
    return found


class _Reverse:
    """The way back for one document."""

    def __init__(
        self,
        setup: Setup,
        place: Place,
        part: Part,
        document: DocumentPlan,
        fallback: Snapshot,
        old: dict[str, Setting],
    ) -> None:
        self._part, self._done, self._fallback, self._old = part, document, fallback, old
        self._withholder = Withholder(setup.home)
        self._home = open_home(place, part)
        is_there = self._home.has(document.document)
        self._raw = self._home.read(document.document) if is_there else None
        self._live = self._raw and self._withholder.withhold(part, self._raw)
        self.left: list[LeftAlone] = []

    def plan(self) -> DocumentPlan | None:
        if not isinstance(self._home, FileHome):
            return self._by_setting(self._live)
        if self._live is not None and not self._live.stamp:
            why = self._live.troubles[0].why if self._live.troubles else "its secret cannot be cut out"
            self._leave("", f"the one there cannot be read: {why}")
            return None
        now = self._live.stamp if self._live else ""
        if alike(now, self._done.expected) and not self._has_new_secrets():
            return None
        if not now or alike(now, self._done.result):
            return self._whole(self._home)
        replaced_whole = any(not item.address for item in self._done.items)
        if self._live is None or replaced_whole or not self._live.leaves:
            self._leave("", _CHANGED_SINCE)
            return None
        plan = self._by_setting(self._live)
        if plan is None:
            return None
        plan = msgspec.structs.replace(plan, expected=now)
        plan, left = with_result(self._part, plan, self._raw, self._fallback, self._withholder)
        self.left += left
        return plan if plan.items else None

    def _has_new_secrets(self) -> bool:
        """Whether a secret is the one the change brought; a file's stamp says nothing about its secrets."""
        leaves = self._live.leaves if self._live else {}
        brought = [
            item for item in self._done.items if item.after is not None and item.after.type == WITHHELD
        ]
        return any(leaves.get(item.address) == item.after != item.before for item in brought)

    def _whole(self, home: FileHome) -> DocumentPlan | None:
        done = self._done
        items = tuple(PlanItem(item.address, item.after, item.before) for item in done.items)
        if done.expected:
            head = self._old.get("")
            content = head.value if head else {}
            if is_secret_file(content) and not self._opens(""):
                self._leave("", _SEALED)
                return None
            sealed = [i for i in items if i.after is not None and i.after.type == WITHHELD]
            for item in sealed:
                if not self._opens(item.address):
                    self._leave(item.address, _SEALED)
            left = {item.address for item in self.left}
            items = tuple(item for item in items if item.address not in left)
            return DocumentPlan(
                done.part,
                done.document,
                "replace" if self._live else "create",
                items,
                done.result if self._live else "",
                done.expected,
                source=content.get("sha256", ""),
                format=content.get("format", WHOLE),
                new_folders=0 if self._live else home.missing_folders(done.document),
                about=about_of(content),
            )
        brought = {item.address: item.after for item in done.items}
        own = self._live.leaves.items() if self._live else ()
        if any(leaf.type == WITHHELD and brought.get(address) != leaf for address, leaf in own):
            self._leave("", "it holds a secret by now, which removing it would lose")
            return None
        expected = done.result
        return DocumentPlan(
            done.part,
            done.document,
            "remove",
            items,
            expected,
            format=done.format,
            new_folders=done.new_folders,
        )

    def _opens(self, address: str) -> bool:
        """Whether the fallback has a secret that stood there, and it could be opened."""
        return (self._done.part, self._done.document, address) in self._fallback.secrets

    def _by_setting(self, live: Reading | None) -> DocumentPlan | None:
        fold = folded if self._part.store == "registry" else str
        known = [*(item.address for item in self._done.items), *self._old]
        leaves = live.leaves_at(known, fold) if live else {}
        items = []
        if self._part.store == "tenant" and live is None:  # a policy that went is made again
            items += [PlanItem("", None, item.before) for item in self._done.items if not item.address]
        for item in self._done.items:
            now = leaves.get(fold(item.address))
            if not item.address:
                continue
            if now == item.before:
                continue
            if now == item.after or (item.after is not None and item.after.type == "key" and now is None):
                items.append(PlanItem(item.address, item.after, item.before))
            else:
                self._leave(item.address, _CHANGED_SINCE)
        items += self._empty_keys(leaves, items)
        # Emptying a key removes it, so those that are to stay, empty, come after everything else.
        items.sort(key=lambda item: item.after is not None and item.after.type == "key")
        # A branch that the change made goes last, when nothing is in it any more.
        items += [PlanItem("", item.after, None) for item in self._done.items if not item.address and live]
        if not items:
            return None
        return DocumentPlan(self._done.part, self._done.document, "edit", tuple(items))

    def _empty_keys(self, leaves: dict[str, Leaf], items: list[PlanItem]) -> Iterator[PlanItem]:
        """Yield the keys that were empty before the change put something into them."""
        if self._part.store != "registry":
            return
        for address, old in self._old.items():
            inside = any(folded(item.address).startswith(folded(address)) for item in items)
            if old.type == "key" and inside and folded(address) not in leaves:
                yield PlanItem(address, None, Leaf(old.type, old.value))

    def _leave(self, address: str, why: str) -> None:
        self.left.append(LeftAlone(self._done.part, self._done.document, address, why))

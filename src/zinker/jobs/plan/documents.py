"""The planner: differences of one part become changes of its documents, and what is left alone, with its reason.

Plain data in, plain data out. A home is asked what it can take, and changes nothing.
"""

from collections.abc import Callable, Collection, Mapping, Sequence
from typing import NamedTuple

import msgspec

from zinker.jobs.secrets.detect import mark_of
from zinker.jobs.translate.view import Original
from zinker.model.address import matches
from zinker.model.difference import Difference
from zinker.model.errors import Damaged
from zinker.model.file_state import FileState
from zinker.model.plan import Action, DocumentChange, LeftAlone, Objection, Reason, SettingChange
from zinker.model.profile import Problem
from zinker.model.setting import GONE, KEY_GONE, WHOLE, WITHHELD, text_of
from zinker.model.where import Where
from zinker.stores.home import Closed, Home
from zinker.subjects.subject import Part

NEW_INSTANCE = "new-instance"
LEAVE_UNWRITABLE = "leave-unwritable"
OTHER_DEVICE = "other-device"


class Options(NamedTuple):
    """How a plan is made.

    With `exact`, what only the place has is to go; else it stays. The setting at `version_at` (part, address),
    where the application there says which one it is, always stays. With `keeps_files`, only settings go from
    files that are read into settings, and not the files. With `for_whom`, that of policies is written. `asked`
    tells of a part, a document and an address whether it was asked for.
    """

    exact: bool = False
    version_at: tuple[str, str] = ("", "")
    keeps_files: bool = False
    for_whom: bool = False
    asked: Callable[[Part, str, str], bool] = lambda part, document, address: True

    def own(self, part: Part) -> tuple[str, ...]:
        """Return the patterns of what is a place's own: volatile, its version and kind, for whom it counts."""
        version = self.version_at[1] if self.version_at[0] == part.id else ""
        for_whom = () if self.for_whom else part.policy.for_whom
        return tuple(filter(None, (version, part.kind, *part.volatile, *for_whom)))


class PartCase(NamedTuple):
    """One part as a plan is made of it: what the place and the source have, and what is known about both."""

    part: Part
    home: Home
    place: str
    live: Mapping[str, FileState] = {}
    source: Mapping[str, FileState] = {}
    # What could not be read at the place, and in the source.
    live_problems: Sequence[Problem] = ()
    source_problems: Sequence[Problem] = ()
    is_own_machine: bool = True
    # What the source can open, what was translated, and what is called otherwise here.
    secrets: Collection[Where] = ()
    originals: Mapping[Where, Original] = {}
    renames: Mapping[tuple[str, str], str] = {}
    # How many bytes an attachment has.
    size_of: Callable[[str], int] = lambda sha256: 0
    options: Options = Options()


class PartPlan(NamedTuple):
    """What would happen to one part.

    `held` is how many bytes its files are now; `only_here` counts what only the place has, and what stays.
    """

    documents: tuple[DocumentChange, ...] = ()
    left: tuple[LeftAlone, ...] = ()
    alike: int = 0
    objections: tuple[Objection, ...] = ()
    held: int = 0
    remarks: tuple[str, ...] = ()
    only_here: int = 0


def to_closed(closed: Closed) -> Objection:
    """Object to a document that cannot be written."""
    return Objection(f"{closed.what} cannot be written: {closed.why}.", closed.then, LEAVE_UNWRITABLE)


Complete = Callable[[DocumentChange], tuple[DocumentChange | None, list[LeftAlone]]]


class PartPlanner:
    """Plans the documents of one part, one after the other; `complete` works out what a file would be."""

    def __init__(self, case: PartCase, complete: Complete) -> None:
        self._case, self._complete = case, complete
        self._own = case.options.own(case.part)
        self._documents: list[DocumentChange] = []
        # What is there, and will be, by what the system takes its name for.
        self._names = {case.home.taken_for(document): document for document in case.live}
        self._left: list[LeftAlone] = []
        self._objections: list[Objection] = []
        self._remarks: list[str] = []

    def result(self, alike: int) -> PartPlan:
        """Return the plan of all documents; `alike` counts the settings that are so already."""
        # What goes makes room for what comes: for a folder where a file was.
        documents = sorted(self._documents, key=lambda change: change.action != "remove")
        held = sum(state.size for state in self._case.live.values())
        objections = tuple(dict.fromkeys(self._objections))
        return PartPlan(
            tuple(documents), tuple(self._left), alike, objections, held, tuple(dict.fromkeys(self._remarks))
        )

    def plan(self, document: str, differences: Sequence[Difference]) -> None:
        """Plan one document, from what is not the same in it."""
        refused = self._refused(document)
        if refused is not None:
            self._left.append(refused)
        elif self._case.home.traits.has_files:
            self._plan_file(document, differences)
        else:
            self._plan_settings(document, differences)

    def _refused(self, document: str) -> LeftAlone | None:
        """Say why nothing at all can happen to a document, or None."""
        case = self._case
        if why := case.home.unfit(document):
            return self._why(document, why, "no-home")
        if other := self._clash(document):
            why = f"{other} is there already, and this system takes both names for the same"
            return self._why(document, why, "unfit")
        if document not in case.live and (why := self._why_unread(document)):
            # A file that another program holds can neither be read nor replaced: it is to be closed first.
            closed = case.home.closed(document)
            if closed is not None and closed.is_held:
                self._objections.append(to_closed(closed))
            return self._why(document, f"the one there cannot be read: {why}", "unreadable")
        if document not in case.source and (why := _why_unknown(case.source_problems, document)):
            why = f"not removed: the profile could not read its own copy, so it may be wanted: {why}"
            return self._why(document, why, "unreadable")
        if self._is_foreign(document):
            why = "the profile holds it in another format than the subject has here"
            return self._why(document, why, "unfit")
        return None

    def _clash(self, document: str) -> str:
        """Return the document there that a new one could not stand beside, or ""."""
        return "" if document in self._case.live else self._names.get(self._case.home.taken_for(document), "")

    def _why_unread(self, document: str) -> str:
        """Say why a document that may be there could not be read, or "" if there is none."""
        told = (p.why for p in self._case.live_problems if p.document in ("", document) and not p.address)
        why = next(told, "")
        if not why and self._case.home.traits.has_files and self._case.home.has(document):
            return "it is not a file, but a folder, a link or a device"
        return why

    def _is_foreign(self, document: str) -> bool:
        """Whether a document was captured in another format than it would be read in here."""
        source, live = self._case.source.get(document), self._case.live.get(document)
        if source is None:
            return False
        own = live.format if live else self._case.home.format_of(document) or source.format
        return source.format != own and WHOLE not in (source.format, own)

    # Documents that are no files: settings come and go one by one.

    def _plan_settings(self, document: str, differences: Sequence[Difference]) -> None:
        traits = self._case.home.traits
        opening = next((d for d in differences if not d.address), None)
        action: Action = "edit"
        if opening is not None and opening.before is None and traits.makes_documents:
            action = "create"
        elif opening is not None and opening.after is None and traits.drops_documents:
            action = "remove"
        refusal = self._case.home.refusal(document, "/") if action != "edit" else ""
        if refusal:
            self._left.append(self._why(document, refusal, "refused"))
            return
        items: list[SettingChange] = []
        for found in differences:
            item = self._item(found, action == "remove") if found.address else None
            if item is not None and (why := self._case.home.refusal(document, item.address)):
                self._left.append(self._why(document, why, "refused", item.address))
            elif item is not None:
                items.append(item)
        # Emptying a key removes it, so those that are to be there, empty, come after everything else.
        items.sort(key=lambda item: item.after is not None and item.after.type == "key")
        if items or action != "edit":
            self._take(DocumentChange(self._case.part.id, document, action, tuple(items)))

    # Documents that are files.

    def _plan_file(self, document: str, differences: Sequence[Difference]) -> None:
        live, source = self._case.live.get(document), self._case.source.get(document)
        left = self._left_file(document, live, source)
        if left is not None:
            self._left.append(left)
        elif live is not None and source is None and self._is_to_go(live):
            self._plan_removal(document, differences, live)
        elif live is not None and not live.is_whole and (source is None or not source.is_whole):
            items = tuple(item for d in differences if d.address and (item := self._item(d)))
            if items:
                self._finish(DocumentChange(self._case.part.id, document, "edit", items, live))
        elif source is not None:
            self._plan_whole(document, differences, live, source)

    def _left_file(self, document: str, live: FileState | None, source: FileState | None) -> LeftAlone | None:
        """Say why a file is left alone as a whole, or None."""
        if live is not None and not live.identity:
            return self._why(
                document, "it holds a secret that cannot be cut out for the fallback", "withheld"
            )
        if source is not None and source.is_secret and self._at(document) not in self._case.secrets:
            if live is None:
                return self._why(
                    document, "a secret, withheld: it has to be put there again", "put-again", wanted=False
                )
            return self._why(
                document, "a secret, withheld: the place keeps its own", "withheld", wanted=False
            )
        is_edited = live is not None and not live.is_whole and (source is None or not source.is_whole)
        if is_edited or (live is not None and source is None and self._is_to_go(live)):
            return None
        if source is None or not source.identity:
            why = "the profile does not hold the file itself"
            if source is not None and not source.is_whole:
                why += ", as a secret could not be cut out of it"
            return self._why(document, why, "unreadable")
        if live is not None and not live.is_whole and not source.link:
            why = "the profile has it as an unreadable file only, and here single settings would be edited"
            return self._why(document, why, "unreadable")
        if live is not None and live.is_folder != source.is_folder:
            there, wanted = text_of(live.head("").leaf), text_of(source.head("").leaf)
            return self._why(document, f"{there} stands there, where the profile has {wanted}", "unfit")
        if source.link and self._case.home.leads_out(document, source.link):
            return self._why(document, f"the link leads out of its folder, to {source.link}", "unfit")
        return None

    def _is_to_go(self, live: FileState) -> bool:
        return self._case.options.exact and not (self._case.options.keeps_files and not live.is_whole)

    def _plan_removal(self, document: str, differences: Sequence[Difference], live: FileState) -> None:
        """Plan that a file goes, with the folders of its part that would be empty without it."""
        items = tuple(SettingChange(d.address, d.before, None) for d in differences if d.address)
        folders = self._case.home.depth(document)
        self._take(DocumentChange(self._case.part.id, document, "remove", items, live, new_folders=folders))

    def _plan_whole(
        self, document: str, differences: Sequence[Difference], live: FileState | None, source: FileState
    ) -> None:
        items: list[SettingChange] = []
        for found in differences:
            at = self._at(document, found.address)
            if found.address and _is_withheld(found) and at not in self._case.secrets:
                why = "a secret, withheld: it has to be entered again"
                self._left.append(self._why(document, why, "enter-again", found.address, wanted=False))
            elif found.address:
                items.append(self._changed(found))
        if source.is_whole and not source.is_secret and not source.link and not source.is_folder:
            source = self._true_size(document, source)
        self._finish(
            DocumentChange(
                self._case.part.id,
                document,
                "create" if live is None else "replace",
                tuple(items),
                live,
                source,
                source=source.sha256,
                new_folders=self._case.home.missing_folders(document),
            )
        )
        self._check_instance(document, live)

    def _true_size(self, document: str, source: FileState) -> FileState:
        """Return a state with the size that its content has; raises `Damaged` where it was said otherwise."""
        size = self._case.size_of(source.sha256)
        if size != source.size:
            why = f"{document} is said to have {source.size:,} bytes, and has {size:,}"
            raise Damaged("Profile not read", why, "Use another copy of it, or another version.")
        return source

    def _check_instance(self, document: str, live: FileState | None) -> None:
        """Object to an instance of another machine that is none here, where there are others."""
        home = self._case.home
        own = home.instance(document)
        if not own:
            return
        others = sorted({home.instance(name) for name in self._case.live} - {"", own})
        if live is not None or not others or self._case.is_own_machine:
            return
        self._objections.append(
            Objection(
                f"{self._case.part.name}: {own} is not at {self._case.place}, which has {', '.join(others)}.",
                f"Add --as {others[0]} to write one into the other, or --new-instance to have it there, too.",
                NEW_INSTANCE,
            )
        )

    def _finish(self, change: DocumentChange) -> None:
        """Work out what the document would be; settings its format cannot take are left alone."""
        completed, left = self._complete(change)
        self._left.extend(left)
        if completed is not None:
            self._take(completed)

    def _take(self, change: DocumentChange) -> None:
        self._documents.append(change)
        self._names.setdefault(self._case.home.taken_for(change.document), change.document)
        self._remarks += self._case.home.notes(change)

    # Settings.

    def _item(self, found: Difference, goes: bool = False) -> SettingChange | None:
        """Make the change of a setting, or note why there is none.

        A policy that `goes` takes along for whom it counts.
        """
        address, document, case = found.address, found.document, self._case
        if found.after is not None and found.after.type in (GONE, KEY_GONE):
            found = msgspec.structs.replace(found, after=None)
        self._check_kind(found)
        is_taken_along = goes and any(matches(one, address) for one in case.part.policy.for_whom)
        if (self._is_own(address) and not is_taken_along) or found.before == found.after:
            return None
        if found.after is None and (why := _why_unknown(case.source_problems, document, address)):
            why = f"not removed: the profile could not read its own, so it may be wanted: {why}"
            self._left.append(self._why(document, why, "unreadable", address))
            return None
        is_key = found.after is not None and found.after.type == "key"
        if is_key and not case.options.exact and case.home.holds(document, address):
            return None  # an empty key is asked for; something is in the one there, and stays
        if any(
            p.document == document and f"{address}/".startswith(f"{p.address}/") for p in case.live_problems
        ):
            why = "the one there cannot be read, and so not be kept before"
            self._left.append(self._why(document, why, "unreadable", address))
            return None
        return self._secret(found) if self._is_secret(found) else self._changed(found)

    def _is_secret(self, found: Difference) -> bool:
        is_marked = found.after is not None and bool(mark_of(self._case.part.secret, found.address))
        return _is_withheld(found) or is_marked

    def _secret(self, found: Difference) -> SettingChange | None:
        """Make the change of a secret that could be opened; what was withheld is noted."""
        if _is_withheld(found) and self._at(found.document, found.address) in self._case.secrets:
            return SettingChange(found.address, found.before, found.after)
        own = "the place keeps its own" if found.before else "it has to be entered again"
        reason: Reason = "withheld" if found.before else "enter-again"
        why = f"a secret, withheld: {own}"
        self._left.append(self._why(found.document, why, reason, found.address, wanted=False))
        return None

    def _changed(self, found: Difference) -> SettingChange:
        original = self._case.originals.get(self._at(found.document, found.address))
        if original is None:
            return SettingChange(found.address, found.before, found.after)
        is_translated = original.leaf != found.after and found.after is not None
        moved_from = "" if original.address == found.address else original.address
        renamed = self._case.renames.get((original.part, original.document))
        is_elsewhere = (original.part, original.document) != (self._case.part.id, found.document)
        if is_elsewhere and renamed != found.document and found.address:
            moved_from = f"{original.document}: {original.address}"
        translated = original.leaf if is_translated else None
        return SettingChange(found.address, found.before, found.after, translated, moved_from=moved_from)

    def _check_kind(self, found: Difference) -> None:
        """Object where a document says that it belongs to another kind of device than the one here."""
        if found.address != self._case.part.kind or found.before is None or found.after is None:
            return
        own = self._case.home.instance(found.document) or self._case.part.name
        self._objections.append(
            Objection(
                f"{own} at {self._case.place} is of the kind {text_of(found.before)}, "
                f"and the profile's of the kind {text_of(found.after)}.",
                "Choose the right one with --as, or add --other-device.",
                OTHER_DEVICE,
            )
        )

    def _is_own(self, address: str) -> bool:
        """Whether a setting is the place's own business: volatile, or the application's version."""
        return any(matches(pattern, address) for pattern in self._own)

    def _at(self, document: str, address: str = "") -> Where:
        return Where(self._case.part.id, document, address)

    def _why(
        self, document: str, why: str, reason: Reason, address: str = "", wanted: bool = True
    ) -> LeftAlone:
        return LeftAlone(self._case.part.id, document, address, why, wanted, reason)


def _why_unknown(problems: Sequence[Problem], document: str, address: str = "") -> str:
    """Say why a profile does not tell whether it has something, or "" if it does."""
    known = (p.why for p in problems if p.document in ("", document) and address.startswith(p.address))
    return next(known, "")


def _is_withheld(found: Difference) -> bool:
    return found.after is not None and found.after.type == WITHHELD

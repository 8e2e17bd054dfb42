"""Planning an import: everything that would be written at a place, and what would be left alone and why."""

import hashlib
from collections.abc import Iterable, Iterator
from itertools import groupby
from pathlib import Path
from typing import NamedTuple

import msgspec

from zinker.formats.registry_sections import GONE, KEY_GONE
from zinker.jobs.capturing import Live, Selection
from zinker.jobs.documents import new_content
from zinker.jobs.homes import Home, NoHome, dialect_of, open_home
from zinker.jobs.secrecy import holds_secret, is_secret
from zinker.jobs.setup import Setup
from zinker.jobs.translating import Translated
from zinker.jobs.withholding import Withholder
from zinker.model.address import folded, matches
from zinker.model.difference import Difference, differences, paired_by_case
from zinker.model.errors import NotWritable, reason
from zinker.model.plan import DocumentPlan, LeftAlone, Objection, PlanItem
from zinker.model.profile import Snapshot
from zinker.model.setting import (
    DOCUMENT,
    WHOLE,
    WITHHELD,
    Leaf,
    Setting,
    about_of,
    decode_line,
    encode_line,
    is_secret_file,
    stamp,
    text_of,
)
from zinker.places.place import Place
from zinker.stores.desktop_db import DesktopHome
from zinker.stores.files import FileHome, read_bytes
from zinker.stores.reading import Reading
from zinker.stores.registry import RegistryHome
from zinker.subjects.subject import Part


class PartPlan(msgspec.Struct):
    """What would happen to one part; `held` is how many bytes its files are now."""

    documents: list[DocumentPlan]
    left: list[LeftAlone]
    alike: int = 0
    objections: list[Objection] = []
    held: int = 0


class Sides(NamedTuple):
    """What a plan is made from: the place with its live settings, and the source as that place would have it.

    With `exact`, what only the place has is to go; else it stays. The setting at `version_at` (part, address),
    where the application there says which one it is, always stays. With `keeps_files`, only settings go from
    files that are read into settings, and not the files. With `assignments`, that of policies is written.
    """

    setup: Setup
    place: Place
    live: Live
    source: Translated
    exact: bool = False
    version_at: tuple[str, str] = ("", "")
    keeps_files: bool = False
    assignments: bool = False


def plan_part(sides: Sides, part: Part, selection: Selection) -> PartPlan:
    """Plan one part of an import: what the source has and the place has not, or has otherwise.

    Raises `Damaged` for a source that is not what it says it is.
    """
    record = sides.source.manifest.part(part.id)
    is_held = record is not None and not record.homeless and (record.documents or sides.exact)
    if not is_held and not sides.source.crosswalk.is_moving(part.id):
        return PartPlan([], [])
    try:
        home = open_home(sides.place, part)
    except NoHome as error:
        left = [LeftAlone(part.id, "", "", error.why)] if record and record.documents else []
        return PartPlan([], left)
    return _PartPlanner(sides, part, home, selection).plan()


class _PartPlanner:
    def __init__(self, sides: Sides, part: Part, home: Home, selection: Selection) -> None:
        version = sides.version_at[1] if sides.version_at[0] == part.id else ""
        own = (version, part.kind, *part.volatile, *(() if sides.assignments else part.policy.assignments))
        self._own = tuple(address for address in own if address)
        self._part, self._home, self._selection = part, home, selection
        self._live, self._source, self._sides = sides.live, sides.source, sides
        live = sides.live
        self._withholder = Withholder(sides.setup.home)
        self._live_heads: dict[str, Setting] = {}
        self._source_heads: dict[str, Setting] = {}
        self._lacks = [
            p for p in self._source.manifest.problems if p.part == part.id and p.is_unknown
        ]  # what the source could not read
        self._problems = [p for p in live.manifest.problems if p.part == part.id and p.is_unknown]
        self._missing: dict[Path, int] = {}  # how many folders would have to be made, by folder
        self._by_case: dict[str, str] = {}  # documents by their names without case
        self._total = self._differing = 0  # settings of the source, and those that are not so here
        self._plan = PartPlan([], [], objections=[])

    def plan(self) -> PartPlan:
        found: Iterable[Difference] = differences(
            self._part.id,
            _noting_heads(self._live.lines(self._part.id), self._live_heads),
            _noting_heads(self._marked(), self._source_heads),
        )
        if self._part.store == "registry":
            found = paired_by_case(found)
        # What only the place has stays, but for what the source tells to remove.
        is_exact = self._sides.exact
        wanted = (d for d in found if d.after is not None or is_exact or self._is_removed(d))
        for document, group in groupby(wanted, key=lambda difference: difference.document):
            if self._selection.has(self._part, document):
                differing = list(group)
                self._differing += sum(self._counts(d.address, d.after) for d in differing)
                self._plan_document(document, differing)
        self._plan.alike = self._total - self._differing
        self._plan.held = sum(head.value.get("size", 0) for head in self._live_heads.values())
        # What goes makes room for what comes: for a folder where a file was.
        self._plan.documents.sort(key=lambda plan: plan.action != "remove")
        return self._plan

    def _is_removed(self, found: Difference) -> bool:
        """Whether the source tells to remove a setting with the key that it is in."""
        keys = self._source.removals.get((self._part.id, found.document), ())
        address = folded(found.address)
        return any(address.startswith(folded(key)) for key in keys)

    def _marked(self) -> Iterator[bytes]:
        """Yield the source's lines, with every secret replaced by this machine's own fingerprint of it."""
        for line in self._source.lines(self._part.id):
            setting = decode_line(line)
            if self._selection.has(self._part, setting.document):
                self._total += self._counts(setting.address, setting)
            marked = without_secret(self._part, setting, self._source, self._withholder)
            yield line if marked is setting else encode_line(marked)

    def _plan_document(self, document: str, found: list[Difference]) -> None:
        if (why := self._home.unfit(document)) or (why := self._clash(document)):
            self._leave(document, "", why)
        elif document not in self._live_heads and (why := self._why_unread(document)):
            self._leave(document, "", f"the one there cannot be read: {why}")
        elif document not in self._source_heads and (why := self._why_unknown(document)):
            self._leave(document, "", f"it would go, but the profile could not read the one it has: {why}")
        elif self._is_foreign(document):
            self._leave(document, "", "the profile holds it in another format than the subject has here")
        elif isinstance(self._home, FileHome):
            self._plan_file(self._home, document, found)
        else:
            goes = any(not d.address and d.after is None for d in found)
            items = [
                item for d in found if (item := self._item(d, goes)) and not self._is_refused(item, document)
            ]
            # Emptying a key removes it, so those that are to be there, empty, come after everything else.
            items.sort(key=lambda item: item.after is not None and item.after.type == "key")
            self._take(DocumentPlan(self._part.id, document, "edit", tuple(items)))

    def _why_unread(self, document: str) -> str:
        """Say why a document that may be there could not be read, or "" if there is none."""
        told = next((p.why for p in self._problems if p.document in ("", document) and not p.address), "")
        if not told and isinstance(self._home, FileHome) and self._home.has(document):
            return "it is not a file, but a folder, a link or a device"
        return told

    def _why_unknown(self, document: str, address: str = "") -> str:
        """Say why the profile does not tell whether it has something, or "" if it does."""
        known = (p.why for p in self._lacks if p.document in ("", document) and address.startswith(p.address))
        return next(known, "")

    def _is_foreign(self, document: str) -> bool:
        """Whether a document was captured in another format than it would be read in here."""
        source = self._source_heads.get(document)
        live = self._live_heads.get(document)
        if source is None:
            return False
        format = source.value.get("format", WHOLE)
        own = live.value.get("format", WHOLE) if live else self._home.format_of(document) or format
        return format != own and WHOLE not in (format, own)

    def _clash(self, document: str) -> str:
        """Say which other document a new one could not stand beside where case does not count, or ""."""
        if (
            not isinstance(self._home, FileHome)
            or self._home.system == "linux"
            or document in self._live_heads
        ):
            return ""
        if not self._by_case:
            self._by_case = {name.casefold(): name for name in self._live_heads}
        other = self._by_case.setdefault(document.casefold(), document)
        return (
            f"beside {other}, from which only its case tells it, it cannot stand here"
            if other != document
            else ""
        )

    def _plan_file(self, home: FileHome, document: str, found: list[Difference]) -> None:
        live, source = self._live_heads.get(document), self._source_heads.get(document)
        if live is not None and not stamp(live.type, live.value):
            self._leave(document, "", "it holds a secret that cannot be cut out for the fallback")
        elif source is not None and self._is_lost(source):
            own = "it has to be put there again" if live is None else "the place keeps its own"
            self._leave(document, "", f"a secret, withheld: {own}", False)
        elif live is not None and source is None and self._is_to_go(live):
            self._plan_removal(home, document, found, live)
        elif live is not None and live.type == DOCUMENT and (source is None or source.type == DOCUMENT):
            items = [item for d in found if (item := self._item(d))]
            expected = stamp(live.type, live.value)
            self._finish(home, DocumentPlan(self._part.id, document, "edit", tuple(items), expected))
        elif source is None or not stamp(source.type, source.value):
            self._leave(document, "", "the profile does not hold the file itself")
        elif live is not None and live.type == DOCUMENT and "link" not in source.value:
            self._leave(document, "", "the profile holds it only as a whole that could not be read")
        elif why := _is_otherwise(live, source):
            self._leave(document, "", why)
        elif "link" in source.value and home.leads_out(document, source.value["link"]):
            why = f"the link leads out of its folder, to {source.value['link']}"
            self._leave(document, "", why)
        else:
            self._plan_whole(home, document, found, live, source)

    def _is_lost(self, source: Setting) -> bool:
        """Whether a file is a secret as a whole that the source withholds."""
        where = (self._part.id, source.document, "")
        return is_secret_file(source.value) and where not in self._source.secrets

    def _is_to_go(self, live: Setting) -> bool:
        return self._sides.exact and not (self._sides.keeps_files and live.type == DOCUMENT)

    def _plan_removal(self, home: FileHome, document: str, found: list[Difference], live: Setting) -> None:
        """Plan that a file goes, with the folders of its part that would be empty without it."""
        items = tuple(PlanItem(d.address, d.before, None) for d in found if d.address or live.type == WHOLE)
        folders = home.depth(document)
        expected = stamp(live.type, live.value)
        format = live.value.get("format", WHOLE)
        about = {key: live.value[key] for key in ("link", "folder") if key in live.value}
        self._take(
            DocumentPlan(
                self._part.id,
                document,
                "remove",
                items,
                expected,
                format=format,
                new_folders=folders,
                about=about,
            )
        )

    def _plan_whole(
        self,
        home: FileHome,
        document: str,
        found: list[Difference],
        live: Setting | None,
        source: Setting,
    ) -> None:
        format = source.value.get("format", WHOLE)
        known = self._source.secrets
        lost = [d for d in found if _withheld(d) and (self._part.id, document, d.address) not in known]
        items = [self._whole_item(d) for d in found if d not in lost]
        if source.type == DOCUMENT:
            items = [item for item in items if item.address or live is not None]
            for d in lost:
                self._leave(document, d.address, "a secret, withheld: it has to be entered again", False)
        plan = DocumentPlan(
            self._part.id,
            document,
            "create" if live is None else "replace",
            tuple(items),
            stamp(live.type, live.value) if live is not None else "",
            source=source.value.get("sha256", ""),
            format=format,
            new_folders=home.missing_folders(document, self._missing),
            about=about_of(source.value),
        )
        self._finish(home, plan)
        self._check_instance(home, document, live)

    def _check_instance(self, home: FileHome, document: str, live: Setting | None) -> None:
        """Object to an instance of another machine that is none here, where there are others."""
        own = home.instance(document)
        if not own:
            return
        others = sorted({home.instance(name) for name in self._live_heads} - {"", own})
        is_own = self._source.manifest.machine == self._sides.place.machine
        if live is not None or not others or is_own:
            return
        self._plan.objections.append(
            Objection(
                f"{self._part.name}: {own} is not at {self._sides.place.name}, which has {', '.join(others)}.",
                f"Add --as {others[0]} to write one into the other, or --new-instance to have it there, too.",
                "new-instance",
            )
        )

    def _finish(self, home: FileHome, plan: DocumentPlan) -> None:
        """Work out what the document would be; settings its format cannot take are left alone."""
        live = home.read(plan.document) if plan.expected else None
        plan, left = with_result(self._part, plan, live, self._source, self._withholder)
        self._plan.left.extend(left)
        self._take(plan)

    def _take(self, plan: DocumentPlan) -> None:
        if plan.items or (plan.action == "create" and plan.result):
            self._plan.documents.append(plan)

    def _item(self, found: Difference, goes: bool = False) -> PlanItem | None:
        """Make the item for a difference, or say why there is none.

        A policy that `goes` takes along for whom it counts.
        """
        address = found.address
        if found.after is not None and found.after.type in (GONE, KEY_GONE):
            found = msgspec.structs.replace(found, after=None)
        stays = found.after is None and self._part.store != "tenant"
        if not address and (stays or isinstance(self._home, DesktopHome)):
            return None  # a branch stays, empty, and a subtree is nothing apart from its values
        self._check_kind(found)
        is_taken_along = goes and any(matches(one, address) for one in self._part.policy.assignments)
        if (self._is_own(address) and not is_taken_along) or found.before == found.after:
            return None
        if found.after is None and (why := self._why_unknown(found.document, address)):
            self._leave(
                found.document, address, f"it would go, but the profile could not read its own: {why}"
            )
            return None
        is_key = found.after is not None and found.after.type == "key"
        if is_key and not self._sides.exact and self._has_key(found.document, address):
            return None  # an empty key is asked for; something is in the one there, and stays
        if any(
            p.document == found.document and f"{address}/".startswith(f"{p.address}/") for p in self._problems
        ):
            self._leave(found.document, address, "the one there cannot be read, and so not be kept before")
            return None
        if _withheld(found) and (self._part.id, found.document, address) in self._source.secrets:
            return PlanItem(address, found.before, found.after)
        if _withheld(found) or (found.after is not None and is_secret(self._part, address)):
            own = "the place keeps its own" if found.before else "it has to be entered again"
            self._leave(found.document, address, f"a secret, withheld: {own}", False)
            return None
        return self._whole_item(found)

    def _whole_item(self, found: Difference) -> PlanItem:
        original = self._source.originals.get((self._part.id, found.document, found.address))
        if original is None:
            return PlanItem(found.address, found.before, found.after)
        is_translated = original.leaf != found.after and found.after is not None
        moved_from = "" if original.address == found.address else original.address
        renamed = self._source.crosswalk.renames.get((original.part, original.document))
        is_elsewhere = (original.part, original.document) != (self._part.id, found.document)
        if is_elsewhere and renamed != found.document and found.address:
            moved_from = f"{original.document}: {original.address}"
        translated = original.leaf if is_translated else None
        return PlanItem(found.address, found.before, found.after, translated, moved_from=moved_from)

    def _check_kind(self, found: Difference) -> None:
        """Object where a document says that it belongs to another kind of device than the one here."""
        if found.address != self._part.kind or found.before is None or found.after is None:
            return
        own = self._home.instance(found.document) or self._part.name
        self._plan.objections.append(
            Objection(
                f"{own} at {self._sides.place.name} is of the kind {text_of(found.before)}, "
                f"and the profile's of the kind {text_of(found.after)}.",
                "Choose the right one with --as, or add --other-device.",
                "other-device",
            )
        )

    def _is_own(self, address: str) -> bool:
        """Whether a setting is the place's own business: volatile, or the application's version."""
        return any(matches(pattern, address) for pattern in self._own)

    def _counts(self, address: str, leaf: Leaf | Setting | None) -> bool:
        """Whether a setting counts as alike or not, as in a comparison."""
        return leaf is not None and leaf.type != DOCUMENT and not self._is_own(address)

    def _has_key(self, document: str, address: str) -> bool:
        return isinstance(self._home, RegistryHome) and self._home.has_key(document, address)

    def _is_refused(self, item: PlanItem, document: str) -> bool:
        assert not isinstance(self._home, FileHome)  # noqa: S101 - only registries refuse by item
        why = self._home.obstacle(document, item.address)
        if why:
            self._leave(document, item.address, why)
        return bool(why)

    def _leave(self, document: str, address: str, why: str, wanted: bool = True) -> None:
        self._plan.left.append(LeftAlone(self._part.id, document, address, why, wanted))


def without_secret(part: Part, setting: Setting, source: Snapshot, withholder: Withholder) -> Setting:
    """Return a setting of a source as plans may hold it: with this machine's own fingerprint of a secret.

    The secret may be one that was opened, or one that is in clear there: profiles of others may not be as careful
    as ours. The same object is returned for what is none.
    """
    secret: Leaf | None = None
    if setting.type == WITHHELD or (setting.is_head and is_secret_file(setting.value)):
        secret = source.secrets.get((part.id, *setting.key))
    elif not setting.is_head and holds_secret(part, setting.address, Leaf(setting.type, setting.value)):
        secret = Leaf(setting.type, setting.value)
    if secret is None:
        return setting
    mark = withholder.mark(secret)
    if setting.is_head:
        return Setting(*setting.key, setting.type, {**setting.value, **mark.value})
    return Setting(*setting.key, mark.type, mark.value)


def with_result(
    part: Part, plan: DocumentPlan, live: Reading | None, source: Snapshot, withholder: Withholder
) -> tuple[DocumentPlan, list[LeftAlone]]:
    """Complete the plan of a file with the digest it would leave, dropping what cannot be written."""
    left: list[LeftAlone] = []
    while plan.items or plan.action != "edit":
        try:
            if plan.format == WHOLE:
                result = stamp(WHOLE, {"sha256": plan.source, **plan.about})
                return msgspec.structs.replace(plan, result=result, size=_size(plan)), left
            data = b"".join(new_content(part, plan, live, source))
            format = live.format if plan.action == "edit" and live is not None else plan.format
            reading = read_bytes(plan.document, format, data, dialect_of(part, plan.document))
            content = withholder.withhold(part, reading).content
            digest = content.sha256 if content else hashlib.sha256(data).hexdigest()
            return msgspec.structs.replace(plan, result=digest, size=len(data)), left
        except NotWritable as error:
            kept = tuple(item for item in plan.items if item.address != error.address)
            left.append(LeftAlone(part.id, plan.document, error.address, error.why))
            if len(kept) == len(plan.items):
                return msgspec.structs.replace(plan, items=(), action="edit"), left
            plan = msgspec.structs.replace(plan, items=kept)
        except OSError as error:
            left.append(LeftAlone(part.id, plan.document, "", reason(error)))
            return msgspec.structs.replace(plan, items=(), action="edit"), left
    return plan, left


def _size(plan: DocumentPlan) -> int:
    """Return the size of a file that comes whole."""
    found = (item.after.value for item in plan.items if item.after is not None and item.after.type == WHOLE)
    return next((int(value.get("size", 0)) for value in found), 0)


def _is_otherwise(live: Setting | None, source: Setting) -> str:
    """Say why a document of another kind cannot take the place of the one there, or ""."""
    if live is None or bool(live.value.get("folder")) == bool(source.value.get("folder")):
        return ""
    return f"{text_of(live)} stands there, where the profile has {text_of(source)}"


def _withheld(found: Difference) -> bool:
    return found.after is not None and found.after.type == WITHHELD


def _noting_heads(lines: Iterable[bytes], heads: dict[str, Setting]) -> Iterator[bytes]:
    for line in lines:
        if b'","","' in line:
            setting = decode_line(line)
            if setting.is_head:
                heads[setting.document] = setting
        yield line

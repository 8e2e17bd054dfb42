"""Planning an import: everything that would be written at a place, and what would be left alone and why."""

import hashlib
from collections.abc import Iterable, Iterator
from itertools import groupby

import msgspec

from zinker.formats.registry_sections import GONE, KEY_GONE
from zinker.jobs.capturing import Live, Selection
from zinker.jobs.documents import new_content
from zinker.jobs.homes import Home, NoHome, dialect_of, open_home
from zinker.jobs.secrecy import holds_secret, is_secret
from zinker.jobs.setup import Setup
from zinker.jobs.withholding import Withholder
from zinker.model.address import folded, matches
from zinker.model.crosswalk import Crosswalk
from zinker.model.difference import Difference, differences, paired_by_case
from zinker.model.errors import Damaged, NotWritable, reason
from zinker.model.plan import DocumentPlan, LeftAlone, PlanItem
from zinker.model.profile import Snapshot
from zinker.model.setting import (
    DOCUMENT,
    WHOLE,
    WITHHELD,
    Leaf,
    Setting,
    decode_line,
    encode_line,
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
    """What would happen to one part."""

    documents: list[DocumentPlan]
    left: list[LeftAlone]
    alike: int = 0


def plan_part(
    setup: Setup,
    place: Place,
    part: Part,
    selection: Selection,
    live: Live,
    source: Snapshot,
    crosswalk: Crosswalk,
    version: str = "",
) -> PartPlan:
    """Plan one part of an import: what the source has and the place has not, or has otherwise.

    What only the place has stays, and so does the setting at `version`, where the application there says
    which one it is. Raises `Damaged` for a source that is not what it says it is.
    """
    record = source.manifest.part(part.id)
    if record is None or not record.documents:
        return PartPlan([], [])
    try:
        home = open_home(place, part)
    except NoHome as error:
        return PartPlan([], [LeftAlone(part.id, "", "", error.why)])
    return _PartPlanner(setup, part, home, selection, live, source, crosswalk, version).plan()


class _PartPlanner:
    def __init__(
        self,
        setup: Setup,
        part: Part,
        home: Home,
        selection: Selection,
        live: Live,
        source: Snapshot,
        crosswalk: Crosswalk,
        version: str,
    ) -> None:
        self._own = (version, *part.volatile) if version else part.volatile
        self._part, self._home, self._selection = part, home, selection
        self._live, self._source, self._crosswalk = live, source, crosswalk
        self._withholder = Withholder(setup.home)
        self._live_heads: dict[str, Setting] = {}
        self._source_heads: dict[str, Setting] = {}
        self._originals: dict[tuple[str, str], Leaf] = {}
        self._problems = [p for p in live.manifest.problems if p.part == part.id and not p.carried]
        self._by_case: dict[str, str] = {}  # documents by their names without case
        self._total = self._differing = 0  # settings of the source, and those that are not so here
        self._plan = PartPlan([], [])

    def plan(self) -> PartPlan:
        found: Iterable[Difference] = differences(
            self._part.id,
            _noting_heads(self._live.lines(self._part.id), self._live_heads),
            _noting_heads(self._translated(), self._source_heads),
        )
        if self._part.store == "registry":
            found = paired_by_case(found)
        # What only the place has stays, but for what the source tells to remove.
        wanted = (d for d in found if d.after is not None or self._is_removed(d))
        for document, group in groupby(wanted, key=lambda difference: difference.document):
            if self._selection.has(self._part, document):
                differing = list(group)
                self._differing += sum(self._counts(d.address, d.after) for d in differing)
                self._plan_document(document, differing)
        self._plan.alike = self._total - self._differing
        return self._plan

    def _is_removed(self, found: Difference) -> bool:
        """Whether the source tells to remove a setting with the key that it is in."""
        keys = self._source.removals.get((self._part.id, found.document), ())
        address = folded(found.address)
        return any(address.startswith(folded(key)) for key in keys)

    def _translated(self) -> Iterator[bytes]:
        """Yield the source's lines as this place would write them; checks that they are in order."""
        last = ("", "")
        is_first = True
        for line in self._source.lines(self._part.id):
            setting = decode_line(line)
            if not is_first and setting.key <= last:
                why = f"the settings of the part {self._part.id} are not in order, or one stands there twice"
                raise Damaged("Profile not read", why, "Use another copy of it, or another version.")
            last, is_first = setting.key, False
            if self._selection.has(self._part, setting.document):
                self._total += self._counts(setting.address, setting)
            secret = self._secret(setting)
            if secret is not None:
                # Under this machine's own fingerprint, so that it can be told from the one here.
                mark = self._withholder.mark(secret)
                setting = Setting(*setting.key, mark.type, mark.value)
                line = encode_line(setting)
            translated = self._crosswalk.translate(setting)
            if translated is not setting:
                self._originals[setting.key] = Leaf(setting.type, setting.value)
                line = encode_line(translated)
            yield line

    def _secret(self, setting: Setting) -> Leaf | None:
        """Return the secret that a setting of the source is: one that was opened, or one that is in clear there.

        The latter stays out of plans and journals, too; profiles of others may not be as careful as ours.
        """
        if setting.type == WITHHELD:
            return self._source.secrets.get((self._part.id, *setting.key))
        leaf = Leaf(setting.type, setting.value)
        return leaf if not setting.is_head and holds_secret(self._part, setting.address, leaf) else None

    def _plan_document(self, document: str, found: list[Difference]) -> None:
        if (why := self._home.unfit(document)) or (why := self._clash(document)):
            self._leave(document, "", why)
        elif document not in self._live_heads and (why := self._why_unread(document)):
            self._leave(document, "", f"the one there cannot be read: {why}")
        elif self._is_foreign(document):
            self._leave(document, "", "the profile holds it in another format than the subject has here")
        elif isinstance(self._home, FileHome):
            self._plan_file(self._home, document, found)
        else:
            items = [item for d in found if (item := self._item(d)) and not self._is_refused(item, document)]
            self._take(DocumentPlan(self._part.id, document, "edit", tuple(items)))

    def _why_unread(self, document: str) -> str:
        """Say why a document that may be there could not be read, or "" if there is none."""
        told = next((p.why for p in self._problems if p.document in ("", document) and not p.address), "")
        if not told and isinstance(self._home, FileHome) and self._home.has(document):
            return "it is not a file, but a folder, a link or a device"
        return told

    def _is_foreign(self, document: str) -> bool:
        """Whether a document was captured in another format than it would be read in here."""
        source = self._source_heads.get(document)
        live = self._live_heads.get(document)
        format = source.value.get("format", WHOLE) if source else ""
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
        if source is None or not stamp(source.type, source.value):
            self._leave(document, "", "the profile does not hold the file itself")
        elif live is not None and not stamp(live.type, live.value):
            self._leave(document, "", "it holds a secret that cannot be cut out for the fallback")
        elif live is not None and live.type == source.type == DOCUMENT:
            items = [item for d in found if (item := self._item(d))]
            expected = stamp(live.type, live.value)
            self._finish(home, DocumentPlan(self._part.id, document, "edit", tuple(items), expected))
        elif live is not None and live.type == DOCUMENT and "link" not in source.value:
            self._leave(document, "", "the profile holds it only as a whole that could not be read")
        elif why := _is_otherwise(live, source):
            self._leave(document, "", why)
        elif "link" in source.value and home.leads_out(document, source.value["link"]):
            why = f"the link leads out of its folder, to {source.value['link']}"
            self._leave(document, "", why)
        else:
            self._plan_whole(home, document, found, live, source)

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
        items = [PlanItem(d.address, d.before, d.after, self._original(d)) for d in found if d not in lost]
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
            new_folders=home.missing_folders(document),
            about={key: source.value[key] for key in ("mode", "link", "folder") if key in source.value},
        )
        self._finish(home, plan)

    def _finish(self, home: FileHome, plan: DocumentPlan) -> None:
        """Work out what the document would be; settings its format cannot take are left alone."""
        live = home.read(plan.document) if plan.expected else None
        plan, left = with_result(self._part, plan, live, self._source, self._withholder)
        self._plan.left.extend(left)
        self._take(plan)

    def _take(self, plan: DocumentPlan) -> None:
        if plan.items or (plan.action == "create" and plan.result):
            self._plan.documents.append(plan)

    def _item(self, found: Difference) -> PlanItem | None:
        """Make the item for a difference, or say why there is none."""
        address = found.address
        if found.after is not None and found.after.type in (GONE, KEY_GONE):
            found = msgspec.structs.replace(found, after=None)
        if not address and isinstance(self._home, DesktopHome):
            return None  # a subtree is nothing apart from its values
        if self._is_own(address) or found.before == found.after:
            return None
        if found.after is not None and found.after.type == "key" and self._has_key(found.document, address):
            return None  # an empty key is asked for; something is in the one there, and stays
        if any(
            p.document == found.document and f"{address}/".startswith(f"{p.address}/") for p in self._problems
        ):
            self._leave(found.document, address, "the one there cannot be read, and so not be kept before")
            return None
        if _withheld(found) and (self._part.id, found.document, address) in self._source.secrets:
            return PlanItem(address, found.before, found.after)
        if _withheld(found) or is_secret(self._part, address):
            own = "the place keeps its own" if found.before else "it has to be entered again"
            self._leave(found.document, address, f"a secret, withheld: {own}", False)
            return None
        return PlanItem(address, found.before, found.after, self._original(found))

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

    def _original(self, found: Difference) -> Leaf | None:
        return self._originals.get((found.document, found.address))

    def _leave(self, document: str, address: str, why: str, wanted: bool = True) -> None:
        self._plan.left.append(LeftAlone(self._part.id, document, address, why, wanted))


def with_result(
    part: Part, plan: DocumentPlan, live: Reading | None, source: Snapshot, withholder: Withholder
) -> tuple[DocumentPlan, list[LeftAlone]]:
    """Complete the plan of a file with the digest it would leave, dropping what cannot be written."""
    left: list[LeftAlone] = []
    while plan.items or plan.action != "edit":
        try:
            if plan.format == WHOLE:
                result = stamp(WHOLE, {"sha256": plan.source, **plan.about})
                return msgspec.structs.replace(plan, result=result), left
            data = b"".join(new_content(part, plan, live, source))
            format = live.format if plan.action == "edit" and live is not None else plan.format
            reading = read_bytes(plan.document, format, data, dialect_of(part, plan.document))
            content = withholder.withhold(part, reading).content
            digest = content.sha256 if content else hashlib.sha256(data).hexdigest()
            return msgspec.structs.replace(plan, result=digest), left
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

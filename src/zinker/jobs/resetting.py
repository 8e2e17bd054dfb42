"""Reset: what the user has set goes, so that the application, or what lies beneath, counts again.

A plan like any other, carried out alike: only what the parts of the subject own goes. A settings database has
layers beneath the user's; from files and registry branches everything goes, and the application starts anew.
"""

import contextlib
from collections.abc import Iterator

import msgspec

from zinker.jobs.access import at_place
from zinker.jobs.applying import Approve, Outcome, Work, carry_out, without_writing
from zinker.jobs.capturing import Live, Progress, Selection, no_progress, select
from zinker.jobs.checking import objections
from zinker.jobs.choosing import at_addresses
from zinker.jobs.homes import NoHome, open_home
from zinker.jobs.importing import Wishes, import_profile
from zinker.jobs.planning import Sides, plan_part
from zinker.jobs.references import parse_reference
from zinker.jobs.secrecy import holds_secret
from zinker.jobs.setup import Setup
from zinker.jobs.sources import kept
from zinker.jobs.translating import Translated
from zinker.jobs.withholding import Withholder
from zinker.model.address import matches
from zinker.model.crosswalk import Crosswalk
from zinker.model.errors import WrongUsage
from zinker.model.plan import DocumentPlan, LeftAlone, Plan, PlanItem
from zinker.model.profile import ByteStream, Manifest
from zinker.model.setting import Leaf
from zinker.places.place import Place
from zinker.stores.desktop_db import DEFAULT, ORGANISATION, DesktopHome
from zinker.subjects.subject import Part


def reset(
    setup: Setup,
    subject: str,
    place: str = "here",
    wishes: Wishes | None = None,
    to: str = "",
    *,
    preview: bool = False,
    approve: Approve = lambda plan: True,
    progress: Progress = no_progress,
) -> Outcome:
    """Go back to what an application starts with, or to a starting point.

    `to` is a layer of a settings database, `organisation` or `default`, or a reference to a kept version, which
    the parts are made like, exactly. Without it, what lies beneath counts again, and files and branches go.
    Where the organisation has another value than the default, the default is written as the user's own.
    Parts bound to the device stay unless they are wanted by name, or all such are.

    Raises `WrongUsage`, `Damaged`, `Refused` and `Failed`.
    """
    wishes = wishes or Wishes()
    if to not in ("", ORGANISATION, DEFAULT):
        return _to_version(setup, subject, place, wishes, to, preview, approve, progress)
    name, _, instance = subject.partition("/")
    described = setup.catalogue.find(name)
    selection = select(described, wishes.parts, wishes.without, instance)
    processes = described.application.processes if wishes.wait else ()
    with at_place(setup, place, look_only=preview, waited_for=processes) as target:
        bound = [p for p in selection.parts if p.device_bound and p.id not in wishes.parts]
        chosen = tuple(p for p in selection.parts if wishes.device_bound or p not in bound)
        with contextlib.closing(Live(setup, target, described, Selection(chosen))) as live:
            work = Work(setup, target, described, Nothing(live.manifest))
            plan = _plan(work, live, Selection(chosen, instance), to, wishes)
            why = "bound to this device, so it stays; --part {} resets it, too"
            kept = [LeftAlone(p.id, "", "", why.format(p.id), wanted=False) for p in bound if p not in chosen]
            plan = msgspec.structs.replace(plan, left=(*plan.left, *kept))
            against = objections(setup, target, described, live.manifest, plan, wishes.overruled)
            plan = msgspec.structs.replace(plan, objections=against)
            ended = without_writing(plan, "Not reset", preview, approve)
            return ended or carry_out(work, plan, "reset", progress=progress)


def _to_version(
    setup: Setup,
    subject: str,
    place: str,
    wishes: Wishes,
    to: str,
    preview: bool,
    approve: Approve,
    progress: Progress,
) -> Outcome:
    """Make the parts like those of a kept version."""
    with kept(setup, parse_reference(to)) as source:
        if source.manifest.subject != subject.partition("/")[0]:
            why = f"{to} is a version of {source.manifest.subject}, not of {subject}"
            raise WrongUsage("Not reset", why, f"`zinker list {subject}` shows what is kept of it.")
    exact = msgspec.structs.replace(wishes, exact=True)
    return import_profile(
        setup, to, place, exact, preview=preview, approve=approve, progress=progress, kind="reset"
    )


class Nothing:
    """A `Snapshot` without any settings of the parts that another one has."""

    def __init__(self, manifest: Manifest) -> None:
        empty = (msgspec.structs.replace(p, documents=0, settings=0) for p in manifest.parts)
        self.manifest = msgspec.structs.replace(manifest, parts=tuple(empty), problems=())
        self.secrets: dict[tuple[str, str, str], Leaf] = {}
        self.removals: dict[tuple[str, str], tuple[str, ...]] = {}

    def pieces(self, part: str) -> Iterator[bytes]:
        """Yield nothing."""
        return iter(())

    lines = pieces

    def attachment(self, sha256: str) -> ByteStream:
        """Raise: there are no files."""
        raise KeyError(sha256)


def _plan(work: Work, live: Live, selection: Selection, to: str, wishes: Wishes) -> Plan:
    documents: list[DocumentPlan] = []
    left: list[LeftAlone] = []
    held = 0
    sides = Sides(
        work.setup,
        work.place,
        live,
        Translated(work.source, Crosswalk()),
        exact=True,
        keeps_files=bool(wishes.addresses),
    )
    for part in selection.parts:
        if part.store == "desktop-db":
            planner = _Planner(work.setup, work.place, part, to, wishes.addresses)
            documents += planner.documents()
            left += planner.left
        elif part.store == "tenant":
            why = "a tenant has no defaults to go back to; --to can name a kept version"
            left.append(LeftAlone(part.id, "", "", why))
        elif to == ORGANISATION:
            why = "nobody knows what the organisation starts from; --to can name a kept version"
            left.append(LeftAlone(part.id, "", "", why, wanted=False))
        else:
            # Starting anew, nothing is an application's own business.
            plain = msgspec.structs.replace(part, volatile=(), kind="")
            planned = plan_part(sides, plain, selection)
            documents += planned.documents
            left += planned.left
            held += planned.held
    plan = Plan(
        subject=work.subject.id,
        title=work.subject.title,
        place=work.place.name,
        source="reset to the organisation's values" if to == ORGANISATION else "reset to the defaults",
        documents=tuple(documents),
        left=tuple(left),
        seen={part.id: part.sha256 for part in live.manifest.parts},
        fallback_size=held + sum(part.size for part in live.manifest.parts),
    )
    return at_addresses(work, plan, wishes.addresses) if wishes.addresses else plan


class _Planner:
    """Plans one part of a settings database."""

    def __init__(self, setup: Setup, place: Place, part: Part, to: str, addresses: tuple[str, ...]) -> None:
        self._setup, self._place, self._part = setup, place, part
        self._to, self._addresses = to or ORGANISATION, addresses
        self.left: list[LeftAlone] = []

    def documents(self) -> Iterator[DocumentPlan]:
        """Yield what would be written; what would not is in `left` then."""
        try:
            home = open_home(self._place, self._part)
        except NoHome as error:
            self._leave("", "", error.why)
            return
        assert isinstance(home, DesktopHome)  # noqa: S101 - the store says so
        for document in home.paths:
            items = tuple(self._items(home, document))
            if items:
                yield DocumentPlan(self._part.id, document, "edit", items)

    def _items(self, home: DesktopHome, document: str) -> Iterator[PlanItem]:
        reading = home.read(document)
        if not reading.is_readable:
            self._leave(document, "", reading.troubles[0].why)
            return
        own = reading.leaves
        organisation, default = (home.beneath(document, layer) for layer in (ORGANISATION, DEFAULT))
        for address in sorted({*own, *(organisation if self._to == DEFAULT else ())}):
            if self._addresses and not any(matches(pattern, address) for pattern in self._addresses):
                continue
            after = self._wanted(document, address, organisation, default)
            before = own.get(address)
            if before == after:
                continue
            why = home.obstacle(document, address)
            if why:
                self._leave(document, address, why)
                continue
            beneath = organisation.get(address, default.get(address)) if after is None else None
            yield PlanItem(address, self._shown(address, before), after, None, self._shown(address, beneath))

    def _wanted(
        self, document: str, address: str, organisation: dict[str, Leaf], default: dict[str, Leaf]
    ) -> Leaf | None:
        """Return what the user's own layer has to hold."""
        if (
            self._to == ORGANISATION
            or address not in organisation
            or organisation[address] == default.get(address)
        ):
            return None
        if address not in default:
            self._leave(
                document, address, "nobody knows its default; it goes back to the organisation's value"
            )
        return default.get(address)

    def _shown(self, address: str, leaf: Leaf | None) -> Leaf | None:
        """Return a value as it may be shown and written down."""
        if leaf is not None and holds_secret(self._part, address, leaf):
            return Withholder(self._setup.home).mark(leaf)
        return leaf

    def _leave(self, document: str, address: str, why: str, wanted: bool = True) -> None:
        self.left.append(LeftAlone(self._part.id, document, address, why, wanted))

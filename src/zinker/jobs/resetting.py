"""Reset: the user's own values go, so that what lies beneath them counts again.

Done for the desktop's settings database, which has such layers. A plan like any other, carried out alike.
"""

import contextlib
from collections.abc import Iterator

from zinker.jobs.access import at_place
from zinker.jobs.applying import Approve, Outcome, Work, carry_out, without_writing
from zinker.jobs.capturing import Live, Progress, Selection, no_progress, select
from zinker.jobs.checking import objections
from zinker.jobs.homes import NoHome, open_home
from zinker.jobs.secrecy import holds_secret
from zinker.jobs.setup import Setup
from zinker.jobs.withholding import Withholder
from zinker.model.address import matches
from zinker.model.plan import DocumentPlan, LeftAlone, Plan, PlanItem
from zinker.model.setting import Leaf
from zinker.places.place import Place
from zinker.stores.desktop_db import DEFAULT, ORGANISATION, DesktopHome, Layer
from zinker.subjects.subject import Part


def reset(
    setup: Setup,
    subject: str,
    place: str = "here",
    parts: tuple[str, ...] = (),
    without: tuple[str, ...] = (),
    to: Layer = ORGANISATION,
    addresses: tuple[str, ...] = (),
    overruled: frozenset[str] = frozenset(),
    preview: bool = False,
    approve: Approve = lambda plan: True,
    progress: Progress = no_progress,
) -> Outcome:
    """Go back to a layer beneath the user's: what the organisation starts from, or the default.

    Where the organisation has another value than the default, the default is written as the user's own.
    `addresses` are patterns; without them, everything is meant. Raises `WrongUsage`, `Refused` and `Failed`.
    """
    described = setup.catalogue.find(subject)
    selection = select(described, parts, without)
    with at_place(setup, place, look_only=preview) as target:
        layered = tuple(part for part in selection.parts if part.store == "desktop-db")
        with contextlib.closing(Live(setup, target, described, Selection(layered))) as live:
            documents: list[DocumentPlan] = []
            left: list[LeftAlone] = []
            for part in selection.parts:
                planner = _Planner(setup, target, part, to, addresses)
                documents += planner.documents()
                left += planner.left
            plan = Plan(
                subject=described.id,
                title=described.title,
                place=target.name,
                source=f"reset to the {to}'s values" if to == ORGANISATION else "reset to the defaults",
                documents=tuple(documents),
                left=tuple(left),
                objections=tuple(objections(target, described, live.manifest, tuple(documents), overruled)),
                seen={part.id: part.sha256 for part in live.manifest.parts},
            )
            ended = without_writing(plan, "Not reset", preview, approve)
            work = Work(setup, target, described, live)
            return ended or carry_out(work, plan, "reset", progress=progress)


class _Planner:
    """Plans one part."""

    def __init__(self, setup: Setup, place: Place, part: Part, to: Layer, addresses: tuple[str, ...]) -> None:
        self._setup, self._place, self._part = setup, place, part
        self._to, self._addresses = to, addresses
        self.left: list[LeftAlone] = []

    def documents(self) -> Iterator[DocumentPlan]:
        """Yield what would be written; what would not is in `left` then."""
        if self._part.store != "desktop-db":
            self._leave("", "", "only a settings database knows what lies beneath the user's values", False)
            return
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

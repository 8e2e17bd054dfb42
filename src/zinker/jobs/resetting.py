"""Reset: what the user has set goes, so that the application, or what lies beneath, counts again.

A plan like any other, carried out alike: only what the parts of the subject own goes. A settings database has
layers beneath the user's; from files and registry branches everything goes, and the application starts anew.
"""

import contextlib
from collections.abc import Iterator

import msgspec

from zinker.jobs.apply.carry_out import Approve, Outcome, Ready
from zinker.jobs.capture.live import LiveSnapshot
from zinker.jobs.capture.selection import Selection, select
from zinker.jobs.importing import Wishes, planned_import
from zinker.jobs.place_lock import at_place
from zinker.jobs.plan.add_ons import without_told
from zinker.jobs.plan.asked import at_addresses
from zinker.jobs.plan.checks import objections
from zinker.jobs.plan.documents import Options
from zinker.jobs.plan.layers import LayerPlanner
from zinker.jobs.plan.overruled import with_overruled
from zinker.jobs.plan.part import Sides, plan_part
from zinker.jobs.references import parse_reference
from zinker.jobs.session import Session
from zinker.jobs.setup import Setup
from zinker.jobs.sources import kept
from zinker.jobs.translate.view import Translated
from zinker.model.crosswalk import Crosswalk
from zinker.model.errors import WrongUsage
from zinker.model.plan import DocumentChange, LeftAlone, Plan
from zinker.model.profile import Manifest, Snapshot
from zinker.stores.desktop_db import DEFAULT, ORGANISATION
from zinker.stores.kinds import traits_of


def reset(
    setup: Setup,
    subject: str,
    place: str = "here",
    wishes: Wishes | None = None,
    to: str = "",
    *,
    preview: bool = False,
    approve: Approve = lambda plan: True,
) -> Outcome:
    """Go back to what an application starts with, or to a starting point.

    `to` is a layer of a settings database, `organisation` or `default`, or a reference to a kept version, which
    the parts are made like, exactly. Without it, what lies beneath counts again, and files and branches go.
    Where the organisation has another value than the default, the default is written as the user's own.
    Parts bound to the device stay unless they are wanted by name, or all such are.

    Raises `WrongUsage`, `Damaged`, `Refused` and `Failed`.
    """
    with planned_reset(setup, subject, place, wishes, to, look_only=preview) as ready:
        return ready.ended(preview, approve)


@contextlib.contextmanager
def planned_reset(
    setup: Setup,
    subject: str,
    place: str = "here",
    wishes: Wishes | None = None,
    to: str = "",
    *,
    look_only: bool = False,
) -> Iterator[Ready]:
    """Yield what `reset` carries out, ready for that; the place is held meanwhile. Raises as it does."""
    wishes = wishes or Wishes()
    if to not in ("", ORGANISATION, DEFAULT):
        with _to_version(setup, subject, place, wishes, to, look_only) as ready:
            yield ready
        return
    name, _, instance = subject.partition("/")
    described = setup.catalogue.find(name)
    selection = select(described, wishes.parts, wishes.without, instance, wishes.documents)
    processes = described.application.processes if wishes.wait else ()
    with at_place(setup, place, look_only=look_only, waited_for=processes) as target:
        bound = [p for p in selection.parts if p.device_bound and p.id not in wishes.parts]
        chosen = tuple(p for p in selection.parts if wishes.device_bound or p not in bound)
        chosen = without_told(described, chosen)
        session = Session(setup, target, described)
        with contextlib.closing(LiveSnapshot(session, Selection(chosen))) as live:
            known = ((part.id, name) for part in chosen for name in live.documents(part.id))
            selection.check(known, f"{name} at {target.told}")
            selection = msgspec.structs.replace(selection, parts=chosen)
            plan = _plan(session, live, selection, to, wishes)
            why = "bound to this device, so it stays; --part {} resets it, too"
            kept = [
                LeftAlone(p.id, "", "", why.format(p.id), wanted=False, reason="device")
                for p in bound
                if p not in chosen
            ]
            plan = msgspec.structs.replace(plan, left=(*plan.left, *kept))
            against = objections(session, live.manifest, plan, wishes.overruled)
            plan = msgspec.structs.replace(plan, objections=against)
            yield Ready(session, Nothing(live.manifest), plan, "reset")


def _to_version(
    setup: Setup, subject: str, place: str, wishes: Wishes, to: str, look_only: bool
) -> contextlib.AbstractContextManager[Ready]:
    """Make the parts like those of a kept version."""
    with kept(setup, parse_reference(to)) as source:
        if source.manifest.subject != subject.partition("/")[0]:
            why = f"{to} is a version of {source.manifest.subject}, not of {subject}"
            raise WrongUsage("Not reset", why, f"`zinker list {subject}` shows what is kept of it.")
    exact = msgspec.structs.replace(wishes, exact=True)
    return planned_import(setup, to, place, exact, look_only=look_only, kind="reset")


class Nothing(Snapshot):
    """A snapshot without any settings of the parts that another one has."""

    def __init__(self, manifest: Manifest) -> None:
        empty = (msgspec.structs.replace(p, documents=0, settings=0) for p in manifest.parts)
        self.manifest = msgspec.structs.replace(manifest, parts=tuple(empty), problems=())

    def pieces(self, part: str) -> Iterator[bytes]:
        """Yield nothing."""
        return iter(())


def _plan(session: Session, live: LiveSnapshot, selection: Selection, to: str, wishes: Wishes) -> Plan:
    documents: list[DocumentChange] = []
    left: list[LeftAlone] = []
    remarks: list[str] = []
    held = 0
    nothing = Translated(Nothing(live.manifest), Crosswalk())
    sides = Sides(session, live, nothing, Options(exact=True, keeps_files=bool(wishes.addresses)))
    for part in selection.parts:
        traits = traits_of(part.store)
        if traits.has_layers:
            planner = LayerPlanner(session, part, to, selection)
            documents += planner.documents()
            left += planner.left
        elif not traits.has_defaults:
            why = f"no {traits.noun} has a default to go back to; --to can name a kept version"
            left.append(LeftAlone(part.id, "", "", why, reason="unfit"))
        elif to == ORGANISATION:
            why = "what the organisation starts from is unknown; --to can name a kept version"
            left.append(LeftAlone(part.id, "", "", why, wanted=False, reason="unfit"))
        else:
            # Starting anew, nothing is an application's own business.
            plain = msgspec.structs.replace(part, volatile=(), kind="")
            planned = plan_part(sides, plain, selection)
            documents += planned.documents
            left += planned.left
            remarks += planned.remarks
            held += planned.held
    plan = Plan(
        subject=session.subject.id,
        title=session.subject.title,
        place=session.place.name,
        machine=session.place.machine,
        source="reset to the organisation's values" if to == ORGANISATION else "reset to the defaults",
        documents=with_overruled(session, documents),
        left=tuple(left),
        seen={part.id: part.sha256 for part in live.manifest.parts},
        fallback_size=held + sum(part.size for part in live.manifest.parts),
        remarks=tuple(remarks),
    )
    if not wishes.addresses:
        return plan
    return at_addresses(session, nothing, plan, wishes.addresses, (live,))

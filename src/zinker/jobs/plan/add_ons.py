"""Add-ons that settings depend on: those that a profile says were installed, and what of them a place lacks.

The part that tells of them is the application's own record: it is kept and compared, and never written.
"""

from collections.abc import Iterator

from zinker.jobs.plan.checks import DESPITE_NEEDS
from zinker.jobs.session import Session
from zinker.model.address import matches
from zinker.model.plan import Objection
from zinker.model.profile import Snapshot
from zinker.subjects.subject import AddOns, Part, Subject


def without_told(subject: Subject, parts: tuple[Part, ...]) -> tuple[Part, ...]:
    """Return the parts that may be written."""
    told = {one.part for one in subject.application.add_ons}
    return tuple(part for part in parts if part.id not in told)


def against_missing(session: Session, source: Snapshot, live: Snapshot) -> Iterator[Objection]:
    """Object where add-ons of a profile are not at a place; where both were looked at."""
    for one in _looked_at(session.subject, live):
        here = installed(one, live)
        missing = [
            f"{name} {version}".rstrip()
            for name, version in installed(one, source).items()
            if name not in here
        ]
        if missing:
            yield Objection(
                f"Add-ons are missing at {session.place.told}: {', '.join(missing)}.",
                "Install them first, or add --despite-needs.",
                DESPITE_NEEDS,
            )


def told_versions(session: Session, source: Snapshot, live: Snapshot) -> Iterator[str]:
    """Say which add-ons are at a place in another version."""
    for one in _looked_at(session.subject, live):
        here = installed(one, live)
        for name, version in installed(one, source).items():
            if here.get(name, version) != version:
                yield f"The add-on {name} is {here[name]} at {session.place.told}, and {version} in the profile."


def _looked_at(subject: Subject, live: Snapshot) -> list[AddOns]:
    return [one for one in subject.application.add_ons if live.manifest.part(one.part) is not None]


def installed(add_ons: AddOns, snapshot: Snapshot) -> dict[str, str]:
    """Return the add-ons that a snapshot tells of, each with its version, sorted by name."""
    found: dict[tuple[str, str], dict[str, str]] = {}
    depth = add_ons.item.count("/") + 1
    for setting in snapshot.settings(add_ons.part):
        steps = setting.address.split("/")
        item = "/".join(steps[:depth])
        if len(steps) > depth and matches(add_ons.item, item):
            found.setdefault((setting.document, item), {})[setting.address[len(item) :]] = str(setting.value)
    wanted = (
        told
        for told in found.values()
        if all(told.get(address) == value for address, value in add_ons.only.items())
    )
    named = {told[add_ons.name]: told.get(add_ons.version, "") for told in wanted if add_ons.name in told}
    return dict(sorted(named.items()))

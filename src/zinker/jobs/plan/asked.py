"""What was asked for by `--address`: settings by address, pattern, section or title; the rest is left out."""

from collections.abc import Callable, Iterable, Iterator

import msgspec

from zinker.jobs.plan.narrow import No, narrowed
from zinker.jobs.session import Session
from zinker.model.names import fits_address, unknown
from zinker.model.plan import DocumentChange, Plan, SettingChange
from zinker.model.policy import Titles
from zinker.model.profile import Snapshot
from zinker.stores.kinds import traits_of
from zinker.subjects.subject import Part

Asked = Callable[[Part, str, str], bool]

_WHOLE = No("the file does not exist here, so single settings cannot be written into it", "unfit")


def asked_for(texts: tuple[str, ...], titles: Titles) -> Asked:
    """Return what tells whether a setting of a document was asked for; everything is, where nothing is said."""

    def asked(part: Part, document: str, address: str) -> bool:
        if not texts:
            return True
        own = titles.get((part.id, document), {})
        title = own.get(address, "") or part.titles.get(address, "")
        folds_case = traits_of(part.store).folds_case
        return bool(address) and any(fits_address(text, address, title, folds_case) for text in texts)

    return asked


def at_addresses(
    session: Session, source: Snapshot, plan: Plan, texts: tuple[str, ...], known: Iterable[Snapshot]
) -> Plan:
    """Keep of a plan what was asked for; raises `WrongUsage`, with the nearest, for what fits no known setting."""
    asked = asked_for(texts, plan.titles)

    def verdict(change: DocumentChange, item: SettingChange | None) -> No | None:
        fits = item is not None and asked(session.part(change.part), change.document, item.address)
        return None if fits else No()

    found = narrowed(session, source, plan, verdict, _WHOLE)
    left = tuple(
        item
        for item in found.left
        if not item.address or asked(session.part(item.part), item.document, item.address)
    )
    there = [(session.part(d.part), d.document, item.address) for d in found.documents for item in d.items]
    for text in texts:
        _check(text, plan.titles, there, _settings(session, known))
    return msgspec.structs.replace(found, left=left)


def _settings(session: Session, known: Iterable[Snapshot]) -> Iterator[tuple[Part, str, str]]:
    for snapshot in known:
        for record in snapshot.manifest.parts:
            part = session.subject.find_part(record.id)
            for setting in snapshot.settings(record.id) if part is not None else ():
                if part is not None and setting.address:
                    yield part, setting.document, setting.address


def _check(
    text: str,
    titles: Titles,
    planned: Iterable[tuple[Part, str, str]],
    known: Iterator[tuple[Part, str, str]],
) -> None:
    asked = asked_for((text,), titles)
    if any(asked(*one) for one in planned):
        return
    names: dict[str, None] = {}
    for part, document, address in known:
        if asked(part, document, address):
            return
        title = titles.get((part.id, document), {}).get(address, "") or part.titles.get(address, "")
        names |= dict.fromkeys(filter(None, (address, title, address.rpartition("/")[0])))
    raise unknown("setting", text, names, "`zinker show` lists addresses and titles.")

"""Planning a reset where a store has layers: what the user has set goes, so that what lies beneath counts again."""

from collections.abc import Iterator
from typing import Protocol, cast

from zinker.formats.leaves import Leaves
from zinker.jobs.capture.selection import Selection
from zinker.jobs.secrets.detect import holds_secret
from zinker.jobs.session import Session
from zinker.model.plan import DocumentChange, LeftAlone, Reason, SettingChange
from zinker.model.setting import Leaf
from zinker.stores.desktop_db import BENEATH, DEFAULT, ORGANISATION, Layer
from zinker.stores.home import Home, NoHome
from zinker.subjects.subject import Part


class Layered(Protocol):
    """A home whose store has layers."""

    def where(self) -> list[str]:
        """Return the documents that there can be."""
        ...

    def layers(self, document: str) -> Iterator[tuple[str, Leaf, Layer, bool]]:
        """Yield, for every address that has a value in any layer, the one that counts, its layer, and its lock."""
        ...

    def beneath(self, document: str, layer: Layer) -> Leaves:
        """Return the values of a layer beneath the user's."""
        ...


def layered(home: Home) -> Layered:
    """Return a home that has layers as such; its traits say so."""
    return cast(Layered, home)


class LayerPlanner:
    """Plans one part of a store with layers."""

    def __init__(self, session: Session, part: Part, to: str, selection: Selection) -> None:
        self._session, self._part = session, part
        self._to, self._selection = to or ORGANISATION, selection
        self.left: list[LeftAlone] = []

    def documents(self) -> Iterator[DocumentChange]:
        """Yield what would be written; what would not is in `left` then."""
        try:
            home = self._session.home(self._part)
        except NoHome as error:
            self._leave("", "", error.why, "no-home")
            return
        for document in layered(home).where():
            is_meant = self._selection.has(self._part, document)
            items = tuple(self._items(home, document)) if is_meant else ()
            if items:
                yield DocumentChange(self._part.id, document, "edit", items)

    def _items(self, home: Home, document: str) -> Iterator[SettingChange]:
        reading = home.read(document)
        if not reading.is_readable:
            self._leave(document, "", reading.troubles[0].why, "unreadable")
            return
        own = reading.leaves
        organisation, default = (layered(home).beneath(document, layer) for layer in BENEATH)
        for address in sorted({*own, *(organisation if self._to == DEFAULT else ())}):
            after = self._wanted(document, address, organisation, default)
            before = own.get(address)
            if before == after:
                continue
            why = home.refusal(document, address)
            if why:
                self._leave(document, address, why, "refused")
                continue
            beneath = organisation.get(address, default.get(address)) if after is None else None
            yield SettingChange(
                address, self._shown(address, before), after, None, self._shown(address, beneath)
            )

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
            why = "its default is unknown; it goes back to the organisation's value"
            self._leave(document, address, why, "unfit")
        return default.get(address)

    def _shown(self, address: str, leaf: Leaf | None) -> Leaf | None:
        """Return a value as it may be shown and written down."""
        if leaf is not None and holds_secret(self._part, address, leaf):
            return self._session.withholder.mark(leaf)
        return leaf

    def _leave(self, document: str, address: str, why: str, reason: Reason) -> None:
        self.left.append(LeftAlone(self._part.id, document, address, why, reason=reason))

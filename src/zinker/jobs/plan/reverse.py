"""The way back from a change: what each document was, wherever it still is as the change left it."""

import functools
from collections.abc import Callable, Iterator, Mapping

import msgspec

from zinker.jobs.plan.result import leaves_of, with_result
from zinker.jobs.session import Session
from zinker.model.address import folded
from zinker.model.file_state import FileState, is_same
from zinker.model.plan import DocumentChange, LeftAlone, Reason, SettingChange
from zinker.model.profile import Snapshot
from zinker.model.setting import WITHHELD, Leaf, Setting
from zinker.model.where import Where
from zinker.stores.home import NoHome, Traits
from zinker.stores.reading import Reading

_SEALED = "it is a secret, and was sealed in for another machine"
_CHANGED_SINCE = "it has been changed again since"


def plan_reverse(
    session: Session, changes: tuple[DocumentChange, ...], fallback: Snapshot
) -> tuple[list[DocumentChange], list[LeftAlone]]:
    """Plan the way back from a change: a file that is untouched since comes back byte for byte.

    In everything else, the settings that still have the value the change gave them get back their old one.
    """
    plans: list[DocumentChange] = []
    left: list[LeftAlone] = []
    before = functools.cache(lambda part: _settings_by_document(fallback, part))
    session.expect(changes)
    for change in changes:
        part = session.subject.find_part(change.part)
        if part is None:
            why = "the subject has no such part any more"
            left.append(LeftAlone(*change.where, why, reason="no-home"))
            continue
        old = before(part.id).get(change.document, {})
        try:
            plan, more = _reversed(session, change, old, fallback)
        except NoHome as error:
            left.append(LeftAlone(*change.where, error.why, reason="no-home"))
            continue
        left += more
        plans += [plan] if plan is not None else []
    # What came last may refer to what came before.
    return plans[::-1], left


def _settings_by_document(fallback: Snapshot, part: str) -> dict[str, dict[str, Setting]]:
    """Return the opening lines of documents, and the keys that were empty: nothing else is of use later."""
    found: dict[str, dict[str, Setting]] = {}
    for setting in fallback.settings(part):
        if setting.is_head or setting.type == "key":
            found.setdefault(setting.document, {})[setting.address] = setting
    return found


def _reversed(
    session: Session, change: DocumentChange, old: dict[str, Setting], fallback: Snapshot
) -> tuple[DocumentChange | None, list[LeftAlone]]:
    part = session.part(change.part)
    home = session.home(part)
    raw = session.as_captured(part, change.document) if home.has(change.document) else None
    live = session.withholder.withhold(part, raw) if raw is not None else None
    if live is not None and home.traits.has_files:
        live = msgspec.structs.replace(live, leaves=leaves_of(live), blocks=None)
    way = _Way(change, home.traits, live, old, frozenset(fallback.secrets))
    plan = way.back(home.missing_folders)
    if plan is not None and plan.action == "edit" and plan.before is not None:
        plan, more = with_result(session, part, plan, raw, fallback)
        return plan, [*way.left, *more]
    return plan, way.left


class _Way:
    """The way back for one document: from the change and what is there now, as plain data."""

    def __init__(
        self,
        change: DocumentChange,
        traits: Traits,
        live: Reading | None,
        old: Mapping[str, Setting],
        opens: frozenset[Where],
    ) -> None:
        self._done, self._traits, self._live, self._old = change, traits, live, old
        self._opens = opens
        self.left: list[LeftAlone] = []

    def back(self, missing_folders: Callable[[str], int]) -> DocumentChange | None:
        """Return what takes the change back, or None; what is left as it is now is in `left` then."""
        if not self._traits.has_files:
            return self._by_setting(self._live)
        live = self._live
        if live is not None and (live.file is None or not live.file.identity):
            why = live.troubles[0].why if live.troubles else "its secret cannot be cut out"
            self._leave("", f"the one there cannot be read: {why}", "unreadable")
            return None
        now = live.file if live is not None else None
        if is_same(now, self._done.before) and not self._has_new_secrets():
            return None
        if now is None or is_same(now, self._done.after):
            return self._whole(missing_folders)
        assert live is not None  # noqa: S101 - it has a state
        sides = (self._done.before, self._done.after)
        if not live.leaves or any(state is not None and state.is_whole for state in sides):
            self._leave("", _CHANGED_SINCE, "changed-since")
            return None
        plan = self._by_setting(live)
        return msgspec.structs.replace(plan, before=now) if plan is not None else None

    def _has_new_secrets(self) -> bool:
        """Whether a secret is the one the change brought; a file's digest says nothing about its secrets."""
        leaves = self._live.leaves if self._live else {}
        brought = [i for i in self._done.items if i.after is not None and i.after.type == WITHHELD]
        return any(leaves.get(item.address) == item.after != item.before for item in brought)

    def _whole(self, missing_folders: Callable[[str], int]) -> DocumentChange | None:
        items = tuple(SettingChange(i.address, i.after, i.before) for i in self._done.items)
        if self._done.before is None:
            return self._removal(items)
        head = self._old.get("")
        state = FileState.of(head) if head is not None else FileState()
        if state.is_secret and not self._can_open(""):
            self._leave("", _SEALED, "withheld")
            return None
        for item in items:
            if item.after is not None and item.after.type == WITHHELD and not self._can_open(item.address):
                self._leave(item.address, _SEALED, "withheld")
        left = {item.address for item in self.left}
        return DocumentChange(
            self._done.part,
            self._done.document,
            "replace" if self._live else "create",
            tuple(item for item in items if item.address not in left),
            self._live.file if self._live else None,
            state,
            source=state.sha256,
            new_folders=0 if self._live else missing_folders(self._done.document),
        )

    def _removal(self, items: tuple[SettingChange, ...]) -> DocumentChange | None:
        """Take away a file that the change made."""
        brought = {item.address: item.after for item in self._done.items}
        own = self._live.leaves.items() if self._live else ()
        if any(leaf.type == WITHHELD and brought.get(address) != leaf for address, leaf in own):
            self._leave("", "it holds a secret by now, which removing it would lose", "changed-since")
            return None
        before, folders = self._live.file if self._live else None, self._done.new_folders
        where = (self._done.part, self._done.document)
        return DocumentChange(*where, "remove", items, before, new_folders=folders)

    def _can_open(self, address: str) -> bool:
        """Whether the fallback has a secret that stood there, and it could be opened."""
        return self._done.where._replace(address=address) in self._opens

    def _by_setting(self, live: Reading | None) -> DocumentChange | None:
        fold = folded if self._traits.folds_case else str
        known = [*(item.address for item in self._done.items), *(address for address in self._old if address)]
        leaves = live.leaves_at(known, fold) if live else {}
        items = []
        for item in self._done.items:
            now = leaves.get(fold(item.address))
            if now == item.before:
                continue
            is_emptied = item.after is not None and item.after.type == "key" and now is None
            if now == item.after or is_emptied:
                items.append(SettingChange(item.address, item.after, item.before))
            else:
                self._leave(item.address, _CHANGED_SINCE, "changed-since")
        items += self._empty_keys(leaves, items)
        # Emptying a key removes it, so those that are to stay, empty, come after everything else.
        items.sort(key=lambda item: item.after is not None and item.after.type == "key")
        made, went = self._done.action == "create", self._done.action == "remove"
        if made and live is not None and self._traits.has_files:
            return self._removal(tuple(items))
        if made and live is not None:
            # A branch goes last, when nothing is in it any more; a policy goes with all that it has.
            return DocumentChange(self._done.part, self._done.document, "remove", tuple(items))
        if went and live is None and items:
            return DocumentChange(self._done.part, self._done.document, "create", tuple(items))
        if not items:
            return None
        return DocumentChange(self._done.part, self._done.document, "edit", tuple(items))

    def _empty_keys(self, leaves: dict[str, Leaf], items: list[SettingChange]) -> Iterator[SettingChange]:
        """Yield the keys that were empty before the change put something into them."""
        for address, old in self._old.items():
            inside = any(folded(item.address).startswith(folded(address)) for item in items)
            if old.type == "key" and inside and folded(address) not in leaves:
                yield SettingChange(address, None, old.leaf)

    def _leave(self, address: str, why: str, reason: Reason) -> None:
        self.left.append(LeftAlone(self._done.part, self._done.document, address, why, reason=reason))

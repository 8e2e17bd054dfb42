"""Entries of a page: what happened to a setting or a file, and what was left out, in the words that people have."""

from collections import Counter
from collections.abc import Iterable
from typing import Any

import msgspec

from zinker.model.difference import Difference
from zinker.model.file_state import is_withheld
from zinker.model.plan import LeftAlone, SettingChange
from zinker.model.policy import Titles
from zinker.model.profile import Problem
from zinker.model.setting import DOCUMENT, USUAL_MODES, WHOLE, WITHHELD, Leaf, Setting, text_of
from zinker.reports.page import HAPPENED, PLANNED, Entry, Paragraph, Reasons
from zinker.reports.words import count, size, title
from zinker.stores.kinds import traits_of
from zinker.subjects.subject import Part, Subject

# What keeps two things apart in a form that has no room between them by itself.
GAP = Paragraph("")


def titled(part: Part | None, document: str, titles: Titles) -> Part | None:
    """Return a part with the titles that a service has for the settings of a document."""
    own = titles.get((part.id, document)) if part is not None else None
    return msgspec.structs.replace(part, titles=part.titles | own) if part is not None and own else part


def setting_entry(
    word: str,
    part: Part | None,
    address: str,
    before: Leaf | None,
    after: Leaf | None,
    verbs: tuple[str, str] = HAPPENED,
    notes: Iterable[str] = (),
) -> Entry:
    """Return the entry of a setting, or, at the address "", of a whole document."""
    name = title(part, address) if address else f"the whole {noun(part)}"
    same_kind = before is None or after is None or before.type == after.type
    one, other = (None if leaf is None else value_text(leaf, same_kind) for leaf in (before, after))
    if verbs is PLANNED and after is not None and after.type == WITHHELD:
        other = "withheld here, the one sealed in is written"
    elif is_withheld(before) and is_withheld(after):
        other = "another one, withheld too"
    at = address if name != address else ""
    return Entry(word, name, at, one, other, verbs, tuple(notes))


def noun(part: Part | None) -> str:
    """Return what people call a document of a part."""
    return traits_of(part.store).noun if part is not None else "file"


def value_text(leaf: Leaf | Setting | None, same_kind: bool = True) -> str:
    """Return a value for people, with its type where the other side has another."""
    if leaf is None:
        return ""
    if leaf.type == WHOLE:
        if "sha256" not in leaf.value:
            return text_of(leaf)
        mode = leaf.value.get("mode", "")
        more = f", mode {mode}" if mode and mode not in USUAL_MODES else ""
        return f"{size(leaf.value.get('size', 0))} (SHA-256 {leaf.value['sha256'][:8]}{more})"
    if leaf.type == DOCUMENT:
        return f"a file that can be read as {str(leaf.value.get('format', '')).upper()}"
    return text_of(leaf) if same_kind else f"{text_of(leaf)} ({leaf.type})"


def document_entry(
    word: str, document: str, of: str, store: str = "file", notes: Iterable[str] = ()
) -> Entry:
    """Return the entry for a document as a whole, with what it consists `of`."""
    what = traits_of(store).noun if store else "file"
    return Entry(word, f"{what} {document}", after=of, notes=tuple(notes), joined=True)


def whole_text(settings: int, leaf: Leaf | None) -> str:
    """Say how much a document is that is on one side only."""
    if leaf is not None and leaf.type == WHOLE:
        return size(leaf.value["size"]) if "size" in leaf.value else text_of(leaf)
    return count(settings, "setting")


def reasons(head: str, items: Iterable[LeftAlone | Problem], subject: Subject | None) -> Reasons:
    """Return what was left out with the reasons; what is equal is told once."""
    told = Counter((_where(item, subject), item.why) for item in items)
    return Reasons(head, tuple((where, why, times) for (where, why), times in told.items()))


def _where(item: LeftAlone | Problem, subject: Subject | None) -> str:
    part = subject.find_part(item.part) if subject else None
    where = [part.name if part else item.part, item.document]
    where += [title(part, item.address)] if item.address else []
    return ", ".join(filter(None, where))


def difference_json(
    id: str, document: str, difference: Difference | SettingChange, part: Part | None
) -> dict[str, Any]:
    """Return what happened to a setting, where it stands, what people call it, and its values, for programs."""
    return {
        "what": difference.word,
        "part": id,
        "document": document,
        "address": difference.address,
        "title": part.titles.get(difference.address, "") if part else "",
        "before": leaf_json(difference.before),
        "after": leaf_json(difference.after),
    }


def setting_json(id: str, setting: Setting, part: Part | None, **more: str) -> dict[str, Any]:
    """Return a setting, where it stands, what people call it, and what `more` is known, for programs."""
    return {
        "part": id,
        "document": setting.document,
        "address": setting.address,
        "title": part.titles.get(setting.address, "") if part else "",
        **{name: told for name, told in more.items() if told},
        "type": setting.type,
        "value": setting.value,
    }


def leaf_json(leaf: Any) -> dict[str, Any] | None:
    """Return a value with its type, for programs."""
    return None if leaf is None else {"type": leaf.type, "value": leaf.value}

"""The look of Zinker's text: headings, a word for what happened, the setting, the value before and after."""

from collections import Counter
from collections.abc import Iterable, Iterator

import msgspec
from rich.text import Text

from zinker.model.file_state import is_withheld
from zinker.model.plan import LeftAlone
from zinker.model.policy import Titles
from zinker.model.profile import Problem
from zinker.model.setting import DOCUMENT, USUAL_MODES, WHOLE, WITHHELD, Leaf, Setting, text_of
from zinker.reports.words import count, cut, size, title, value, visible
from zinker.stores.kinds import traits_of
from zinker.subjects.subject import Part, Subject

# Blue, orange and grey are told apart by nearly everybody; the words say the same. A terminal of 16 colours
# has no orange, and its yellow cannot be read on white: it is bold alone there.
STYLES = {
    "new": "bold blue",
    "changed": "bold dark_orange",
    "gone": "bold bright_black",
    "moved": "bold blue",
    "left": "dark_orange",
}
FEW_COLOURS = {"changed": "bold", "left": "bold"}
# What stands before the old and the new value: of what happened, and of what is planned.
HAPPENED = ("was", "now")
PLANNED = ("is", "becomes")
_WORD = 9
_NAME = 36


def heading(text: str) -> Text:
    """Return a line that opens a section."""
    return Text(text, style="bold")


def plain(text: str) -> Text:
    """Return a line without any look."""
    return Text(text)


def left_out(text: str) -> Text:
    """Return a line about something that was not done."""
    return Text(text, style="left")


def titled(part: Part | None, document: str, titles: Titles) -> Part | None:
    """Return a part with the titles that a service has for the settings of a document."""
    own = titles.get((part.id, document)) if part is not None else None
    return msgspec.structs.replace(part, titles=part.titles | own) if part is not None and own else part


def setting_lines(
    word: str,
    part: Part | None,
    address: str,
    before: Leaf | None,
    after: Leaf | None,
    width: int,
    verbs: tuple[str, str] = HAPPENED,
) -> Iterable[Text]:
    """Yield one line for a setting, or more where that is too long; a plan has addresses beside titles."""
    noun = traits_of(part.store).noun if part is not None else "file"
    name = title(part, address) if address else f"the whole {noun}"
    first = Text("  ").append(f"{word:<{_WORD}}", style=word)
    same_kind = before is None or after is None or before.type == after.type
    one, other = (value_text(leaf, same_kind) for leaf in (before, after))
    if verbs is PLANNED and after is not None and after.type == WITHHELD:
        other = "withheld here, the one sealed in is written"
    elif is_withheld(before) and is_withheld(after):
        other = "another one, withheld too"
    phrase = _phrase(word, one, other, verbs)
    # Where an option takes addresses, they can be read off.
    at = address if verbs is PLANNED and address and name != visible(address) else ""
    if 2 + _WORD + max(len(name), _NAME) + 2 + len(phrase) <= width:
        first.append(f"{name:<{_NAME}}  ").append(phrase)
        yield from with_address(first, at, width)
        return
    yield from with_address(first.append(cut(name, width - 2 - _WORD)), at, width)
    indent = " " * (2 + _WORD + 2)
    column = max(map(len, verbs)) + 1
    for leaf, verb, text in ((before, verbs[0], one), (after, verbs[1], other)):
        if leaf is not None:
            room = width - len(indent) - column
            yield Text(indent).append(f"{verb:<{column}}", style="bright_black").append(cut(text, room))


def with_address(line: Text, address: str, width: int) -> Iterable[Text]:
    """Yield a line with an address behind it, or beneath it where there is no room."""
    told = visible(address)
    if told and line.cell_len + 2 + len(told) <= width:
        line.append(f"  {told}", style="bright_black")
        told = ""
    yield line
    if told:
        yield beneath(told)


def beneath(text: str) -> Text:
    """Return a line that says more about the one above it."""
    return Text(f"{'':<{2 + _WORD + 2}}{text}", style="bright_black")


def _phrase(word: str, before: str, after: str, verbs: tuple[str, str]) -> str:
    if word in ("new", "moved"):
        return after
    return f"{verbs[0]} {before}" if word == "gone" else f"{verbs[0]} {before}, {verbs[1]} {after}"


def value_text(leaf: Leaf | Setting | None, same_kind: bool = True) -> str:
    """Return a value for one line, with its type where the other side has another."""
    if leaf is None:
        return ""
    if leaf.type == WHOLE:
        if "sha256" not in leaf.value:
            return visible(text_of(leaf))
        mode = leaf.value.get("mode", "")
        more = f", mode {mode}" if mode and mode not in USUAL_MODES else ""
        return f"{size(leaf.value.get('size', 0))} (SHA-256 {leaf.value['sha256'][:8]}{more})"
    if leaf.type == DOCUMENT:
        return f"a file that can be read as {visible(str(leaf.value.get('format', '')).upper())}"
    return value(leaf) if same_kind else f"{value(leaf)} ({leaf.type})"


class Block(msgspec.Struct):
    """What is said of one document: the title of its part, and lines; `is_file` for a single line that names it."""

    part: str
    document: str
    lines: list[Text]
    is_file: bool = False


def blocks_text(blocks: Iterable[Block]) -> Iterator[Text]:
    """Yield blocks under headings; files of one part that follow each other share one."""
    open_part = ""
    for block in blocks:
        if not (block.is_file and block.part == open_part):
            yield plain("")
            name = block.part if block.is_file else f"{block.part}, {visible(block.document)}"
            yield heading(visible(name))
        open_part = block.part if block.is_file else ""
        yield from block.lines


def file_line(word: str, document: str, of: str, width: int, store: str = "file") -> Text:
    """Return the line for a document as a whole, with what it consists `of`."""
    noun = traits_of(store).noun if store else "file"
    line = Text("  ").append(f"{word:<{_WORD}}", style=word)
    return line.append(cut(f"{noun} {visible(document)}, {of}", width - 2 - _WORD))


def whole_text(settings: int, leaf: Leaf | None) -> str:
    """Say how much a document is that is on one side only."""
    if leaf is not None and leaf.type == WHOLE:
        return size(leaf.value["size"]) if "size" in leaf.value else text_of(leaf)
    return count(settings, "setting")


def place_lines(items: Iterable[LeftAlone | Problem], subject: Subject | None) -> Iterator[Text]:
    """Yield a line for each that was left out, with the reason; equal lines are told once."""
    for line, times in Counter(_place_line(item, subject) for item in items).items():
        yield plain(f"{line} ({times:,} times)" if times > 1 else line)


def _place_line(item: LeftAlone | Problem, subject: Subject | None) -> str:
    part = subject.find_part(item.part) if subject else None
    where = [part.name if part else item.part, visible(item.document)]
    where += [title(part, item.address)] if item.address else []
    return f"  {', '.join(filter(None, where))}: {visible(item.why)}"

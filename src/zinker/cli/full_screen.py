"""A checklist that fills the terminal: arrows go through it, Space leaves or takes, typing looks for something."""

import os
import sys
from collections.abc import Callable, Iterator

from prompt_toolkit.application import Application
from prompt_toolkit.data_structures import Point
from prompt_toolkit.formatted_text import StyleAndTextTuples
from prompt_toolkit.key_binding import KeyBindings, KeyPressEvent
from prompt_toolkit.keys import Keys
from prompt_toolkit.layout import HSplit, Layout, UIContent, UIControl, Window
from prompt_toolkit.output import ColorDepth, create_output
from prompt_toolkit.styles import Style

from zinker.cli.checklist import Checklist, Row
from zinker.reports.render.text import FEW_COLOURS, STYLES, Line, checklist_line, line
from zinker.reports.words import count, cut, visible

_KEYS = (
    "Space leaves or takes, Ctrl-A all listed. Typing seeks. Left and right fold. Enter goes on.",
    "Space: leave or take. Ctrl-A: all. Typing seeks. Enter goes on.",
    "Space, Ctrl-A, letters, Enter",
)
# As prompt_toolkit calls what Rich calls so.
_COLOURS = {"blue": "ansiblue", "dark_orange": "#ff8700", "bright_black": "ansibrightblack"}
_VALUE_LINES = 3  # of the values of the row at which one stands
_BENEATH = 1 + 2 * _VALUE_LINES + 1  # lines below the list: what it is, its values, a note
_AT = "class:at"


def choose_on(checklist: Checklist, title: str) -> bool:
    """Let somebody choose on the whole terminal, and leave it as it was; Ctrl-C raises `KeyboardInterrupt`.

    Returns False where it is none that can be written anywhere, as some on Windows turn out to be.
    """
    try:
        output = create_output(sys.stderr)
    except Exception as error:
        if type(error).__name__ != "NoConsoleScreenBufferError":  # its module cannot be imported elsewhere
            raise
        return False
    rows = _Lines(
        lambda width, number: _row(checklist, checklist.rows[number], width),
        lambda: (len(checklist.rows), checklist.at),
    )
    around = [
        Window(
            _Lines(lambda width, number: _head(checklist, title, width)[number], lambda: (2, -1)), height=2
        ),
        Window(rows, wrap_lines=False),
        Window(height=1, char="─", style="class:quiet"),
        Window(
            _Lines(lambda width, number: _values(checklist, width)[number], lambda: (_BENEATH, -1)),
            height=_BENEATH,
        ),
        Window(_Lines(lambda width, number: _help(width), lambda: (1, -1)), height=1),
    ]
    has_few = output.get_default_color_depth() == ColorDepth.DEPTH_4_BIT
    looks = STYLES | FEW_COLOURS if has_few else STYLES
    styles = {
        name: " ".join(_COLOURS.get(word, word) for word in look.split()) for name, look in looks.items()
    }
    Application[None](
        layout=Layout(HSplit(around), focused_element=rows),
        key_bindings=_keys(checklist, rows),
        style=Style.from_dict(styles | {"at": "reverse"}),
        output=output,
        color_depth=ColorDepth.MONOCHROME if "NO_COLOR" in os.environ else None,
        full_screen=True,
    ).run()
    return True


class _Lines(UIControl):
    """Lines of which only those on the screen are asked for: `told` are how many there are and where one stands."""

    def __init__(self, of: Callable[[int, int], Line], told: Callable[[], tuple[int, int]]) -> None:
        self._of, self._told = of, told
        self.height = 1

    def is_focusable(self) -> bool:
        """Tell that keys go here: what is looked at is one of these lines."""
        return True

    def create_content(self, width: int, height: int) -> UIContent:
        """Return the lines as they are drawn."""
        self.height = height
        many, at = self._told()

        def get_line(number: int) -> StyleAndTextTuples:
            if number >= many:
                return []
            shown = self._of(width, number)
            if number != at:
                return [(f"class:{look}" if look else "", text) for text, look in shown.pieces]
            return [(_AT, f"{shown.plain:<{width}}")]

        return UIContent(get_line, max(1, many), Point(0, max(0, at)), show_cursor=False)


def _head(own: Checklist, title: str, width: int) -> tuple[Line, Line]:
    told = f"{own.count:,} of {len(own.choices):,} will be written"
    if own.sought:
        many = f"{own.listed:,} listed" if own.rows else "there is nothing"
        told += f"; {many} with “{visible(own.sought)}”; Esc lists all"
    return line(cut(visible(title), width), "strong"), line(cut(told, width))


def _row(own: Checklist, row: Row, width: int) -> Line:
    mark = own.mark(row)
    start = f"{mark:<5}  {'':>{2 * row.depth}}"
    if not row.head:
        shown = checklist_line(start, own.choices[row.first].entry, width)
        return line(shown.plain, "quiet") if mark == "leave" else shown
    many = count(row.end - row.first, "item") + (", folded" if own.is_folded(row) else "")
    name = cut(visible(row.head), max(12, width - len(start) - 2 - len(many)))
    return line(start, "quiet" if mark == "leave" else "") + (name, "strong") + (f"  {many}", "quiet")


def _values(own: Checklist, width: int) -> list[Line]:
    """Return what there is to say of the row at which one stands, as far as there is room."""
    told = list(_told(own, own.row, width)) if own.row is not None else []
    return (told + [Line()] * _BENEATH)[:_BENEATH]


def _told(own: Checklist, row: Row, width: int) -> Iterator[Line]:
    if row.head:
        taken = own.count_of(row)
        yield line(cut(visible(row.head), width), "strong")
        yield line(f"{taken:,} of {row.end - row.first:,} will be written")
        return
    one = own.choices[row.first]
    name = ", ".join(filter(None, (one.entry.name, one.entry.address)))
    yield line(cut(visible(name if one.entry.joined else f"{one.document}, {name}"), width), "strong")
    sides = (
        (("", one.entry.after),)
        if one.entry.joined
        else (("is", one.entry.before), ("becomes", one.entry.after))
    )
    for verb, value in sides:
        if value is not None:
            yield from _wrapped(f"{verb:<9}" if verb else "", visible(value), width)
    for note in one.entry.notes:
        yield line(cut(visible(note), width), "quiet")


def _wrapped(verb: str, value: str, width: int) -> Iterator[Line]:
    """Yield a value in as many lines as it may have, cut in its middle where it is longer."""
    room = max(1, width - len(verb))
    told = cut(value, room * _VALUE_LINES)
    for start in range(0, max(1, len(told)), room):
        yield line(f"{'' if start else verb:<{len(verb)}}", "quiet") + (told[start : start + room], "")


def _help(width: int) -> Line:
    return line(next((told for told in _KEYS if len(told) <= width), _KEYS[-1]), "quiet")


def _keys(own: Checklist, rows: _Lines) -> KeyBindings:
    keys = KeyBindings()

    def on(*names: str, do: Callable[[KeyPressEvent], object]) -> None:
        for name in names:
            keys.add(name)(do)

    def stop(event: KeyPressEvent) -> None:
        event.app.exit(exception=KeyboardInterrupt)

    on("up", do=lambda event: own.move(-1))
    on("down", do=lambda event: own.move(1))
    on("pageup", do=lambda event: own.move(-rows.height))
    on("pagedown", do=lambda event: own.move(rows.height))
    on("home", do=lambda event: own.move(-len(own.rows)))
    on("end", do=lambda event: own.move(len(own.rows)))
    on("left", do=lambda event: own.fold())
    on("right", do=lambda event: own.unfold())
    on(" ", do=lambda event: own.switch())
    on("c-a", do=lambda event: own.switch_listed())
    on("backspace", do=lambda event: own.seek(own.sought[:-1]))
    on("escape", "c-u", do=lambda event: own.seek(""))
    on("enter", do=lambda event: event.app.exit())
    on("c-c", "<sigint>", do=stop)

    @keys.add(Keys.Any)
    def _(event: KeyPressEvent) -> None:
        typed = event.data
        if typed.isprintable():
            own.seek(own.sought + typed)

    @keys.add(Keys.BracketedPaste)
    def _(event: KeyPressEvent) -> None:
        own.seek(own.sought + "".join(filter(str.isprintable, event.data)))

    return keys

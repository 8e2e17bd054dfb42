"""What every command does around its job: load the setup, print, ask, show progress."""

import contextlib
import os
import sys
import time
from collections.abc import Callable, Iterable, Iterator
from itertools import accumulate, chain, islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from zinker.cli.telling import is_followed, is_quiet, note, step
from zinker.model.errors import Refused, ZinkerError

if TYPE_CHECKING:
    from rich.console import Console
    from rich.progress import Progress
    from rich.text import Text

    from zinker.jobs.setup import Setup
    from zinker.jobs.together import Plans
    from zinker.model.plan import Plan
    from zinker.reports.page import Block
    from zinker.reports.render.text import Line

# A bar that is there for less than a second only flickers.
PATIENCE = 1.0


def setup_of(ctx: typer.Context) -> "Setup":
    """Load the configuration the user chose; what jobs do unasked is said on the error output."""
    from zinker.jobs.setup import load_setup

    chosen: Path | None = ctx.obj
    setup = load_setup(chosen)
    setup.notify = note
    setup.ask = ask_passphrase
    return setup


def ask_passphrase(what: str, is_new: bool) -> str:
    """Ask for a passphrase, a new one twice; "" where there is nobody."""
    if not can_ask():
        return ""
    return str(typer.prompt(what, hide_input=True, confirmation_prompt=is_new, err=True))


def tell_troubles(setup: "Setup") -> None:
    """Say on the error output what of the schedules somebody should look at."""
    if not (setup.own_folder / "schedules").exists():
        return
    from zinker.jobs.schedule.record import troubles

    for told in troubles(setup.own_folder):
        setup.notify(f"{told}.")


def console(stderr: bool = False) -> "Console":
    """Return a console that adds nothing of its own; 80 columns where there is no terminal."""
    from rich.console import Console
    from rich.theme import Theme

    from zinker.reports.render.text import FEW_COLOURS, STYLES

    own = Console(stderr=stderr, highlight=False, markup=False, emoji=False, soft_wrap=True)
    has_few = own.color_system in ("standard", "windows")
    own.push_theme(Theme(STYLES | FEW_COLOURS if has_few else STYLES))
    if not own.is_terminal and "COLUMNS" not in os.environ:
        own.width = 80
    return own


def emit(blocks: Iterable["Block"], full: bool = False, paged: bool = False) -> None:
    """Print blocks of a page in lines as long as there is room; `paged`, where they are more than a screen.

    A file, or a program that reads on, gets every line whole, and without looks.
    """
    from zinker.reports.render.text import lines
    from zinker.reports.words import UNCUT

    if not sys.stdout.isatty():
        sys.stdout.writelines(f"{line.plain}\n" for line in lines(blocks, UNCUT, full))
        return
    own = console()
    shown = (piece for line in lines(blocks, own.width, full) for piece in _folded(rich_text(line), own))
    # What Windows has as a pager knows no colours, and its terminals scroll back.
    is_paged = paged and can_ask() and (os.name != "nt" or "PAGER" in os.environ)
    first = list(islice(shown, own.height)) if is_paged else []
    if len(first) < own.height:
        for line in chain(first, shown):
            own.print(line)
        return
    os.environ.setdefault("LESS", "-R")  # looks stay looks
    with own.pager(styles=own.color_system is not None):
        for line in chain(first, shown):
            own.print(line)


def rich_text(line: "Line") -> "Text":
    """Return a line as Rich prints it."""
    from rich.text import Text

    return Text.assemble(*line.pieces)


def _folded(line: "Text", own: "Console") -> "Iterator[Text]":
    """Break a line that is too long between its words; terminals break it anywhere."""
    if line.cell_len <= own.width:
        yield line
        return
    from textwrap import TextWrapper

    from rich.text import Text

    indent = len(line.plain) - len(line.plain.lstrip()) + 2
    # Words stay whole, so that what is copied from a terminal is a path that exists.
    folder = TextWrapper(own.width - indent, break_long_words=False, break_on_hyphens=False)
    folder.expand_tabs = folder.replace_whitespace = folder.drop_whitespace = False
    ends = list(accumulate(map(len, folder.wrap(line.plain))))
    for number, piece in enumerate(line.divide(ends[:-1])):
        piece.rstrip()
        space = len(piece.plain) - len(piece.plain.lstrip())
        yield Text(" " * indent) + piece[space:] if number else piece


def emit_json(value: Any) -> None:
    """Print JSON, exact and indented."""
    from zinker.model.plain_json import encode

    print(encode(value, indent=2).decode(), end="")


def say(error: ZinkerError) -> None:
    """Print an error in words."""
    from zinker.reports.words import visible

    print("\n".join(visible(line) for line in str(error).split("\n")), file=sys.stderr)


def can_ask() -> bool:
    """Tell whether there is somebody who may be asked; Windows takes its null device for a terminal."""
    if is_quiet() or not sys.stdin.isatty() or os.name != "nt":
        return sys.stdin.isatty() and not is_quiet()
    import ctypes
    import msvcrt

    handle = ctypes.c_void_p(msvcrt.get_osfhandle(sys.stdin.fileno()))  # type: ignore[attr-defined,unused-ignore]
    mode = ctypes.byref(ctypes.c_uint32())
    return bool(ctypes.windll.kernel32.GetConsoleMode(handle, mode))  # type: ignore[attr-defined,unused-ignore]


def asker(
    yes: bool, is_quiet: bool, what: str, show: "Callable[[Plan | Plans], None]"
) -> "Callable[[Plan | Plans], bool]":
    """Return what shows a plan and asks for it; without a terminal, or with --json, only --yes will do."""

    def approve(plan: "Plan | Plans") -> bool:
        show(plan)
        if yes:
            return True
        if is_quiet or not can_ask():
            why = "there is no terminal to ask at, and --yes was not given"
            raise Refused(what, why, "Look at the plan with --preview, then add --yes.")
        for place in plan.production:
            asked = f"{place} is live: others depend on it. Type its name to write this"
            if typer.prompt(asked, default="", show_default=False) != place:
                return False
        return bool(plan.production) or typer.confirm("Write this?", default=False)

    return approve


def _bar(what: str) -> "Progress":
    from rich.progress import BarColumn, Progress, TextColumn

    columns = (
        TextColumn("{task.description}"),
        BarColumn(style="bright_black", complete_style="blue", finished_style="blue"),
        TextColumn("{task.fields[far]}"),
    )
    bar = Progress(*columns, console=console(stderr=True), transient=True)
    bar.add_task(what, total=0, far="")
    return bar


def _each_step() -> Callable[[str, int, int], None]:
    """Return a progress callback that says what is begun."""
    begun = ""

    def report(what: str, done: int, total: int) -> None:
        nonlocal begun
        if what not in (begun, ""):
            begun = what
            step(what)

    return report


@contextlib.contextmanager
def progress_shown() -> Iterator[Callable[[str, int, int], None]]:
    """Yield a progress callback that draws a bar once a job has taken a second, on a terminal only.

    The bar goes when all is done, so that there may be questions then.
    """
    if is_followed():
        yield _each_step()
        return
    if is_quiet() or not sys.stderr.isatty():
        yield lambda what, done, total: None
        return
    started = time.monotonic()
    bar: Progress | None = None

    def report(what: str, done: int, total: int) -> None:
        nonlocal started, bar
        if done >= total >= 0:
            started = time.monotonic()
            if bar is not None:
                bar.stop()
        elif time.monotonic() - started > PATIENCE:
            if bar is None:
                bar = _bar(what)
            bar.start()  # does nothing where it is drawn already
            far = f"{done:,} of {total:,}" if total >= 0 else f"{done:,} settings"
            known = total if total >= 0 else None
            bar.update(bar.task_ids[0], description=what, completed=done, total=known, far=far)

    try:
        yield report
    finally:
        if bar is not None:
            bar.stop()

"""The command `zinker`: of its commands, only the one that is asked for is imported, so that it starts fast.

The others are there by name and one line, for the help and for completion.
"""

import gc
import os
import signal
import sys
from collections.abc import Sequence
from importlib import import_module
from pathlib import Path
from typing import Annotated

import typer

import zinker
from zinker.cli.app import ASKED, new_app
from zinker.cli.guard import INTERRUPTED, guarded, interrupted, terminated, told, wants_json, was_interrupted
from zinker.model.errors import WrongUsage

# In the order of the work: name, what it does, and the heading it stands under.
COMMANDS = {
    "demo": ("Look", "Build the demo garden and walk through the whole job on it."),
    "subjects": ("Look", "What Zinker can handle, and where its parts live."),
    "places": ("Look", "The configured places, and whether they answer."),
    "show": ("Look", "The settings in a profile or at a place."),
    "compare": ("Look", "What is not the same: two versions, two places, kept and live."),
    "document": ("Look", "A whole configuration written down, to be read and filed."),
    "survey": ("Look", "Is every machine captured, and which one is not like the others?"),
    "spot": ("Look", "Which settings a change in the application touches."),
    "export": ("Keep", "Capture live settings as a new version, file or folder."),
    "list": ("Keep", "The kept versions."),
    "history": ("Keep", "When settings changed, over all kept versions."),
    "label": ("Keep", "Name a kept version, or take its name away."),
    "thin": ("Keep", "Remove old versions, by rules or one by one."),
    "check": ("Keep", "Look for damage on the shelf or in a profile, and mend it."),
    "copy": ("Keep", "Copy versions to another shelf or a file, or from there."),
    "seal": ("Keep", "Which keys open a shelf on which all is encrypted."),
    "schedule": ("Keep", "Keep a round regularly, while nobody looks."),
    "import": ("Put back", "Write a profile's settings to a place."),
    "transfer": ("Put back", "Bring settings from place to place, or instance to instance."),
    "crosswalk": ("Put back", "Translate paths, names and moved settings between two places."),
    "reset": ("Put back", "Back to the application's defaults, or to a starting point."),
    "changes": ("Put back", "What was changed at places, when, by whom, and how it ended."),
    "undo": ("Put back", "Take a change back."),
}
# The only option before a command that has a value.
_CONFIG = "--config"


def _version(wanted: bool) -> None:
    if wanted:
        print(f"zinker {zinker.__version__}")
        raise typer.Exit


def _install(wanted: bool) -> None:
    if wanted:
        _completion(install=True)


def _show(shell: str) -> None:
    if shell:
        _completion(shell)


@guarded
def _completion(shell: str = "", install: bool = False) -> None:
    from zinker.cli import completing

    if install:
        print(*completing.install(), "New shells complete.", sep="\n")
    else:
        print(completing.script_for(shell), end="")
    raise typer.Exit


def main(
    ctx: typer.Context,
    config: Annotated[
        Path | None,
        typer.Option(_CONFIG, help="Another configuration: a zinker.toml.", metavar="FILE"),
    ] = None,
    version: Annotated[
        bool, typer.Option("--version", is_eager=True, callback=_version, help="Show the version.")
    ] = False,
    install_completion: Annotated[
        bool,
        typer.Option(
            "--install-completion",
            is_eager=True,
            callback=_install,
            help="Have this shell complete what is typed.",
        ),
    ] = False,
    show_completion: Annotated[
        str,
        typer.Option(
            "--show-completion",
            is_eager=True,
            callback=_show,
            help="What bash, zsh, fish or powershell needs for it.",
            metavar="SHELL",
        ),
    ] = "",
) -> None:
    """REF is [place:]subject[/instance][@version]. Example: `zinker export mosslight`."""
    ctx.obj = config
    if ctx.invoked_subcommand is None:
        _begin(ctx)


@guarded
def _begin(ctx: typer.Context) -> None:
    """Say what to do first on this machine."""
    from zinker.cli.output import emit, setup_of, tell_troubles
    from zinker.jobs.beginning import beginning
    from zinker.reports.beginning import beginning_blocks

    setup = setup_of(ctx)
    emit(beginning_blocks(beginning(setup)))
    tell_troubles(setup)


def app_for(words: Sequence[str]) -> typer.Typer:
    """Return the command line for some words: all commands by name, and the one that they name as it is."""
    is_asked = ASKED in os.environ  # Typer answers, and has options of its own then
    app = new_app(invoke_without_command=True, add_completion=is_asked)
    app.callback()(main)
    chosen = _chosen(words)
    for name, (panel, text) in COMMANDS.items():
        if name != chosen:
            app.command(name, rich_help_panel=panel, help=text)(_elsewhere)
            continue
        module = import_module(f"zinker.cli.{name}_command")
        if hasattr(module, "app"):
            app.add_typer(module.app, name=name, rich_help_panel=panel)
        else:
            app.command(name, rich_help_panel=panel)(guarded(module.command))
    return app


def _elsewhere() -> None:
    """Stand for a command that was not asked for."""


def _chosen(words: Sequence[str]) -> str:
    """Return the command that some words name, or ""."""
    waiting = iter(words)
    for word in waiting:
        if word == _CONFIG:
            next(waiting, None)
        elif not word.startswith("-"):
            return word
    return ""


def _words() -> list[str]:
    """Return the words of the command line, or of the one that is to be completed."""
    if ASKED in os.environ:
        from zinker.cli.completing import line

        return line()[1:]
    return sys.argv[1:]


def _call(app: typer.Typer) -> None:
    """Call the app; a mistake of usage is also written for programs where they asked for that."""
    own = {"prog_name": "zinker", "windows_expand_args": False}
    if not wants_json():
        app(**own)
        return
    try:
        code = app(standalone_mode=False, **own)
    except typer.Abort:  # interrupted once more on its way out
        raise SystemExit(1) from None
    except Exception as error:
        if not hasattr(error, "format_message"):
            raise
        command = getattr(getattr(error, "ctx", None), "command_path", "zinker")
        then = f"`{command} --help` shows what there is."
        raise SystemExit(
            told(WrongUsage("Not understood", error.format_message().rstrip("."), then))
        ) from None
    raise SystemExit(code if isinstance(code, int) else 0)


def run() -> None:
    """Run the command line; ends with an exit code."""
    for name in ("stdout", "stderr"):
        if getattr(sys, name) is None:  # Python without a window, as a task of Windows starts it
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115, PTH123 - to the end
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
    for name in ("SIGTERM", "SIGHUP"):  # Windows has no SIGHUP
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), terminated)
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:  # in the background, it may be ignored
        signal.signal(signal.SIGINT, terminated)
    try:
        # What stands for several files, or for a place's own folder, is for the command to understand.
        _call(app_for(_words()))
    except (SystemExit, KeyboardInterrupt) as end:
        code = end.code if isinstance(end, SystemExit) else 1
        # A service that was interrupted ends with 0; all else was interrupted once more on its way out.
        is_again = bool(code) and code != INTERRUPTED and was_interrupted()
        if not is_again and code != INTERRUPTED:
            raise
        try:
            if is_again:
                interrupted()
            sys.stdout.flush()
        finally:  # all that was begun has ended; what is only being read need not be waited for
            os._exit(INTERRUPTED)
    finally:
        gc.freeze()  # on its way out, Python would look for cycles in all that there is, again and again

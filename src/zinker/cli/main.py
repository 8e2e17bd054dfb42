"""The command `zinker`: its subcommands are imported when they are asked for, so that it starts fast."""

import gc
import os
import signal
import sys
import traceback
from importlib import import_module
from pathlib import Path
from typing import Annotated, Any

import click
import typer
from click.shell_completion import CompletionItem
from typer.core import TyperGroup

import zinker
from zinker.model.errors import Refused, ZinkerError, reason

# In the order of the work: name, what it does, and the heading it stands under.
COMMANDS = {
    "demo": ("Try it", "Build the demo garden and walk through the whole job on it."),
    "subjects": ("Find", "What Zinker can handle, and where its parts live."),
    "places": ("Find", "The configured places, and whether they answer."),
    "export": ("Keep", "Capture live settings as a new version, file or folder."),
    "list": ("Keep", "The kept versions."),
    "show": ("Look", "The settings in a profile or at a place."),
    "compare": ("Look", "What is not the same: two versions, two places, kept and live."),
    "spot": ("Look", "Which settings a change in the application touches."),
    "import": ("Put back", "Write a profile's settings to a place."),
    "transfer": ("Put back", "Bring settings from place to place, or instance to instance."),
    "crosswalk": ("Put back", "Translate paths, names and moved settings between two places."),
    "reset": ("Put back", "Back to the application's defaults, or to a starting point."),
    "changes": ("Put back", "What was changed at places, when, by whom, and how it ended."),
    "undo": ("Put back", "Take a change back."),
}


# What Typer makes of an interrupt.
_TYPER_INTERRUPTED = 130


class LazyGroup(TyperGroup):
    """Finds a command's file by its name and imports it only then."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the names of all commands."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Import a command."""
        if cmd_name not in COMMANDS:
            return None
        app = typer.Typer(add_completion=False, rich_markup_mode=None, pretty_exceptions_enable=False)
        module = import_module(f"zinker.cli.{cmd_name}_command")
        app.command(cmd_name)(module.command)
        return typer.main.get_command(app)

    def shell_complete(self, ctx: click.Context, incomplete: str) -> list[CompletionItem]:
        """Complete a command's name or an option, without importing the commands."""
        found = [(name, text) for name, (_, text) in COMMANDS.items() if name.startswith(incomplete)]
        names = [CompletionItem(name, help=text) for name, text in found]
        return [*names, *click.Command.shell_complete(self, ctx, incomplete)]

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the commands under their headings, without importing them."""
        groups = dict.fromkeys(group for group, _ in COMMANDS.values())
        for group in groups:
            with formatter.section(group):
                formatter.write_dl(
                    [(f"{name:<9}", text) for name, (of, text) in COMMANDS.items() if of == group]
                )


app = typer.Typer(
    cls=LazyGroup,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    no_args_is_help=True,
    context_settings={"help_option_names": ["--help", "-h"], "max_content_width": 100},
    epilog="Example: zinker export mosslight --label before-update",
)


def _version(wanted: bool) -> None:
    if wanted:
        print(f"zinker {zinker.__version__}")
        raise typer.Exit


@app.callback()
def main(
    ctx: typer.Context,
    config: Annotated[
        Path | None,
        typer.Option(help="The configuration, in place of the usual zinker.toml.", metavar="FILE"),
    ] = None,
    version: Annotated[
        bool, typer.Option("--version", is_eager=True, callback=_version, help="Show the version.")
    ] = False,
) -> None:
    """Keep, compare and put back settings of applications, workstations, tenants.

    A reference is [place:]subject[/instance][@version], or the path of a profile.
    """
    ctx.obj = config


def run() -> None:
    """Run the command line; prints errors in words and ends with their exit code."""
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
    for name in ("SIGTERM", "SIGHUP"):  # Windows has no SIGHUP
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), _terminated)
    # Settings come by the million and hold no cycles: looking for some after every 700 of them doubles the time.
    gc.set_threshold(200_000, 50, 50)
    try:
        code = app(standalone_mode=False)
        if code == _TYPER_INTERRUPTED:
            raise KeyboardInterrupt
    except click.UsageError as error:
        error.show()
        code = 2
    except click.ClickException as error:
        error.show()
        code = error.exit_code
    except (click.Abort, KeyboardInterrupt):
        signal.signal(signal.SIGINT, signal.SIG_IGN)  # a second one would only hide the exit code
        print(
            "\nInterrupted: what was begun has been taken back, or the next run takes it back.",
            file=sys.stderr,
        )
        code = 3
    except ZinkerError as error:
        _end(error)
        code = error.exit_code
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        code = 0
    except OSError as error:
        then = "Put that right and run this again; whatever was begun is put right then, too."
        _end(Refused("Not done", f"{error.filename or 'a file'}: {reason(error)}", then))
        code = 3
    except Exception:  # noqa: BLE001 - a mistake in Zinker itself must be said, too
        code = _own_mistake()
    sys.exit(code or 0)


def _terminated(number: int, frame: Any) -> None:
    raise KeyboardInterrupt


def _end(error: ZinkerError) -> None:
    from zinker.cli.output import emit_json, say

    if "--json" in sys.argv:
        emit_json({"error": {"what": error.what, "why": error.why, "then": error.then}})
    say(error)


def _own_mistake() -> int:
    import tempfile

    if "ZINKER_DEBUG" in os.environ:
        traceback.print_exc()
        return 4
    with tempfile.NamedTemporaryFile(
        "w",
        prefix="zinker-mistake-",
        suffix=".txt",
        delete=False,
        encoding="utf-8",
        errors="backslashreplace",
    ) as file:
        traceback.print_exc(file=file)
    print(
        f"Not finished: Zinker itself made a mistake; what happened stands in {file.name}.\n"
        "Please report it with that file. The next run puts right whatever was begun.",
        file=sys.stderr,
    )
    return 4

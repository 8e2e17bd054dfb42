"""What becomes of what a command raises: words on the error output, and an exit code."""

import contextlib
import functools
import os
import signal
import sys
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Any, Final, TypeVar, cast

import typer

from zinker.cli.app import ASKED
from zinker.cli.taking import with_options
from zinker.cli.telling import SAYING, ended, tell, wrong
from zinker.model.errors import Refused, WrongUsage, ZinkerError, reason, remedy

INTERRUPTED: Final = 3  # the exit code
Command = TypeVar("Command", bound=Callable[..., Any])


def guarded(command: Command) -> Command:
    """Return a command that says in words what goes wrong in it, and ends with the code of that."""
    if ASKED in os.environ:
        from zinker.cli.completing import attach

        attach(command)

    @functools.wraps(command)
    def run(*arguments: Any, **given: Any) -> None:
        try:
            contexts = (one for one in given.values() if hasattr(one, "command"))
            _check_once(next(contexts, None), sys.argv[1:])
            understood = {name: _understood(value) for name, value in given.items()}
            said = {name: understood.pop(name, default) for name, (_, default) in SAYING.items()}
            tell(**said, is_read=wants_json() or understood.get("format") not in (None, "text"))
            command(*arguments, **understood)
        except (KeyboardInterrupt, typer.Abort):
            raise typer.Exit(interrupted()) from None
        except ZinkerError as error:
            raise typer.Exit(told(error)) from None
        except BrokenPipeError:  # the reader has gone, which is no mistake
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            raise typer.Exit(0) from None
        except OSError as error:
            then = f"{remedy(error)}, and run this again; whatever was begun is put right then, too."
            what = Refused("Not done", f"{error.filename or 'a file'}: {reason(error)}", then)
            raise typer.Exit(told(what)) from None
        except Exception as error:  # noqa: BLE001 - a mistake in Zinker itself must be said, too
            if type(error).__module__.startswith(("click.", "typer.")):
                raise  # a value that an option cannot take
            raise typer.Exit(_own_mistake()) from None

    def logged(*arguments: Any, **given: Any) -> None:
        try:
            run(*arguments, **given)
        except typer.Exit as end:
            ended(end.exit_code)
            raise
        ended(0)

    return cast(Command, with_options(logged, command, SAYING))


def _check_once(context: typer.Context | None, words: list[str]) -> None:
    """Raise `WrongUsage` for an option that is given twice and would count once."""
    for option in context.command.params if context is not None else ():
        if option.param_type_name != "option" or option.multiple or getattr(option, "is_flag", False):
            continue
        names = [name for name in option.opts if name.startswith("--")]
        given = [word for word in words if word.partition("=")[0] in names]
        if len(given) > 1:
            why = f"{names[0]} was given {len(given)} times, and counts once"
            raise WrongUsage("Nothing done", why, "Leave one out.")


def understood(path: Path | str) -> Path:
    """Return a path with `~` and variables in it replaced; not every shell does that."""
    if not set("~%$") & set(str(path)):
        return Path(path)
    from zinker.places.given import path_at
    from zinker.places.here import Here

    return path_at(str(path), Here())


def _understood(value: Any) -> Any:
    if isinstance(value, list):
        return [*map(_understood, value)]
    return understood(value) if isinstance(value, Path) else value


def terminated(number: int, frame: Any) -> None:
    """Treat a signal that asks for an end as an interrupt; `was_interrupted` tells of it from then on."""
    signal.signal(signal.SIGINT, _again)
    raise KeyboardInterrupt


def _again(number: int, frame: Any) -> None:
    raise KeyboardInterrupt


def was_interrupted() -> bool:
    """Tell whether a signal has asked for an end, whatever became of that on its way out."""
    return signal.getsignal(signal.SIGINT) is _again


def interrupted() -> int:
    """Say that what was begun has ended, and return the exit code of that."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # a second one would only hide the exit code
    what = "\nInterrupted: what was begun has been taken back, or the next run takes it back."
    with contextlib.suppress(OSError):  # the terminal may have gone
        print(what, file=sys.stderr, flush=True)
    return INTERRUPTED


def wants_json() -> bool:
    """Tell whether a program reads what is written."""
    words = " ".join(sys.argv).replace("--format=", "--format ")
    return "--json" in sys.argv or "--format json" in words


def told(error: ZinkerError) -> int:
    """Say an error, for programs, too, where they read it, and return its exit code."""
    from zinker.cli.output import emit_json, say

    wrong(f"{error.what}: {error.why}")
    if wants_json():
        emit_json({"error": {"what": error.what, "why": error.why, "then": error.then}})
    say(error)
    return error.exit_code


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

"""How much a command says: less for a quiet one, each step for a verbose one; a log has that with times.

Steps are what is read, whatever is about to change on a disk or a shelf (where tests kill Zinker, too), and what is
asked of a service. Values of settings are in none of them.
"""

import os
import stat
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Final

import typer

import zinker
from zinker.model.errors import WrongUsage, reason

if TYPE_CHECKING:
    import logging

_PANEL = "How much is said"
Quiet = Annotated[
    bool,
    typer.Option(
        "--quiet", help="Say only what went wrong; the exit code tells the rest.", rich_help_panel=_PANEL
    ),
]
Verbose = Annotated[bool, typer.Option("--verbose", help="Also say each step.", rich_help_panel=_PANEL)]
Log = Annotated[
    Path | None,
    typer.Option(
        "--log", help="Add each step to this file, with its time.", metavar="FILE", rich_help_panel=_PANEL
    ),
]
# What every command takes besides its own.
SAYING: Final[dict[str, tuple[Any, Any]]] = {
    "quiet": (Quiet, False),
    "verbose": (Verbose, False),
    "log": (Log, None),
}
# `create` is what the other steps come from: a part of a file that is not there yet.
_STEPS = {
    "rename": "writing",
    "unlink": "removing",
    "rmdir": "removing the folder",
    "make": "making the folder",
    "link": "linking",
}
_log: "logging.Logger | None" = None  # where somebody wants to know each step
_is_quiet = False


def is_quiet() -> bool:
    """Tell whether only what went wrong is to be said."""
    return _is_quiet


def is_followed() -> bool:
    """Tell whether somebody wants to know each step."""
    return _log is not None


def step(text: str) -> None:
    """Say a step, where somebody wants to know it."""
    if _log is not None:
        _log.info(text)


def note(text: str) -> None:
    """Say what jobs do unasked."""
    if _log is not None:
        _log.warning(text)
    if not _is_quiet:
        print(f"Note: {text}", file=sys.stderr)


def wrong(text: str) -> None:
    """Add to the log what went wrong; who runs the command is told by others."""
    if _log is not None:
        _log.error(text)


def tell(quiet: bool, verbose: bool, log: Path | None, is_read: bool) -> None:
    """Say as much as was asked for from now on; `is_read` tells whether a program reads what is written."""
    global _is_quiet  # noqa: PLW0603 - there is one error output
    if quiet and verbose:
        raise WrongUsage("Nothing done", "--quiet and --verbose do not go together", "Leave one out.")
    if verbose or log is not None:
        _follow(verbose, log)
    _is_quiet = quiet
    if quiet and not is_read:
        sys.stdout = open(os.devnull, "w", encoding="utf-8")  # noqa: SIM115, PTH123 - to the end


def _follow(is_shown: bool, log: Path | None) -> None:
    """Hear of each step from now on."""
    global _log  # noqa: PLW0603 - a process has one
    import logging

    from zinker.disk.announce import EVENT

    handlers = [_opened(log)] if log is not None else []
    if is_shown:
        shown = logging.StreamHandler(sys.stderr)
        shown.setFormatter(_one_line("  %(message)s"))
        shown.addFilter(lambda record: record.levelno == logging.INFO)  # all else is said anyway
        handlers.append(shown)
    _log = own = logging.getLogger("zinker")

    def heard(event: str, given: tuple[Any, ...]) -> None:
        if event == EVENT and given[0] in _STEPS and not given[1].endswith(".zinker-part"):
            own.info("%s %s", _STEPS[given[0]], given[1])

    sys.addaudithook(heard)
    requests = logging.getLogger("httpx2")
    requests.addFilter(_without_query)
    for logger in (own, requests):
        logger.setLevel(logging.INFO)
        logger.propagate = False
        for handler in handlers:
            logger.addHandler(handler)
    words = " ".join(sys.argv[1:])
    own.info("zinker %s, Python %s, %s: %s", zinker.__version__, sys.version.split()[0], sys.platform, words)


def _without_query(record: "logging.LogRecord") -> bool:
    """Leave out of an address what was asked for: it may hold anything."""
    told = tuple(str(one).partition("?")[0] for one in record.args or ())
    record.msg, record.args = "%s %s: %s %s %s", told
    return len(told) == 5


def _one_line(form: str) -> "logging.Formatter":
    """Return what makes one line of a step, that says the time exactly and acts on no terminal."""
    import datetime
    import logging

    from zinker.reports.words import visible

    class OneLine(logging.Formatter):
        def formatTime(self, record: logging.LogRecord, datefmt: str | None = None) -> str:  # noqa: N802
            then = datetime.datetime.fromtimestamp(record.created).astimezone()
            return then.isoformat(timespec="milliseconds")

        def format(self, record: logging.LogRecord) -> str:
            return visible(super().format(record))

    return OneLine(form)


def _opened(path: Path) -> "logging.StreamHandler[Any]":
    """Open a log to add to, which is its owner's alone where it is new."""
    import logging

    try:
        descriptor = os.open(
            path, os.O_WRONLY | os.O_APPEND | os.O_CREAT | getattr(os, "O_NONBLOCK", 0), 0o600
        )
        file = open(descriptor, "a", encoding="utf-8", errors="backslashreplace")  # noqa: PTH123, SIM115
        if not stat.S_ISREG(os.fstat(descriptor).st_mode):
            raise WrongUsage("Nothing done", f"{path} is no file that can be added to", "Name another one.")
    except OSError as error:
        why = f"the log {path} cannot be written: {reason(error)}"
        raise WrongUsage("Nothing done", why, "Name another file.") from None

    class Log(logging.StreamHandler[Any]):
        def handleError(self, record: logging.LogRecord) -> None:  # noqa: N802
            if self in own.handlers:  # a full disk, say: what is done goes on, and that is said once
                own.removeHandler(self)
                print(f"Note: the log {path} cannot be written any more.", file=sys.stderr)

    own = logging.getLogger("zinker")
    handler = Log(file)
    handler.setFormatter(_one_line(f"%(asctime)s {os.getpid()} %(levelname)s %(message)s"))
    return handler


def ended(code: int) -> None:
    """Say how the command ended, where somebody wants to know."""
    step(f"ended with {code}")

"""The story: each command is shown, and really run, on the demo garden."""

import contextlib
import os
import shlex
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from importlib.util import find_spec
from pathlib import Path

from zinker.demo.garden import click, close_till, set_running, spoil, spoil_both
from zinker.demo.ports import free_port
from zinker.model.errors import Failed

MOVE = "move.crosswalk.toml"
GO = "go-live.crosswalk.toml"
PORT = 8321  # where the garden's places expect its tenants
SECRET = "a heron by the pond"  # noqa: S105 - made up, as the whole tenant is


def tell(garden: Path) -> None:
    """Walk through the whole job; raises `Failed` if a command does not end as it should."""
    started = time.monotonic()
    run = _Runner(garden)
    run.say("Ivy looks after the greenhouse lights of Tarn Hollow Gardens, from a workstation called")
    run.say("potting-shed. Where does Mosslight keep what she has set up there?")
    run("subjects", "show", "mosslight", "--place", "potting-shed")
    run.say("In five places. She captures them all in one go, as the season begins.")
    run("export", "mosslight", "--place", "potting-shed", "--label", "season-start")
    run.say("Weeks later somebody clicks about in Mosslight and saves. What is different now?")
    spoil(garden)
    run("compare", "mosslight", ends=1)
    run("export", "mosslight", "--place", "potting-shed", "--label", "as-found")
    run.say("She looks at what would be put back, before anything is.")
    run("import", "mosslight@season-start", "--place", "potting-shed", "--preview")
    run.say("The application must be closed, or it would overwrite it all again.")
    set_running(garden, True)
    run("import", "mosslight@season-start", "--place", "potting-shed", "--yes", ends=3)
    set_running(garden, False)
    run("import", "mosslight@season-start", "--place", "potting-shed", "--yes")
    run("compare", "mosslight@season-start")
    run.say("Next morning the lamps burn at the wrong time again: somebody imported the wrong version.")
    run("import", "mosslight@as-found", "--place", "potting-shed", "--part", "general", "--yes")
    run("changes")
    run.say(
        "What was there before is on the shelf, so it is taken back. A second time there is nothing to take back."
    )
    run("undo", "2", "--yes")
    run("undo", "2", "--yes", ends=3)
    run("compare", "mosslight@season-start")
    run.say(
        "The workstation is replaced by another machine, with another user. A crosswalk is proposed from both."
    )
    run("crosswalk", "new", "potting-shed", "glasshouse", "--subject", "mosslight", "--to", MOVE)
    run.say(
        "The profile goes there as one file, on a stick. It is another machine's, so that has to be said."
    )
    run("export", "mosslight@season-start", "--to", "stick")
    profile = next((garden / "stick").glob("*.zinker")).relative_to(garden).as_posix()
    move = ("--place", "glasshouse", "--crosswalk", MOVE)
    run("import", profile, *move, "--yes", ends=3)
    run("import", profile, *move, "--adopt", "--report", "ticket.txt", "--yes")
    run.say("The licence stayed behind, as it is valid on the old device only. Is all the rest as it was?")
    run("compare", profile, "glasshouse:mosslight", "--crosswalk", MOVE, ends=1)
    run.say(
        "Which setting is it that makes the dusk start later? Fern moves the slider while Zinker watches."
    )
    watches = ("--still", "1", "--for", "2", "--label", "late-dusk")
    run("spot", "mosslight", "--place", "glasshouse", *watches, meanwhile=lambda: click(garden))
    _till(run, garden)
    if _tenants(run, garden):
        _round(run, garden)
    run("list")
    _paper(run, garden)
    run.say(f"That took {time.monotonic() - started:.0f} seconds. A garden as it was before is yours:")


def _paper(run: "_Runner", garden: Path) -> None:
    """Tell how it is written down for those who were not there."""
    run.say("When did the dusk change, and by whom?")
    run("history", "mosslight", "--find", "dusk", "--place", "potting-shed")
    run.say("For the ticket: a page on what was found. For the file: all of Mosslight, as a document.")
    run("compare", "mosslight@season-start", "mosslight@as-found", "--output", "as-found.html", ends=1)
    with_docx = find_spec("docx") is not None  # pip install 'zinker[documents]' brings what writes it
    paper = "mosslight.docx" if with_docx else "mosslight.md"
    run("document", "mosslight@season-start", "--output", paper)
    run.say(f"To look at them: {garden / 'as-found.html'} and {garden / paper}")


def _till(run: "_Runner", garden: Path) -> None:
    """Tell how the ticket till moves to a new machine."""
    run.say("The machine of the ticket till does not start any more; its disk is connected. What is on it?")
    run("export", "brindlepot", "--place", "old-kiosk", "--label", "last-day")
    run.say(
        "Its registry was read from the disk, with what a log still held. What has the new till otherwise?"
    )
    run("compare", "brindlepot@last-day", "gate-kiosk:brindlepot", ends=1)
    close_till(garden)
    run("import", "brindlepot@last-day", "--place", "gate-kiosk", "--adopt", "--yes")
    run.say("And as a text file, for a colleague who has no Zinker. What is kept by now?")
    run("export", "brindlepot@last-day", "--to", "till.reg")


def _tenants(run: "_Runner", garden: Path) -> bool:
    """Tell how policies go from the trial tenant to the live one, and back; tells whether they can be served."""
    run.say("The policies of the garden's machines are set up in a trial tenant, and copied to the live one.")
    try:
        served = serving(garden)
    except ImportError:
        run.say("(Left out: pip install 'zinker[demo-tenant]' brings the service that stands for them.)")
        return False
    with served:
        run("places")
        run("export", "garden-tenant", "--place", "trial", "--label", "agreed")
        run.say("What would be another one in the live tenant? A crosswalk is proposed, for its groups.")
        run("crosswalk", "new", "trial", "tarnhollow", "--subject", "garden-tenant", "--to", GO)
        rules = ("--crosswalk", GO, "--for-whom")
        live = ("--place", "tarnhollow", *rules)
        run("compare", "garden-tenant@agreed", "tarnhollow:garden-tenant", *rules[:2], ends=1)
        run.say("Nothing gets there by accident: it has to be named.")
        run("import", "garden-tenant@agreed", *live, "--adopt", "--yes", ends=3)
        run("import", "garden-tenant@agreed", *live, "--adopt", "--live", "tarnhollow", "--yes")
        run("compare", "garden-tenant@agreed", "tarnhollow:garden-tenant", *rules[:2], ends=1)
        run.say("That was too early: all of it back, as it was.")
        run("undo", "--live", "tarnhollow", "--yes")
    return True


def _round(run: "_Runner", garden: Path) -> None:
    """Tell how a configuration with two homes is captured, spoiled and restored as one."""
    run.say("The lights on potting-shed and the rules in the trial tenant belong together. zinker.toml names")
    run.say("both as a round, which is captured under one label.")
    with serving(garden):
        run("export", "--round", "lights", "--label", "evening")
    spoil_both(garden)
    with serving(garden):
        run.say(
            "Somebody has been at both of them. One comparison, one plan, one change, which is undone as one."
        )
        run("compare", "--round", "lights@evening", ends=1)
        run("import", "--round", "lights@evening", "--yes")
        run("compare", "--round", "lights@evening", "--brief")


@contextlib.contextmanager
def serving(garden: Path) -> Iterator[None]:
    """Serve the garden's tenants, at a port that is free; raises `ImportError` where that is not installed."""
    import starlette  # noqa: F401
    import uvicorn  # noqa: F401

    port = free_port()
    toml = garden / "zinker-home" / "zinker.toml"
    toml.write_text(toml.read_text(encoding="utf-8").replace(f":{PORT}/", f":{port}/"), encoding="utf-8")
    command = [sys.executable, "-m", "zinker", "demo", "tenant"]
    command += ["--folder", str(garden / "tenants"), "--port", str(port)]
    service = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    try:
        while service.poll() is None:  # it answers as soon as it can, for as long as it lives
            with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port)):
                break
            time.sleep(0.05)
        else:
            why = f"the service that stands for the tenants ended with {service.returncode}"
            raise Failed("Demo not finished", why, "Please report this.")
        yield
    finally:
        service.terminate()
        service.wait()
        text = toml.read_text(encoding="utf-8").replace(f":{port}/", f":{PORT}/")
        toml.write_text(text, encoding="utf-8")


class _Runner:
    """Shows a command and runs it, in the garden."""

    def __init__(self, garden: Path) -> None:
        self._garden = garden
        self._env = {**os.environ, "ZINKER_HOME": str(garden / "zinker-home")}
        self._env.pop("ZINKER_CONFIG", None)
        self._env |= dict.fromkeys(("ZINKER_SECRET_TRIAL", "ZINKER_SECRET_TARNHOLLOW"), SECRET)

    def say(self, text: str) -> None:
        print(f"\n# {text}" if not text[:1].islower() else f"# {text}", flush=True)

    def __call__(self, *arguments: str, ends: int = 0, meanwhile: Callable[[], None] | None = None) -> None:
        """Run the command; `meanwhile` is done once it watches for the second time."""
        print(f"\n$ zinker {shlex.join(arguments)}", flush=True)
        command = [sys.executable, "-m", "zinker", *arguments]
        errors = subprocess.PIPE if meanwhile else None
        with subprocess.Popen(
            command, cwd=self._garden, env=self._env, stdin=subprocess.DEVNULL, stderr=errors
        ) as done:
            watched = 0
            for line in done.stderr or ():
                sys.stderr.buffer.write(line)
                sys.stderr.flush()
                watched += b"Watching" in line
                if watched == 2 and meanwhile:
                    watched += 1
                    meanwhile()
        if done.returncode != ends:
            why = f"`zinker {shlex.join(arguments)}` ended with {done.returncode}, not {ends}"
            raise Failed("Demo not finished", why, "Please report this.")


def _windows_words(garden: Path) -> list[str]:
    home = garden / "zinker-home"
    stick = Path(sys.executable).parents[1]
    if (stick / "zinker.cmd").exists():  # what it keeps is beside it, whatever the environment says
        return [
            f'  cd /d "{garden}"',
            f'  doskey zinker="{stick}\\zinker.cmd" --config "{home}\\zinker.toml" $*',
        ]
    known = [] if shutil.which("zinker") else [f"  set PATH={Path(sys.executable).parent};%PATH%"]
    return [
        *known,
        f'  cd /d "{garden}"',
        f"  set ZINKER_HOME={home}",
        f'  (in PowerShell: $env:ZINKER_HOME = "{home}")',
    ]


def _shell_words(garden: Path) -> list[str]:
    # Run from an environment that is not activated, the command is not on the path.
    folder = Path(sys.executable).parent
    known = [] if shutil.which("zinker") else [f'  export PATH="{folder}:$PATH"']
    home = shlex.quote(str(garden / "zinker-home"))
    return [*known, f"  cd {shlex.quote(str(garden))}", f"  export ZINKER_HOME={home}"]


def invitation(garden: Path) -> str:
    """Return what to type to go on in a garden: the tour of the README."""
    return "\n".join(
        [
            *(_windows_words(garden) if os.name == "nt" else _shell_words(garden)),
            "  zinker subjects show mosslight --place potting-shed",
            "  zinker export mosslight --place potting-shed --label season-start",
            "  zinker demo scene wrong-click                      (somebody changes something)",
            "  zinker compare mosslight",
            "  zinker import mosslight@season-start --place potting-shed",
            "  zinker undo",
        ]
    )

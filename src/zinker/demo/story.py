"""The story: each command is shown, and really run, on the demo garden."""

import os
import shlex
import shutil
import subprocess
import sys
import time
from pathlib import Path

from zinker.demo.garden import close_till, set_running, spoil
from zinker.model.errors import Failed


def tell(garden: Path) -> None:
    """Walk through the whole job; raises `Failed` if a command does not end as it should."""
    started = time.monotonic()
    run = _Runner(garden)
    run.say("Ivy looks after the greenhouse lights of Tarn Hollow Gardens, from a workstation called")
    run.say("potting-shed. Where does Mosslight keep what she has set up there?")
    run("subjects", "mosslight", "--place", "potting-shed")
    run.say("In five places. She captures them all in one go, as the season begins.")
    run("export", "mosslight", "--place", "potting-shed", "--label", "season-start")
    run.say("Weeks later somebody clicks about in Mosslight and saves. What is different now?")
    spoil(garden)
    run("compare", "mosslight", ends=1)
    run.say("She looks at what would be put back, before anything is.")
    run("import", "mosslight@season-start", "--place", "potting-shed", "--preview")
    run.say("The application must be closed, or it would overwrite it all again.")
    set_running(garden, True)
    run("import", "mosslight@season-start", "--place", "potting-shed", "--yes", ends=3)
    set_running(garden, False)
    run.say("Only one part first; what is there is kept as a fallback before.")
    run("import", "mosslight@season-start", "--place", "potting-shed", "--part", "presets", "--yes")
    run.say("That was not wanted after all: back. A second time there is nothing to take back.")
    run("undo", "1", "--yes")
    run("undo", "1", "--yes", ends=3)
    run.say("Now everything.")
    run("import", "mosslight@season-start", "--place", "potting-shed", "--yes")
    run("compare", "mosslight@season-start")
    run.say("The workstation is replaced. The profile goes to the new one as one file, on a stick.")
    run("export", "mosslight@season-start", "--to", "stick")
    profile = next((garden / "stick").glob("*.zinker")).relative_to(garden).as_posix()
    run("import", profile, "--place", "glasshouse", "--yes")
    run.say("The licence stayed behind, as it is valid on the old device only.")
    run.say("The machine of the ticket till does not start any more; its disk is connected. What is on it?")
    run("export", "brindlepot", "--place", "old-kiosk", "--label", "last-day")
    run.say(
        "Its registry was read from the disk, with what a log still held. What has the new till otherwise?"
    )
    run("compare", "brindlepot@last-day", "gate-kiosk:brindlepot", ends=1)
    close_till(garden)
    run("import", "brindlepot@last-day", "--place", "gate-kiosk", "--yes")
    run.say("And as a text file, for a colleague who has no Zinker. What is kept by now?")
    run("export", "brindlepot@last-day", "--to", "till.reg")
    run("list")
    run.say(f"That took {time.monotonic() - started:.0f} seconds. The garden is yours to play in:")
    print(_invitation(garden), flush=True)


class _Runner:
    """Shows a command and runs it, in the garden."""

    def __init__(self, garden: Path) -> None:
        self._garden = garden
        self._env = {**os.environ, "ZINKER_HOME": str(garden / "zinker-home")}
        self._env.pop("ZINKER_CONFIG", None)

    def say(self, text: str) -> None:
        print(f"\n# {text}" if not text[:1].islower() else f"# {text}", flush=True)

    def __call__(self, *arguments: str, ends: int = 0) -> None:
        print(f"\n$ zinker {shlex.join(arguments)}", flush=True)
        command = [sys.executable, "-m", "zinker", *arguments]
        done = subprocess.run(command, cwd=self._garden, env=self._env, stdin=subprocess.DEVNULL, check=False)
        if done.returncode != ends:
            why = f"`zinker {shlex.join(arguments)}` ended with {done.returncode}, not {ends}"
            raise Failed("Demo not finished", why, "Please report this.")


def _on_path(folder: Path) -> str:
    return f"  set PATH={folder};%PATH%" if os.name == "nt" else f'  export PATH="{folder}:$PATH"'


def _invitation(garden: Path) -> str:
    setting = "set ZINKER_HOME={}" if os.name == "nt" else "export ZINKER_HOME={}"
    home = str(garden / "zinker-home")
    # Run from an environment that is not activated, the command is not on the path.
    folder = Path(sys.executable).parent
    known = [] if shutil.which("zinker") else [_on_path(folder)]
    return "\n".join(
        [
            *known,
            f"  cd {shlex.quote(str(garden))}",
            f"  {setting.format(home if os.name == 'nt' else shlex.quote(home))}",
            "  zinker show glasshouse:mosslight --find dusk",
            "  zinker export brindlepot --place gate-kiosk        (a key there refuses)",
            "  zinker compare mosslight@season-start glasshouse:mosslight",
            "  zinker undo",
        ]
    )

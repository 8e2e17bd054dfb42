"""What there is on this machine to start something regularly: putting a task there, finding it, taking it away."""

import contextlib
import os
import re
import shutil
import subprocess
import sys
import tempfile
from abc import ABC, abstractmethod
from pathlib import Path

from platformdirs import user_config_path

from zinker.disk.files import write_file
from zinker.jobs.schedule.timers import (
    Task,
    cron_line,
    launchd_agent,
    systemd_units,
    windows_task,
    without_line,
)
from zinker.model.errors import Refused, reason

# How long one of the system's own programs may take, in seconds.
_PATIENCE = 120.0


class System(ABC):
    """One of the ways in which systems start something regularly."""

    name: str
    # What people call what is made.
    noun: str

    @abstractmethod
    def is_here(self) -> bool:
        """Tell whether this machine has it."""

    @abstractmethod
    def shown(self, task: Task) -> list[tuple[str, str]]:
        """Return what would be written: where, and the text."""

    @abstractmethod
    def add(self, task: Task) -> None:
        """Put a task there, in place of one of its name; raises `Refused`, and nothing is left then."""

    @abstractmethod
    def remove(self, round: str) -> None:
        """Take the task of a round away; one that is not there is no error. Raises `Refused`."""

    @abstractmethod
    def has(self, round: str) -> bool:
        """Tell whether the task of a round is there, and would be started."""

    def advice(self) -> str:
        """Say what else there is to know, or ""."""
        return ""


class Systemd(System):
    """Timers of the user's own systemd."""

    name, noun = "systemd", "a systemd timer"

    @property
    def _folder(self) -> Path:
        return user_config_path() / "systemd" / "user"

    def is_here(self) -> bool:
        """Tell whether a systemd of the user's runs."""
        return bool(shutil.which("systemctl")) and not _run("systemctl", "--user", "show-environment").code

    def shown(self, task: Task) -> list[tuple[str, str]]:
        """Return the units."""
        return [(str(self._folder / name), text) for name, text in systemd_units(task).items()]

    def add(self, task: Task) -> None:
        """Write the units, and start the timer."""
        for path, text in self.shown(task):
            _write(Path(path), text.encode())
        try:
            _done("systemctl", "--user", "daemon-reload")
            _done("systemctl", "--user", "enable", "--now", f"{task.name}.timer")
        except Refused:
            self.remove(task.round)
            raise

    def remove(self, round: str) -> None:
        """Stop the timer, and remove the units."""
        _run("systemctl", "--user", "disable", "--now", f"zinker-{round}.timer")
        for kind in ("timer", "service"):
            (self._folder / f"zinker-{round}.{kind}").unlink(missing_ok=True)
        _run("systemctl", "--user", "daemon-reload")

    def has(self, round: str) -> bool:
        """Tell whether the timer is enabled."""
        return not _run("systemctl", "--user", "is-enabled", f"zinker-{round}.timer").code

    def advice(self) -> str:
        """Say when it runs: systemd(1) ends a user's own services when that one signs out."""
        linger = Path("/var/lib/systemd/linger") / os.environ.get("USER", "")
        if linger.is_file():
            return ""
        return "It runs while you are signed in; `loginctl enable-linger` has it run at any time."


class Cron(System):
    """A line in the user's crontab."""

    name, noun = "cron", "a line in your crontab"

    def is_here(self) -> bool:
        """Tell whether there are crontabs."""
        return bool(shutil.which("crontab"))

    def shown(self, task: Task) -> list[tuple[str, str]]:
        """Return the line."""
        return [(self.noun, f"{cron_line(task)}\n")]

    def add(self, task: Task) -> None:
        """Add the line, or replace that of the same round; every other byte stays."""
        table = without_line(self._table(), task.round)
        end = "" if not table or table.endswith("\n") else "\n"
        self._put(f"{table}{end}{cron_line(task)}\n")

    def remove(self, round: str) -> None:
        """Remove the line."""
        table = self._table()
        less = without_line(table, round)
        if less != table:
            self._put(less)

    def has(self, round: str) -> bool:
        """Tell whether the line is there."""
        return without_line(table := self._table(), round) != table

    def advice(self) -> str:
        """Say that nobody would read it."""
        from zinker.places.here import Here

        if Here().running(["cron", "crond", "cronie", "anacron", "fcron"]):
            return ""
        return "No cron runs on this machine at the moment, so nothing starts it until one does."

    def _table(self) -> str:
        done = _run("crontab", "-l")
        if done.code and not re.search(r"no crontab", done.told, re.IGNORECASE):
            raise Refused("Not scheduled", f"crontab: {done.told}", "Put that right, and run this again.")
        return "" if done.code else done.out

    def _put(self, table: str) -> None:
        before = self._table()
        done = _run("crontab", "-", given=table)
        if done.code or self._table() != table:
            _run("crontab", "-", given=before)
            why = f"crontab did not take it: {done.told or 'it has other lines now'}"
            raise Refused("Not scheduled", why, "Your crontab is as it was.")


class Launchd(System):
    """Agents of macOS."""

    name, noun = "launchd", "an agent of launchd"

    def _path(self, round: str) -> Path:
        return Path.home() / "Library" / "LaunchAgents" / f"zinker-{round}.plist"

    def is_here(self) -> bool:
        """Tell whether this is macOS."""
        return sys.platform == "darwin"

    def shown(self, task: Task) -> list[tuple[str, str]]:
        """Return the property list."""
        return [(str(self._path(task.round)), launchd_agent(task).decode())]

    def add(self, task: Task) -> None:
        """Write the property list, and load it."""
        self.remove(task.round)
        _write(self._path(task.round), launchd_agent(task))
        try:
            _done("launchctl", "bootstrap", self._domain, str(self._path(task.round)))
        except Refused:
            self.remove(task.round)
            raise

    def remove(self, round: str) -> None:
        """Unload it, and remove the property list."""
        _run("launchctl", "bootout", f"{self._domain}/zinker-{round}")
        self._path(round).unlink(missing_ok=True)

    def has(self, round: str) -> bool:
        """Tell whether it is loaded."""
        return not _run("launchctl", "print", f"{self._domain}/zinker-{round}").code

    @property
    def _domain(self) -> str:
        return f"gui/{os.getuid()}"


class Windows(System):
    """Tasks of the Windows Task Scheduler."""

    name, noun = "windows", "a task of Windows"

    def is_here(self) -> bool:
        """Tell whether this is Windows."""
        return os.name == "nt"

    def shown(self, task: Task) -> list[tuple[str, str]]:
        r"""Return the definition; the task stands in the folder `\Zinker`."""
        return [(self._name(task.round), windows_task(task))]

    def add(self, task: Task) -> None:
        """Have the task made from a file of its definition."""
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "task.xml"
            path.write_text(windows_task(task), encoding="utf-16")
            _done("schtasks", "/Create", "/TN", self._name(task.round), "/XML", str(path), "/F")

    def remove(self, round: str) -> None:
        """Have the task removed."""
        done = _run("schtasks", "/Delete", "/TN", self._name(round), "/F")
        if done.code and self.has(round):
            raise Refused("Not removed", f"schtasks refused it: {done.told}", "Remove the task by hand.")

    def has(self, round: str) -> bool:
        """Tell whether there is such a task."""
        return not _run("schtasks", "/Query", "/TN", self._name(round)).code

    @staticmethod
    def _name(round: str) -> str:
        return f"\\Zinker\\{round}"


SYSTEMS: tuple[System, ...] = (Systemd(), Cron(), Launchd(), Windows())
BY_NAME = {system.name: system for system in SYSTEMS}


def system_here() -> System:
    """Return what this machine starts things with; raises `Refused` where it has nothing."""
    found = next((system for system in SYSTEMS if system.is_here()), None)
    if found is None:
        why = "this machine has neither a systemd of yours nor a crontab"
        raise Refused("Not scheduled", why, "--print SYSTEM prints what another one needs.")
    return found


class _Ended(tuple[int, str, str]):
    """How a program ended: its code, what it wrote, and what it said of errors."""

    @property
    def code(self) -> int:
        return self[0]

    @property
    def out(self) -> str:
        return self[1]

    @property
    def told(self) -> str:
        return " ".join((self[2] or self[1]).split())


def _run(*words: str, given: str = "") -> _Ended:
    """Run one of the system's own programs; whatever stands in its way is told as an error of it."""
    # By files: what such a program starts may hold a pipe open for as long as it lives.
    with contextlib.ExitStack() as stack:
        into, out, told = (stack.enter_context(tempfile.TemporaryFile()) for _ in range(3))
        into.write(given.encode(errors="surrogateescape"))
        into.seek(0)
        try:
            code = subprocess.run(
                words, stdin=into, stdout=out, stderr=told, timeout=_PATIENCE, check=False
            ).returncode
        except (OSError, subprocess.TimeoutExpired) as error:
            why = reason(error) if isinstance(error, OSError) else f"{words[0]} does not end"
            return _Ended((-1, "", why))
        texts = []
        for file in (out, told):
            file.seek(0)
            texts.append(file.read().decode(errors="surrogateescape"))
        return _Ended((code, *texts))


def _done(*words: str) -> None:
    done = _run(*words)
    if done.code:
        why = f"{words[0]} refused it: {done.told or f'code {done.code}'}"
        raise Refused("Not scheduled", why, "--print SYSTEM prints what is needed, for adding it by hand.")


def _write(path: Path, data: bytes) -> None:
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_file(path, data)
    except OSError as error:
        raise Refused("Not scheduled", f"{path} cannot be written: {reason(error)}") from None

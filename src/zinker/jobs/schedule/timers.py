"""What each system has to start something regularly, as it is written: systemd, cron, launchd, Windows.

All of them only start Zinker often enough; whether something is due then is Zinker's business. So what a sleeping
machine has missed, what was put off and what failed is done at the next start, with whatever timer.

Sources: systemd.timer(5), systemd.service(5), systemd.syntax(7); crontab(5); launchd.plist(5); the Task Scheduler
Schema of Microsoft, version 1.2.
"""

import plistlib
import re
import shlex
import subprocess
from typing import NamedTuple
from xml.sax.saxutils import escape

from zinker.model.when import When

# Of any length: it is only told to Windows, where a run begins to count from.
_SINCE = "2026-01-01"


class Task(NamedTuple):
    """What is started: for which round, when, and by which words; it needs nothing of the environment."""

    round: str
    when: When
    words: tuple[str, ...]

    @property
    def name(self) -> str:
        """What it is called among other tasks of the system."""
        return f"zinker-{self.round}"

    @property
    def about(self) -> str:
        """What people are told that it does."""
        return f"Zinker keeps round {self.round}, {self.when.told}"


def cron_line(task: Task) -> str:
    """Return the line of a crontab(5), which ends with what it is known by."""
    every, first = task.when.tick
    minutes = "*" if every == 1 else f"*/{every}" if every < 60 else str(first)  # noqa: PLR2004
    return f"{minutes} * * * * " + f"{shlex.join(task.words)} {cron_mark(task.round)}".replace("%", "\\%")


def cron_mark(round: str) -> str:
    """Return what the line of a round ends with; to the shell that runs it, a comment."""
    return f"# zinker: {round}"


def systemd_units(task: Task) -> dict[str, str]:
    """Return the service and the timer by the names of their files."""
    every, first = task.when.tick
    at = "*-*-* *:*:00" if every == 1 else f"*-*-* *:{first:02}:00"
    at = f"*-*-* *:00/{every}:00" if 1 < every < 60 else at  # noqa: PLR2004
    # It takes no program with a quote or a backslash in its path; a shell does.
    words = ("/bin/sh", "-c", 'exec "$0" "$@"', *task.words)
    command = " ".join(_systemd_quoted(word).replace("$", "$$") for word in words)
    service = f"[Unit]\nDescription={task.about}\n\n[Service]\nType=oneshot\nExecStart={command}\n"
    timer = (
        f"[Unit]\nDescription={task.about}\n\n[Timer]\nOnCalendar={at}\nPersistent=true\nAccuracySec=1s\n\n"
        "[Install]\nWantedBy=timers.target\n"
    )
    return {f"{task.name}.service": service, f"{task.name}.timer": timer}


def _systemd_quoted(word: str) -> str:
    text = word.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%")
    return f'"{text}"'


def launchd_agent(task: Task) -> bytes:
    """Return the property list of an agent."""
    every, first = task.when.tick
    at: dict[str, object] = (
        {"StartInterval": every * 60} if every < 60 else {"StartCalendarInterval": {"Minute": first}}  # noqa: PLR2004
    )
    agent = {"Label": task.name, "ProgramArguments": list(task.words), "ProcessType": "Background", **at}
    return plistlib.dumps(agent)


def windows_task(task: Task) -> str:
    """Return the definition of a task."""
    every, first = task.when.tick
    program, words = task.words[0], subprocess.list2cmdline(task.words[1:])
    return f"""<?xml version="1.0" encoding="UTF-16"?>
<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">
  <RegistrationInfo>
    <Description>{escape(task.about)}</Description>
  </RegistrationInfo>
  <Triggers>
    <CalendarTrigger>
      <Repetition>
        <Interval>PT{every}M</Interval>
        <Duration>P1D</Duration>
      </Repetition>
      <StartBoundary>{_SINCE}T00:{first:02}:00</StartBoundary>
      <ScheduleByDay>
        <DaysInterval>1</DaysInterval>
      </ScheduleByDay>
    </CalendarTrigger>
  </Triggers>
  <Principals>
    <Principal id="Author">
      <LogonType>InteractiveToken</LogonType>
      <RunLevel>LeastPrivilege</RunLevel>
    </Principal>
  </Principals>
  <Settings>
    <MultipleInstancesPolicy>IgnoreNew</MultipleInstancesPolicy>
    <DisallowStartIfOnBatteries>false</DisallowStartIfOnBatteries>
    <StopIfGoingOnBatteries>false</StopIfGoingOnBatteries>
    <StartWhenAvailable>true</StartWhenAvailable>
    <ExecutionTimeLimit>PT0S</ExecutionTimeLimit>
    <Priority>7</Priority>
  </Settings>
  <Actions Context="Author">
    <Exec>
      <Command>{escape(program)}</Command>
      <Arguments>{escape(words)}</Arguments>
    </Exec>
  </Actions>
</Task>
"""


def without_line(table: str, round: str) -> str:
    """Return a crontab without the line of a round; every other byte stays."""
    end = re.escape(cron_mark(round).replace("%", "\\%"))
    return re.sub(rf"(?m)^(?!#).* {end}[ \t]*(?:\n|\Z)", "", table)

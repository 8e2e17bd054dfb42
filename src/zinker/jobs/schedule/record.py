"""What Zinker itself knows of its schedules: which there are, how the last run of each went, and a log.

    schedules/<round>.json         what was asked for, and by what it is started
    schedules/<round>.last.json    how the last run went
    schedules/<round>.log          a line for each subject, and one for what else there was; older ones in .log.1, …
    schedules/<round>.lock         held by the run that is under way

None of it holds a secret.
"""

import contextlib
import datetime
from collections.abc import Iterator
from logging import INFO, LogRecord
from logging.handlers import RotatingFileHandler
from pathlib import Path

import msgspec

from zinker.disk.files import lock, make_folders, write_file
from zinker.model.errors import Damaged, WrongUsage, reason
from zinker.model.names import unknown
from zinker.model.plain_json import decode, encode
from zinker.model.when import When

FORMAT = 1
_FOLDER = "schedules"
# How large a log becomes, in bytes, and how many older ones stay.
_LARGEST, _OLDER = 512 * 1024, 4


class Schedule(msgspec.Struct, frozen=True, omit_defaults=True):
    """A round that is captured regularly: `system` starts it; `added` is when that was asked for (RFC 3339)."""

    format: int
    round: str
    when: When
    system: str
    added: str
    thin: bool = False
    on_battery: bool = False

    @property
    def told(self) -> str:
        """What people call it, with what is done besides."""
        more = [", thinned afterwards"] if self.thin else []
        more += [", on battery, too"] if self.on_battery else []
        return f"{self.when.told}{''.join(more)}"


class Outcome(msgspec.Struct, frozen=True, omit_defaults=True):
    """What came of one member: the version that has it, whether that is new, or why there is none.

    With a version, `why` says what of it could not be captured.
    """

    place: str
    subject: str
    version: str = ""
    is_new: bool = False
    why: str = ""

    @property
    def is_failed(self) -> bool:
        """Whether nothing is kept of what is there."""
        return not self.version

    @property
    def line(self) -> str:
        """What people are told of it, in a line."""
        what = f"{self.place}:{self.subject}"
        if self.is_failed:
            return f"{what}  not kept: {self.why}"
        said = f"kept as {self.version}" if self.is_new else f"as in {self.version}"
        return f"{what}  {said}{f'; {self.why}' if self.why else ''}"


class Run(msgspec.Struct, frozen=True, omit_defaults=True):
    """A run: for which time it was due, when it began and ended (RFC 3339), and what came of each member.

    `why` says what stopped it as a whole, also before it began.
    """

    due: str
    began: str
    ended: str = ""
    members: tuple[Outcome, ...] = ()
    why: str = ""

    @property
    def failed(self) -> tuple[Outcome, ...]:
        """What has to be tried again."""
        return tuple(one for one in self.members if one.is_failed)

    @property
    def is_done(self) -> bool:
        """Whether nothing of it has to be tried again."""
        return bool(self.ended) and not self.why and not self.failed


class Scheduled(msgspec.Struct, frozen=True):
    """A schedule, and how its last run went; `problem` says why its record cannot be read."""

    round: str
    schedule: Schedule | None = None
    last: Run | None = None
    problem: str = ""

    def is_due(self, now: datetime.datetime) -> bool:
        """Tell whether there is something to do; a run that lies in the future was told by a wrong clock."""
        if self.schedule is None:
            return False
        if self.last is not None and not self.last.is_done:
            return True
        then = datetime.datetime.fromisoformat(
            self.last.due if self.last is not None else self.schedule.added
        )
        return then < self.schedule.when.due(now) or then > now

    def trouble(self, now: datetime.datetime) -> str:
        """Say what somebody should look at, or ""."""
        if self.schedule is None:
            return (
                f"The schedule of {self.round} cannot be read: {self.problem}. Remove it, and add it again."
            )
        name = f"The schedule of {self.round} ({self.schedule.when.told})"
        if self.last is not None and self.last.why:
            return f"{name} did not run: {self.last.why}"
        if self.last is not None and self.last.failed:
            whys = "; ".join(f"{one.place}:{one.subject}: {one.why}" for one in self.last.failed[:3])
            more = len(self.last.failed) - 3
            return f"{name} could not keep {whys}{f'; and {more} more' if more > 0 else ''}"
        # What is due now may be about to begin; what was due before that should have been done.
        before = self.schedule.when.due(self.schedule.when.due(now) - datetime.timedelta(seconds=1))
        since = self.last.due if self.last is not None else self.schedule.added
        if datetime.datetime.fromisoformat(since) < before:
            ago = f"since {since[:16].replace('T', ' ')}" if self.last is not None else "yet"
            return f"{name} has not run {ago}; is its timer still there? `zinker schedule` tells"
        return ""


class Ran(msgspec.Struct, frozen=True):
    """What a start of the timer did: nothing, where it was not due until `next`, or where a run was under way."""

    round: str
    run: Run | None = None
    next: str = ""
    is_under_way: bool = False


class _Log(RotatingFileHandler):
    def handleError(self, record: LogRecord) -> None:  # noqa: N802, D102 - its name there
        raise  # noqa: PLE0704 - called where an error is dealt with


class Records:
    """The records of schedules, in Zinker's own folder."""

    def __init__(self, own_folder: Path) -> None:
        self._folder = own_folder / _FOLDER

    def log_of(self, round: str) -> Path:
        """Return where the log of a round is."""
        return self._folder / f"{round}.log"

    def all(self) -> list[Scheduled]:
        """Return all there are, by name; those that are damaged, too."""
        try:
            names = sorted(path.name for path in self._folder.iterdir())
        except OSError:
            return []
        suffix, last = ".json", ".last.json"
        return [
            self.one(name.removesuffix(suffix))
            for name in names
            if name.endswith(suffix) and not name.endswith(last)
        ]

    def idle(self, round: str, now: datetime.datetime) -> Ran | None:
        """Return that there is nothing to do yet, and until when; None where there is. Raises as `find` does."""
        found, schedule = self.find(round)
        return None if found.is_due(now) else Ran(round, next=told(schedule.when.next(now)))

    def find(self, round: str) -> tuple[Scheduled, Schedule]:
        """Return the schedule of a round; raises `WrongUsage` where there is none, `Damaged`."""
        if not self._path(round).exists():
            names = [one.round for one in self.all()]
            then = "`zinker schedule` lists them all, and `zinker schedule add` makes one."
            raise unknown("schedule", round, names, then)
        found = self.one(round)
        if found.schedule is None:
            then = f"Run: zinker schedule remove {round}, and add it again."
            raise Damaged("Not run", f"the record of the schedule {round}: {found.problem}", then)
        return found, found.schedule

    def one(self, round: str) -> Scheduled:
        """Return what is known of a schedule."""
        try:
            schedule = decode(self._path(round).read_bytes(), Schedule)
            if schedule.format != FORMAT:
                return Scheduled(round, problem=f"it is of format {schedule.format}, from a newer Zinker")
        except OSError as error:
            return Scheduled(round, problem=reason(error))
        except ValueError as error:
            return Scheduled(round, problem=f"it is damaged ({error})")
        try:
            return Scheduled(round, schedule, decode(self._path(round, ".last").read_bytes(), Run))
        except (OSError, ValueError):  # then it runs once more than it needs to
            return Scheduled(round, schedule)

    def keep(self, schedule: Schedule) -> None:
        """Keep a schedule; raises `OSError`."""
        make_folders(self._folder)
        write_file(self._path(schedule.round), encode(schedule, indent=2))

    def keep_run(self, round: str, run: Run) -> None:
        """Keep how a run went so far; raises `OSError`."""
        write_file(self._path(round, ".last"), encode(run, indent=2))

    def remove(self, round: str) -> None:
        """Forget a schedule; its log stays. Raises `OSError`."""
        for path in (self._path(round), self._path(round, ".last")):
            path.unlink(missing_ok=True)

    @contextlib.contextmanager
    def running(self, round: str) -> Iterator[bool]:
        """Hold the schedule of a round; yields whether no other run has it."""
        with contextlib.ExitStack() as stack:
            try:
                stack.enter_context(lock(self._folder / f"{round}.lock", 0))
            except TimeoutError:
                yield False
                return
            yield True

    def log(self, round: str, lines: list[str], now: datetime.datetime) -> None:
        """Add lines to the log of a round; raises `OSError`."""
        make_folders(self._folder)
        stamp = told(now)
        handler = _Log(
            self.log_of(round),
            maxBytes=_LARGEST,
            backupCount=_OLDER,
            encoding="utf-8",
            errors="backslashreplace",
            delay=True,
        )
        with contextlib.closing(handler):
            for line in lines:
                text = "".join(letter if letter.isprintable() else f"\\x{ord(letter):02x}" for letter in line)
                handler.emit(LogRecord("zinker", INFO, "", 0, f"{stamp}  {text}", None, None))

    def _path(self, round: str, more: str = "") -> Path:
        if not round or set(round) & set("/\\.:"):
            raise WrongUsage("No such round", f"{round!r} is no name of one", "`zinker schedule` lists them.")
        return self._folder / f"{round}{more}.json"


def told(at: datetime.datetime) -> str:
    """Return a point in time as records have it (RFC 3339)."""
    return at.isoformat(timespec="seconds")


def troubles(own_folder: Path, now: datetime.datetime | None = None) -> list[str]:
    """Say what somebody should look at in what is done regularly."""
    at = now or datetime.datetime.now().astimezone()
    return [trouble for one in Records(own_folder).all() if (trouble := one.trouble(at))]

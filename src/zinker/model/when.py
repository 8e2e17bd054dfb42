"""When something is to be done again: every day, on one day of each week, or every so many minutes."""

import datetime
import math
import re

import msgspec

from zinker.model.errors import WrongUsage

DAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_DAY = datetime.timedelta(days=1)
_DAY_MINUTES = 24 * 60
_EVERY = re.compile(r"(?:(\d{1,4}) +)?(minute|hour)s?", re.ASCII)
_AT = re.compile(r"([01]?\d|2[0-3]):([0-5]\d)", re.ASCII)


class When(msgspec.Struct, frozen=True, omit_defaults=True):
    """Every so many `minutes`; or with 0 every day, or on one `day` of the week, `at` a minute of the day.

    Days are as the clock on the wall has them, minutes count through changes of the clock.
    """

    minutes: int = 0
    day: str = ""
    at: int = 0

    @property
    def told(self) -> str:
        """What people call it."""
        if self.minutes:
            hours, rest = divmod(self.minutes, 60)
            number, unit = (self.minutes, "minute") if rest else (hours, "hour")
            return f"every {number} {unit}s" if number > 1 else f"every {unit}"
        return f"every {self.day or 'day'} at {self.at // 60:02}:{self.at % 60:02}"

    @property
    def tick(self) -> tuple[int, int]:
        """How often a timer has to look, in minutes, and how many minutes after the full hour it begins to.

        More often than it is due: what was missed, put off or failed is tried again soon.
        """
        return (math.gcd(self.minutes, 60), 0) if self.minutes else (60, self.at % 60)

    def due(self, now: datetime.datetime) -> datetime.datetime:
        """Return when it was due last, at `now` or before it, in the time zone of `now`."""
        if self.minutes:
            step = self.minutes * 60
            return datetime.datetime.fromtimestamp(now.timestamp() // step * step, now.tzinfo)
        day = now.astimezone().date()
        while True:
            at = datetime.datetime.combine(day, datetime.time(*divmod(self.at, 60))).astimezone()
            if at <= now and self.day in ("", DAYS[day.weekday()]):
                return at.astimezone(now.tzinfo)
            day -= _DAY

    def next(self, now: datetime.datetime) -> datetime.datetime:
        """Return when it is due next, after `now`."""
        last = self.due(now)
        if self.minutes:
            return last + datetime.timedelta(minutes=self.minutes)
        day = last.astimezone().date() + (7 * _DAY if self.day else _DAY)
        return datetime.datetime.combine(day, datetime.time(*divmod(self.at, 60))).astimezone(now.tzinfo)


def when(every: str, at: str = "") -> When:
    """Return what `day`, `monday`, `hour` or `10 minutes` means, with a time of the day; raises `WrongUsage`."""
    word = every.strip().lower()
    time = _AT.fullmatch(at.strip())
    if word == "day" or word in DAYS:
        if time is None:
            why = f"{at} is no time of a day" if at else f"every {word} needs a time"
            raise WrongUsage("Not scheduled", why, "Write it as in --at 02:00.")
        return When(day="" if word == "day" else word, at=int(time[1]) * 60 + int(time[2]))
    found = _EVERY.fullmatch(word)
    minutes = int(found[1] or 1) * (60 if found[2] == "hour" else 1) if found else 0
    if not 1 <= minutes <= _DAY_MINUTES:
        then = 'Say --every day, --every monday, --every hour, or --every "10 minutes", of up to 24 hours.'
        raise WrongUsage("Not scheduled", f"{every} is not understood", then)
    if at:
        why = "what is done every so many minutes has no time of the day"
        raise WrongUsage("Not scheduled", why, "Leave --at out.")
    return When(minutes=minutes)

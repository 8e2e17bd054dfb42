"""Which versions may go: rules, by place, and what always stays. Plain data in and out."""

import datetime
import re
from collections.abc import Callable, Sequence
from itertools import groupby

import msgspec

from zinker.model.errors import WrongUsage
from zinker.shelf.versions import Version

DAYS = r"^[0-9]{1,6} ?(days?|weeks?|months?|years?)$"
_LENGTHS = {"day": 1, "week": 7, "month": 30, "year": 365}


def days_of(text: str) -> int:
    """Return the days of `30 days`, `8 weeks`, `6 months` (of 30 days) or `2 years` (of 365).

    Raises `WrongUsage` for anything else.
    """
    found = re.match(DAYS, text)
    if not found:
        why = f"{text!r} is no length of time"
        raise WrongUsage("Not understood", why, "Write it as in 30 days, 8 weeks, 6 months, 2 years.")
    word = found[1].removesuffix("s")
    return int(re.match("[0-9]+", text)[0]) * _LENGTHS[word]  # type: ignore[index]


class Rules(msgspec.Struct, frozen=True, omit_defaults=True, forbid_unknown_fields=True):
    """What stays, by place: the newest so many, and the newest of each of the last so many days, weeks, months.

    Weeks begin on Monday (ISO 8601).
    """

    newest: int = 0
    days: int = 0
    weeks: int = 0
    months: int = 0

    @property
    def is_empty(self) -> bool:
        """Whether they say nothing."""
        return not (self.newest or self.days or self.weeks or self.months)


class Going(msgspec.Struct, frozen=True):
    """A version that may go, and why."""

    version: Version
    why: str


def going(
    versions: Sequence[Version],
    rules: Callable[[Version], Rules],
    now: datetime.datetime,
    fallback_days: int,
    older_than: int | None = None,
) -> list[Going]:
    """Return which of the versions of a subject may go, the oldest first.

    Labelled ones stay, and of each place the last one that is whole and holds no loss. `older_than` is a number of
    days since a version was last known to be what is there; without it the rules count, and where they say nothing,
    only fallbacks go that are older than theirs. What is dated later than `now` stays: a clock was wrong, and
    nobody knows how old it is.
    """
    found: list[Going] = []
    for _, group in groupby(sorted(versions, key=_place), key=_place):
        own = [version for version in group if not version.problem and not version.label]
        for version in own:
            if version.fallback_of and _age(version.captured, now) >= fallback_days:
                why = f"the fallback of change {version.fallback_of}, older than {fallback_days:,} days"
                found.append(Going(version, why))
        kept = sorted((one for one in own if not one.fallback_of), key=lambda one: one.number)
        if not kept:
            continue
        stays = {one.number for one in [one for one in kept if one.is_asked_for][-1:]}
        stays |= {one.number for one in kept if _age(one.captured, now) < 0}
        if older_than is not None:
            why = f"older than {older_than:,} days"
            stays |= {one.number for one in kept if _age(one.known, now) < older_than}
        else:
            why = "the rules keep others of its time"
            own_rules = rules(kept[0])
            stays |= {one.number for one in kept} if own_rules.is_empty else _kept_by(own_rules, kept, now)
        found += [Going(one, why) for one in kept if one.number not in stays]
    return sorted(found, key=lambda one: one.version.number)


def _kept_by(rules: Rules, versions: list[Version], now: datetime.datetime) -> set[int]:
    """Return the numbers of those that the rules keep; the versions are of one place, the oldest first."""
    stays = {one.number for one in versions[len(versions) - rules.newest :]} if rules.newest else set()
    for count, period in ((rules.days, _days), (rules.weeks, _weeks), (rules.months, _months)):
        now_at = period(now.astimezone().date())
        newest = {period(_day_of(version)): version.number for version in versions}
        stays |= {number for at, number in newest.items() if 0 <= now_at - at < count}
    return stays


def _place(version: Version) -> tuple[str, str]:
    return version.place, version.machine


def _days(day: datetime.date) -> int:
    return day.toordinal()


def _weeks(day: datetime.date) -> int:
    return (day.toordinal() - 1) // 7  # day 1 was a Monday


def _months(day: datetime.date) -> int:
    return day.year * 12 + day.month


def _day_of(version: Version) -> datetime.date:
    return datetime.datetime.fromisoformat(version.captured).astimezone().date()


def _age(when: str, now: datetime.datetime) -> float:
    """Return how many days ago that was."""
    return (now - datetime.datetime.fromisoformat(when)).total_seconds() / 86_400

"""Schedules: a round is captured regularly, started by what the system has for that."""

import datetime
import sys
import sysconfig
from collections.abc import Callable
from pathlib import Path

import msgspec

from zinker.jobs.rounds import round_named
from zinker.jobs.schedule.record import FORMAT, Records, Schedule, Scheduled, told
from zinker.jobs.schedule.systems import BY_NAME, System, system_here
from zinker.jobs.schedule.timers import Task
from zinker.jobs.setup import Setup
from zinker.jobs.unlocking import checked_new
from zinker.model.errors import Refused, WrongUsage, ZinkerError
from zinker.model.names import unknown
from zinker.model.when import When
from zinker.profiles.sealing import Lock
from zinker.stores.credentials import Credential

Ask = Callable[[str, Credential], str]


class Planned(msgspec.Struct, frozen=True):
    """A schedule as it would be: what would be written where, by which of the system's ways.

    `lacking` are places whose secret nobody could give when it runs; `replaces` is when it ran so far.
    """

    schedule: Schedule
    noun: str
    shown: tuple[tuple[str, str], ...]
    advice: str = ""
    lacking: tuple[str, ...] = ()
    replaces: str = ""
    is_done: bool = False


class Listed(msgspec.Struct, frozen=True):
    """A schedule, whether its timer is there, when it is due next, and what somebody should look at."""

    round: str
    known: Scheduled
    is_started: bool | None = None
    next: str = ""
    trouble: str = ""
    log: str = ""


def add_schedule(
    setup: Setup,
    round: str,
    when: When,
    *,
    by: str = "",
    thin: bool = False,
    on_battery: bool = False,
    preview: bool = False,
    approve: Callable[[Planned], bool] = lambda planned: True,
    ask: Ask | None = None,
) -> Planned:
    """Have a round captured regularly, in place of a schedule that it may have.

    `by` names one of `SYSTEMS`; the first that this machine has, by default. `approve` is shown what would be
    written. Secrets that are nowhere kept are asked for, and kept, before anything is written.

    Raises `WrongUsage` for names that do not exist, and `Refused`.
    """
    for place, _ in _members(setup, round):
        setup.check_place(place)
    system = _system(by)
    records = Records(setup.own_folder)
    known = records.one(round).schedule
    now = told(datetime.datetime.now().astimezone())
    schedule = Schedule(FORMAT, round, when, system.name, now, thin, on_battery)
    task = task_for(setup, schedule)
    lacking = _lacking(setup, round)
    planned = Planned(
        schedule,
        system.noun,
        tuple(system.shown(task)),
        system.advice(),
        tuple(place for place, _ in lacking),
        known.when.told if known is not None else "",
    )
    if preview or not approve(planned):
        return planned
    for place, credential in lacking:
        _give(setup, place, credential, ask)
    if known is not None and known.system != system.name:
        _system(known.system).remove(round)
    records.keep(schedule)
    try:
        system.add(task)
    except BaseException:
        if known is None:
            records.remove(round)
        else:
            records.keep(known)
        raise
    if not system.has(round):
        raise Refused("Not scheduled", f"{system.noun} was made, and is not there", "Report this, please.")
    return msgspec.structs.replace(planned, is_done=True)


def printed_schedule(setup: Setup, round: str, when: When, by: str) -> list[tuple[str, str]]:
    """Return what another system would need, as where and what; nothing is written. Raises `WrongUsage`."""
    _members(setup, round)
    system = _system(by)
    return system.shown(task_for(setup, Schedule(FORMAT, round, when, system.name, "")))


def remove_schedule(setup: Setup, round: str) -> Scheduled:
    """Have a round captured no longer; returns what there was. Raises `WrongUsage` where there is nothing."""
    records = Records(setup.own_folder)
    names = [one.round for one in records.all()]
    if round not in names:
        raise unknown("schedule", round, names, "`zinker schedule` lists them all.")
    found = records.one(round)
    systems = [BY_NAME[found.schedule.system]] if found.schedule is not None else _all_here()
    for system in systems:
        system.remove(round)
    records.remove(round)
    return found


def listed_schedules(setup: Setup) -> list[Listed]:
    """Return all schedules, and how it stands with each."""
    records, now = Records(setup.own_folder), datetime.datetime.now().astimezone()
    return [_listed(records, one, now) for one in records.all()]


def _listed(records: Records, one: Scheduled, now: datetime.datetime) -> Listed:
    log = str(records.log_of(one.round))
    if one.schedule is None:
        return Listed(one.round, one, trouble=one.trouble(now), log=log)
    system = BY_NAME.get(one.schedule.system)
    try:
        is_started = system is not None and system.is_here() and system.has(one.round)
        gone = "" if is_started else f"{system.noun if system else 'its timer'} is not there any more"
    except ZinkerError as error:
        is_started, gone = None, error.why
    following = now if one.is_due(now) else one.schedule.when.next(now)
    at = told(following) if is_started else ""
    trouble = f"The schedule of {one.round}: {gone}; add it again" if gone else one.trouble(now)
    return Listed(one.round, one, is_started, at, trouble, log)


def task_for(setup: Setup, schedule: Schedule) -> Task:
    """Return what is started: all that it needs is in its words, none of it secret."""
    words = [*_program(), "--config", str(setup.file), "schedule", "run", schedule.round]
    words += ["--zinker-home", str(setup.own_folder.absolute())]
    if any(letter in word for word in words for letter in "\r\n\0"):
        why = "a path that it needs has a line end in it, which no timer can have"
        raise Refused("Not scheduled", why, "Give that folder another name.")
    return Task(schedule.round, schedule.when, tuple(words))


def _program() -> list[str]:
    """Return what starts this Zinker: on Windows without a window, elsewhere the command itself."""
    if sys.platform == "win32":
        quiet = Path(sys.executable).with_name("pythonw.exe")
        return [str(quiet if quiet.exists() else sys.executable), "-P", "-m", "zinker"]
    own = Path(sysconfig.get_path("scripts")) / "zinker"
    # Without -P, modules in the folder that it is started in would be taken for Zinker's.
    return [str(own)] if own.exists() else [sys.executable, "-P", "-m", "zinker"]


def _members(setup: Setup, round: str) -> list[tuple[str, str]]:
    """Return what a round names, without asking any place; raises `WrongUsage`."""
    if "@" in round or round not in setup.rounds:
        round_named(setup, round, is_live=True)  # says what is wrong
        why = "a schedule captures what is there, and names no version"
        raise WrongUsage("Not scheduled", why, f"Write {round.partition('@')[0]}.")
    return [(place, subject) for place, _, subject in (one.partition(":") for one in setup.rounds[round])]


def _system(by: str) -> System:
    if not by:
        return system_here()
    if by not in BY_NAME:
        raise unknown("system", by, list(BY_NAME), f"There are {', '.join(BY_NAME)}.")
    return BY_NAME[by]


def _all_here() -> list[System]:
    return [system for system in BY_NAME.values() if system.is_here()]


def _lacking(setup: Setup, round: str) -> list[tuple[str, Credential]]:
    """Return the places of a round, and the shelf, whose secret would not be found when nobody is there."""
    found: dict[str, Credential] = {}
    for place, _ in _members(setup, round):
        names = list(setup.places) if place == "*" else [place.partition("/")[0]]
        found |= {name: one for name in names if (one := setup.places[name].credential) is not None}
    own = {"shelf": setup.shelf_signs_in(), "seal": setup.shelf_opens_with()}
    found |= {name: one for name, one in own.items() if one is not None}
    return [(name, one) for name, one in found.items() if not _is_there(one)]


def _is_there(credential: Credential) -> bool:
    try:
        return credential.is_there()
    except Refused:
        return False


def _give(setup: Setup, place: str, credential: Credential, ask: Ask | None) -> None:
    """Ask for a secret, and keep it where it is found when nobody is there."""
    if credential.is_granted:
        why = f"a person has to sign in to {place} once, and that has to be kept"
        then = f'Give {place} `credential = "keyring"` in zinker.toml, run `zinker places`, and try again.'
        raise Refused("Not scheduled", why, then)
    if ask is None:
        why = f"the secret of {place} is not kept where it is found when nobody is there"
        then = (
            f"Put it into {credential.told}, name a file that only you can read as `credential` in zinker.toml, "
            "or run this at a terminal, which asks for it."
        )
        raise Refused("Not scheduled", why, then)
    secret = ask(place, credential)
    if place == "seal":
        _check_opens(setup, secret)
    credential.keep_secret(secret)
    if not _is_there(credential):
        raise Refused("Not scheduled", f"the secret of {place} was not kept", "Name a file for it instead.")


def _check_opens(setup: Setup, passphrase: str) -> None:
    """Raise `Refused` for what does not open the shelf; one that is still to be made opens with anything long."""
    storage = setup.sealed_storage()
    keys = storage.keys if storage is not None else None
    if keys is None or not keys.all():
        checked_new(passphrase)
    elif keys.opened_by(Lock(passphrase=passphrase)) is None:
        why = f"the passphrase does not open {setup.storage.told}"
        raise Refused(
            "Not scheduled", why, "Run this again with one that does; `zinker seal` shows the keys."
        )

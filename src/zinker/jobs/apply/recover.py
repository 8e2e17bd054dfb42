"""Putting right what a run that was cut off left at a place, and taking back one that has failed."""

import contextlib
import datetime

import msgspec

from zinker.jobs.apply.write import Changes, read_back, rescue, sweep, write_again
from zinker.jobs.plan.reverse import plan_reverse
from zinker.jobs.session import Session
from zinker.jobs.setup import Setup
from zinker.model.change import NO_CHANGE, Change, ChangeId, State
from zinker.model.errors import Failed, Refused, ZinkerError
from zinker.model.plan import LeftAlone
from zinker.places.here import Here
from zinker.places.place import Place
from zinker.profiles.reading import Profile


def recover(setup: Setup, place: Place, dead: ChangeId = NO_CHANGE) -> None:
    """Finish or take back every change that was cut off at a place, and say so through the setup.

    The caller holds the place, so that a change that is open is one whose run is dead. Whether a run on
    another machine is dead cannot be told from here: unless it is the one that the user says is `dead`,
    `Refused` is raised.
    """
    for change in setup.shelf.changes.open_ones():
        if (change.place, change.place_machine) != (place.name, place.machine):
            continue
        if change.machine != Here().machine and change.id != dead:
            why = f"{change.who} began change {change.id} there on {change.machine}, and it has not ended"
            then = f"Wait for it. If that run is dead, `zinker undo {change.id}` takes it back."
            raise Refused(f"Nothing done at {place.told}", why, then)
        try:
            setup.notify(_recover(setup, place, change))
        except Exception as error:  # noqa: BLE001 - whatever it is, the place must not stay blocked without a word
            raise _blocked(place, change, error) from error


def _blocked(place: Place, change: Change, error: Exception) -> Refused:
    why = getattr(error, "why", "") or str(error) or type(error).__name__
    then = error.then if isinstance(error, ZinkerError) else ""
    then = then or "Put that right and run this again."
    number = change.id
    return Refused(
        f"Nothing done at {place.told}",
        f"change {number} there was cut off and cannot be put right: {why}",
        f"{then}\nOr `zinker undo {number} --as-it-is` leaves the place as it is, and keeps what was there before.",
    )


def _recover(setup: Setup, place: Place, change: Change) -> str:
    changes = setup.shelf.changes.documents(change)
    session = Session(setup, place, setup.catalogue.find(change.subject), moved=change.moved)
    rescue(session, changes)
    missing = read_back(session, changes, [])
    when = change.started[:16].replace("T", " ")
    what = f"The {change.kind} of {when} at {place.told} (change {change.id}) was cut off"
    if not missing:
        sweep(session, changes)
        close(setup, change, "done")
        return f"{what} when everything had been written; it has been read back and counts as done."
    if not all(session.home_of(one).traits.takes_back for one in changes):
        # Nothing there is half of a whole: what is there is of use, and running it again does the rest.
        cut_off = [
            msgspec.structs.replace(item, why="it was cut off before this was written", reason="cut-off")
            for item in missing
        ]
        close(setup, change, "partly", tuple(cut_off))
        return (
            f"{what}; {len(cut_off)} of its {change.items} settings were not written. Run it again to go on, or "
            f"take it back with `zinker undo {change.id}`."
        )
    left = take_back(session, change, changes)
    close(setup, change, "taken-back", tuple(left))
    over = f", but for {len(left)} that had been changed again since" if left else ""
    return f"{what}; it has been taken back{over}."


def fallback_of(setup: Setup, change: Change) -> Profile:
    """Open what was kept before a change, with its secrets where this machine sealed them in."""
    fallback = setup.shelf.open(setup.shelf.find(change.subject, str(change.fallback)))
    lock = setup.withholder().lock
    if lock.kind in fallback.manifest.sealed:
        try:
            fallback.unseal(lock)
        except Refused:  # another machine's: these settings are left alone, and that is said
            setup.notify(f"The secrets kept before change {change.id} open on {change.machine} only.")
    return fallback


def close(setup: Setup, change: Change, state: State, left: tuple[LeftAlone, ...] = ()) -> Change:
    """Write down how a change ended; returns it. Raises `OSError`."""
    now = datetime.datetime.now().astimezone().isoformat(timespec="seconds")
    ended = msgspec.structs.replace(change, state=state, finished=now, left=left)
    setup.shelf.close(ended)
    return ended


def take_back(session: Session, change: Change, changes: Changes) -> list[LeftAlone]:
    """Restore everything a change touched; returns what somebody else has changed in the meantime.

    May be cut off and called again. Raises `Failed` if something does not have its old value afterwards.
    """
    with contextlib.closing(fallback_of(session.setup, change)) as fallback:
        sweep(session, changes)
        plans, left = plan_reverse(session, changes, fallback)
        refused = write_again(session, fallback, tuple(plans))
        wrong = refused + read_back(session, tuple(plans), refused)
    if wrong:
        raise Failed(f"Change {change.id} not taken back", f"{wrong[0].document}: {wrong[0].why}")
    return left

"""Access to a place: one run at a time, and what an earlier run left half-done is put right first."""

import contextlib
import time
from collections.abc import Iterator, Sequence
from pathlib import Path

from zinker.disk.files import lock
from zinker.disk.scratch import sweep_scratch
from zinker.jobs.setup import Setup
from zinker.model.change import NO_CHANGE, Change, ChangeId
from zinker.model.errors import Refused, reason
from zinker.places.here import Here
from zinker.places.place import Place

# How long another run may hold a place, in seconds, before this one gives up.
PATIENCE = 20.0
# How often is looked whether a program has been closed, in seconds.
_LOOK_AGAIN = 0.5


@contextlib.contextmanager
def at_place(
    setup: Setup,
    name: str,
    look_only: bool = False,
    dead: ChangeId = NO_CHANGE,
    waited_for: Sequence[str] = (),
) -> Iterator[Place]:
    """Hold a place; what an earlier run left half-done there is put right, and said through the setup.

    With `look_only`, it is only said. `dead` is the number of a change whose run the user says is dead.
    Programs that are `waited_for` have to close first, however long that takes.
    Raises `Refused` where the place does not answer or another run does not let go of it.
    """
    place = setup.place(name)
    _wait(setup, place, waited_for)
    with _held(setup, name, place):
        if look_only:
            _tell(_open_ones(setup, name), setup)
        else:
            _recover(setup, place, dead)
            setup.shelf.follow()
            _tell([change for change in _others(setup) if change.place_machine != place.machine], setup)
        yield place


@contextlib.contextmanager
def _held(setup: Setup, name: str, place: Place) -> Iterator[None]:
    """Hold a place against other runs; where a round holds it, its members go on."""
    path = _lock(setup, name)
    if path in setup.held:
        yield
        return
    sweep_scratch()
    try:
        held = lock(path, PATIENCE)
        held.acquire()
    except TimeoutError:
        why = f"another run of Zinker has been busy at {name} for {PATIENCE:.0f} seconds"
        raise Refused("Not done", why, "Wait for it to end and run this again.") from None
    except OSError as error:
        why = f"Zinker's own folder {setup.own_folder}: {reason(error)}"
        raise Refused("Not done", why, "Point ZINKER_HOME to a folder that can be written.") from None
    setup.held.add(path)
    try:
        yield
    finally:
        place.let_go()
        setup.held.discard(path)
        held.release()


def _recover(setup: Setup, place: Place, dead: ChangeId) -> None:
    if setup.shelf.changes.open_ones():
        from zinker.jobs.apply.recover import (
            recover,  # an export needs nothing of what it takes to change a place
        )

        recover(setup, place, dead)


def _wait(setup: Setup, place: Place, names: Sequence[str]) -> None:
    """Wait until no program of these names runs at a place."""
    processes = place.running(names) if names else []
    if processes:
        told = ", ".join(f"{process.name} (process {process.number})" for process in processes)
        setup.notify(f"Waiting until {told} has been closed at {place.told}; Ctrl+C gives up.")
    while processes:
        time.sleep(_LOOK_AGAIN)
        processes = place.running(names)


def tell_cut_off(setup: Setup, place: str = "") -> None:
    """Say which changes (at a place, or anywhere) were cut off and wait to be put right."""
    _tell([change for change in _open_ones(setup, place) if not _is_held(setup, change.place)], setup)
    _tell(_others(setup), setup)


def _open_ones(setup: Setup, place: str) -> list[Change]:
    """Return the open changes at a place, or anywhere, that were begun on this machine."""
    found = [change for change in setup.shelf.changes.open_ones() if change.machine == Here().machine]
    return [change for change in found if place in ("", change.place)]


def _others(setup: Setup) -> list[Change]:
    """Return the open changes that were begun on other machines: a shelf may be on a stick, or on a share."""
    return [change for change in setup.shelf.changes.open_ones() if change.machine != Here().machine]


def _tell(changes: list[Change], setup: Setup) -> None:
    for change in changes:
        if change.machine != Here().machine:
            what = f"Change {change.id}, begun on {change.machine}, has not ended."
            setup.notify(f"{what} If it was cut off, the next export, import or undo there puts that right.")
            continue
        what = f"Change {change.id} at {change.told_place} was cut off in the middle."
        setup.notify(f"{what} The next export, import or undo there puts that right first.")


def _lock(setup: Setup, place: str) -> Path:
    """Return the lock of a place, which its accounts share."""
    return setup.own_folder / "locks" / f"{place.partition('/')[0]}.lock"


def _is_held(setup: Setup, place: str) -> bool:
    """Tell whether another run is busy at a place."""
    try:
        with lock(_lock(setup, place), 0):
            return False
    except (TimeoutError, OSError):
        return True

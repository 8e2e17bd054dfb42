"""What there is to begin with on this machine: what was found, and what of it is kept."""

import msgspec

from zinker.jobs.finding import subject_states
from zinker.jobs.setup import Setup
from zinker.model.names import home_of


class Found(msgspec.Struct, frozen=True):
    """A subject that is here, and when it was last known to be as it was kept (RFC 3339), "" for never."""

    id: str
    title: str
    kept: str = ""


class Beginning(msgspec.Struct, frozen=True):
    """What was found here, of how many that are known; where the shelf is, and how many subjects are on it."""

    found: tuple[Found, ...]
    known: int
    shelf: str
    kept: int

    @property
    def missing(self) -> tuple[str, ...]:
        """What was found, and is not kept."""
        return tuple(one.id for one in self.found if not one.kept)


def beginning(setup: Setup) -> Beginning:
    """Look for all subjects that are known on this machine; raises what opening the shelf does."""
    shelf = setup.shelf
    home = home_of("here", setup.places["here"].machine)
    states = subject_states(setup, "", "here")
    found = []
    for state in states:
        if state.is_present:
            newest = shelf.newest(state.id, lambda one: one.is_asked_for and one.home == home)
            found.append(Found(state.id, state.title, newest.known if newest else ""))
    return Beginning(tuple(found), len(states), setup.storage.told, len(shelf.subjects()))

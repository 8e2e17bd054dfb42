"""Who changed what between two captures of one place, as far as the record of changes tells: what Zinker did."""

import datetime
from collections.abc import Callable, Iterable

from zinker.jobs.setup import Setup
from zinker.model.change import Change
from zinker.model.difference import Difference
from zinker.model.errors import Damaged
from zinker.model.profile import Manifest
from zinker.model.where import Where


def changes_between(
    known: Callable[[], Iterable[Change]], before: Manifest, after: Manifest
) -> tuple[Change, ...]:
    """Return those changes at a place that came after one capture of it and before another.

    None where these are of two places.
    """
    if (before.place, before.machine, before.subject) != (after.place, after.machine, after.subject):
        return ()
    first, last = (datetime.datetime.fromisoformat(one.captured) for one in (before, after))
    place = (after.subject, after.place, after.machine)  # `here` is another place on every machine
    return tuple(
        change
        for change in known()
        if (change.subject, change.place, change.place_machine or after.machine) == place
        and change.state in ("done", "partly", "undone")
        and first <= datetime.datetime.fromisoformat(change.started) <= last
    )


def authors(setup: Setup, changes: Iterable[Change], found: Iterable[Difference]) -> dict[Where, Change]:
    """Return, by setting, the last change that wrote what is there now; others wrote the rest.

    A change and its undo make nothing new between them: what they put back was somebody else's.
    """
    changes = tuple(changes)
    known_ones = {change.id for change in changes}
    taken_back = {change.undoes_id for change in changes} & known_ones
    wanted = {Where(one.part, one.document, one.address): one for one in found}
    known: dict[Where, Change] = {}
    for change in changes:
        if change.id in taken_back or change.undoes_id in taken_back:
            continue
        try:
            documents = setup.shelf.changes.documents(change)
        except Damaged:  # `check` and `changes` say so
            continue
        for document in documents:
            if document.is_whole and document.where in wanted:
                known[document.where] = change
            for item in document.items:
                where = document.where._replace(address=item.address)
                if where in wanted and wanted[where].after == item.after:
                    known[where] = change
                else:
                    known.pop(where, None)
    return known

"""What is left for the user to do when settings have been written."""

from collections.abc import Iterator

from zinker.model.plan import LeftAlone, Plan
from zinker.places.place import Place
from zinker.subjects.subject import Subject


def next_steps(place: Place, subject: Subject, plan: Plan, left: tuple[LeftAlone, ...]) -> tuple[str, ...]:
    """Return what the user has to do after a plan was carried out, in the order in which it is done."""
    return tuple(dict.fromkeys(_steps(place, subject, plan, left)))


def _steps(place: Place, subject: Subject, plan: Plan, left: tuple[LeftAlone, ...]) -> Iterator[str]:
    if place.running(subject.application.processes):
        yield f"Close {subject.title} without saving, and start it again: it was running."
    elif subject.application.processes:
        yield f"Start {subject.title}: it reads its settings when it starts."
    if subject.application.afterwards:
        yield subject.application.afterwards
    touched = dict.fromkeys(change.part for change in plan.documents)
    yield from (part.afterwards for part in subject.part if part.id in touched and part.afterwards)
    for item in left:
        part = subject.find_part(item.part)
        name = part.name if part else item.part
        if item.reason == "device" and part is not None:
            yield part.afterwards or f"Set up anew what is bound to the old device: {name}."
        elif item.reason == "enter-again":
            title = part.titles.get(item.address, item.address) if part else item.address
            yield f"Enter again, as it was withheld: {name}, {title}."
        elif item.reason == "put-again":
            yield f"Put there again, as it was withheld: {name}, {item.document}."

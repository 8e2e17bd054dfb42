"""Rounds that are put back or reset as one change."""

import contextlib
from collections.abc import Callable, Iterable, Iterator
from functools import partial

import msgspec

from zinker.jobs.apply.carry_out import Ready
from zinker.jobs.importing import Answers, Wishes, planned_import
from zinker.jobs.plan.checks import ADOPT, LIVE
from zinker.jobs.resetting import planned_reset
from zinker.jobs.rounds import Round, version_of
from zinker.jobs.setup import Setup
from zinker.jobs.together import Plans, Task, Together, carry_out_together


def import_round(
    setup: Setup,
    what: Round,
    wishes: Wishes | None = None,
    live: Iterable[str] = (),
    at: str = "",
    *,
    preview: bool = False,
    approve: Callable[[Plans], bool] = lambda plans: True,
    answers: Answers | None = None,
    one_by_one: bool = False,
) -> Together:
    """Put a version of each member back at its place, or all `at` another one, as one change.

    `approve` is shown all the plans.

    The places that others depend on and that may be written to are named as `live`; `one_by_one` where the
    `answers` are somebody's. Raises `Refused` where nothing could be planned at all.
    """
    named = frozenset(live)

    @contextlib.contextmanager
    def planned(own: Setup, place: str, subject: str) -> Iterator[Ready]:
        target = at or place
        adopts = ADOPT in (wishes or Wishes()).overruled
        with planned_import(
            own,
            version_of(own, place, subject, what.version, adopts),
            target,
            for_place(wishes or Wishes(), target, named),
            look_only=preview,
            answers=answers,
        ) as ready:
            yield ready

    tasks = [
        Task(at or place, subject, partial(planned, place=place, subject=subject))
        for place, subject in what.members
    ]
    return carry_out_together(
        setup,
        what.name,
        "import",
        what.told,
        tasks,
        preview=preview,
        approve=approve,
        one_by_one=one_by_one,
    )


def reset_round(
    setup: Setup,
    what: Round,
    wishes: Wishes | None = None,
    to: str = "",
    live: Iterable[str] = (),
    *,
    preview: bool = False,
    approve: Callable[[Plans], bool] = lambda plans: True,
) -> Together:
    """Reset all members, as `reset` does with one, as one change. Raises as `import_round` does."""
    named = frozenset(live)

    def planned(own: Setup, place: str, subject: str) -> contextlib.AbstractContextManager[Ready]:
        wanted = for_place(wishes or Wishes(), place, named)
        return planned_reset(own, subject, place, wanted, to, look_only=preview)

    tasks = [Task(*one, partial(planned, place=one[0], subject=one[1])) for one in what.members]
    return carry_out_together(
        setup,
        what.name,
        "reset",
        f"reset to {to}" if to else "reset to the defaults",
        tasks,
        preview=preview,
        approve=approve,
    )


def for_place(wishes: Wishes, place: str, live: frozenset[str]) -> Wishes:
    """Return wishes as they are for one place: whether others may depend on it was said of that one alone."""
    if place not in live:
        return wishes
    return msgspec.structs.replace(wishes, overruled=wishes.overruled | {LIVE})

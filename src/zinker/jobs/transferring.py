"""Transfer: from place to place, or from instance to instance, in one step."""

import msgspec

from zinker.disk.scratch import scratch_folder
from zinker.jobs.apply.carry_out import Approve, Outcome
from zinker.jobs.exporting import Exported, Keeping, export
from zinker.jobs.importing import Answers, Wishes, import_profile
from zinker.jobs.plan.checks import ADOPT, OTHER_USER
from zinker.jobs.setup import Setup
from zinker.model.errors import Refused, WrongUsage


def transfer(
    setup: Setup,
    subject: str,
    source: str,
    target: str,
    wishes: Wishes | None = None,
    with_secrets: bool = False,
    *,
    preview: bool = False,
    approve: Approve = lambda plan: True,
    answers: Answers | None = None,
) -> Outcome:
    """Bring the settings of `subject[/instance]` from one place to another, by way of a version on the shelf.

    Whose settings become whose is said by naming both places. Nothing is kept with `preview`. Raises as `export`
    and `import_profile` do.
    """
    wishes = wishes or Wishes()
    if source == target and not wishes.instance:
        why = f"both places are {source}"
        then = "Name two places, or another instance with --as."
        raise WrongUsage("Not transferred", why, then)
    setup.check_place(target)
    wishes = msgspec.structs.replace(wishes, overruled=wishes.overruled | {ADOPT, OTHER_USER})
    name, slash, instance = subject.partition("/")
    own = setup.withholder().lock
    locks = (own,) if with_secrets else ()
    answers = (answers or Answers())._replace(unlock=(lambda kinds: own) if with_secrets else None)
    with scratch_folder() as folder:
        path = folder / f"{name}.zinker" if preview else None
        kept = export(setup, subject, source, Keeping(wishes.parts, wishes.without, to=path, locks=locks))
        reference = str(path) if kept.version is None else f"{name}{slash}{instance}@{kept.version.number}"
        try:
            outcome = import_profile(
                setup,
                reference,
                target,
                wishes,
                preview=preview,
                approve=approve,
                answers=answers if kept.manifest.sealed else answers._replace(unlock=None),
                kind="transfer",
            )
        except (Refused, WrongUsage):
            _forget(setup, kept)
            raise
        if outcome.change is None:
            _forget(setup, kept)
        return outcome


def _forget(setup: Setup, kept: Exported) -> None:
    """Take off the shelf again what was kept for a transfer that has not come about, and only for that."""
    if kept.version is not None and not kept.is_known:
        setup.shelf.forget(kept.version)

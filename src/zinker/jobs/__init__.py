"""What Zinker does, each use case a function: it prints nothing, asks nothing, and returns data.

    from zinker.jobs import compare, export, import_profile, load_setup, undo

Functions take a `Setup`, raise the errors of `zinker.model.errors`, and say how far they are to the `progress` of
the setup. Those that change a place take `approve`, which is shown the plan and says whether to go on.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from zinker.jobs.comparing import compare
    from zinker.jobs.copying import copy
    from zinker.jobs.describing import check_subject, new_subject
    from zinker.jobs.documenting import documented
    from zinker.jobs.exporting import Keeping, export, export_text, export_version
    from zinker.jobs.finding import place_states, subject_states
    from zinker.jobs.importing import Answers, Wishes, import_profile
    from zinker.jobs.labelling import label
    from zinker.jobs.listing import changes, kept_versions, one_change
    from zinker.jobs.looking import show
    from zinker.jobs.period import compare_all
    from zinker.jobs.proposing import propose
    from zinker.jobs.resetting import reset
    from zinker.jobs.retracing import history
    from zinker.jobs.round_changes import import_round, reset_round
    from zinker.jobs.rounds import export_round, round_named
    from zinker.jobs.scheduled import run_scheduled
    from zinker.jobs.scheduling import add_schedule, listed_schedules, remove_schedule
    from zinker.jobs.sealing import add_key, remove_key, seals
    from zinker.jobs.setup import load_setup
    from zinker.jobs.spotting import Watching, spot
    from zinker.jobs.surveying import survey
    from zinker.jobs.thinning import thin
    from zinker.jobs.transferring import transfer
    from zinker.jobs.undoing import leave_as_it_is, undo
    from zinker.jobs.verifying import check

# The module of each.
_HOMES = {
    name: module
    for module, names in {
        "comparing": "compare",
        "copying": "copy",
        "describing": "check_subject new_subject",
        "documenting": "documented",
        "exporting": "Keeping export export_text export_version",
        "finding": "place_states subject_states",
        "importing": "Answers Wishes import_profile",
        "labelling": "label",
        "listing": "changes kept_versions one_change",
        "looking": "show",
        "period": "compare_all",
        "proposing": "propose",
        "resetting": "reset",
        "retracing": "history",
        "round_changes": "import_round reset_round",
        "rounds": "export_round round_named",
        "scheduled": "run_scheduled",
        "scheduling": "add_schedule listed_schedules remove_schedule",
        "sealing": "add_key remove_key seals",
        "setup": "load_setup",
        "spotting": "Watching spot",
        "surveying": "survey",
        "thinning": "thin",
        "transferring": "transfer",
        "undoing": "leave_as_it_is undo",
        "verifying": "check",
    }.items()
    for name in names.split()
}


def __getattr__(name: str) -> Any:
    """Import a job when it is first asked for: the command line starts faster for it."""
    if name not in _HOMES:
        raise AttributeError(f"module 'zinker.jobs' has no attribute {name!r}")
    return getattr(import_module(f"zinker.jobs.{_HOMES[name]}"), name)

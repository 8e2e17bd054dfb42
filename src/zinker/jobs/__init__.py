"""What Zinker does, each use case a function: it prints nothing, asks nothing, and returns data.

    from zinker.jobs import compare, export, import_profile, load_setup, undo

Functions take a `Setup`, raise the errors of `zinker.model.errors`, and take a progress callback where they
may run long. Those that change a place take `approve`, which is shown the plan and says whether to go on.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from zinker.jobs.comparing import compare
    from zinker.jobs.describing import check_subject, new_subject
    from zinker.jobs.exporting import export, export_text, export_version
    from zinker.jobs.importing import import_profile
    from zinker.jobs.looking import kept_versions, place_states, show, subject_states
    from zinker.jobs.resetting import reset
    from zinker.jobs.setup import load_setup
    from zinker.jobs.undoing import undo

__all__ = [
    "check_subject",
    "compare",
    "export",
    "export_text",
    "export_version",
    "import_profile",
    "kept_versions",
    "load_setup",
    "new_subject",
    "place_states",
    "reset",
    "show",
    "subject_states",
    "undo",
]

_HOMES = {
    "check_subject": "describing",
    "compare": "comparing",
    "export": "exporting",
    "export_text": "exporting",
    "export_version": "exporting",
    "import_profile": "importing",
    "kept_versions": "looking",
    "load_setup": "setup",
    "new_subject": "describing",
    "reset": "resetting",
    "place_states": "looking",
    "show": "looking",
    "subject_states": "looking",
    "undo": "undoing",
}


def __getattr__(name: str) -> Any:
    """Import a job when it is first asked for: the command line starts faster for it."""
    if name not in _HOMES:
        raise AttributeError(f"module 'zinker.jobs' has no attribute {name!r}")
    return getattr(import_module(f"zinker.jobs.{_HOMES[name]}"), name)

"""Giving way to whoever works at this machine."""

import contextlib
import os


def give_way() -> None:
    """Have this process, and what it starts, run when nobody else wants the processor or the disk."""
    with contextlib.suppress(ImportError, OSError, AttributeError, ValueError):
        import psutil

        own = psutil.Process()
        if os.name == "nt":
            own.nice(psutil.IDLE_PRIORITY_CLASS)  # type: ignore[attr-defined,unused-ignore]
            own.ionice(psutil.IOPRIO_LOW)  # type: ignore[attr-defined,unused-ignore]
            return
        own.nice(max(own.nice(), 15))
        if hasattr(own, "ionice"):
            own.ionice(psutil.IOPRIO_CLASS_IDLE)

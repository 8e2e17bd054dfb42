"""Kinds of operating systems, and what one says of itself."""

import contextlib
from collections.abc import Callable
from typing import Literal

System = Literal["linux", "windows", "macos"]


def asked(ask: Callable[[], str]) -> str:
    """Return what a system says of itself, "" where it does not: a name that is unknown is no error."""
    with contextlib.suppress(OSError, ImportError, KeyError):
        return ask()
    return ""


def system_kind(system: str) -> System:
    """Return the kind of an operating system by its name and release; unlike others, Linux need not say it."""
    name = system.lower()
    if name.startswith("win"):
        return "windows"
    return "macos" if name.startswith(("darwin", "macos", "mac os")) else "linux"

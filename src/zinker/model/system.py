"""Kinds of operating systems."""

from typing import Literal

System = Literal["linux", "windows", "macos"]


def system_kind(system: str) -> System:
    """Return the kind of an operating system by its name and release; unlike others, Linux need not say it."""
    name = system.lower()
    if name.startswith("win"):
        return "windows"
    return "macos" if name.startswith(("darwin", "macos", "mac os")) else "linux"

"""This machine: its real files, and what is running on it."""

import getpass
import platform
from collections.abc import Sequence
from pathlib import Path
from typing import Literal

from zinker.places.place import Place, Process
from zinker.stores.desktop_db import SettingsDatabase
from zinker.stores.registry import Registry

# Programs that run other programs: the name that counts is that of their first argument.
_INTERPRETERS = ("python", "perl", "ruby", "node", "java", "bash", "sh")


class Here(Place):
    """The place `here`."""

    name = "here"
    kind = "here"

    @property
    def machine(self) -> str:
        """The host name."""
        return platform.node()

    @property
    def user(self) -> str:
        """The account Zinker runs as."""
        return getpass.getuser()

    @property
    def system(self) -> str:
        """Name and release of the operating system."""
        return f"{platform.system()} {platform.release()}"

    def absence(self) -> str:
        """Return "": this machine is always there."""
        return ""

    @property
    def top(self) -> Path:
        """The root of the disk that the home is on."""
        return Path(Path.home().anchor)

    def folder(self, variable: str) -> Path | None:
        """Return a folder by the rules of this operating system (XDG, Known Folders, or Apple's)."""
        return _folders().get(variable)

    def own_folders(self) -> dict[str, str]:
        """Return the same folders as text."""
        return {name: str(path) for name, path in _folders().items()}

    def registry(self, view: Literal[0, 32, 64] = 0) -> Registry | None:
        """Return the registry of this workstation, where it has one: on Windows."""
        try:
            import winreg
        except ImportError:
            return None
        from zinker.stores.windows_registry import WindowsRegistry

        return WindowsRegistry(winreg, view)

    def desktop_db(self) -> SettingsDatabase | None:
        """Return the desktop's settings database of whoever runs this; raises `DatabaseError`."""
        if platform.system() != "Linux":
            return None
        from zinker.stores.dconf import DconfDatabase

        return DconfDatabase()

    def running(self, names: Sequence[str]) -> list[Process]:
        """Ask the operating system for its processes."""
        import psutil

        wanted = {name.casefold() for name in names}
        found = []
        for process in psutil.process_iter(["pid", "name", "cmdline"]):
            own = _names(process.info["name"] or "", process.info["cmdline"] or [])
            if own & wanted and process.info["pid"] != psutil.Process().pid:
                found.append(Process(process.info["pid"], (own & wanted).pop()))
        return found


def _names(name: str, arguments: list[str]) -> set[str]:
    """Return the names a process may go by: its own, its command's, and the script an interpreter runs."""
    names = {name.casefold()}
    if arguments:
        command = _base(arguments[0])
        names.add(command)
        if command.startswith(_INTERPRETERS):
            names |= {_base(argument) for argument in arguments[1:2] if not argument.startswith("-")}
    return names


def _base(path: str) -> str:
    return path.replace("\\", "/").rpartition("/")[2].casefold()


def _folders() -> dict[str, Path]:
    from platformdirs import PlatformDirs

    folders = PlatformDirs(appauthor=False, roaming=True)
    local = PlatformDirs(appauthor=False, roaming=False)
    machine = {"Windows": r"C:\ProgramData", "Darwin": "/Library/Application Support"}
    program = {"Windows": r"C:\Program Files", "Darwin": "/Applications"}
    return {
        "home": Path.home(),
        "config": folders.user_config_path,
        "data": local.user_data_path,
        "documents": folders.user_documents_path,
        "program": Path(program.get(platform.system(), "/usr/lib")),
        "machine-config": Path(machine.get(platform.system(), "/etc")),
    }

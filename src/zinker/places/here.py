"""This machine: its real files, and what is running on it. What the system does not tell is unknown, no error."""

import contextlib
import getpass
import os
import platform
import sys
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from zinker.model.system import asked, system_kind
from zinker.places.homes import folders_of, homes_below
from zinker.places.place import Place, Process

if TYPE_CHECKING:
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
        return asked(platform.node)

    @property
    def user(self) -> str:
        """The account Zinker runs as."""
        return asked(getpass.getuser)

    @property
    def system(self) -> str:
        """Name and release of the operating system."""
        kind = {"win32": "Windows", "darwin": "Darwin"}.get(sys.platform, "Linux")
        return f"{kind} {asked(platform.release)}".rstrip()

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

    def account_names(self) -> list[str]:
        """Return the accounts of this machine that have homes, and the template for new ones."""
        return sorted(self._homes())

    def account_folders(self, account: str) -> dict[str, Path]:
        """Return the folders of an account, by the defaults of this system below its home."""
        homes = self._homes()
        names = {name.casefold(): name for name in homes} if os.name == "nt" else {}
        home = homes.get(names.get(account.casefold(), account)) or _home_of(account)
        below = folders_of(system_kind(self.system), home, {}) if home else {}
        return {name: self.top / path for name, path in below.items()}

    def _homes(self) -> dict[str, str]:
        kind = system_kind(self.system)
        own = Path.home().relative_to(self.top).as_posix() if kind == "windows" else ""
        return homes_below(self.top, kind, own)

    def registry(self, view: Literal[0, 32, 64] = 0) -> "Registry | None":
        """Return the registry of this workstation, where it has one: on Windows."""
        try:
            import winreg
        except ImportError:
            return None
        from zinker.stores.windows_registry import WindowsRegistry

        return WindowsRegistry(winreg, view)

    def desktop_db(self) -> "SettingsDatabase | None":
        """Return the desktop's settings database of whoever runs this; raises `DatabaseError`."""
        if sys.platform != "linux":
            return None
        from zinker.stores.dconf import DconfDatabase

        return DconfDatabase()

    @property
    def knows_processes(self) -> bool:  # type: ignore[override]  # a fact of its kind for the others
        """Whether the system tells what is running."""
        return any(True for _ in _processes())

    def running(self, names: Sequence[str]) -> list[Process]:
        """Ask the operating system for its processes; none where it does not tell."""
        wanted = {name.casefold() for name in names}
        return [Process(number, (own & wanted).pop()) for number, own in _processes() if own & wanted]


def _home_of(account: str) -> str:
    """Return the home of an account that a directory has and no list on the disk, below the root; or ""."""
    with contextlib.suppress(ImportError, KeyError):
        import pwd

        return pwd.getpwnam(account).pw_dir.strip("/")
    return ""


def _processes() -> Iterator[tuple[int, set[str]]]:
    """Yield the number and the names of every other process of which the system says something."""
    try:
        import psutil

        listed: Iterable[psutil.Process] = psutil.process_iter()
    except (ImportError, OSError):
        return
    with contextlib.suppress(OSError):
        for process in listed:
            name, arguments = "", []
            # One of the two may be told where the other is not.
            with contextlib.suppress(psutil.Error, OSError), process.oneshot():
                arguments = process.cmdline()
            with contextlib.suppress(psutil.Error, OSError), process.oneshot():
                name = process.name()
            if (name or arguments) and process.pid != os.getpid():
                yield process.pid, _names(name, arguments)


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
    machine = {
        "win32": os.environ.get("PROGRAMDATA", r"C:\ProgramData"),
        "darwin": "/Library/Application Support",
    }
    program = {"win32": os.environ.get("PROGRAMFILES", r"C:\Program Files"), "darwin": "/Applications"}
    return {
        "home": Path.home(),
        "config": folders.user_config_path,
        "data": local.user_data_path,
        "documents": folders.user_documents_path,
        "program": Path(program.get(sys.platform, "/usr/lib")),
        "machine-config": Path(machine.get(sys.platform, "/etc")),
    }

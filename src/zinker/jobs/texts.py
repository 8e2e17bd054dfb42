"""Text files that hold settings of a registry or of a desktop's database: each kind by its ending.

They are profiles for reading, comparing and importing, and a profile is written as one.
"""

from collections.abc import Iterator
from pathlib import Path

from zinker.formats.endings import DUMP
from zinker.jobs import dumps, registration
from zinker.jobs.dumps import DumpReader, write_dump
from zinker.jobs.registration import RegistrationReader, write_registration
from zinker.jobs.setup import Setup
from zinker.model.profile import Manifest, Problem, Snapshot
from zinker.profiles.sealing import Lock
from zinker.profiles.writing import ProfileBuilder, Target

# The subjects of files that no subject file describes.
UNDESCRIBED = (registration.UNDESCRIBED, dumps.UNDESCRIBED)


class TextProfile(Snapshot):
    """A text file that has been read. Close it, or use it as a context."""

    def __init__(self, setup: Setup, path: Path, locks: tuple[Lock, ...] = ()) -> None:
        """Read a text file; secrets are withheld from what is put elsewhere, or sealed for `locks`.

        Raises `WrongUsage` where there is no such file, and `Damaged` for another kind of file.
        """
        self._builder = ProfileBuilder()
        reader = _reader(setup, path)
        try:
            self.manifest = reader.read(self._builder, locks)
        except BaseException:
            self._builder.close()
            raise
        self.secrets = reader.withholder.secrets  # they stand in the file in clear
        self.removals = reader.removals

    def pieces(self, part: str) -> Iterator[bytes]:
        """Yield the encoded settings of a part, sorted, many lines at a time."""
        return self._builder.pieces(part) if self.manifest.part(part) else iter(())

    def put(self, target: Target, manifest: Manifest) -> None:
        """Put all that was read into a target, under a first page of its own; raises as the target does."""
        self._builder.target = target
        self._builder.finish(manifest)

    def close(self) -> None:
        """Let go of what was read."""
        self._builder.close()


def write_text(snapshot: Snapshot, path: Path, ansi: bool = False) -> list[Problem]:
    """Write what a text file can hold of a profile; returns what it does not hold.

    Raises `Refused` where there is nothing that such a file can hold, and `OSError`.
    """
    if path.suffix.lower() == DUMP:
        return write_dump(snapshot, path)
    return write_registration(snapshot, path, ansi)


def _reader(setup: Setup, path: Path) -> RegistrationReader | DumpReader:
    return DumpReader(setup, path) if path.suffix.lower() == DUMP else RegistrationReader(setup, path)

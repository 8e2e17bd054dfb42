"""What the readers of text files have in common: a file becomes a profile, and what is wrong with it is said."""

import datetime
from abc import ABC, abstractmethod
from collections.abc import Iterator
from pathlib import Path

import zinker
from zinker.disk.files import nearest_path
from zinker.jobs.setup import Setup
from zinker.model.errors import Damaged, DocumentError, Refused, WrongUsage, reason
from zinker.model.profile import FORMAT, Manifest, PartRecord, Problem, Snapshot
from zinker.profiles.sealing import Lock
from zinker.profiles.writing import ProfileBuilder
from zinker.subjects.subject import Subject

_WHAT = "Not read"


class TextReader(ABC):
    """Reads one text file; secrets stand in it in clear, and are withheld.

    `kind` says in words what such a file is, `system` what it is from.
    """

    kind: str
    system: str

    def __init__(self, setup: Setup, path: Path) -> None:
        self._setup, self._path = setup, path
        self.withholder = setup.withholder()
        # What the file tells to remove, see `Snapshot`.
        self.removals: dict[tuple[str, str], tuple[str, ...]] = {}

    def read(self, builder: ProfileBuilder, locks: tuple[Lock, ...] = ()) -> Manifest:
        """Read it into a builder; secrets are withheld, or sealed for `locks`.

        Raises `WrongUsage` where there is no such file, and `Damaged` for another kind of file.
        """
        try:
            captured = datetime.datetime.fromtimestamp(self._path.stat().st_mtime).astimezone()
            subject = self._load()
        except FileNotFoundError:
            then = nearest_path(self._path) + "Check the path."
            raise WrongUsage(_WHAT, f"{self._path} does not exist", then) from None
        except OSError as error:
            raise Refused(_WHAT, f"{self._path}: {reason(error)}", "Check the path.") from None
        except DocumentError as error:
            why = f"{self._path} is no {self.kind}, or is damaged: {error}"
            raise Damaged(_WHAT, why, "Have it written again.") from None
        self._fill(subject, builder)
        secrets = self.withholder.secrets
        if locks and secrets:
            builder.seal(secrets, locks)
        return Manifest(
            format=FORMAT,
            subject=subject.id,
            title=subject.title,
            place=self._path.name,
            machine="",
            captured=captured.isoformat(timespec="seconds"),
            system=self.system,
            withheld=len(secrets),
            sealed=tuple(dict.fromkeys(lock.kind for lock in locks)) if secrets else (),
            parts=tuple(builder.parts),
            problems=tuple(self._problems(subject)),
            written_by=f"Zinker {zinker.__version__}",
        )

    @abstractmethod
    def _load(self) -> Subject:
        """Read the file, and return the subject that it belongs to; raises `OSError` and `DocumentError`."""

    @abstractmethod
    def _fill(self, subject: Subject, builder: ProfileBuilder) -> None:
        """Put what was read into a builder, part by part."""

    @abstractmethod
    def _problems(self, subject: Subject) -> Iterator[Problem]:
        """Yield what could not be read, or belongs to no part."""


def held_of(snapshot: Snapshot, store: str, what: str, has: str) -> tuple[list[PartRecord], list[Problem]]:
    """Return the parts of a profile that such a file, which `has` settings of a store only, can hold, and the rest.

    Raises `Refused` where there is none.
    """
    parts = snapshot.manifest.parts
    held = [part for part in parts if part.store == store]
    if not held:
        why = f"{what} holds {has}, and the profile has none"
        raise Refused("Not exported", why, "Write a profile file instead: FILE.zinker.")
    left = [Problem(part.id, "", "", f"{what} holds {has} only") for part in parts if part.store != store]
    return held, left

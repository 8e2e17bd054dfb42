"""Live settings as a snapshot: to be compared, planned against, and looked at."""

from collections.abc import Iterator

from zinker.jobs.capture.capture import capture
from zinker.jobs.capture.selection import Selection
from zinker.jobs.session import Session
from zinker.model.profile import Snapshot
from zinker.profiles.writing import ProfileBuilder


class LiveSnapshot(Snapshot):
    """Live settings just read; they keep their secrets, and their files are at the place. Close it afterwards."""

    def __init__(self, session: Session, selection: Selection) -> None:
        self._session, self._builder = session, ProfileBuilder()
        try:
            self.manifest = capture(session, selection, self._builder)
        except BaseException:
            self._builder.close()
            raise

    def pieces(self, part: str) -> Iterator[bytes]:
        """Yield the encoded settings of a part, sorted, many lines at a time."""
        return self._builder.pieces(part) if self.manifest.part(part) else iter(())

    def documents(self, part: str) -> Iterator[str]:
        """Yield the names of the documents of a part, also of those that were not asked for."""
        return iter(self._session.documents.get(part, ()))

    def close(self) -> None:
        """Let go of what was read."""
        self._builder.close()

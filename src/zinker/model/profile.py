"""What a profile says about itself (`profile.json`), and what every source of settings offers."""

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping
from types import MappingProxyType
from typing import Protocol

import msgspec

from zinker.model.lines import heads_in
from zinker.model.setting import Leaf, Setting, decode_line
from zinker.model.where import Where

FORMAT = 1


class PartRecord(msgspec.Struct, frozen=True, omit_defaults=True):
    """One part of a profile: `size` in bytes and `sha256` are those of its settings file."""

    id: str
    title: str
    store: str
    documents: int
    settings: int
    size: int
    sha256: str
    device_bound: bool = False
    # The place had no home for the part, so that nothing is known about it.
    homeless: bool = False


class Problem(msgspec.Struct, frozen=True, omit_defaults=True):
    """Something that could not be captured, or only as it is; `document` and `address` may be empty."""

    part: str
    document: str
    address: str
    why: str
    # A document that was carried whole because it could not be read is complete all the same.
    carried: bool = False
    # Of a file that is a secret as a whole the fingerprint is known.
    withheld: bool = False

    @property
    def is_unknown(self) -> bool:
        """Whether the profile does not tell what there was."""
        return not self.carried and not self.withheld


class Manifest(msgspec.Struct, frozen=True, omit_defaults=True):
    """The page that opens a profile."""

    format: int
    subject: str
    title: str
    place: str
    machine: str
    captured: str
    user: str = ""
    system: str = ""
    application_version: str = ""
    label: str = ""
    note: str = ""
    # The number of the change this profile is the fallback of; 0 for one that somebody asked for.
    fallback_of: int = 0
    while_running: bool = False
    # Only some settings of its documents, as found by watching: nothing follows from what is not in it.
    partial: bool = False
    # The number of the version at the same place most of which was gone when this one was captured; 0 for none.
    lost: int = 0
    # How many secrets were withheld, and what opens the ones that are sealed in: passphrase, key, machine.
    withheld: int = 0
    sealed: tuple[str, ...] = ()
    # What the path variables stood for at the place, in the place's own words.
    folders: dict[str, str] = {}
    parts: tuple[PartRecord, ...] = ()
    problems: tuple[Problem, ...] = ()
    written_by: str = ""

    @property
    def settings(self) -> int:
        """How many settings there are in all parts."""
        return sum(part.settings for part in self.parts)

    def part(self, id: str) -> PartRecord | None:
        """Return the part of that name, if there is one."""
        return next((part for part in self.parts if part.id == id), None)


class ByteStream(Protocol):
    """What is needed of an open file to copy it."""

    def read(self, size: int = -1, /) -> bytes:
        """Return up to `size` bytes, all of them by default, none at the end."""
        ...

    def __enter__(self) -> "ByteStream": ...

    def __exit__(self, *_: object) -> None: ...


class Snapshot(ABC):
    """Settings of one subject at one time: a kept profile, or live settings just read.

    `secrets` has the values of withheld settings, where they could be opened; `removals` what the snapshot tells to
    remove, by part and document: addresses that end with a slash.
    """

    manifest: Manifest
    secrets: Mapping[Where, Leaf] = MappingProxyType({})
    removals: Mapping[tuple[str, str], tuple[str, ...]] = MappingProxyType({})

    @abstractmethod
    def pieces(self, part: str) -> Iterator[bytes]:
        """Yield the encoded settings of a part, sorted, many lines at a time, each with its line end."""

    def unlike(self, other: "Snapshot", part: str) -> tuple[list[bytes], list[bytes]] | None:
        """Return the lines of a part that are not in another snapshot, and those of the other; each sorted.

        None where that takes no less than reading both.
        """
        return None

    def lines(self, part: str) -> Iterator[bytes]:
        """Yield the encoded settings of a part, sorted, without line ends."""
        for piece in self.pieces(part):
            yield from piece[:-1].split(b"\n")

    def settings(self, part: str) -> Iterator[Setting]:
        """Yield the settings of a part, sorted, with the opening lines of documents."""
        return map(decode_line, self.lines(part))

    def documents(self, part: str) -> Iterator[str]:
        """Yield the names of the documents of a part."""
        for piece in self.pieces(part):
            yield from (setting.document for setting in heads_in(piece))

    def attachment(self, sha256: str) -> ByteStream:
        """Open a whole file by its digest; raises `KeyError` where the snapshot has no files."""
        raise KeyError(sha256)

    def attachment_size(self, sha256: str) -> int:
        """Return how many bytes a whole file has; raises `KeyError` where the snapshot has no files."""
        raise KeyError(sha256)

    def close(self) -> None:
        """Let go of what is open."""

"""Giving back the room of what no version needs any more."""

import contextlib
import time
from collections.abc import Iterable, Set
from itertools import islice

from zinker.model.errors import Damaged, Refused, reason
from zinker.shelf.shelf import PATIENCE, Shelf
from zinker.shelf.versions import Version

# So much is done while the shelf is held; others may begin to write in between.
_AT_A_TIME = 500
_PAUSE = 0.2  # seconds


class Sweeper:
    """Knows what the versions of a shelf need, and removes the rest.

    Raises `Damaged` where a version cannot be read: what it needs is not known then, and nothing is removed.
    """

    def __init__(self, shelf: Shelf) -> None:
        self._shelf, self._objects = shelf, shelf.objects
        self._known: dict[tuple[str, int], frozenset[str]] = {}
        self._bases: dict[str, str] = {}
        # What stood on something that went, and was written whole; others that stood on the same stand on it.
        self._beside: dict[str, str] = {}

    def needed(self, without: Set[tuple[str, int]] = frozenset()) -> set[str]:
        """Return the digests of all that the versions need, but for some that are to go."""
        found: set[str] = set()
        for subject in self._shelf.subjects():
            for version in self._shelf.versions(subject):
                if (subject, version.number) not in without:
                    found |= self._of(version)
        return found

    def frees(self, going: Iterable[Version]) -> int:
        """Return about how many bytes come back when some versions go."""
        going = list(going)
        needed = self.needed({(version.subject, version.number) for version in going})
        files = [version for version in going if version.is_file]
        dead = set(self._objects.all()) - needed
        size = sum(map(self._objects.stored, dead)) + sum(version.stored for version in files)
        roots: set[str] = set()
        for sha256 in needed:
            chain = self._chain(sha256)
            live = next((one for one in chain[1:] if one in needed), "")
            if len(chain) > 1 and chain[1] not in needed:
                # What it stands on has to be written anew: all of it once, or what differs.
                size -= self._objects.stored(chain[-1]) if not live and chain[-1] not in roots else 0
                size -= sum(map(self._objects.stored, [one for one in chain[1:-1] if one not in needed]))
                roots |= set() if live else {chain[-1]}
        return max(0, size)

    def is_clean(self) -> bool:
        """Whether everything on the shelf is needed by some version."""
        return not set(self._objects.all()) - self.needed()

    def sweep(self) -> tuple[int, str]:
        """Remove what nothing needs; returns how many bytes came back, and why it is not all, or "".

        Waits for others that write: what they rely on is not known before they have ended.
        """
        freed, until = 0, time.monotonic() + PATIENCE
        while True:
            with self._shelf.lock():
                others = self._shelf.storage.writers()
                if not others:
                    self._shelf.records.sweep()
                    try:
                        done, gained = self._round(self.needed())
                    except OSError as error:
                        return freed, reason(error)
                    freed += gained
                    if done:
                        return freed, ""
            if others and time.monotonic() > until:
                return freed, "other runs are writing to the shelf; run it again when they have ended"
            if others:
                time.sleep(_PAUSE)

    def _round(self, needed: set[str]) -> tuple[bool, int]:
        """Do some of what is to be done; tells whether that was all, and how many bytes came back."""
        relied_on = set(needed)
        for sha256 in needed:
            relied_on |= set(self._chain(sha256))
        freed, count = 0, 0
        for sha256 in islice((one for one in self._objects.all() if one not in relied_on), _AT_A_TIME):
            freed += self._objects.stored(sha256)
            self._objects.delete(sha256)
            self._bases.pop(sha256, None)
            count += 1
        if count:
            return False, freed
        moving = sorted(one for one in needed if self._chain(one)[1:2] and self._chain(one)[1] not in needed)
        for sha256 in moving[:_AT_A_TIME]:
            freed -= self._move(sha256, needed)
        return not moving, freed

    def _move(self, sha256: str, needed: set[str]) -> int:
        """Have an object stand on what stays; returns how many bytes more it takes."""
        chain, before = self._chain(sha256), self._objects.stored(sha256)
        with self._shelf.storage.batch() as batch:
            beside = self._beside.get(chain[-1], "")
            self._objects.rebase(batch, sha256, needed.__contains__, beside)
            batch.settle()
        self._objects.prune(sha256)
        del self._bases[sha256]
        if len(self._chain(sha256)) == 1:
            self._beside[chain[-1]] = sha256
        return self._objects.stored(sha256) - before

    def _chain(self, sha256: str) -> list[str]:
        """Return an object and those that it stands on."""
        chain = [sha256]
        while True:
            if chain[-1] not in self._bases:
                with contextlib.suppress(Damaged):  # what it stands on is not known, and stays
                    self._bases[chain[-1]] = self._objects.base(chain[-1])
            base = self._bases.get(chain[-1], "")
            if not base or base in chain:
                return chain
            chain.append(base)

    def _of(self, version: Version) -> frozenset[str]:
        if version.problem:
            then = (
                f"`zinker check` says more. `zinker thin {version.reference}` removes it, "
                "and then what nothing else needs."
            )
            raise Damaged(
                "Nothing removed", f"what {version.reference} needs is not known: {version.problem}", then
            )
        key = version.subject, version.number
        if key not in self._known:
            objects = (
                frozenset() if version.is_file else frozenset(self._shelf.records.record(version).objects)
            )
            self._known[key] = objects
        return self._known[key]


def remove(shelf: Shelf, versions: Iterable[Version]) -> None:
    """Take versions off a shelf; their numbers are not given again. Raises `Refused` where it cannot be written."""
    numbers: dict[str, list[int]] = {}
    for version in versions:
        numbers.setdefault(version.subject, []).append(version.number)
    try:
        with shelf.lock():
            for subject, own in numbers.items():
                shelf.records.remove(subject, own)
                shelf.records.write_index(subject)
    except OSError as error:
        why = f"the shelf {shelf.storage.told} cannot be written: {reason(error)}"
        raise Refused(
            "Not thinned", why, "What has gone by then is gone; run this again for the rest."
        ) from None

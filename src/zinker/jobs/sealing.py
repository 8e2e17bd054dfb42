"""The keys of a sealed shelf: which there are, one more, one less."""

from collections.abc import Callable
from pathlib import Path

import msgspec

from zinker.jobs.setup import Setup
from zinker.jobs.unlocking import checked_new
from zinker.model.errors import Refused, WrongUsage, ZinkerError
from zinker.profiles.sealing import Lock
from zinker.shelf.key_file import read_key_file
from zinker.shelf.keys import KeyPage
from zinker.shelf.sealed_storage import SealedStorage


class SealKey(msgspec.Struct, frozen=True):
    """A key of a shelf; `name` is what a key file's says of itself, `why` says why it cannot be read."""

    number: int
    kind: str = ""
    made: str = ""
    name: str = ""
    why: str = ""


class Seals(msgspec.Struct, frozen=True):
    """The keys of a shelf; `opened_by` is the number of the one in use, 0 for none, for the reason `why`."""

    shelf: str
    keys: tuple[SealKey, ...]
    opened_by: int = 0
    why: str = ""
    added: int = 0
    removed: int = 0


def seals(setup: Setup) -> Seals:
    """Return the keys of the shelf, also where none of them is at hand; raises `WrongUsage` where it has none."""
    storage = _sealed(setup)
    opened_by, why = 0, ""
    try:
        opened_by = storage.opened_by
    except ZinkerError as error:
        why = error.why
    keys = tuple(_told(key.number, key.page, key.why) for key in storage.keys.all())
    return Seals(storage.told, keys, opened_by, why)


def add_key(setup: Setup, key_file: Path | None, ask: Callable[[], str]) -> Seals:
    """Have one more key open the shelf: of a key file, which is made if need be, or a passphrase that is asked for.

    A shelf that is not there yet is made. Raises `Refused`, and `WrongUsage` for a shelf that is not sealed.
    """
    storage = _sealed(setup)
    with setup.shelf.lock():
        if key_file is None:
            lock = Lock(passphrase=checked_new(ask()))
        elif key_file.exists():
            lock = Lock(machine=read_key_file(key_file))
        else:
            lock = setup.unlocking.made(key_file, storage.told)
        known = storage.keys.opened_by(lock)
        if known is not None:
            raise Refused("No key added", f"it opens the shelf already, as key {known[0]}")
        number = storage.keys.add(storage.content, lock)
        if storage.keys.opened_by(lock) != (number, storage.content):
            why = "it does not open the shelf, now that it has been added"
            raise Refused("No key added", why, "Run `zinker check`, and report this, please.")
    return msgspec.structs.replace(seals(setup), added=number or 0)


def remove_key(setup: Setup, number: int, approve: Callable[[Seals], bool]) -> Seals:
    """Have a key open the shelf no more. `approve` is shown what there is.

    Raises `WrongUsage` for one that is not there, and `Refused` for the last one that can be read.
    """
    storage = _sealed(setup)
    with setup.shelf.lock():
        before = seals(setup)
        if number not in {key.number for key in before.keys}:
            raise WrongUsage("No key removed", f"there is no key {number}", "`zinker seal` shows them.")
        if not any(key.number != number and not key.why for key in before.keys):
            why = "it is the last one, and without it nothing on the shelf could be read"
            raise Refused("No key removed", why, "Add another one first: zinker seal add")
        if not approve(before):
            return before
        storage.keys.remove(number)
    return msgspec.structs.replace(seals(setup), removed=number)


def _sealed(setup: Setup) -> SealedStorage:
    storage = setup.sealed_storage()
    if storage is None:
        why = f"the shelf {setup.storage.told} is not sealed"
        then = (
            'For one that is, name a new shelf in zinker.toml, and seal = "passphrase", or the path of a key.'
        )
        raise WrongUsage("No keys", why, then)
    return storage


def _told(number: int, page: KeyPage | None, why: str) -> SealKey:
    if page is None:
        return SealKey(number, why=why)
    return SealKey(number, "passphrase" if page.kind == "passphrase" else "key file", page.made, page.told)

"""What opens a sealed shelf, where zinker.toml says that it is: a key file, or a passphrase, kept or asked for."""

import datetime
import os
from collections.abc import Callable
from pathlib import Path

from zinker.model.errors import Refused
from zinker.profiles.sealing import Lock
from zinker.shelf.key_file import make_key_file, read_key_file
from zinker.stores.credentials import Credential, variable_of

# What zinker.toml says for a passphrase; anything else is the path of a key file.
PASSPHRASE = "passphrase"  # noqa: S105 - the word
# Whoever has the storage may try as many as they like.
_SHORTEST = 12


class Unlocking:
    """Finds what opens a shelf: the key file, or the passphrase that the credential or a person has."""

    def __init__(
        self,
        key_file: Path | None,
        credential: Credential,
        needed: Callable[[], list[str]],
        notify: Callable[[str], None],
        ask: Callable[[str, bool], str],
    ) -> None:
        """`needed` are the lines that a zinker.toml needs for the shelf; a new key file has them, too.

        `ask` is given what a passphrase is for, and whether it is a new one; "" where there is nobody.
        """
        self.key_file, self.credential, self._needed = key_file, credential, needed
        self._notify, self._ask = notify, ask

    def lock(self, shelf: str, is_new: bool) -> tuple[Lock, str]:
        """Return what opens a shelf, and what people call that; raises `Refused`."""
        if self.key_file is not None:
            if is_new and not os.path.lexists(self.key_file):
                return self.made(self.key_file, shelf), f"the key file {self.key_file}"
            return Lock(machine=read_key_file(self.key_file)), f"the key file {self.key_file}"
        return Lock(passphrase=self._passphrase(shelf, is_new)), "the passphrase"

    def made(self, path: Path, shelf: str) -> Lock:
        """Make a key file; raises `Refused`."""
        made = Lock(machine=make_key_file(path, self._lines(shelf)))
        keep = "Keep it elsewhere, too, also on paper: without it, or another key, nothing there can be read"
        self._notify(f"A new key of the shelf {shelf} is in {path}. {keep}.")
        return made

    def _passphrase(self, shelf: str, is_new: bool) -> str:
        given = os.environ.get(variable_of("seal"), "")
        if not given and self.credential.is_there():
            given = self.credential.secret()
        if not given:
            given = self._ask(f"{'New passphrase' if is_new else 'Passphrase'} of the shelf {shelf}", is_new)
        if not given:
            why = f"{shelf} is sealed, and its passphrase is not in {self.credential.told}"
            then = f"Set {variable_of('seal')}, or run this at a terminal, which asks for it."
            raise Refused("Shelf not opened", why, then)
        return checked_new(given) if is_new else given

    def _lines(self, shelf: str) -> list[str]:
        today = datetime.date.today().isoformat()
        return [
            f"A key of the Zinker shelf {shelf}, made on {today}.",
            "Whoever has it can read all that is kept there; without it, or another key, nobody can. Keep it",
            "where no fire, thief or failing disk takes it together with the machines: on paper it is as good.",
            "Typed in again, the last line is enough. On a new machine, zinker.toml needs:",
            "",
            *(f"    {line}" for line in self._needed()),
            "",
        ]


def checked_new(passphrase: str) -> str:
    """Return a new passphrase; raises `Refused` for one that is too short."""
    if len(passphrase) < _SHORTEST:
        why = f"a passphrase of {len(passphrase)} letters is soon guessed by whoever has the storage"
        raise Refused("Shelf not sealed", why, f"Take {_SHORTEST} or more: a few words are best.")
    return passphrase

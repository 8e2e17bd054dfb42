"""What signs Zinker in without a person: a secret, a private key, or what a person has granted once."""

import datetime
import os
from pathlib import Path

import msgspec

from zinker.disk.files import is_open_to_others, read_regular, write_file
from zinker.model.errors import Refused, reason
from zinker.model.plain_json import decode


class Grant(msgspec.Struct, frozen=True):
    """What a person has granted (a refresh token of RFC 6749, section 6), when, and by whom it was given out."""

    refresh_token: str
    issuer: str
    client_id: str
    since: str


class Credential:
    """Where a place's secret, key or grant is kept: in a file, in the system's keyring, or in the environment.

    With `is_granted`, a person grants it once, and what is kept is that.
    """

    def __init__(
        self, place: str, user: str, file: Path | None, is_in_keyring: bool, is_granted: bool = False
    ) -> None:
        self._place, self.user, self.is_granted = place, user, is_granted
        self._file, self._is_in_keyring = file, is_in_keyring

    @property
    def is_kept(self) -> bool:
        """Whether there is a home for what a person grants."""
        return self._file is not None or self._is_in_keyring

    @property
    def told(self) -> str:
        """Where it is, for people."""
        if self._file is not None:
            return str(self._file)
        keyring = f"the keyring, as zinker:{self._place}"
        return keyring if self._is_in_keyring else f"{variable_of(self._place)} or {keyring}"

    def secret(self) -> str:
        """Return the secret, or the text of the key; raises `Refused`."""
        if self._file is None:
            return secret_of(self._place, self.user)
        found = self._read(self._file)
        if not found:
            raise self._refused(f"{self._file} has nothing in it", "Put the secret into it.")
        return found

    def is_there(self) -> bool:
        """Tell whether it is found where nobody is there to be asked, and nothing is in the environment.

        Raises `Refused` where it cannot be read.
        """
        if self.is_granted:
            return self.grant() is not None
        if self._file is not None:
            return self._file.exists() and bool(self._read(self._file))
        return bool(_from_keyring(self._place, self.user))

    def keep_secret(self, secret: str) -> None:
        """Keep a secret for those alone who may read it; raises `Refused`."""
        self._put(self.user, f"{secret}\n" if self._file is not None else secret)

    def grant(self) -> Grant | None:
        """Return what a person has granted, if that is kept; raises `Refused`."""
        if not self.is_kept:
            return None
        if self._file is not None:
            found = self._read(self._file) if self._file.exists() else ""
        else:
            found = _from_keyring(self._place, f"{self.user} (granted)") or ""
        try:
            return decode(found.encode(), Grant) if found else None
        except ValueError:
            why = f"what is kept in {self.told} is no grant of Zinker's"
            raise self._refused(why, "Name another file as `credential` in zinker.toml.") from None

    def keep(self, refresh_token: str, issuer: str) -> None:
        """Keep what a person has granted, for those alone who may read it; raises `Refused`."""
        if not self.is_kept:
            return
        old = self.grant()
        is_same = old is not None and (old.issuer, old.client_id) == (issuer, self.user)
        since = old.since if is_same and old else datetime.date.today().isoformat()
        kept = msgspec.json.encode(Grant(refresh_token, issuer, self.user, since)).decode()
        self._put(f"{self.user} (granted)", kept)

    def _put(self, name: str, text: str) -> None:
        if self._file is not None:
            try:
                write_file(self._file, text.encode())
            except OSError as error:
                why = f"{self._file} cannot be written: {reason(error)}"
                raise self._refused(why, "Name another file as `credential` in zinker.toml.") from None
            return
        try:
            import keyring

            keyring.set_password(f"zinker:{self._place}", name, text)
        except ImportError:
            why, then = "what talks to the keyring is not installed", "pip install 'zinker[keyring]'"
            raise self._refused(why, then) from None
        except Exception as error:  # noqa: BLE001 - backends raise what they like
            raise self._refused(f"the keyring takes nothing: {error}", "Name a file instead.") from None

    def _read(self, path: Path) -> str:
        try:
            if is_open_to_others(path):
                raise self._refused(f"{path} can be read by others, too", f"Run: chmod 600 {path}")
            return read_regular(path).decode().strip()
        except OSError as error:
            why = f"{path} cannot be read: {reason(error)}"
            raise self._refused(why, "Correct `credential` in zinker.toml.") from None
        except UnicodeDecodeError:
            raise self._refused(f"{path} is no text", "Correct `credential` in zinker.toml.") from None

    def _refused(self, why: str, then: str) -> Refused:
        return Refused(f"No answer from {self._place}", why, then)


def variable_of(place: str) -> str:
    """Return the environment variable that has the secret of a place."""
    return f"ZINKER_SECRET_{place.upper().replace('-', '_')}"


def secret_of(place: str, user: str) -> str:
    """Return the password for a place: from its environment variable, or from the system's keyring.

    Raises `Refused` if there is none.
    """
    variable = variable_of(place)
    secret = os.environ.get(variable) or _from_keyring(place, user)
    if not secret:
        why = f"the password of {user} is neither in {variable} nor in the keyring, as zinker:{place}"
        then = f"Set {variable}, or run: keyring set zinker:{place} {user}"
        raise Refused(f"No answer from {place}", why, then)
    return secret


def _from_keyring(place: str, user: str) -> str | None:
    try:
        import keyring

        found = keyring.get_password(f"zinker:{place}", user)
    except ImportError:
        return None
    except Exception as error:  # noqa: BLE001 - backends raise what they like
        if type(error).__name__ == "NoKeyringError":  # as on a machine that nobody sits at
            return None
        then = f"Set {variable_of(place)} instead."
        raise Refused(f"No answer from {place}", f"the keyring does not open: {error}", then) from None
    return str(found) if found else None

"""Asks for what secrets are sealed for or opened with: a passphrase, or a key file."""

import os
from collections.abc import Sequence
from pathlib import Path

from zinker.cli.output import ask_passphrase
from zinker.disk.files import read_regular
from zinker.model.errors import WrongUsage, reason
from zinker.profiles.sealing import Lock

_VARIABLE = "ZINKER_PASSPHRASE"


def locks_for(keys: Sequence[Path]) -> tuple[Lock, ...]:
    """Return what secrets are sealed for: the public keys given, else a passphrase, asked for twice."""
    if keys:
        return tuple(Lock(key=_read(path)) for path in keys)
    return (Lock(passphrase=_passphrase(twice=True)),)


def lock_from(kinds: tuple[str, ...], key: Path | None) -> Lock:
    """Return what opens secrets: the private key given, else a passphrase."""
    if key is not None:
        return Lock(key=_read(key))
    if "passphrase" not in kinds:
        raise WrongUsage(
            "Secrets not opened", "they were sealed for a key", "Add --key FILE with the private one."
        )
    return Lock(passphrase=_passphrase(twice=False))


def _passphrase(twice: bool) -> str:
    given = passphrase("Passphrase for the secrets", twice, _VARIABLE)
    if not given:
        why = "a passphrase is needed, and there is no terminal to ask for it"
        raise WrongUsage("Nothing done", why, f"Set {_VARIABLE}, or seal for a key with --for.")
    return given


def passphrase(what: str, twice: bool, variable: str) -> str:
    """Return a passphrase from the environment, or ask for it; "" where there is nobody."""
    return os.environ.get(variable, "") or ask_passphrase(what, twice)


def _read(path: Path) -> bytes:
    try:
        return read_regular(path)
    except OSError as error:
        raise WrongUsage("Nothing done", f"the key {path} cannot be read: {reason(error)}") from None

"""The key that stays on this machine: it makes fingerprints of secrets, and seals those of fallbacks."""

import contextlib
import hmac
import os
import secrets
from pathlib import Path

from zinker.disk.files import make_folders, open_own, own_part, sweep_own_parts
from zinker.disk.swap import rename_new
from zinker.model.errors import Refused, reason

_NAME = "fingerprint-key"
_LENGTH = 32  # bytes


def machine_key(home: Path) -> bytes:
    """Return the key in Zinker's own folder, made at its first use; raises `Refused`."""
    path = home / _NAME
    try:
        if not path.exists():
            _make(path)
        key = path.read_bytes()
    except OSError as error:
        why = f"the key for fingerprints in {path} cannot be read or made: {reason(error)}"
        raise Refused("Not read", why, "Point ZINKER_HOME to a folder that can be written.") from None
    if len(key) != _LENGTH:
        then = "Delete it: only comparing older withheld secrets is lost, and what fallbacks have of them."
        raise Refused("Not read", f"{path} is damaged", then)
    return key


def _make(path: Path) -> None:
    """Make the key aside, so that it is never there in part; another run may be faster."""
    make_folders(path.parent)
    sweep_own_parts(path.parent)
    part = own_part(path.parent)
    try:
        with os.fdopen(open_own(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL), "wb") as file:
            file.write(secrets.token_bytes(_LENGTH))
            file.flush()
            os.fsync(file.fileno())
        with contextlib.suppress(FileExistsError):
            rename_new(str(part), str(path), None)
    finally:
        part.unlink(missing_ok=True)


def sealing_key(key: bytes) -> bytes:
    """Return what the secrets of fallbacks are sealed with, from the machine's key."""
    return hmac.digest(key, b"sealing", "sha256")

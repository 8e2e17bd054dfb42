"""A key file: text that can be printed, filed, and typed in again.

    # what it is for, in lines like this one
    zinker-key ABCD-EFGH-…        fourteen groups: base32 (RFC 4648) of 32 random bytes and the first three bytes of
                                  their SHA-256

Small letters count as capitals; 0, 1 and 8, which are not among its letters, as O, I and B.
"""

import base64
import hashlib
import os
import re
import secrets
from pathlib import Path

from zinker.disk.files import is_open_to_others, make_folders, open_own, read_regular
from zinker.model.errors import Refused, reason
from zinker.shelf.keys import LENGTH

_CHECK = 3
_LINE = re.compile(r"^zinker-key[ \t]+([0-9A-Za-z \t-]+)$", re.MULTILINE)
_LOOKS_LIKE = str.maketrans("018", "OIB")


def read_key_file(path: Path) -> bytes:
    """Return the 32 bytes of a key file; raises `Refused` for one that is none, or that others can read."""
    try:
        if is_open_to_others(path):
            raise _refused(f"{path} can be read by others, too", f"Run: chmod 600 {path}")
        found = _LINE.search(read_regular(path).decode())
    except FileNotFoundError:
        why = f"the key file {path} is not there"
        raise _refused(why, "Bring it back, or type it in again from paper; or use another key.") from None
    except OSError as error:
        raise _refused(f"the key file {path} cannot be read: {reason(error)}", "") from None
    except UnicodeDecodeError:
        found = None
    if found is None:
        raise _refused(f"{path} is no key file", "It has a line that begins with zinker-key.")
    return _checked(found[1], path)


def _checked(text: str, path: Path) -> bytes:
    letters = re.sub(r"[ \t-]", "", text).upper().translate(_LOOKS_LIKE)
    try:
        data = base64.b32decode(letters)
    except ValueError:
        data = b""
    key, check = data[:LENGTH], data[LENGTH:]
    if len(data) != LENGTH + _CHECK or hashlib.sha256(key).digest()[:_CHECK] != check:
        then = "It has fourteen groups of four letters or digits; one of them is mistyped or missing."
        raise _refused(f"the key in {path} is not what was written", then)
    return key


def make_key_file(path: Path, lines: list[str]) -> bytes:
    """Make a key file for its owner alone, with some lines of text; returns the key.

    Raises `Refused`; a file that is there stays as it is.
    """
    key = secrets.token_bytes(LENGTH)
    letters = base64.b32encode(key + hashlib.sha256(key).digest()[:_CHECK]).decode()
    groups = "-".join(letters[at : at + 4] for at in range(0, len(letters), 4))
    text = "".join(f"# {line}".rstrip() + "\n" for line in lines) + f"zinker-key {groups}\n"
    try:
        make_folders(path.parent)
        with os.fdopen(open_own(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL), "wb") as file:
            file.write(text.encode())
            file.flush()
            os.fsync(file.fileno())
    except OSError as error:
        why = f"the key file {path} cannot be made: {reason(error)}"
        raise _refused(why, "Name another one.") from None
    if read_key_file(path) != key:
        raise _refused(f"{path} is not what was written", "Report this, please.")
    return key


def _refused(why: str, then: str) -> Refused:
    return Refused("Shelf not opened", why, then)

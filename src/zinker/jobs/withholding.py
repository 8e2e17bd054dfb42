"""Keeps secrets out of profiles: their values are cut out, and a keyed fingerprint stands in for them."""

import hashlib
import hmac
import io
import os
import secrets
from pathlib import Path

import msgspec

from zinker import formats
from zinker.formats.leaves import Edit, Leaves
from zinker.model.address import matches, pointer, tokens
from zinker.model.errors import NotWritable, Refused, reason
from zinker.model.plain_json import encode
from zinker.model.setting import WHOLE, WITHHELD, Leaf
from zinker.stores.atomic import make_folders
from zinker.stores.reading import Content, Reading, Trouble
from zinker.subjects.subject import Part

_EMPTY = {"text": Leaf("text", ""), "list": Leaf("list", [])}


def is_secret(part: Part, address: str) -> bool:
    """Tell whether the subject marks an address, or one above it, as secret."""
    if not part.secret:
        return False
    path = tokens(address)
    above = [pointer(*path[:depth]) for depth in range(1, len(path) + 1)]
    return any(matches(pattern, upper) for pattern in part.secret for upper in above)


def _holds_secret(part: Part, address: str, leaf: Leaf) -> bool:
    """Tell whether a leaf is secret, or is a list with an item that is."""
    items = range(len(leaf.value)) if leaf.type == "list" else ()
    return is_secret(part, address) or any(is_secret(part, f"{address}/{item}") for item in items)


class Withholder:
    """Withholds secrets; fingerprints are HMAC-SHA-256 (RFC 2104) with a key that stays on this machine.

    They tell whether a secret has changed, and nothing else, to whoever does not have the key.
    """

    def __init__(self, home: Path) -> None:
        self._key = _key(home / "fingerprint-key")
        self._key_id = hashlib.sha256(self._key).hexdigest()[:8]

    def withhold(self, part: Part, reading: Reading) -> Reading:
        """Return the document without its secrets, in its settings and in its content."""
        if not part.secret:
            return reading
        if reading.format == WHOLE and reading.troubles:
            why = f"{reading.troubles[0].why}; it may hold a secret, so it is not carried whole"
            return Reading(reading.document, "", troubles=(Trouble("", why),))
        secret = {
            a: leaf for a, leaf in reading.leaves.items() if leaf.value and _holds_secret(part, a, leaf)
        }
        if not secret:
            return reading
        leaves = {**reading.leaves, **{address: self._mark(leaf) for address, leaf in secret.items()}}
        content = reading.content and self._cut(reading, reading.content, secret)
        return msgspec.structs.replace(reading, leaves=leaves, content=content)

    def _mark(self, leaf: Leaf) -> Leaf:
        mark = hmac.new(self._key, encode(leaf), hashlib.sha256).hexdigest()[:16]
        return Leaf(WITHHELD, {"key": self._key_id, "mark": mark})

    def _cut(self, reading: Reading, content: Content, secret: Leaves) -> Content | None:
        edits = [Edit(address, _EMPTY.get(leaf.type, Leaf("null", None))) for address, leaf in secret.items()]
        with content.open() as stream:
            try:
                data = formats.edit(reading.format, stream.read(), edits, reading.dialect)
            except NotWritable:
                return None  # rather no copy of the file than one with the secret in it
        return Content(len(data), hashlib.sha256(data).hexdigest(), lambda: io.BytesIO(data))


def _key(path: Path) -> bytes:
    try:
        make_folders(path.parent)
        try:
            descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        except FileExistsError:
            return _whole_key(path)
        with os.fdopen(descriptor, "wb") as file:
            file.write(secrets.token_bytes(32))
            file.flush()
            os.fsync(file.fileno())
        return path.read_bytes()
    except OSError as error:
        why = f"the key for fingerprints in {path} cannot be read or made: {reason(error)}"
        raise Refused("Not read", why, "Point ZINKER_HOME to a folder that can be written.") from None


def _whole_key(path: Path) -> bytes:
    """Return the key; another run may have made the file just now and not have filled it yet."""
    import time

    for _ in range(100):
        key = path.read_bytes()
        if len(key) == 32:
            return key
        time.sleep(0.01)
    raise Refused(
        "Not read", f"{path} is damaged", "Delete it: only comparing older withheld secrets is lost."
    )

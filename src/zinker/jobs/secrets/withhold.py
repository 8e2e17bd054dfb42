"""Keeps secrets out of profiles: their values are cut out, and a keyed fingerprint stands in for them."""

import base64
import hashlib
import hmac
import io
from collections.abc import Iterable, Iterator
from typing import Any, NamedTuple

import msgspec

from zinker import formats
from zinker.formats.leaves import Leaves
from zinker.jobs.secrets.detect import holds_secret, secret_rows, secrets_in
from zinker.jobs.secrets.machine_key import sealing_key
from zinker.jobs.secrets.rest import rule_of_file, without_secrets
from zinker.model.errors import NotWritable
from zinker.model.file_state import FileState
from zinker.model.plain_json import encode
from zinker.model.rows import Block, address_of, leaf_of, row_of
from zinker.model.setting import WHOLE, WITHHELD, Leaf
from zinker.model.where import Where
from zinker.profiles.sealing import Lock
from zinker.stores.reading import Content, Reading, Trouble
from zinker.subjects.subject import Part

# So many bytes of whole files are sealed in, at most: a profile with more is not read (`LARGEST_SEALED`).
_TOGETHER = 4_000  # rows that are looked at together
_LARGEST_SECRETS = 24 * 1024 * 1024


class Withholder:
    """Withholds secrets; fingerprints are HMAC-SHA-256 (RFC 2104) with a key that stays on this machine.

    They tell whether a secret has changed, and nothing else, to whoever does not have the key.
    """

    def __init__(self, key: bytes, reader: formats.Reader, seals: bool, cuts: "Cuts") -> None:
        """Withhold secrets; `seals` tells that they are to be sealed in, so that nothing is lost by it.

        `key` is this machine's (`machine_key`); `reader` takes documents apart, and `cuts` remembers files without
        their secrets.
        """
        self._seals = seals
        self._held = 0  # bytes of whole files
        self._read: set[tuple[str, str]] = set()
        self._key = key
        self._reader, self._cuts = reader, cuts
        self._key_id = hashlib.sha256(self._key).hexdigest()[:8]
        self.secrets: dict[Where, Leaf] = {}

    @property
    def lock(self) -> Lock:
        """What seals the secrets of a fallback: a key that never leaves this machine."""
        return Lock(machine=sealing_key(self._key))

    def withhold(self, part: Part, reading: Reading) -> Reading:
        """Return the document without its secrets, in its settings and in its content.

        The secrets are remembered in `secrets`.
        """
        self._forget(Where(part.id, reading.document))
        blocks = reading.blocks
        if blocks is not None and reading.content is not None:
            return self._without(part, reading, reading.content, blocks())
        if blocks is not None:
            return msgspec.structs.replace(
                reading, blocks=lambda: self.guarded(part, reading.document, blocks())
            )
        if reading.format == WHOLE:
            why = self._why_not_whole(part, reading)
            return self._secret_file(part, reading, why) if why else reading
        secret = secrets_in(part, reading.leaves)
        where = Where(part.id, reading.document)
        self.secrets |= {where._replace(address=address): leaf for address, leaf in secret.items()}
        content = reading.content and self._cut(where, reading, reading.content, secret)
        if not secret and content is reading.content:
            return reading
        leaves = {**reading.leaves, **{address: self.mark(leaf) for address, leaf in secret.items()}}
        return msgspec.structs.replace(reading, leaves=leaves, **_with_content(reading, content))

    def _without(self, part: Part, reading: Reading, content: Content, blocks: Iterable[Block]) -> Reading:
        """Return a file whose settings come as rows without its secrets."""
        where = Where(part.id, reading.document)
        guarded = list(self.guarded(part, reading.document, blocks))
        found = {at[2]: leaf for at, leaf in self.secrets.items() if at[:2] == where[:2]}
        cut = self._cut(where, reading, content, found)
        more = _with_content(reading, cut)
        return msgspec.structs.replace(reading, blocks=lambda: iter(guarded), **more)

    def guarded(self, part: Part, document: str, blocks: Iterable[Block]) -> Iterator[Block]:
        """Yield the settings of a document of millions without its secrets; some blocks at a time, as one."""
        for rows in _many(blocks):
            for at in secret_rows(part, rows):
                address, leaf = address_of(rows[at]), leaf_of(rows[at])
                self.secrets[Where(part.id, document, address)] = leaf
                rows[at] = row_of(address, self.mark(leaf))
            yield rows

    def _why_not_whole(self, part: Part, reading: Reading) -> str:
        """Say why a file cannot be carried whole, or ""."""
        if part.secret and reading.troubles:
            return f"{reading.troubles[0].why}; it may hold a secret"
        if reading.content is None or "/" in part.not_secret:
            return ""
        digest = reading.content.sha256
        if digest not in self._cuts.rules:
            self._cuts.rules[digest] = rule_of_file(reading.content)
        rule = self._cuts.rules[digest]
        trouble = f"{reading.troubles[0].why}; " if rule and reading.troubles else ""
        return f"{trouble}it holds {rule}" if rule else ""

    def _secret_file(self, part: Part, reading: Reading, why: str) -> Reading:
        """Return a file that is a secret as a whole: its fingerprint; `why` says the reason."""
        where = Where(part.id, reading.document)
        if failed := self._keep(where, reading.content):
            return Reading(reading.document, "", troubles=(Trouble("", f"{why}, and {failed}"),))
        leaf = self.secrets[where]
        if not self._seals:
            troubles: tuple[Trouble, ...] = (Trouble("", why, withheld=True),)
        else:
            troubles = tuple(Trouble("", f"{why}, so it is sealed in") for _ in reading.troubles)
        mode = reading.file.mode if reading.file else ""
        file = FileState(mode=mode, **self.mark(leaf).value)
        return msgspec.structs.replace(
            reading, format=WHOLE, leaves={}, content=None, blocks=None, troubles=troubles, file=file
        )

    def _forget(self, document: Where) -> None:
        """Forget the secrets of a document: it is read again, and may not hold any more what it held before."""
        if document[:2] not in self._read:
            self._read.add(document[:2])
            return
        kept = self.secrets.get(document)
        self._held -= len(base64.b64decode(kept.value)) if kept else 0
        self.secrets = {where: leaf for where, leaf in self.secrets.items() if where[:2] != document[:2]}

    def _keep(self, where: Where, content: Content | None) -> str:
        """Keep a file as it is among the secrets; returns why that cannot be, or ""."""
        if content is None or self._held + content.size > _LARGEST_SECRETS:
            return "it is too large to be sealed in"
        with content.open() as stream:
            data = stream.read(content.size + 1)
        if hashlib.sha256(data).hexdigest() != content.sha256:
            return "it changed while it was read"
        self._held += len(data)
        self.secrets[where] = Leaf(WHOLE, base64.b64encode(data).decode())
        return ""

    def marked(self, part: Part, address: str, leaf: Leaf | None) -> Leaf | None:
        """Return a value as plans have it: the fingerprint of one that is secret."""
        if leaf is None or not holds_secret(part, address, leaf):
            return leaf
        return self.mark(leaf)

    def mark(self, leaf: Leaf) -> Leaf:
        """Return what stands in a profile for a secret: its fingerprint, and which key made that."""
        mark = hmac.new(self._key, encode(leaf), hashlib.sha256).hexdigest()[:16]
        return Leaf(WITHHELD, {"key": self._key_id, "mark": mark})

    def _cut(self, where: Where, reading: Reading, content: Content, secret: Leaves) -> Content | None:
        """Return a file without its secrets; None where they cannot be cut out.

        What is cut out besides settings would be lost: the file as it is becomes a secret of its own.
        """
        name = (reading.document, reading.format, content.sha256, *sorted(secret))
        known = self._cuts.find(name)
        if known is None:
            known = self._cut_out(reading, content, secret)
            self._cuts.keep(name, known)
        cut, rule = known
        if rule:
            why = self._keep(where, content)
            return None if why else cut
        return cut

    def _cut_out(self, reading: Reading, content: Content, secret: Leaves) -> "Cut":
        with content.open() as stream:
            data = stream.read()
        try:
            dialect = reading.dialect
            cut, rule = without_secrets(reading.format, data, dialect, self._reader, secret)
        except NotWritable:
            return Cut(None, "")  # rather no copy of the file than one with the secret in it
        if cut == data:
            return Cut(content, "")
        return Cut(Content(len(cut), hashlib.sha256(cut).hexdigest(), lambda: io.BytesIO(cut)), rule)


class Cut(NamedTuple):
    """A file without its secrets, None where they cannot be cut out; and which was cut out that no setting is."""

    content: Content | None
    rule: str


class Cuts:
    """Files without their secrets, by what they were with them: cutting takes several readings of each."""

    _LARGEST = 8 * 1024 * 1024  # bytes of all together

    def __init__(self) -> None:
        self._known: dict[tuple[str, ...], Cut] = {}
        self._size = 0  # bytes of them
        self.rules: dict[str, str] = {}  # which secrets files that are carried whole hold, by their digests

    def find(self, name: tuple[str, ...]) -> Cut | None:
        """Return a file that has been cut already."""
        return self._known.get(name)

    def keep(self, name: tuple[str, ...], cut: Cut) -> None:
        """Remember a file."""
        size = cut.content.size if cut.content else 0
        if self._size + size > self._LARGEST:
            self._known.clear()
            self._size = 0
        if size <= self._LARGEST and name not in self._known:
            self._known[name] = cut
            self._size += size


def _many(blocks: Iterable[Block]) -> Iterator[list[str]]:
    """Yield the rows of blocks, those of many small ones together; the last is there even if it is empty."""
    held: list[str] = []
    for block in blocks:
        if len(block) >= _TOGETHER:
            yield block
            continue
        held += block
        if len(held) >= _TOGETHER:
            yield held
            held = []
    yield held


def _with_content(reading: Reading, content: Content | None) -> dict[str, Any]:
    """Return what changes in a reading with the content of its file."""
    if reading.file is None:
        return {"content": content}
    size, sha256 = (content.size, content.sha256) if content else (0, "")
    return {"content": content, "file": msgspec.structs.replace(reading.file, size=size, sha256=sha256)}

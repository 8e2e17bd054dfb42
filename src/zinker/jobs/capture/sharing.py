"""Makes what is captured fit for strangers: without what is one's own, with variables in place of folders."""

import hashlib
import io
import re
from collections.abc import Iterator, Mapping

import msgspec

from zinker import formats
from zinker.formats.leaves import Edit, Leaves
from zinker.model.address import matches
from zinker.model.crosswalk import Crosswalk, between
from zinker.model.errors import NotWritable
from zinker.model.profile import Manifest, Problem
from zinker.model.rows import address_of, leaf_of
from zinker.model.setting import WHOLE, WITHHELD, Leaf, Setting
from zinker.places.place import Place
from zinker.stores.reading import Content, Reading
from zinker.subjects.subject import Part

_SHORTEST = 3  # a name of fewer letters is found everywhere
_MAIL = re.compile(r"(?<![\w.+-])[\w.+-]{1,64}@[\w-]{1,63}(?:\.[\w-]{1,63})+")
_HOST = re.compile(
    r"(?:\A|[\s\"'=])\\\\([\w.-]+)\\"  # \\host\share
    r"|://(?:[^/@\s]{0,200}@)?([\w.-]{1,200}\.[a-z]{2,63})"
    r"|\b((?:\d{1,3}\.){3}\d{1,3})\b"
    r"|^((?:[a-z0-9-]{1,63}\.){2,}[a-z]{2,63})$",  # a value that is nothing else
    re.IGNORECASE | re.MULTILINE,
)
_NAMESPACE = re.compile(r"xmlns(?::[\w.-]+)?\s*=\s*(?:\"[^\"]*\"|'[^']*')")  # names that are never called
_LOCAL = frozenset({"127.0.0.1", "0.0.0.0", "255.255.255.255"})  # noqa: S104 - nothing listens there


class Sharing:
    """What is changed in the documents of a place before they are handed to strangers.

    `named` lists what still seems to name a person or a host.
    """

    def __init__(self, place: Place, reader: formats.Reader) -> None:
        folders = place.own_folders()
        self._folders = {name: f"{{{name}}}" for name in folders}
        self._crosswalk = Crosswalk(between(folders, self._folders))
        self._reader = reader
        own = re.split(r"[\\/]", folders.get("home", ""))[-1]
        names = {name for name in (place.user, place.machine, own) if len(name) >= _SHORTEST}
        self._names = [
            (name, re.compile(rf"(?<!\w){re.escape(name)}(?!\w)", re.IGNORECASE)) for name in sorted(names)
        ]
        self.named: list[Problem] = []

    def shared(self, part: Part, reading: Reading) -> Reading:
        """Return a document, which is without its secrets already, as strangers may have it."""
        if reading.format in ("", WHOLE):
            self._note(part, reading.document, {}, reading.content)
            return reading
        rows = (row for block in reading.blocks() for row in block) if reading.blocks else ()
        before = {address_of(row): leaf_of(row) for row in rows} or dict(reading.leaves)
        changed = dict(self._changed(part, reading.document, before))
        after = {address: leaf for address, leaf in (before | changed).items() if leaf is not None}
        content = self._edited(reading, changed) if changed else reading.content
        self._note(part, reading.document, after, content)
        file = reading.file
        if file is not None and content is not reading.content:
            size, sha256 = (content.size, content.sha256) if content else (0, "")
            file = msgspec.structs.replace(file, size=size, sha256=sha256)
        return msgspec.structs.replace(reading, leaves=after, blocks=None, content=content, file=file)

    def about(self, manifest: Manifest) -> Manifest:
        """Return what a profile says of itself, without where it is from."""
        problems = tuple(
            msgspec.structs.replace(problem, why=self._translated(problem.why))
            for problem in manifest.problems
        )
        return msgspec.structs.replace(
            manifest,
            place="",
            machine="",
            user="",
            note="",
            folders=self._folders,
            while_running=False,
            problems=problems,
        )

    def _changed(self, part: Part, document: str, leaves: Leaves) -> Iterator[tuple[str, Leaf | None]]:
        for address, leaf in leaves.items():
            if any(matches(pattern, address) for pattern in part.volatile):
                yield address, None
            elif leaf.type != WITHHELD:
                setting = Setting(document, address, leaf.type, leaf.value)
                translated = self._crosswalk.translate(part.id, setting)
                if translated is not setting:
                    yield address, translated.leaf

    def _translated(self, text: str) -> str:
        return str(self._crosswalk.translate("", Setting("", "/", "text", text)).value)

    def _edited(self, reading: Reading, changed: Mapping[str, Leaf | None]) -> Content | None:
        """Return the file with what was changed; None where that cannot be: then it is made from its settings."""
        if reading.content is None:
            return None
        edits = [Edit(address, leaf) for address, leaf in changed.items()]
        with reading.content.open() as stream:
            try:
                data = formats.edit(reading.format, stream.read(), edits, reading.dialect, self._reader)
            except NotWritable:
                return None
        return Content(
            len(data), hashlib.sha256(data).hexdigest(), lambda: io.BytesIO(data), data[:4096], is_held=True
        )

    def _note(self, part: Part, document: str, leaves: Leaves, content: Content | None) -> None:
        """Note what seems to name a person or a host: in settings, and where no setting is."""
        seen = set()
        for address, leaf in leaves.items():
            for what in self._named_in(f"{address}\n{leaf.value}") if leaf.type != WITHHELD else ():
                seen.add(what)
                self.named.append(Problem(part.id, document, address, what))
        if content is not None:
            with content.open() as stream:
                text = stream.read(content.size).decode("utf-8", "replace")
            rest = (what for what in self._named_in(text) if what not in seen)
            self.named += [Problem(part.id, document, "", what) for what in rest]

    def _named_in(self, text: str) -> list[str]:
        text = _NAMESPACE.sub("", text)
        found = [f"the name {name}" for name, pattern in self._names if pattern.search(text)]
        found += [f"the mail address {mail}" for mail in _MAIL.findall(text)]
        hosts = ("".join(groups) for groups in _HOST.findall(text))
        found += [f"the host {host}" for host in hosts if host not in _LOCAL]
        return list(dict.fromkeys(found))

"""Settings seen through a crosswalk: with the values and at the addresses that they have at the other place."""

import operator
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from zinker.model.crosswalk import Crosswalk
from zinker.model.errors import Damaged, WrongUsage
from zinker.model.profile import ByteStream, Manifest, Snapshot
from zinker.model.setting import Leaf, Setting, decode_line, encode_line
from zinker.model.where import Where

_BATCH = 5_000  # lines


class Original(NamedTuple):
    """What a setting is in the source, where that is not the same."""

    part: str
    document: str
    address: str
    leaf: Leaf


class Translated(Snapshot):
    """Another snapshot, as its settings would be at another place.

    `originals` fills, while the lines are read, with those that are not the same in the source. Where the crosswalk
    has nothing to say, the lines are the source's own.
    """

    def __init__(self, source: Snapshot, crosswalk: Crosswalk) -> None:
        self.source, self.crosswalk = source, crosswalk
        self.originals: dict[Where, Original] = {}
        self.manifest: Manifest = source.manifest
        self.secrets = {Where(*crosswalk.moved(*where)): leaf for where, leaf in source.secrets.items()}
        self.removals = source.removals

    def lines(self, part: str) -> Iterator[bytes]:
        """Yield the encoded settings of a part, sorted.

        Raises `Damaged` where the source's are not in order, `WrongUsage` where two would come to one address.
        """
        if not self.crosswalk.is_moving(part):
            for setting in self._in_order(part):
                yield encode_line(self._translated(part, setting))
            return
        # Moving disturbs the order, and may bring settings from other parts.
        others = (move.part for move in self.crosswalk.moves if move.to_part == part)
        parts = dict.fromkeys([part, *others])
        found = sorted(
            (setting.key, encode_line(setting))
            for origin in parts
            if self.manifest.part(origin)
            for setting in self._moved(origin, part)
        )
        last = None
        for key, line in found:
            if key == last:
                why = f"it would move two settings of {part} to {key[0]}, {key[1]}"
                raise WrongUsage("Crosswalk not used", why, "Correct its moves.")
            last = key
            yield line

    def pieces(self, part: str) -> Iterator[bytes]:
        """Yield the encoded settings of a part, sorted, many lines at a time."""
        if self.crosswalk.is_empty:
            yield from self._checked(part)
            return
        batch: list[bytes] = []
        for line in self.lines(part):
            batch.append(line)
            if len(batch) == _BATCH:
                yield b"\n".join(batch) + b"\n"
                batch = []
        if batch:
            yield b"\n".join(batch) + b"\n"

    def attachment(self, sha256: str) -> ByteStream:
        """Open a whole file by its digest."""
        return self.source.attachment(sha256)

    def attachment_size(self, sha256: str) -> int:
        """Return how many bytes a whole file has."""
        return self.source.attachment_size(sha256)

    def _checked(self, part: str) -> Iterator[bytes]:
        """Yield the source's own pieces; raises `Damaged` where their lines are not in order."""
        last: list[bytes] = []
        for piece in self.source.pieces(part):
            lines = [*last, *piece[:-1].split(b"\n")]
            # Document and address are in order as UTF-8 as they are as text, if JSON had nothing to escape.
            keys = [line.split(b'","', 2)[:2] for line in lines]
            if b"\\" in piece or not all(map(operator.lt, keys, keys[1:])):
                for _ in _in_order(part, lines):
                    pass
            last = lines[-1:]
            yield piece

    def _in_order(self, part: str) -> Iterator[Setting]:
        return _in_order(part, self.source.lines(part))

    def _moved(self, origin: str, part: str) -> Iterator[Setting]:
        """Yield the settings of a part of the source that come to a part, which may be the same."""
        for setting in self._in_order(origin):
            to, document, address = self.crosswalk.moved(origin, *setting.key)
            if to != part:
                continue
            if (document, address) != setting.key:
                self.originals[Where(to, document, address)] = Original(origin, *setting.key, setting.leaf)
                setting = Setting(document, address, setting.type, setting.value)
            yield self._translated(to, setting)

    def _translated(self, part: str, setting: Setting) -> Setting:
        translated = self.crosswalk.translate(part, setting)
        if translated is not setting:
            where = Where(part, *setting.key)
            known = self.originals.get(where)
            self.originals[where] = known or Original(*where, setting.leaf)
        return translated


def _in_order(part: str, lines: Iterable[bytes]) -> Iterator[Setting]:
    """Yield the settings of lines; raises `Damaged` where they are not in order."""
    last = None
    for setting in map(decode_line, lines):
        if last is not None and setting.key <= last:
            why = f"the settings of the part {part} are not in order, or one stands there twice"
            raise Damaged("Profile not read", why, "Use another copy of it, or another version.")
        last = setting.key
        yield setting

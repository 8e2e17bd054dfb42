"""Planning one part of an import: two snapshots become differences, which `documents` makes a plan of."""

from collections.abc import Iterable, Iterator, Mapping
from functools import partial
from itertools import groupby
from typing import NamedTuple

from zinker.jobs.capture.selection import Selection
from zinker.jobs.plan.documents import Options, PartCase, PartPlan, PartPlanner
from zinker.jobs.plan.result import with_result
from zinker.jobs.progress import Progress
from zinker.jobs.secrets.detect import holds_secret, suspects
from zinker.jobs.secrets.withhold import Withholder
from zinker.jobs.session import Session
from zinker.jobs.translate.view import Translated
from zinker.model.address import folded, matches
from zinker.model.difference import Difference, differences, paired_by_case
from zinker.model.file_state import FileState
from zinker.model.lines import count_settings, heads_in, lines_with, words_of
from zinker.model.plan import DocumentChange, LeftAlone
from zinker.model.profile import Snapshot
from zinker.model.setting import DOCUMENT, WITHHELD, Setting, decode_line, encode_line
from zinker.model.where import Where
from zinker.stores.home import Home, NoHome
from zinker.subjects.subject import Part


class Sides(NamedTuple):
    """What a plan is made from: a place with its live settings, and the source as that place would have it."""

    session: Session
    live: Snapshot
    source: Translated
    options: Options = Options()


def plan_part(sides: Sides, part: Part, selection: Selection) -> PartPlan:
    """Plan one part of an import: what the source has and the place has not, or has otherwise.

    Raises `Damaged` for a source that is not what it says it is.
    """
    record = sides.source.manifest.part(part.id)
    is_held = record is not None and not record.homeless and (record.documents or sides.options.exact)
    if not is_held and not sides.source.crosswalk.is_moving(part.id):
        return PartPlan()
    try:
        home = sides.session.home(part)
    except NoHome as error:
        why = LeftAlone(part.id, "", "", error.why, reason="no-home")
        return PartPlan(left=(why,) if record and record.documents else ())
    origins = {name: old for (id, old), name in sides.source.crosswalk.renames.items() if id == part.id}
    progress, known = sides.session.setup.progress, record.settings if record else 0
    counter = _Counter(part, selection, sides.options.own(part), origins, progress, known)
    live_heads: dict[str, FileState] = {}
    source_heads: dict[str, FileState] = {}
    source = _marked(part, sides.source, sides.session.withholder)
    found: Iterable[Difference] = differences(
        part.id,
        _noting_heads(sides.live.pieces(part.id), live_heads),
        _noting_heads(counter.counted(source), source_heads),
    )
    found = paired_by_case(found) if home.traits.folds_case else found
    meant = [one for one in found if selection.has(part, one.document, origins.get(one.document, ""))]
    planner = PartPlanner(
        _case(sides, part, home, live_heads, source_heads), partial(_completed, sides, part)
    )
    wanted, stays = _wanted(sides, meant)
    differing = 0
    for document, group in groupby(wanted, key=lambda difference: difference.document):
        those = list(group)
        differing += sum(counter.counts(d.document, d.address, d.after) for d in those)
        planner.plan(document, those)
    asked = sides.options.asked
    only_here = sum(
        counter.counts(d.document, d.address, d.before) and asked(part, d.document, d.address) for d in stays
    )
    return planner.result(counter.total - differing)._replace(only_here=only_here)


def _wanted(sides: Sides, found: Iterable[Difference]) -> tuple[list[Difference], list[Difference]]:
    """Part the differences: what is to be written, and what only the place has, which stays."""
    wanted: list[Difference] = []
    stays: list[Difference] = []
    for one in found:
        goes = sides.options.exact or _is_removed(sides.source, one)
        (wanted if goes or one.after is not None else stays).append(one)
    return wanted, stays


def _case(
    sides: Sides, part: Part, home: Home, live: dict[str, FileState], source: dict[str, FileState]
) -> PartCase:
    """Return what planning a part goes by; `live` and `source` are its documents as files, on either side."""
    return PartCase(
        part,
        home,
        sides.session.place.told,
        live,
        source,
        tuple(p for p in sides.live.manifest.problems if p.part == part.id and p.is_unknown),
        tuple(p for p in sides.source.manifest.problems if p.part == part.id and p.is_unknown),
        sides.source.manifest.machine == sides.session.place.machine,
        sides.source.secrets,
        sides.source.originals,
        sides.source.crosswalk.renames,
        sides.source.attachment_size,
        sides.options,
    )


def _completed(
    sides: Sides, part: Part, change: DocumentChange
) -> tuple[DocumentChange | None, list[LeftAlone]]:
    live = sides.session.as_captured(part, change.document) if change.before is not None else None
    return with_result(sides.session, part, change, live, sides.source)


def _is_removed(source: Snapshot, found: Difference) -> bool:
    """Whether the source tells to remove a setting with the key that it is in."""
    keys = source.removals.get((found.part, found.document), ())
    address = folded(found.address)
    return any(address.startswith(folded(key)) for key in keys)


class _Counter:
    """Counts the settings of a source that take part in a comparison: neither volatile nor the place's own."""

    def __init__(
        self,
        part: Part,
        selection: Selection,
        own: tuple[str, ...],
        origins: Mapping[str, str],
        progress: Progress,
        known: int,
    ) -> None:
        self._part, self._selection, self._own, self._origins = part, selection, own, origins
        self._words = words_of(own)
        self._progress, self._known = progress, known
        self.total = 0

    def counted(self, pieces: Iterator[bytes]) -> Iterator[bytes]:
        """Count the settings of lines on their way."""
        for piece in pieces:
            if self._selection.is_narrow or self._words is None:
                settings = map(decode_line, piece[:-1].split(b"\n"))
                self.total += sum(self.counts(s.document, s.address, s) for s in settings)
            else:
                self.total += count_settings(piece) - self._own_in(piece)
            self._progress(self._part.name, self.total, self._known)
            yield piece

    def _own_in(self, piece: bytes) -> int:
        lines = piece[:-1].split(b"\n") if self._words else []
        settings = (decode_line(lines[at]) for at in lines_with(lines, (*(self._words or ()), b"\\u")))
        return sum(self._is_own(setting.address) for setting in settings)

    def counts(self, document: str, address: str, leaf: object) -> bool:
        """Tell whether a setting counts as alike or not."""
        is_opening = getattr(leaf, "type", DOCUMENT) == DOCUMENT
        is_meant = self._selection.has(self._part, document, self._origins.get(document, ""))
        return not is_opening and not self._is_own(address) and is_meant

    def _is_own(self, address: str) -> bool:
        return any(matches(pattern, address) for pattern in self._own)


def _marked(part: Part, source: Snapshot, withholder: Withholder) -> Iterator[bytes]:
    """Yield a source's lines, with every secret replaced by this machine's own fingerprint of it."""
    for piece in source.pieces(part.id):
        lines = piece[:-1].split(b"\n")
        is_changed = False
        for at in suspects(part, lines):
            setting = decode_line(lines[at])
            marked = without_secret(part, setting, source, withholder)
            if marked is not setting:
                lines[at] = encode_line(marked)
                is_changed = True
        yield b"\n".join(lines) + b"\n" if is_changed else piece


def without_secret(part: Part, setting: Setting, source: Snapshot, withholder: Withholder) -> Setting:
    """Return a setting of a source as plans may hold it: with this machine's own fingerprint of a secret.

    The secret may be one that was opened, or one that is in clear there: profiles of others may not be as careful
    as ours. The same object is returned for anything else.
    """
    where = Where(part.id, *setting.key)
    if setting.is_head:
        secret = source.secrets.get(where) if FileState.of(setting).is_secret else None
    elif setting.type == WITHHELD:
        secret = source.secrets.get(where)
    else:
        secret = setting.leaf if holds_secret(part, setting.address, setting.leaf) else None
    if secret is None:
        return setting
    mark = withholder.mark(secret)
    if setting.is_head:
        return Setting(*setting.key, setting.type, {**setting.value, **mark.value})
    return Setting(*setting.key, mark.type, mark.value)


def _noting_heads(pieces: Iterable[bytes], heads: dict[str, FileState]) -> Iterator[bytes]:
    for piece in pieces:
        heads |= {setting.document: FileState.of(setting) for setting in heads_in(piece)}
        yield piece

"""A whole configuration as a page that a person can read and file, and as data."""

from collections.abc import Iterator
from typing import Any

import msgspec

from zinker.jobs.documenting import Documented, Piece
from zinker.model.file_state import is_withheld
from zinker.model.names import place_told
from zinker.model.profile import PartRecord
from zinker.model.setting import Setting
from zinker.reports.entries import GAP, noun, reasons, setting_json, value_text
from zinker.reports.listing import documents_in
from zinker.reports.page import Block, Entry, Facts, Heading, Page, Paragraph, Section, Table
from zinker.reports.report import Report
from zinker.reports.words import count, title, when
from zinker.stores.kinds import traits_of


def document_report(documented: Documented, prefix: str = "") -> Report:
    """Return a configuration: contents, and every part and document as a table; `prefix` is that of its anchors."""
    about = documented.manifest
    facts = [
        ("of", documented.name),
        ("place", place_told(about.place, about.machine) if about.place else ""),
        ("machine", about.machine),
        ("system", about.system),
        ("account", about.user),
        ("application", about.application_version),
        ("captured", when(about.captured)),
        ("label", about.label),
        ("note", about.note),
        ("written by", about.written_by),
    ]
    page = Page(
        "Configuration",
        about.title,
        Facts(tuple(pair for pair in facts if pair[1])),
        tuple(_summary(documented)),
        _sections(documented, prefix),
        tuple(_contents(documented, prefix)),
    )
    return Report(page, lambda: _json(documented), lambda: _rows(documented))


def anchors(documented: Documented, prefix: str) -> dict[tuple[str, str], str]:
    """Return a name for every document that is taken apart, which links lead to."""
    named = ((part, document) for part, documents in documented.outline.items() for document in documents)
    return {where: f"{prefix}d{number}" for number, where in enumerate(named, 1)}


def _contents(documented: Documented, prefix: str) -> Iterator[tuple[str, str, int]]:
    known = anchors(documented, prefix)
    for record in documented.parts:
        documents = documented.outline[record.id]
        if documents:
            yield record.title, known[record.id, documents[0]], 1
        for document in documents:
            yield document, known[record.id, document], 2


def _summary(documented: Documented) -> Iterator[Block]:
    about = documented.manifest
    settings = sum(record.settings for record in documented.parts)
    yield Paragraph(f"{count(settings, 'setting')} in {count(len(documented.parts), 'part')}.", "strong")
    if about.withheld:
        has = "secret is" if about.withheld == 1 else "secrets are"
        sealed = "sealed in, and not shown here" if about.sealed else "withheld"
        yield Paragraph(f"{about.withheld:,} {has} {sealed}; named at the end.")
    if about.partial:
        yield Paragraph("Only some settings of its documents are in it.", "left")
    if about.while_running:
        yield Paragraph("The application was running, and may not have saved its last changes.", "left")
    rows = (
        (record.title, documents_in(record), f"{record.settings:,}", _of(record, documented.is_live))
        for record in documented.parts
    )
    yield GAP
    yield Table(("part", "documents", "settings", ""), tuple(rows))
    if about.problems:
        yield reasons("Not captured, or only as it is:", about.problems, documented.subject)


def _of(record: PartRecord, is_live: bool) -> str:
    """Say what else there is to know of a part."""
    told = ["bound to its device"] if record.device_bound else []
    told += ["no home at the place"] if record.homeless else []
    if traits_of(record.store).has_layers and not is_live:
        told.append("what was set by hand; all else is as the system has it")
    return "; ".join(told)


def _sections(documented: Documented, prefix: str) -> Iterator[Block]:
    known = anchors(documented, prefix)
    secrets: list[tuple[str, str, str]] = []
    for piece in documented.pieces:
        secrets += (
            (piece.record.title, s.document, _secret(piece, s)) for s in piece.settings if is_withheld(s.leaf)
        )
        if piece.is_whole:
            (head, *_) = piece.settings
            entry = Entry("", f"{noun(piece.part)} {piece.document}", after=value_text(head), joined=True)
            yield Section(piece.record.title, piece.document, (entry,), is_whole=True)
            continue
        entries = tuple(_entry(piece, s, known) for s in piece.settings if s.address not in piece.labels)
        anchor = known.get((piece.record.id, piece.document), "")
        yield Section(piece.record.title, piece.document, entries, tuple(_notes(piece)), anchor=anchor)
    if secrets:
        yield Heading("Withheld", 2)
        yield Table(("part", "document", "setting"), tuple(secrets))


def _secret(piece: Piece, setting: Setting) -> str:
    return title(piece.part, setting.address) or f"the whole {noun(piece.part)}"


def _notes(piece: Piece) -> Iterator[str]:
    """Yield what is to be said of a document besides its settings."""
    if piece.id:
        yield f"id {piece.id}"
    last = piece.last_change
    if last is not None:
        by, at = (f" by {last.by}" if last.by else "", f", {last.at}" if last.at else "")
        yield f"last changed{by}{at}"


def _entry(piece: Piece, setting: Setting, known: dict[tuple[str, str], str]) -> Entry:
    name = title(piece.part, setting.address) or "the whole of it"
    at = setting.address if name != setting.address else ""
    layer = piece.layers.get(setting.address, "")
    links = tuple(
        (document, known.get((part, document), ""))
        for part, document in piece.refers.get(setting.address, ())
    )
    notes = (layer,) if layer else ()
    text = ", ".join(text for text, _ in links) or value_text(setting)
    return Entry("", name, at, after=text, notes=notes, links=links)


def _json(documented: Documented) -> dict[str, Any]:
    return {
        "source": documented.name,
        "profile": msgspec.to_builtins(documented.manifest),
        "settings": list(_rows(documented)),
    }


def _rows(documented: Documented) -> Iterator[dict[str, Any]]:
    for piece in documented.pieces:
        for setting in piece.settings:
            layer = piece.layers.get(setting.address, "")
            yield setting_json(piece.record.id, setting, piece.part, layer=layer)

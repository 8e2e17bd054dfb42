"""The settings in a profile or at a place, as a page and as data."""

import json
from collections.abc import Iterator
from itertools import groupby
from typing import Any

from zinker.jobs.looking import Shown
from zinker.jobs.secrets.detect import MARK
from zinker.model.setting import Setting
from zinker.reports.entries import GAP, reasons, setting_json, titled, value_text
from zinker.reports.page import Block, Entry, Facts, Page, Paragraph, Section
from zinker.reports.report import Report
from zinker.reports.words import count, title, when
from zinker.subjects.subject import Part


def shown_report(shown: Shown) -> Report:
    """Return settings part by part, document by document."""
    about = shown.manifest
    name = f"{about.title} {about.application_version}".rstrip()
    facts = Facts((("of", shown.name), ("captured", when(about.captured))))
    page = Page("Settings", name, facts, (), _body(shown))
    return Report(page, lambda: shown_json(shown), lambda: _settings(shown))


def unread(shown: Shown) -> str:
    """Say in a line what is not among the settings because it could not be read."""
    first = shown.unread[0]
    where = ", ".join(filter(None, (first.document, first.address)))
    more = f"; and {len(shown.unread) - 1:,} more" if len(shown.unread) > 1 else ""
    return f"{where or first.part}: {first.why}{more}"


def _body(shown: Shown) -> Iterator[Block]:
    yield from _sections(shown)
    if shown.unread:
        yield GAP
        yield reasons("Not shown:", shown.unread, shown.subject)
    yield GAP
    if shown.rules is None:
        yield Paragraph(f"{count(len(shown.settings), 'setting')}.", "strong")
        return
    held, about = len(shown.settings), shown.manifest
    yield Paragraph(f"{count(held, 'secret')} withheld from settings and whole files.", "strong")
    if about.withheld > held:
        more = count(about.withheld - held, "file")
        where = "in comments, or in tables that the subject file does not name"
        yield Paragraph(f"What {more} had {where}, was withheld, too.")
    looks = [address or "/" for (_, _, address), rule in shown.rules.items() if not rule.startswith(MARK)]
    named = "is named in the subject file, in its part"
    if looks:
        none = json.dumps(looks[0], ensure_ascii=False)
        yield Paragraph(f"A value that is no secret {named}: not_secret = [{none}]")
    if held:
        yield Paragraph(f"A secret that is missing here can be {named[3:]}: secret = [...]")


def _sections(shown: Shown) -> Iterator[Section]:
    for (part_id, document), group in groupby(shown.settings, key=lambda s: (s[0], s[1].document)):
        part = titled(shown.subject.find_part(part_id) if shown.subject else None, document, shown.titles)
        record = shown.manifest.part(part_id)
        settings = [setting for _, setting in group]
        entries = tuple(_entry(shown, part, part_id, setting) for setting in settings)
        is_file = not settings[0].address
        yield Section(record.title if record else part_id, document, entries, is_whole=is_file)


def _entry(shown: Shown, part: Part | None, part_id: str, setting: Setting) -> Entry:
    name = title(part, setting.address) if setting.address else f"file {setting.document}"
    at = setting.address if name != setting.address and setting.address else ""
    return Entry("", name, at, after=_said(shown, part_id, setting))


def _said(shown: Shown, part: str, setting: Setting) -> str:
    if shown.rules is not None:
        rule = shown.rules[part, *setting.key]
        return f"by {rule}" if setting.address else rule
    words = shown.layers.get((part, *setting.key), "")  # from which layer, where it is not the user's own
    return value_text(setting) + (f"  ({words})" if words else "")


def shown_json(shown: Shown) -> dict[str, Any]:
    """Return settings for programs."""
    return {"source": shown.name, "profile": shown.manifest, "settings": list(_settings(shown))}


def _settings(shown: Shown) -> Iterator[dict[str, Any]]:
    for part_id, setting in shown.settings:
        key = (part_id, *setting.key)
        part = titled(
            shown.subject.find_part(part_id) if shown.subject else None, setting.document, shown.titles
        )
        rule = shown.rules[key] if shown.rules is not None else ""
        yield setting_json(part_id, setting, part, rule=rule, layer=shown.layers.get(key, ""))

"""Looking at settings, in a profile or at a place, without changing anything."""

from collections.abc import Iterator
from itertools import chain

import msgspec

from zinker.jobs.capture.selection import Selection
from zinker.jobs.plan.layers import layered
from zinker.jobs.progress import Progress
from zinker.jobs.references import parse_reference
from zinker.jobs.secrets.detect import holds_secret, rule_of_name
from zinker.jobs.setup import Setup
from zinker.jobs.sources import Source, opened, subject_of
from zinker.jobs.translate.policies import titles_in
from zinker.model.address import folded
from zinker.model.file_state import FileState
from zinker.model.names import unknown
from zinker.model.policy import Titles
from zinker.model.profile import Manifest, Problem
from zinker.model.setting import WITHHELD, Setting, text_of
from zinker.places.place import Place
from zinker.stores.desktop_db import USER
from zinker.stores.home import NoHome, StoreError
from zinker.stores.kinds import open_home, traits_of
from zinker.subjects.subject import Part, Subject

_TOLD_AFTER = 20_000  # settings


class Shown(msgspec.Struct, frozen=True):
    """What was asked to be shown: settings by part, documents' opening lines left out."""

    name: str
    manifest: Manifest
    subject: Subject | None
    settings: tuple[tuple[str, Setting], ...]
    # For what does not come from the user's own layer, or is locked: words for it, by part and setting.
    layers: dict[tuple[str, str, str], str] = {}
    # What a service calls settings of its policies.
    titles: Titles = {}
    # Where only the secrets were asked for: by which rule each was withheld, by part and setting.
    rules: dict[tuple[str, str, str], str] | None = None
    # What of it could not be read, so that it is not among the settings.
    unread: tuple[Problem, ...] = ()


def show(
    setup: Setup,
    reference: str,
    parts: tuple[str, ...] = (),
    find: str = "",
    secrets: bool = False,
    documents: tuple[str, ...] = (),
) -> Shown:
    """Return the settings in a profile or at a place; `find` keeps those with a text in name, title or value.

    `documents` are names or patterns of those that are meant. With `secrets`, only what was withheld is returned,
    and by which rule.
    """
    wanted = parse_reference(reference)
    with opened(setup, wanted, parts) as source:
        subject = subject_of(setup, source)
        selection = selected(source, subject, parts, wanted.instance, documents)
        settings = list(_settings(source, subject, parts, find.casefold(), selection, setup.progress))
        layers: dict[tuple[str, str, str], str] = {}
        if source.is_live and subject is not None:
            beneath = layers_at(setup.place(wanted.place), subject, parts, layers, find.casefold())
            own = {(part, *setting.key) for part, setting in settings}
            known = {part.id: part for part in selection.parts}
            beneath = (one for one in beneath if selection.has(known[one[0]], one[1].document))
            settings += [(part, s) for part, s in beneath if (part, *s.key) not in own]
            order = {part.id: number for number, part in enumerate(subject.part)}
            settings.sort(key=lambda item: (order.get(item[0], 0), item[1].key))
        titles = titles_in(subject, source.snapshot)
        unread = tuple(_unread(source, parts, selection))
        shown = Shown(source.told, source.manifest, subject, tuple(settings), layers, titles, unread=unread)
        return _secrets_of(shown) if secrets else shown


def selected(
    source: Source,
    subject: Subject | None,
    parts: tuple[str, ...],
    instance: str = "",
    documents: tuple[str, ...] = (),
) -> Selection:
    """Return what of a source is meant; raises `WrongUsage` for a name that fits nothing in it."""
    held = [part.id for part in source.manifest.parts]
    for id in parts:
        if id not in held:
            raise unknown("part", id, held, f"{source.name} holds {', '.join(held) or 'nothing'}.")
    chosen = tuple(part for id in parts or held if subject and (part := subject.find_part(id)))
    selection = Selection(chosen, instance, documents)
    known = ((id, name) for id in held for name in source.snapshot.documents(id))
    # What could not be read was there all the same.
    unread = ((problem.part, problem.document) for problem in source.manifest.problems if problem.document)
    selection.check(chain(known, unread), source.name)
    return selection


def _unread(source: Source, parts: tuple[str, ...], selection: Selection) -> Iterator[Problem]:
    """Yield what could not be read, and is, or may be, among what was asked for."""
    meant = {part.id: part for part in selection.parts} if selection.is_narrow else {}
    named = {id: frozenset(source.snapshot.documents(id)) for id in meant}
    for problem in source.manifest.problems:
        if not problem.is_unknown or (parts and problem.part not in parts):
            continue
        part, document = meant.get(problem.part), problem.document
        # A line of a file that holds a registry may be of any branch.
        is_known = part and document and (traits_of(part.store).has_files or document in named[part.id])
        if part is None or not is_known or selection.has(part, document):
            yield problem


def _secrets_of(shown: Shown) -> Shown:
    """Return only what was withheld, with the rules as far as a profile still tells them."""
    rules: dict[tuple[str, str, str], str] = {}
    whys = {(p.part, p.document): p.why for p in shown.manifest.problems if not p.address}
    for id, setting in shown.settings:
        part = shown.subject.find_part(id) if shown.subject else None
        if setting.type == WITHHELD:
            rules[id, *setting.key] = rule_of_name(part, setting.address) if part else "its look"
        elif setting.is_head and FileState.of(setting).is_secret:
            rules[id, *setting.key] = whys.get((id, setting.document), "the whole file")
    held = tuple((id, setting) for id, setting in shown.settings if (id, *setting.key) in rules)
    return msgspec.structs.replace(shown, settings=held, rules=rules)


def layers_at(
    place: Place,
    subject: Subject,
    parts: tuple[str, ...],
    layers: dict[tuple[str, str, str], str],
    find: str = "",
) -> Iterator[tuple[str, Setting]]:
    """Yield what counts in the settings databases though it is not the user's own; notes its layer.

    So also what a policy sets: it counts whatever the user has.
    """
    for part in subject.part:
        if parts and part.id not in parts:
            continue
        if part.policies:
            yield from _overruled(place, part, layers, find)
        if not traits_of(part.store).has_layers:
            continue
        try:
            home = layered(open_home(place, part))
            found = [(path, *of) for path in home.where() for of in home.layers(path)]
        except (NoHome, StoreError):
            continue  # the capture has told why
        for document, address, leaf, layer, is_locked in found:
            words = [layer] * (layer != USER) + ["locked"] * is_locked
            if words:
                layers[part.id, document, address] = ", ".join(words)
            text = "\n".join((document, address, part.titles.get(address, ""), leaf.value))
            if layer != USER and find in text.casefold() and not holds_secret(part, address, leaf):
                yield part.id, Setting(document, address, leaf.type, leaf.value)


def _overruled(
    place: Place, part: Part, layers: dict[tuple[str, str, str], str], find: str
) -> Iterator[tuple[str, Setting]]:
    """Yield what policies set though the user has not; of what the user has, notes what counts instead."""
    try:
        home = open_home(place, part)
        found = [(document, one) for document in home.where() for one in home.overruled(document)]
        own = {d: {folded(a): (a, leaf) for a, leaf in home.read(d).all_leaves()} for d in home.documents()}
    except (NoHome, StoreError):
        return  # the capture has told why
    for document, one in found:
        address, leaf = own.get(document, {}).get(folded(one.address), (one.address, None))
        is_secret = holds_secret(part, address, one.leaf)
        value = "another value" if is_secret else text_of(one.leaf)
        if leaf is None:
            layers[part.id, document, address] = f"by a policy, {one.where}"
            if find in "\n".join((document, address, value)).casefold() and not is_secret:
                yield part.id, Setting(document, address, one.leaf.type, one.leaf.value)
        elif leaf != one.leaf:
            layers[part.id, document, address] = f"does not count: {value} does, by {one.where}"


def _settings(
    source: Source,
    subject: Subject | None,
    parts: tuple[str, ...],
    find: str,
    selection: Selection,
    progress: Progress,
) -> Iterator[tuple[str, Setting]]:
    for record in source.manifest.parts:
        part = subject.find_part(record.id) if subject else None
        if parts and record.id not in parts:
            continue
        for number, setting in enumerate(source.snapshot.settings(record.id)):
            if number % _TOLD_AFTER == 0:
                progress(record.title, number, record.settings)
            if setting.is_head and setting.type == "document":
                continue
            if part and not selection.has(part, setting.document):
                continue
            title = part.titles.get(setting.address, "") if part else ""
            text = "\n".join((setting.document, setting.address, title, text_of(setting)))
            if find in text.casefold():
                yield record.id, setting

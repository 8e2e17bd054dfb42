"""Copy: versions to another shelf or from there, and profile files onto the shelf."""

import contextlib
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from zinker.jobs.progress import Progress
from zinker.jobs.references import parse_reference
from zinker.jobs.setup import Setup
from zinker.model.errors import Refused, WrongUsage, ZinkerError, reason, remedy
from zinker.model.names import home_of
from zinker.places.given import path_at
from zinker.places.here import Here
from zinker.profiles.layout import SUFFIX
from zinker.profiles.reading import open_profile
from zinker.shelf.shelf import Shelf, Version
from zinker.shelf.versions import identity_of


class Copied(msgspec.Struct, frozen=True):
    """One version: what it is called where it is from and where it went, and whether it was there already.

    `label` is one that it could not have there, as another version has it; `why` says why it was not copied.
    """

    source: str
    target: str = ""
    was_there: bool = False
    label: str = ""
    why: str = ""


class Copies(msgspec.Struct, frozen=True):
    """What was copied from where to where; `left` counts fallbacks, which belong to the changes of their shelf."""

    source: str
    target: str
    copied: tuple[Copied, ...]
    left: int = 0

    @property
    def is_complete(self) -> bool:
        """Whether all that was to be copied is there."""
        return not any(one.why for one in self.copied)


def copy(
    setup: Setup,
    what: Sequence[str] = (),
    to: str = "",
    source: str = "",
    is_folder: bool = False,
    is_sealed: bool = False,
) -> Copies:
    """Copy versions: to a shelf, a profile file, or, where it `is_folder`, a profile folder; or from another shelf.

    `what` are subjects, all by default, references of versions, and paths of profiles, which come onto the shelf.
    A new shelf is sealed where it `is_sealed`. What is there already is not copied again, so that a copy that was
    cut off can be taken up.

    Raises `WrongUsage` and `Refused`; versions that are damaged are left out, and that is told.
    """
    if to and source:
        raise WrongUsage("Not copied", "both --to and --from were given", "Choose one direction.")
    if is_sealed and (not to or to.endswith(SUFFIX) or is_folder):
        raise WrongUsage("Not copied", "only a shelf is sealed", "Add --to SHELF, or leave out --sealed.")
    references = [parse_reference(text) for text in what]
    paths = [one.path for one in references if one.path is not None]
    if paths and (to or source or len(paths) < len(references)):
        why = f"{paths[0]} is a profile outside the shelf, and comes onto it"
        raise WrongUsage("Not copied", why, "Name such profiles alone, without --to and --from.")
    if paths:
        return _onto(setup, paths)
    if not to and not source:
        why = "nothing says where to"
        raise WrongUsage("Not copied", why, "Add --to SHELF, --to FILE.zinker, or --from SHELF.")
    if to.endswith(SUFFIX) or (to and is_folder):
        return _out(setup, what, path_at(to, Here()))
    there = setup.other_shelf(to or source, is_new=not source, is_sealed=is_sealed)
    here = setup.shelf
    give, take = (here, there) if to else (there, here)
    versions, left = _chosen(give, what)
    copied = tuple(_each(give, take, versions, setup.progress))
    if any(one.was_there for one in copied):
        take.tidy()
    return Copies(give.storage.told, take.storage.told, copied, left)


def _chosen(shelf: Shelf, what: Sequence[str]) -> tuple[list[Version], int]:
    """Return the versions that were named, of subjects all but fallbacks, and how many of these there are."""
    found: list[Version] = []
    left = 0
    kept = shelf.subjects()
    for text in what or kept:
        wanted = parse_reference(text)
        if wanted.version or wanted.subject not in kept:
            found.append(shelf.find(wanted.subject, wanted.version or "latest", wanted.place))
            continue
        own = [one for one in shelf.versions(wanted.subject) if wanted.place in ("", one.place)]
        found += [one for one in own if not one.fallback_of]
        left += sum(bool(one.fallback_of) for one in own)
    return found, left


def _each(give: Shelf, take: Shelf, versions: list[Version], progress: Progress) -> Iterator[Copied]:
    for number, version in enumerate(versions):
        progress("Versions", number, len(versions))
        if version.problem:
            yield Copied(version.reference, why=version.problem)
            continue
        known = take.identical(version.subject, version.identity)
        if known is not None:
            yield Copied(version.reference, known.reference, was_there=True)
            continue
        try:
            with contextlib.closing(give.open(version)) as profile:
                label = profile.manifest.label
                taken = bool(label) and take.labelled(version.subject, label, version.home) is not None
                if taken:
                    profile.manifest = msgspec.structs.replace(profile.manifest, label="")
                copied = take.take(profile, version.number, version.reference)
            if version.looked:
                take.say(copied, looked=version.looked)
        except Refused:
            raise
        except ZinkerError as error:
            yield Copied(version.reference, why=error.why)
            continue
        yield Copied(version.reference, copied.reference, label=label if taken else "")
    progress("Versions", len(versions), len(versions))


def _onto(setup: Setup, paths: list[Path]) -> Copies:
    """Put profiles from outside onto the shelf."""
    shelf, done, progress = setup.shelf, [], setup.progress
    for number, path in enumerate(paths):
        progress("Profiles", number, len(paths))
        with contextlib.closing(open_profile(path)) as profile:
            about = profile.manifest
            profile.verify()  # one that was edited is not what it says it is
            known = shelf.identical(about.subject, identity_of(about))
            if known is not None:
                done.append(Copied(str(path), known.reference, was_there=True))
                continue
            home = home_of(about.place, about.machine)
            taken = bool(about.label) and shelf.labelled(about.subject, about.label, home) is not None
            if taken:
                profile.manifest = msgspec.structs.replace(about, label="")
            copied = shelf.take(profile, origin=path.name)
            done.append(Copied(str(path), copied.reference, label=about.label if taken else ""))
    progress("Profiles", len(paths), len(paths))
    return Copies("", shelf.storage.told, tuple(done))


def _out(setup: Setup, what: Sequence[str], to: Path) -> Copies:
    """Write one version to a profile file or folder."""
    if len(what) != 1:
        raise WrongUsage("Not copied", f"{to} takes one version", "Name one, or a shelf with --to.")
    wanted = parse_reference(what[0])
    version = setup.shelf.find(wanted.subject, wanted.version or "latest", wanted.place)
    if to.exists():
        raise Refused("Not copied", f"{to} is there already", "Choose another name.")
    if not to.parent.is_dir():
        raise WrongUsage("Not copied", f"the folder {to.parent} does not exist", "Make it first.")
    try:
        setup.shelf.copy_out(version, to)
    except OSError as error:
        why = f"{to} cannot be written: {reason(error)}"
        then = f"Nothing was left behind. {remedy(error)}, or choose another place for it."
        raise Refused("Not copied", why, then) from None
    return Copies(setup.shelf.storage.told, str(to), (Copied(version.reference, str(to)),))

"""Check: look at all that is on the shelf, at one version, or at a profile outside it."""

import contextlib
from pathlib import Path

import msgspec

from zinker.jobs.rebuilding import Merged, merged, rebuild
from zinker.jobs.references import parse_reference
from zinker.jobs.setup import Setup
from zinker.model.errors import Damaged, WrongUsage
from zinker.profiles.reading import open_profile
from zinker.profiles.writing import profile_folder
from zinker.shelf.verifying import Damage, Tally, Verifier


class Checked(msgspec.Struct, frozen=True):
    """What was looked at, and what came out."""

    name: str
    tally: Tally
    # Of a profile folder: what is not as `profile.json` says, and whether it was accepted.
    differs: tuple[Merged, ...] = ()
    accepted: bool = False

    @property
    def damages(self) -> list[Damage]:
        """What is damaged, and was not mended."""
        return [damage for damage in self.tally.damages if not damage.mended_from]


def check(
    setup: Setup,
    what: str = "",
    source: str = "",
    accept: bool = False,
) -> Checked:
    """Look at everything on the shelf, at a version, or at a profile file or folder.

    What is damaged is mended from the shelf `source`, where that has the same. With `accept`, a
    profile folder that was edited or merged is taken as it is: `profile.json` is written anew.

    Raises `WrongUsage` for what is not there, and `Damaged` for a profile that cannot be opened at all.
    """
    wanted = parse_reference(what) if what else None
    if accept and (wanted is None or wanted.path is None or not wanted.path.is_dir()):
        why = "only a profile folder can be accepted as it is"
        raise WrongUsage("Not accepted", why, "Name one as in ./profiles/mosslight.")
    if wanted is not None and wanted.is_live:
        raise WrongUsage("Not checked", f"{what} is not kept, but live", "Name a version, or a profile.")
    if wanted is not None and wanted.path is not None:
        return _folder(setup, wanted.path, accept) if wanted.path.is_dir() else _file(wanted.path)
    other = setup.other_shelf(source) if source else None
    verifier = Verifier(setup.shelf, other, setup.progress)
    if wanted is None:
        return Checked(setup.shelf.storage.told, verifier.all())
    version = setup.shelf.find(wanted.subject, wanted.version or "latest", wanted.place)
    return Checked(version.reference, verifier.one(version))


def _file(path: Path) -> Checked:
    with contextlib.closing(open_profile(path)) as profile:
        try:
            profile.verify()
        except Damaged as error:
            return Checked(str(path), Tally(1, damages=[Damage(str(path), error.why)]))
        return Checked(str(path), Tally(1, objects=len(profile.attachments()), size=profile.size))


def _folder(setup: Setup, path: Path, accept: bool) -> Checked:
    differs = tuple(merged(path))
    if not differs:
        return _file(path)
    if accept:
        with profile_folder(path) as builder:
            rebuild(setup, path, builder)
            builder.close()
    damages = [] if accept else [Damage(str(path), "it is not as it was written")]
    return Checked(str(path), Tally(1, damages=damages), differs, accept)

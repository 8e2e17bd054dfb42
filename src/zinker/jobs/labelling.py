"""Label: name a kept version, or take its name away."""

from zinker.jobs.references import parse_reference
from zinker.jobs.setup import Setup
from zinker.model.errors import WrongUsage
from zinker.shelf.shelf import Version, check_name


def label(
    setup: Setup, reference: str, name: str | None = None, note: str | None = None, move: bool = False
) -> Version:
    """Give a kept version a label, a note, or both; an empty text takes them away.

    With `move`, a label is taken from the version that has it. Raises `WrongUsage` for what is no kept version or
    cannot be a label, and `Refused` for a label that another version has.
    """
    wanted = parse_reference(reference)
    if wanted.path is not None or wanted.is_live:
        then = "Name one as in mosslight@7; `zinker list` shows them."
        raise WrongUsage("Not labelled", f"{reference} is no version on the shelf", then)
    if name is None and note is None:
        why = "neither a label nor a note was given"
        raise WrongUsage("Not labelled", why, "Name the label, or add --note or --take-away.")
    if name:
        check_name(name)
    version = setup.shelf.find(wanted.subject, wanted.version or "latest", wanted.place)
    return setup.shelf.say(version, name, note, move=move)

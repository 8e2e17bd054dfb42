"""Options that several commands share, so that they are named and explained alike."""

from pathlib import Path
from typing import Annotated

import typer

Place = Annotated[
    str, typer.Option("--place", help="The place; `zinker places` lists them.", metavar="PLACE")
]
Parts = Annotated[
    list[str] | None, typer.Option("--part", help="Only this part; may be given again.", metavar="PART")
]
Without = Annotated[
    list[str] | None, typer.Option("--without", help="All but this part; may be given again.", metavar="PART")
]
Json = Annotated[bool, typer.Option("--json", help="Write JSON for programs.")]
Preview = Annotated[bool, typer.Option("--preview", help="Show what would be done; change nothing.")]
Yes = Annotated[bool, typer.Option("--yes", help="Do not ask.")]
WhileRunning = Annotated[
    bool, typer.Option("--while-running", help="Write although the application is running.")
]
AnyVersion = Annotated[
    bool, typer.Option("--any-version", help="Write although the application's version does not fit.")
]
DespiteNeeds = Annotated[
    bool, typer.Option("--despite-needs", help="Write although something needed is missing.")
]


WithSecrets = Annotated[
    bool,
    typer.Option(
        "--with-secrets", help="Seal secrets in, or put them back: by passphrase, or by a key in PEM."
    ),
]
Keys = Annotated[
    list[Path] | None,
    typer.Option("--for", help="Seal secrets for this public key (PEM); may be given again.", metavar="FILE"),
]
Key = Annotated[
    Path | None, typer.Option("--key", help="Open secrets with this private key (PEM).", metavar="FILE")
]


def overruled(while_running: bool, any_version: bool, despite_needs: bool) -> frozenset[str]:
    """Return the names of the checks that options overrule."""
    given = {"while-running": while_running, "any-version": any_version, "despite-needs": despite_needs}
    return frozenset(name for name, is_given in given.items() if is_given)

"""`zinker demo`."""

from pathlib import Path
from typing import Annotated

import typer


def command(
    folder: Annotated[
        Path | None, typer.Argument(help="A folder that does not exist yet; usually zinker-garden.")
    ] = None,
    quiet: Annotated[
        bool, typer.Option("--build-only", help="Build the garden without the walk through it.")
    ] = False,
) -> None:
    """Build the demo garden in a folder and walk through the whole job on it.

    Example: zinker demo garden
    """
    from zinker.demo.garden import build, free_folder
    from zinker.demo.story import tell

    garden = build(folder or free_folder())
    if not quiet:
        tell(garden)

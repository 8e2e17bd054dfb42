"""How every command line app of Zinker is set up: on what Typer documents, and on nothing else of it."""

from typing import Any

import typer

# Set by a shell that asks how a line may go on; in the words of Typer's scripts.
ASKED = "_ZINKER_COMPLETE"


def new_app(**more: Any) -> typer.Typer:
    """Return an app for commands, which raises what they raise."""
    return typer.Typer(
        rich_markup_mode="markdown",
        pretty_exceptions_enable=False,
        context_settings={"help_option_names": ["--help", "-h"]},
        **more,
    )

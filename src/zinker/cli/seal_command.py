"""`zinker seal`."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zinker.cli import options
from zinker.cli.app import new_app
from zinker.cli.guard import guarded
from zinker.cli.output import can_ask, emit, emit_json, setup_of
from zinker.model.errors import Refused, WrongUsage

if TYPE_CHECKING:
    from zinker.jobs.sealing import Seals

app = new_app(invoke_without_command=True)


@app.callback()
@guarded
def seal(ctx: typer.Context, json: options.Json = False) -> None:
    """Which keys open a sealed shelf: one on which all is encrypted, names and labels, too.

    A new shelf is sealed where zinker.toml has `seal = "passphrase"`, or the path of a key file as `seal`.

    Example: `zinker seal`
    """
    if ctx.invoked_subcommand is None:
        from zinker.jobs.sealing import seals

        found = seals(setup_of(ctx))
        _tell(found, json)
        raise typer.Exit(3 if found.why else 0)


@app.command()
@guarded
def add(
    ctx: typer.Context,
    key_file: Annotated[
        Path | None,
        typer.Option("--key-file", help="A key file, made if it is not there.", metavar="FILE"),
    ] = None,
    json: options.Json = False,
) -> None:
    """Have one more key open the shelf: a passphrase, which is asked for, or a key file.

    To change a key, add the new one, say so in zinker.toml, and remove the old one.

    Example: `zinker seal add --key-file ~/garden.key`
    """
    from zinker.jobs.sealing import add_key

    _tell(add_key(setup_of(ctx), key_file.expanduser() if key_file else None, _new_passphrase), json)


@app.command()
@guarded
def remove(
    ctx: typer.Context,
    number: Annotated[int, typer.Argument(help="The key's number.", metavar="NUMBER")],
    yes: options.Yes = False,
    json: options.Json = False,
) -> None:
    """Have a key open the shelf no more. The last one stays.

    Example: `zinker seal remove 1`
    """
    from zinker.jobs.sealing import remove_key

    def approve(found: "Seals") -> bool:
        if not json:
            _tell(found, json)
        if yes:
            return True
        if json or not can_ask():
            why = "there is no terminal to ask at, and --yes was not given"
            raise Refused("No key removed", why, "Look at `zinker seal`, then add --yes.")
        return typer.confirm(f"Remove key {number}?", default=False)

    done = remove_key(setup_of(ctx), number, approve)
    if done.removed or json:
        _tell(done, json)
    else:
        print("Nothing was removed.")


def _tell(found: "Seals", json: bool) -> None:
    from zinker.reports.seal import seals_blocks, seals_json

    if json:
        emit_json(seals_json(found))
    else:
        emit(seals_blocks(found))


def _new_passphrase() -> str:
    """Return what opens the shelf from now on, too; raises `WrongUsage` where nobody can say."""
    from zinker.cli.locks import passphrase

    given = passphrase("New passphrase of the shelf", twice=True, variable="ZINKER_SECRET_NEW_SEAL")
    if not given:
        why = "a passphrase is needed, and there is no terminal to ask for it"
        raise WrongUsage("No key added", why, "Set ZINKER_SECRET_NEW_SEAL, or add --key-file FILE.")
    return given

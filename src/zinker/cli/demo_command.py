"""`zinker demo`."""

import os
from pathlib import Path
from typing import Annotated, Literal

import typer

from zinker.cli.app import new_app
from zinker.cli.guard import guarded
from zinker.model.errors import Refused

app = new_app(invoke_without_command=True)


@app.callback()
@guarded
def demo(
    ctx: typer.Context,
    folder: Annotated[
        Path | None,
        typer.Option(help="Where to build the garden; a new folder by default.", metavar="FOLDER"),
    ] = None,
    build_only: Annotated[bool, typer.Option("--build-only", help="Build the garden and stop.")] = False,
) -> None:
    """Build the demo garden and walk through the whole job on it, showing each command and its output.

    The folder is left as it was built, to play in; what the walk has left of it stands in its folder `as-told`.

    Example: `zinker demo --folder my-garden`
    """
    if ctx.invoked_subcommand is not None:
        return
    from zinker.demo.garden import build, free_folder
    from zinker.demo.story import invitation, tell

    garden = build(folder or free_folder())
    if build_only:
        print(garden)
    else:
        tell(build(garden / "as-told"))
        print(invitation(garden), flush=True)


@app.command()
@guarded
def scene(
    ctx: typer.Context,
    name: Annotated[
        Literal["wrong-click", "late-dusk", "till-closed"],
        typer.Argument(help="`wrong-click`, `late-dusk` or `till-closed`.", metavar="SCENE"),
    ],
) -> None:
    """Let something happen in the garden, as in the README's tour: somebody clicks about, or closes the till.

    Example: `zinker demo scene wrong-click`
    """
    from zinker.demo.garden import play

    chosen: Path | None = ctx.obj
    print(play(chosen.parent if chosen else Path(os.environ.get("ZINKER_HOME", "zinker-home")), name))


@app.command()
@guarded
def tenant(
    folder: Annotated[Path, typer.Option(help="The folder of their state.", metavar="FOLDER")] = Path(
        "tenants"
    ),
    port: Annotated[int, typer.Option(help="The port on this machine.", max=65535)] = 8321,
    policies: Annotated[
        int, typer.Option(help="As many workstation rules, and nothing else.", metavar="N")
    ] = 0,
) -> None:
    """Serve the garden's two tenants on this machine, for trying policies out.

    Example: `zinker demo tenant --folder tenants --port 8321`
    """
    try:
        from zinker.demo.tenant_service import serve
    except ImportError:
        why = "what the service needs is not installed"
        raise Refused("Not served", why, "pip install 'zinker[demo-tenant]'") from None
    print(f"The tenants of {folder} answer at http://127.0.0.1:{port}/; Ctrl+C ends it.", flush=True)
    serve(folder, port, policies)

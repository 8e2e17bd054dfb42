"""`zinker demo`."""

from pathlib import Path
from typing import Annotated

import typer

from zinker.model.errors import Refused

TENANT = "tenant"


def command(
    folder: Annotated[
        str,
        typer.Argument(
            help="Where to build the garden; or `tenant`: serve its tenants.", metavar="[FOLDER|tenant]"
        ),
    ] = "",
    tenants: Annotated[
        Path, typer.Argument(help="After `tenant`: the folder of their state.", metavar="[FOLDER]")
    ] = Path("tenants"),
    build_only: Annotated[bool, typer.Option("--build-only", help="Build the garden and stop.")] = False,
    port: Annotated[int, typer.Option(help="With `tenant`: the port on this machine.", max=65535)] = 8321,
    policies: Annotated[
        int, typer.Option(help="With `tenant`: as many device configurations, and nothing else.", metavar="N")
    ] = 0,
) -> None:
    """Build the demo garden and walk through the whole job on it, showing each command and its output.

    `demo tenant` serves the garden's two tenants on this machine, for trying policies out.

    Example: zinker demo my-garden

    Example: zinker demo tenant tenants --port 8321
    """
    if folder == TENANT:
        _serve(tenants, port, policies)
        return
    from zinker.demo.garden import build, free_folder
    from zinker.demo.story import tell

    garden = build(Path(folder) if folder else free_folder())
    if build_only:
        print(garden)
    else:
        tell(garden)


def _serve(folder: Path, port: int, policies: int) -> None:
    try:
        from zinker.demo.tenant_service import serve
    except ImportError:
        why = "what the service needs is not installed"
        raise Refused("Not served", why, "pip install 'zinker[demo-tenant]'") from None
    print(f"The tenants of {folder} answer at http://127.0.0.1:{port}/; Ctrl+C ends it.", flush=True)
    serve(folder, port, policies)

"""`zinker transfer`."""

from typing import Annotated

import typer

from zinker.cli import options
from zinker.cli.asking import chooser, resolver
from zinker.cli.changing import run_change
from zinker.cli.taking import taking


@taking(options.WISHES, options.POLICIES, options.DEVICES, options.CHECKS, options.RESULT)
def command(
    ctx: typer.Context,
    subject: Annotated[str, typer.Argument(help="The subject, or subject/instance.")],
    source: Annotated[str, typer.Option("--from", help="The place that has them.", metavar="PLACE")],
    target: Annotated[str, typer.Option("--to", help="The place that gets them.", metavar="PLACE")],
    secrets: Annotated[
        bool, typer.Option("--with-secrets", help="Take secrets along, sealed on the way.")
    ] = False,
) -> None:
    """Bring settings from one place to another, or from one instance to another, in one step.

    What is taken is kept as a version, and what is there as a fallback; `zinker undo` takes the change back.

    Example: zinker transfer mosslight --from potting-shed --to glasshouse --preview

    Example: zinker transfer mosslight/spare-bench --from here --to here --as bench-east
    """
    from zinker.jobs import Answers, transfer

    wishes = options.wishes(ctx)
    run_change(
        ctx,
        lambda setup, approve: transfer(
            setup,
            subject,
            source,
            target,
            wishes,
            secrets,
            preview=ctx.params["preview"],
            approve=approve,
            answers=Answers(resolver(ctx.params["on_conflict"]), chooser(ctx.params["choose"])),
        ),
        "Not transferred",
    )

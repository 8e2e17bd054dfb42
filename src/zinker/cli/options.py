"""Options that several commands share, so that they are named and explained alike."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from zinker.cli.guard import understood
from zinker.cli.output import can_ask
from zinker.cli.taking import Group
from zinker.model.errors import WrongUsage

if TYPE_CHECKING:
    from zinker.jobs.importing import Wishes
    from zinker.jobs.rounds import Round as Round_
    from zinker.jobs.setup import Setup
    from zinker.model.change import ChangeId

# The headings that options stand under in the help of a command.
CHOOSING = "Which of it"
CHANGING = "How it is written"
TRANSLATING = "For another world"
SECRETS = "Secrets"
OVERRULING = "Checks to overrule"
ENDING = "Before and after"

Reference = Annotated[str, typer.Argument(help="A kept version, a place's settings, or a profile's path.")]
Place = Annotated[
    str, typer.Option("--place", help="The place; `zinker places` lists them.", metavar="PLACE")
]
Parts = Annotated[
    list[str] | None,
    typer.Option(
        "--part", help="Only this part; may be given again.", metavar="PART", rich_help_panel=CHOOSING
    ),
]
Without = Annotated[
    list[str] | None,
    typer.Option(
        "--without", help="All but this part; may be given again.", metavar="PART", rich_help_panel=CHOOSING
    ),
]
Documents = Annotated[
    list[str] | None,
    typer.Option(
        "--document",
        help="Only this document, by name or pattern; may be given again.",
        metavar="DOCUMENT",
        rich_help_panel=CHOOSING,
    ),
]
Json = Annotated[bool, typer.Option("--json", help="Write JSON for programs.", rich_help_panel=ENDING)]
Preview = Annotated[
    bool, typer.Option("--preview", help="Show what would be done; change nothing.", rich_help_panel=ENDING)
]
Full = Annotated[bool, typer.Option("--full", help="Show every line of a long plan.", rich_help_panel=ENDING)]
Yes = Annotated[bool, typer.Option("--yes", help="Do not ask.", rich_help_panel=ENDING)]
WhileRunning = Annotated[
    bool,
    typer.Option(
        "--while-running", help="Write although the application is running.", rich_help_panel=OVERRULING
    ),
]
AnyVersion = Annotated[
    bool,
    typer.Option(
        "--any-version",
        help="Write although the application's version does not fit.",
        rich_help_panel=OVERRULING,
    ),
]
DespiteNeeds = Annotated[
    bool,
    typer.Option(
        "--despite-needs", help="Write although something needed is missing.", rich_help_panel=OVERRULING
    ),
]


WithSecrets = Annotated[
    bool,
    typer.Option(
        "--with-secrets",
        help="Seal secrets in, or put them back: by passphrase, or by a key in PEM.",
        rich_help_panel=SECRETS,
    ),
]
Keys = Annotated[
    list[Path] | None,
    typer.Option(
        "--for",
        help="Seal secrets for this public key (PEM); may be given again.",
        metavar="FILE",
        rich_help_panel=SECRETS,
    ),
]
Key = Annotated[
    Path | None,
    typer.Option(
        "--key", help="Open secrets with this private key (PEM).", metavar="FILE", rich_help_panel=SECRETS
    ),
]


DespiteSpace = Annotated[
    bool,
    typer.Option(
        "--despite-space", help="Write although there may be too little space.", rich_help_panel=OVERRULING
    ),
]
LeaveUnwritable = Annotated[
    bool,
    typer.Option(
        "--leave-unwritable",
        help="Leave alone what cannot be written, and write the rest.",
        rich_help_panel=OVERRULING,
    ),
]
EmptySecrets = Annotated[
    bool,
    typer.Option(
        "--empty-secrets",
        help="Leave a withheld secret empty where a file cannot be without it.",
        rich_help_panel=OVERRULING,
    ),
]
Adopt = Annotated[
    bool, typer.Option("--adopt", help="Take over another machine's settings.", rich_help_panel=OVERRULING)
]
OtherUser = Annotated[
    bool, typer.Option("--other-user", help="Write another user's settings.", rich_help_panel=OVERRULING)
]
NewInstance = Annotated[
    bool,
    typer.Option(
        "--new-instance",
        help="Make an instance that is not at the place, beside others.",
        rich_help_panel=OVERRULING,
    ),
]
OtherDevice = Annotated[
    bool,
    typer.Option(
        "--other-device", help="Write although the device is of another kind.", rich_help_panel=OVERRULING
    ),
]
Wait = Annotated[
    bool, typer.Option("--wait", help="Wait until the application has been closed.", rich_help_panel=CHANGING)
]
Report = Annotated[
    Path | None,
    typer.Option(
        "--report",
        help="Also write the result to this new file; its ending tells the form.",
        metavar="FILE",
        rich_help_panel=ENDING,
    ),
]
Addresses = Annotated[
    list[str] | None,
    typer.Option(
        "--address",
        help="Only these settings, by address, section or title; * and ? stand for others.",
        metavar="ADDRESS",
        rich_help_panel=CHOOSING,
    ),
]
Exact = Annotated[
    bool,
    typer.Option(
        "--exact", help="Also remove what the profile does not have from its parts.", rich_help_panel=CHANGING
    ),
]
Merge = Annotated[
    bool,
    typer.Option(
        "--merge", help="Leave alone what has changed here since it was last kept.", rich_help_panel=CHANGING
    ),
]
OnConflict = Annotated[
    Literal["replace", "keep", "both", "ask"],
    typer.Option(
        "--on-conflict",
        help="When something else is there: `replace`, `keep` it, keep `both`, or `ask`.",
        metavar="ANSWER",
        rich_help_panel=CHANGING,
    ),
]
Choose = Annotated[
    bool, typer.Option("--choose", help="Choose from the plan, on a terminal.", rich_help_panel=CHOOSING)
]
Crosswalk = Annotated[
    Path | None,
    typer.Option(
        "--crosswalk", help="Translate by this crosswalk file.", metavar="FILE", rich_help_panel=TRANSLATING
    ),
]
As = Annotated[
    str,
    typer.Option(
        "--as", help="Write to this instance instead.", metavar="INSTANCE", rich_help_panel=CHOOSING
    ),
]
DeviceBound = Annotated[
    bool,
    typer.Option(
        "--device-bound", help="Also parts that are bound to another device.", rich_help_panel=CHOOSING
    ),
]
Untranslated = Annotated[
    bool,
    typer.Option(
        "--untranslated",
        help="Leave the old place's folders in values as they are.",
        rich_help_panel=TRANSLATING,
    ),
]


# Options in groups, by the names of their parameters, each with its default.
CHOICE: Group = {
    "part": (Parts, None),
    "without": (Without, None),
    "document": (Documents, None),
    "address": (Addresses, None),
}
ForWhom = Annotated[
    bool,
    typer.Option(
        "--for-whom",
        help="Also write which groups and users a policy is meant for.",
        rich_help_panel=CHANGING,
    ),
]
Prefix = Annotated[
    str,
    typer.Option(
        "--prefix", help="Put this before the names of policies.", metavar="TEXT", rich_help_panel=TRANSLATING
    ),
]
Suffix = Annotated[
    str,
    typer.Option(
        "--suffix", help="Put this after the names of policies.", metavar="TEXT", rich_help_panel=TRANSLATING
    ),
]
Live = Annotated[
    list[str] | None,
    typer.Option(
        "--live",
        help="The name of the place, if others depend on it; may be given again.",
        metavar="PLACE",
        rich_help_panel=OVERRULING,
    ),
]
Round = Annotated[
    str,
    typer.Option(
        "--round",
        help="A round of zinker.toml: NAME, or NAME@VERSION.",
        metavar="ROUND",
        rich_help_panel=CHOOSING,
    ),
]
All = Annotated[
    bool, typer.Option("--all", help="Everything that is found at the place.", rich_help_panel=CHOOSING)
]
EachAccount = Annotated[
    bool,
    typer.Option(
        "--each-account", help="At every account of the place that has it.", rich_help_panel=CHOOSING
    ),
]
ROUND: Group = {"round": (Round, "")}
ALL: Group = {"every": (All, False)}
ACCOUNTS: Group = {"each_account": (EachAccount, False)}
WISHES: Group = CHOICE | {
    "as_": (As, ""),
    "exact": (Exact, False),
    "merge": (Merge, False),
    "on_conflict": (OnConflict, "replace"),
    "choose": (Choose, False),
    "crosswalk": (Crosswalk, None),
    "untranslated": (Untranslated, False),
    "device_bound": (DeviceBound, False),
    "empty_secrets": (EmptySecrets, False),
}
RUNNING: Group = {
    "wait": (Wait, False),
    "while_running": (WhileRunning, False),
    "any_version": (AnyVersion, False),
    "despite_needs": (DespiteNeeds, False),
    "despite_space": (DespiteSpace, False),
}
POLICIES: Group = {"for_whom": (ForWhom, False), "prefix": (Prefix, ""), "suffix": (Suffix, "")}
LIVE: Group = {"live": (Live, None)}
CHECKS: Group = RUNNING | LIVE | {"leave_unwritable": (LeaveUnwritable, False)}
OWNERS: Group = {"adopt": (Adopt, False), "other_user": (OtherUser, False)}
DEVICES: Group = {"new_instance": (NewInstance, False), "other_device": (OtherDevice, False)}
RESULT: Group = {
    "full": (Full, False),
    "report": (Report, None),
    "preview": (Preview, False),
    "yes": (Yes, False),
    "json": (Json, False),
}


def round_of(setup: "Setup", name: str, reference: str = "", is_live: bool = False) -> "Round_":
    """Return the round that is meant: one of zinker.toml, or, as PLACE:@VERSION, all that is kept of a place."""
    from zinker.jobs.period import taken
    from zinker.jobs.rounds import kept_of, round_named

    if name:
        return round_named(setup, name, is_live)
    place, version = taken(reference)
    return kept_of(setup, place or "here", version)


def change_id(text: str) -> "ChangeId":
    """Take the number of a change as people write it."""
    from zinker.model.change import ChangeId

    try:
        return ChangeId.of(text)
    except ValueError:
        why = f"{text!r} is no number of a change"
        raise WrongUsage(
            f"No change {text}", why, "Write it as in 12, or 12.2; `zinker changes` lists them."
        ) from None


def overruled(ctx: typer.Context) -> frozenset[str]:
    """Return the names of the checks that the options given overrule.

    A place that others depend on has to be named; somebody at a terminal is asked for its name.
    """
    from zinker.jobs.plan.checks import LIVE as NAMED
    from zinker.jobs.plan.checks import OVERRULABLE

    given = ctx.params
    names = {name for name in OVERRULABLE if given.get(name.replace("-", "_"))}
    target = given.get("target") or given.get("place")
    is_asked = can_ask() and not given["yes"] and not given["json"]
    if target in (given.get("live") or ()) or is_asked:
        names.add(NAMED)
    return frozenset(names)


def wishes(ctx: typer.Context) -> "Wishes":
    """Return what the options given say about what is wanted of a profile, and how."""
    from zinker.jobs import Wishes
    from zinker.jobs.translate.rules import load_rules

    given = ctx.params
    return Wishes(
        parts=tuple(given["part"] or ()),
        without=tuple(given["without"] or ()),
        documents=tuple(given["document"] or ()),
        addresses=tuple(given["address"] or ()),
        device_bound=given["device_bound"],
        exact=given.get("exact", False),
        merge=given.get("merge", False),
        translate=not given.get("untranslated"),
        rules=load_rules(understood(given["crosswalk"])) if given.get("crosswalk") else None,
        instance=given.get("as_", ""),
        overruled=overruled(ctx),
        wait=given["wait"],
        for_whom=given.get("for_whom", False),
        prefix=given.get("prefix", ""),
        suffix=given.get("suffix", ""),
    )

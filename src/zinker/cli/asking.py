"""Asks on the terminal: about conflicts one by one, and with a checklist made from the plan."""

import os
import re
import sys
from collections.abc import Iterator
from typing import TYPE_CHECKING, Literal

import typer

from zinker.cli.output import can_ask, console, rich_text
from zinker.model.errors import WrongUsage

if TYPE_CHECKING:
    from zinker.cli.checklist import Checklist
    from zinker.jobs.importing import Choose
    from zinker.jobs.plan.conflicts import Answer, Conflict, Resolve
    from zinker.jobs.plan.narrow import No
    from zinker.jobs.plan.part import Sides
    from zinker.model.plan import DocumentChange, Plan, SettingChange


def resolver(policy: Literal["replace", "keep", "both", "ask"]) -> "Resolve":
    """Return what answers conflicts: always the same, or what is asked for."""
    from zinker.jobs.plan.conflicts import replace

    if policy == "replace":
        return replace
    if policy != "ask":
        return lambda conflict: policy
    _need_terminal("--on-conflict ask", "Choose replace, keep or both.")
    for_all: list[Answer] = []

    def ask(conflict: "Conflict") -> "Answer":
        if for_all and (conflict.can_keep_both or for_all[0] != "both"):
            return for_all[0]
        _show(conflict)
        words: dict[str, Answer] = {"r": "replace", "k": "keep"}
        if conflict.can_keep_both:
            words["b"] = "both"
        known = ", ".join(f"{letter} = {word}" for letter, word in words.items())
        while True:
            given = typer.prompt(f"  {known}; twice, as in kk, for all", default="k", err=True).strip()
            if given[:1] in words and given in (given[:1], given[:1] * 2):
                answer = words[given[0]]
                if len(given) == 2:
                    for_all[:] = [answer]
                return answer

    return ask


def chooser(is_wanted: bool) -> "Choose":
    """Return what lets the user choose from a plan, or leaves it as it is."""
    if not is_wanted:
        return lambda sides, plan: plan
    _need_terminal("--choose", "Choose with --part, --without and --address.")

    def choose(sides: "Sides", plan: "Plan") -> "Plan":
        from zinker.cli.checklist import Checklist
        from zinker.jobs.plan.narrow import No, narrowed
        from zinker.reports.asking import choices

        checklist = Checklist(choices(plan, sides.session.subject))
        if not checklist.choices:
            return plan
        if not (can_fill() and _choose_on_screen(checklist, f"{plan.title}, to {plan.told_place}")):
            _choose_by_numbers(checklist)
        left_out = {one.where for one in checklist.left_out()}

        def verdict(change: "DocumentChange", item: "SettingChange | None") -> "No | None":
            address = "" if change.is_whole or item is None else item.address
            return No() if change.where._replace(address=address) in left_out else None

        return narrowed(sides.session, sides.source, plan, verdict)

    return choose


def _choose_on_screen(checklist: "Checklist", title: str) -> bool:
    from zinker.cli.full_screen import choose_on

    return choose_on(checklist, title)


def can_fill() -> bool:
    """Tell whether a terminal can be filled with a list: one that can be written anywhere, and has room."""
    if os.environ.get("TERM", "dumb" if os.name != "nt" else "") == "dumb" or not sys.stderr.isatty():
        return False
    columns, rows = os.get_terminal_size(sys.stderr.fileno())
    return columns >= 40 and rows >= 12


def _choose_by_numbers(checklist: "Checklist") -> None:
    """Show a checklist with numbers, and take numbers to leave out or take in until there are none."""
    while True:
        _print_numbered(checklist)
        given = typer.prompt(
            "Numbers to leave out or take in again, as in 2 5-7; Enter goes on",
            default="",
            show_default=False,
            err=True,
        )
        if not given.strip():
            return
        try:
            checklist.switch_each({number - 1 for number in _numbers(given, len(checklist.choices))})
        except ValueError:
            print(f"  These are not numbers from 1 to {len(checklist.choices)}.", file=sys.stderr)


def _print_numbered(checklist: "Checklist") -> None:
    from zinker.reports.render.text import checklist_line
    from zinker.reports.words import visible

    own = console(stderr=True)
    for row in checklist.rows:
        if row.head:
            own.print(f"{'':>{2 * row.depth}}{visible(row.head)}", style="strong")
            continue
        start = f"{row.end:>4}  {checklist.mark(row)}  "
        own.print(rich_text(checklist_line(start, checklist.choices[row.first].entry, own.width)))


def _numbers(given: str, most: int) -> Iterator[int]:
    for word in re.split(r"[\s,]+", given.strip()):
        first, _, last = word.partition("-")
        for number in range(int(first), int(last or first) + 1):
            if not 1 <= number <= most:
                raise ValueError(word)
            yield number


def _show(conflict: "Conflict") -> None:
    from zinker.reports.asking import conflict_blocks
    from zinker.reports.render.text import lines

    own = console(stderr=True)
    for line in lines(conflict_blocks(conflict), own.width):
        own.print(rich_text(line))


def _need_terminal(option: str, then: str) -> None:
    if not can_ask():
        raise WrongUsage("Nothing done", f"{option} asks, and there is no terminal to answer on", then)

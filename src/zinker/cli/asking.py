"""Asks on the terminal: about conflicts one by one, and with a checklist made from the plan."""

import re
import sys
from collections.abc import Iterator
from typing import TYPE_CHECKING, Literal

import typer

from zinker.cli.output import can_ask, console, rich_text
from zinker.model.errors import WrongUsage
from zinker.model.where import Where

if TYPE_CHECKING:
    from zinker.jobs.importing import Choose
    from zinker.jobs.plan.conflicts import Answer, Conflict, Resolve
    from zinker.jobs.plan.narrow import No
    from zinker.jobs.plan.part import Sides
    from zinker.model.plan import DocumentChange, Plan, SettingChange
    from zinker.subjects.subject import Subject


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
        from zinker.jobs.plan.narrow import No, narrowed

        left_out = _checklist(plan, sides.session.subject)

        def verdict(change: "DocumentChange", item: "SettingChange | None") -> "No | None":
            return No() if _where(change, item) in left_out else None

        return narrowed(sides.session, sides.source, plan, verdict)

    return choose


def _where(change: "DocumentChange", item: "SettingChange | None") -> Where:
    """Return what is chosen or not: a document as a whole, or one of its settings."""
    return change.where if change.is_whole or item is None else change.where._replace(address=item.address)


def _checklist(plan: "Plan", subject: "Subject") -> set[Where]:
    """Show what would be written with numbers, and take numbers to leave out until there are none."""
    entries = list(_entries(plan))
    left_out: set[int] = set()
    while True:
        _print_entries(entries, left_out, subject)
        given = typer.prompt(
            "Numbers to leave out or take in again, as in 2 5-7; Enter goes on",
            default="",
            show_default=False,
            err=True,
        )
        if not given.strip():
            return {entries[number - 1][0] for number in left_out}
        try:
            left_out ^= set(_numbers(given, len(entries)))
        except ValueError:
            print(f"  These are not numbers from 1 to {len(entries)}.", file=sys.stderr)


def _entries(plan: "Plan") -> "Iterator[tuple[Where, DocumentChange, SettingChange | None]]":
    for change in plan.documents:
        if change.is_whole:
            yield change.where, change, None
        else:
            for item in change.items:
                yield _where(change, item), change, item


def _print_entries(
    entries: "list[tuple[Where, DocumentChange, SettingChange | None]]",
    left_out: set[int],
    subject: "Subject",
) -> None:
    from zinker.reports.asking import choice
    from zinker.reports.render.text import checklist_line

    own = console(stderr=True)
    for number, (_, document, item) in enumerate(entries, 1):
        mark = "leave" if number in left_out else "write"
        entry = choice(document, item, subject)
        own.print(rich_text(checklist_line(number, mark, entry, own.width)))


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

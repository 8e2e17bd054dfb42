"""Draws reports: one file a form. Only these know widths, colours, escapes and the ways of other programs.

Each has a function that yields a report as bytes, piece by piece, and one line in `FORMS`.
"""

from collections.abc import Callable, Iterator
from importlib import import_module
from pathlib import PurePath
from typing import cast

from zinker.model.errors import Refused, WrongUsage
from zinker.reports.page import Made
from zinker.reports.report import Report

# The forms by name: module and function, and the endings of files that have them, the usual one first.
FORMS = {
    "text": ("text", "text", (".txt",)),
    "json": ("rows", "json", (".json",)),
    "jsonl": ("rows", "jsonl", (".jsonl", ".ndjson")),
    "csv": ("rows", "csv", (".csv",)),
    "markdown": ("markdown", "markdown", (".md", ".markdown")),
    "html": ("html", "html", (".html", ".htm")),
    "docx": ("docx", "docx", (".docx",)),
}
# What is not installed with Zinker, by form: the library, and the extra that brings it.
_NEEDS = {
    "docx": ("docx", "documents"),
    "png": ("matplotlib", "charts"),
    "svg": ("matplotlib", "charts"),
}


def form_of(file: PurePath, among: tuple[str, ...] = tuple(FORMS)) -> str:
    """Return the form that the ending of a file stands for; raises `WrongUsage` where that is none of some."""
    ending = file.suffix.lower()
    for name in among:
        if ending in FORMS[name][2]:
            return name
    known = ", ".join(FORMS[name][2][0] for name in among)
    why = (
        f"{ending} is the ending of none of its forms"
        if ending
        else f"{file} has no ending to tell its form by"
    )
    raise WrongUsage("Nothing written", why, f"End it in one of {known}, or name the form with --format.")


def check(form: str) -> None:
    """Raise `Refused` for a form whose library is not installed here."""
    if form in _NEEDS:
        library, extra = _NEEDS[form]
        try:
            import_module(library)
        except ImportError:
            why = f"what writes {form.upper()} is not installed"
            raise Refused(
                "Nothing done", why, f"pip install 'zinker[{extra}]', or take another form."
            ) from None


def drawn(report: Report, form: str, made: Made) -> Iterator[bytes]:
    """Yield a report in a form, piece by piece."""
    module, function, _ = FORMS[form]
    draw = getattr(import_module(f"zinker.reports.render.{module}"), function)
    return cast(Callable[[Report, Made], Iterator[bytes]], draw)(report, made)

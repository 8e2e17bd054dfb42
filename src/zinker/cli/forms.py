"""In which form a report goes where: to the terminal, to whoever reads on, or into a file."""

import sys
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

import typer

from zinker.cli.options import ENDING, Json
from zinker.cli.output import emit
from zinker.cli.taking import Group
from zinker.model.errors import Refused, WrongUsage, reason

if TYPE_CHECKING:
    from zinker.reports.page import Made
    from zinker.reports.report import Report

Form = Literal["text", "json", "jsonl", "csv", "markdown", "html", "docx"]
FORMS: Group = {
    "format": (
        Annotated[
            Form | None,
            typer.Option(
                "--format",
                help="`text`, `json`, `jsonl`, `csv`, `markdown`, `html` or `docx`.",
                metavar="FORM",
                rich_help_panel=ENDING,
            ),
        ],
        None,
    ),
    "output": (
        Annotated[
            Path | None,
            typer.Option(
                "--output",
                help="Write it to this new file; its ending tells the form.",
                metavar="FILE",
                rich_help_panel=ENDING,
            ),
        ],
        None,
    ),
    "json": (Json, False),
}


class Delivery:
    """Where a report goes, and in which form, as the options of a command say; looked at before the work begins."""

    def __init__(self, given: dict[str, Any], output: Path | None = None) -> None:
        from zinker.cli.guard import understood
        from zinker.reports.render import check, form_of

        chosen: Path | None = output or given.get("output")
        self.output = understood(chosen) if chosen else None
        self.form: str = given.get("format") or ("json" if given.get("json") else "")
        if given.get("format") and given.get("json") and given["format"] != "json":
            raise WrongUsage("Nothing done", "--json and --format name two forms", "Give one of them.")
        if self.output is not None:
            check_free(self.output)
            self.form = self.form or form_of(self.output)
        elif self.form == "docx" and sys.stdout.isatty():
            raise WrongUsage("Nothing done", "DOCX is not for a terminal", "Name a file with --output.")
        self.form = self.form or "text"
        check(self.form)

    def deliver(self, report: "Report", full: bool = False) -> None:
        """Write a report where it is to go."""
        from zinker.reports.render import drawn

        if self.output is not None:
            write_new(self.output, drawn(report, self.form, made()))
            print(f"Written: {self.output}", file=sys.stderr)
        elif self.form == "text":
            emit(report.page.blocks, full, paged=True)
        else:
            sys.stdout.flush()
            for piece in drawn(report, self.form, made()):
                sys.stdout.buffer.write(piece)
            sys.stdout.buffer.flush()


def picture_path(given: Path | str | None) -> Path | None:
    """Return the file that is to be a picture, if one is; looks at once whether that can be drawn and written."""
    from zinker.cli.guard import understood
    from zinker.reports.render import check

    file = understood(given) if given else None
    if file is None or file.suffix.lower() not in (".png", ".svg"):
        return None
    check_free(file)
    check(file.suffix.lower()[1:])
    return file


def deliver_picture(file: Path, pieces: Iterable[bytes]) -> None:
    """Write a picture into a new file."""
    write_new(file, pieces)
    print(f"Written: {file}", file=sys.stderr)


def made() -> "Made":
    """Return who makes a report, where, when and with what."""
    import datetime

    import zinker
    from zinker.places.folder import technician
    from zinker.places.here import Here
    from zinker.reports.page import Made

    now = datetime.datetime.now().astimezone()
    return Made(technician(), Here().machine, f"{now:%Y-%m-%d %H:%M}", f"Zinker {zinker.__version__}")


def check_free(file: Path) -> None:
    """Raise for a file that is there already, or whose folder is not."""
    if file.exists():
        raise Refused(
            "Nothing done", f"{file} is there already", "Name a new file, or remove that one first."
        )
    if not file.parent.is_dir():
        from zinker.disk.files import nearest_path

        then = nearest_path(file.parent) + "Make it first."
        raise WrongUsage("Nothing done", f"the folder {file.parent} does not exist", then)


def write_new(file: Path, pieces: Iterable[bytes]) -> None:
    """Write a file that must not be there yet; it is there whole or not at all."""
    from zinker.disk.files import commit_new, flush_folder, write_part

    try:
        part = write_part(file, pieces)
        is_new = commit_new(part, file)
        flush_folder(file.parent)
    except OSError as error:
        raise Refused("Not written", f"{file}: {reason(error)}", "Name a file elsewhere.") from None
    if not is_new:
        part.unlink(missing_ok=True)
        raise Refused("Not written", f"{file} is there by now", "Name a new file.")

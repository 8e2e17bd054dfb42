"""Writes what a package for a system brings besides the program: a manual page, and completion for each shell.

    python tools/manual.py packaging

The page is made from the help of the commands, so that both say the same. A test compares the files with the code.
"""

import re
import sys
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import typer

import zinker
from zinker.cli.completing import SCRIPTS
from zinker.cli.main import COMMANDS, app_for

# Where systems look for them.
COMPLETIONS = {"bash": "zinker", "zsh": "_zinker", "fish": "zinker.fish", "powershell": "zinker.ps1"}
PROJECT = Path(__file__).parent.parent
ENDING = r"""
.SH EXIT STATUS
.TP
.B 0
Done; no differences.
.TP
.B 1
Differences were found, or something was left undone, and is listed.
.TP
.B 2
Wrong usage.
.TP
.B 3
Refused; nothing was changed.
.TP
.B 4
Failed, and taken back.
.TP
.B 5
A damaged profile or shelf, or one of a newer format.
.SH ENVIRONMENT
.TP
.B ZINKER_HOME
The folder of everything that Zinker keeps itself.
.TP
.B ZINKER_CONFIG
The configuration, a zinker.toml.
.TP
.BI ZINKER_SECRET_ PLACE
The password for a place; SHELF and SEAL stand for the shelf, and for what opens a sealed one.
.TP
.B ZINKER_PASSPHRASE
The passphrase of sealed secrets.
.TP
.B NO_COLOR
No colours.
.SH FILES
.TP
.I ~/.config/zinker/zinker.toml
The configuration.
.TP
.I ~/.local/share/zinker
The shelf, unless another one is named, and what Zinker keeps itself.
"""


def manual() -> str:
    """Return the page, as the macros of man(7) have it."""
    about = tomllib.loads((PROJECT / "pyproject.toml").read_text())["project"]["description"]
    lines = [
        f'.TH ZINKER 1 "" "Zinker {zinker.__version__}" "User Commands"',
        ".SH NAME",
        f"zinker \\- {_text(about)}",
        ".SH SYNOPSIS",
        ".B zinker",
        "[\\fI\\-\\-config FILE\\fR] \\fICOMMAND\\fR [\\fIARGUMENTS\\fR]",
        ".SH DESCRIPTION",
        "A REF is [place:]subject[/instance][@version].",
    ]
    panel = ""
    for name, (heading, _) in COMMANDS.items():
        if heading != panel:
            lines.append(f".SH {_text(heading.upper())}")
            panel = heading
        lines += _command(f"zinker {name}", typer.main.get_command(app_for([name])).commands[name])  # type: ignore[attr-defined]
    return "\n".join(lines) + ENDING


def _command(path: str, command: Any) -> Iterator[str]:
    arguments = [one for one in command.params if one.param_type_name == "argument"]
    words = " ".join(_metavar(one) for one in arguments)
    yield f".SS {_text(f'{path} {words}'.rstrip())}"
    for paragraph in re.split(r"\n\s*\n", re.sub(r"[`*\f\b]", "", command.help or "")):
        text = " ".join(paragraph.split())
        if text.startswith("Example:"):
            yield from (".PP", f".B {_text(text.removeprefix('Example:').strip())}")
        elif text:
            yield from (".PP", _text(text))
    for option in command.params:
        if option.param_type_name == "option" and not option.hidden and option.name != "help":
            value = "" if option.is_flag else f" \\fI{_text(_metavar(option))}\\fR"
            yield from (".TP", f"\\fB{_text(', '.join(option.opts))}\\fR{value}", _text(_plain(option.help)))
    for name, sub in getattr(command, "commands", {}).items():
        yield from _command(f"{path} {name}", sub)


def _metavar(parameter: Any) -> str:
    if parameter.metavar:
        return str(parameter.metavar)
    own = parameter.name.upper().replace("_", "-")
    return own if parameter.required else f"[{own}]"


def _plain(text: str | None) -> str:
    return " ".join((text or "").replace("`", "").split())


def _text(text: str) -> str:
    """Return a text as the macros take it."""
    escaped = text.replace("\\", "\\e").replace("-", "\\-").replace("…", "...").replace('"', "\\(dq")
    return f"\\&{escaped}" if escaped.startswith((".", "'")) else escaped


def main() -> None:
    """Write them into a folder."""
    folder = Path(sys.argv[1])
    (folder / "completion").mkdir(parents=True, exist_ok=True)
    (folder / "zinker.1").write_text(manual(), encoding="utf-8")
    for shell, name in COMPLETIONS.items():
        (folder / "completion" / name).write_text(SCRIPTS[shell], encoding="utf-8")


if __name__ == "__main__":
    main()

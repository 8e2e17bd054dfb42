"""Completion: which words a parameter of a command may become, and what shells need to ask for them."""

import inspect
import os
import re
import shlex
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any, get_args

import typer

from zinker.cli.app import ASKED
from zinker.model.errors import WrongUsage

# By what the help calls a parameter, or else by its name.
_OF = {
    "PLACE": "places",
    "PART": "parts",
    "DOCUMENT": "documents",
    "ADDRESS": "addresses",
    "ROUND": "rounds",
    "REF": "references",
    "SUBJECT": "references",
    "LABEL": "labels",
    "INSTANCE": "instances",
    "reference": "references",
    "other": "references",
    "subject": "references",
    "subjects": "references",
    "what": "references",
    "change": "changes",
}


def attach(command: Callable[..., Any]) -> None:
    """Have the parameters of a command completed."""
    for parameter in inspect.signature(command).parameters.values():
        for option in get_args(parameter.annotation)[1:]:
            called = re.match(r"\[?([A-Z]+)", getattr(option, "metavar", None) or "")
            kind = _OF.get(called[1] if called else "") or _OF.get(parameter.name)
            if kind and hasattr(option, "autocompletion"):
                option.autocompletion = _completer(kind)


def _completer(kind: str) -> Callable[..., list[tuple[str, str]]]:
    def complete(ctx: typer.Context, incomplete: str) -> list[tuple[str, str]]:
        try:
            return _names(kind, ctx, incomplete)
        except Exception:  # noqa: BLE001 - whoever types is not to be told of anything
            return []

    return complete


def _names(kind: str, ctx: typer.Context, begun: str) -> list[tuple[str, str]]:
    from zinker.jobs import completing
    from zinker.jobs.setup import load_setup

    config = ctx.find_root().params.get("config")
    setup = load_setup(Path(config) if config else None)
    named, options = _typed(ctx)
    place, _, rest = named.rpartition(":")
    subject = rest.partition("@")[0].partition("/")[0]
    found: Iterable[tuple[str, str]]
    if kind == "references":
        found = completing.references(setup, begun, options.get("--place", ""))
    elif kind in ("documents", "addresses"):
        found = getattr(completing, kind)(setup, subject, options.get("--part", ""))
    elif kind == "instances":
        found = completing.instances(setup, subject, options.get("--place", "") or place or "here")
    elif kind in ("parts", "labels"):
        found = getattr(completing, kind)(setup, subject)
    else:
        found = getattr(completing, kind)(setup)
    return completing.fitting(found, begun)


def _typed(ctx: typer.Context) -> tuple[str, dict[str, str]]:
    """Return the first thing that is named on the line, and the options; nobody parses an unfinished one."""
    flags = {name for one in ctx.command.params if getattr(one, "is_flag", False) for name in one.opts}
    named, options = "", {}
    words = iter(line()[:-1])
    for word in words:
        if word == ctx.info_name:
            named = ""  # what stands before the command is not about it
        elif word.startswith("-") and word not in flags:
            name, is_one, value = word.partition("=")
            options[name] = value if is_one else next(words, "")
        elif not word.startswith("-"):
            named = named or word
    return named, options


def line() -> list[str]:
    """Return the words of the line, the one that is begun last."""
    typed = os.environ.get("_TYPER_COMPLETE_ARGS") or os.environ.get("COMP_WORDS", "")
    try:
        words = shlex.split(typed)
    except ValueError:  # a quote that is still open
        words = typed.split()
    return [*words, ""] if typed.endswith(" ") else words


# Each shell asks with the line up to the cursor, and gets a line for each word: the word, a tab, what it is.
_ASK = f"{ASKED}=complete_fish _TYPER_COMPLETE_FISH_ACTION=get-args _TYPER_COMPLETE_ARGS"
SCRIPTS = {
    "bash": f"""\
# Completion of zinker for bash.
_zinker_words() {{
    local line=${{COMP_LINE:0:COMP_POINT}} word kept value told
    # Bash ends a word at these, and puts what is offered after the last one.
    word=${{line##*[[:space:]]}}
    kept=${{word%"${{word##*[:@=]}}"}}
    COMPREPLY=()
    while IFS=$'\\t' read -r value told; do
        [[ -z $value ]] || COMPREPLY+=("${{value#"$kept"}}")
    done < <({_ASK}="$line" "$1" 2>/dev/null)
    if [[ ${{#COMPREPLY[@]}} -eq 1 && ${{COMPREPLY[0]}} == *: ]]; then compopt -o nospace; fi
}}
complete -o default -F _zinker_words zinker
""",
    "zsh": f"""\
#compdef zinker
# Completion of zinker for zsh.
_zinker() {{
    local -a words_told places_told
    local value told
    while IFS=$'\\t' read -r value told; do
        [[ -n $value ]] || continue
        if [[ $value == *: ]]; then
            places_told+=("${{value//:/\\\\:}}${{told:+:$told}}")
        else
            words_told+=("${{value//:/\\\\:}}${{told:+:$told}}")
        fi
    done < <({_ASK}="${{words[1,CURRENT]}}" ${{words[1]}} 2>/dev/null)
    if (( $#words_told + $#places_told )); then
        _describe -V zinker words_told
        _describe -V zinker places_told -S ''
    else
        _files
    fi
}}
if [[ $zsh_eval_context[-1] == loadautofunc ]]; then _zinker "$@"; else compdef _zinker zinker; fi
""",
    "fish": f"""\
# Completion of zinker for fish.
function __zinker_words
    env {_ASK}=(commandline -cp) zinker 2>/dev/null
end
complete -c zinker -a '(__zinker_words)'
""",
    "powershell": f"""\
# Completion of zinker for PowerShell; not tried.
Register-ArgumentCompleter -Native -CommandName zinker -ScriptBlock {{
    param($word, $tree, $cursor)
    $line = $tree.ToString()
    $line = $line.PadRight($cursor).Substring(0, $cursor)
    $env:{ASKED} = 'complete_fish'
    $env:_TYPER_COMPLETE_FISH_ACTION = 'get-args'
    $env:_TYPER_COMPLETE_ARGS = $line
    zinker 2>$null | ForEach-Object {{
        $value, $told = $_ -split "`t", 2
        if (-not $value) {{ return }}
        if (-not $told) {{ $told = $value }}
        [System.Management.Automation.CompletionResult]::new($value, $value, 'ParameterValue', $told)
    }}
    Remove-Item Env:{ASKED}, Env:_TYPER_COMPLETE_FISH_ACTION, Env:_TYPER_COMPLETE_ARGS
}}
""",
}


def script_for(shell: str) -> str:
    """Return what a shell needs; raises `WrongUsage` for one that is not known."""
    name = Path(shell or os.environ.get("SHELL", "")).name.removesuffix(".exe").replace("pwsh", "powershell")
    if name not in SCRIPTS:
        why = f"there is none for {name}" if name else "it is not known which shell this is"
        raise WrongUsage("No completion", why, f"Name one of {', '.join(SCRIPTS)}.")
    return SCRIPTS[name]


def install(shell: str = "") -> list[str]:
    """Have a shell complete from now on; returns what was written where. Raises `WrongUsage` and `OSError`."""
    from platformdirs import user_config_path, user_data_path

    from zinker.disk.files import make_folders, write_file

    text = script_for(shell)
    name = next(known for known, script in SCRIPTS.items() if script == text)
    if name == "powershell":
        then = (
            "Add this to the file that $PROFILE names: zinker --show-completion powershell | Out-String | iex"
        )
        raise WrongUsage("Not installed", "where PowerShell has its profile is not known here", then)
    folder = user_config_path("fish") / "completions" if name == "fish" else user_data_path("zinker")
    path = folder / f"zinker.{name}"
    make_folders(folder)
    write_file(path, text.encode())
    done = [f"Written: {path}"]
    if name == "fish":
        return done
    profile = Path("~", f".{name}rc").expanduser()
    added = f"source '{path}'  # completion of zinker\n"
    if name == "zsh":
        added = f"(( $+functions[compdef] )) || {{ autoload -Uz compinit && compinit }}\n{added}"
    before = profile.read_bytes() if profile.exists() else b""
    if added.encode() not in before:
        with profile.open("ab") as file:  # it may be a link, and is somebody's own
            file.write(b"\n" * (before[-1:] not in (b"", b"\n")) + added.encode())
        done.append(f"Added to {profile}: {added.splitlines()[-1]}")
    return done

"""Completion, in the shells themselves: what is offered, and that it replaces what was typed."""

import os
import re
import select
import shlex
import shutil
import subprocess
import time

import pytest
from conftest import COMMAND, needs_system
from test_shared import AT

ROUND = '\n[rounds.evening]\nwhat = ["potting-shed:mosslight"]\n'
# What is typed, what is added to it, and what else is offered.
CASES = [
    ("zinker comp", "are", ()),
    ("zinker show moss", "light", ()),
    ("zinker show mosslight", "", ("mosslight@season-start", "mosslight@1")),
    ("zinker show mosslight@sea", "son-start", ()),
    ("zinker show potting-shed:quillf", "ern", ()),
    ("zinker show pott", "ing-shed:", ()),
    ("zinker compare mosslight@1 potting-shed:mosslight/bench-e", "ast", ()),
    ("zinker import mosslight@1 --place glass", "house", ()),
    ("zinker import mosslight@1 --part ", "", ("artwork", "licence", "panel")),
    ("zinker import mosslight --part general --address /lamps.s", "outh/", ("/lamps.south/dusk",)),
    ("zinker show mosslight --document bench-w", "est.json", ()),
    ("zinker undo ", "", ("1", "2")),
    ("zinker export --round ev", "ening", ()),
    ("zinker check own-fil", "e.zinker", ()),
    ("zinker import mosslight --previ", "ew", ()),
]


@pytest.fixture
def ready(garden):
    garden("export", "mosslight", *AT, "--label", "season-start")
    garden.spoil()
    garden("import", "mosslight@1", *AT, "--yes")
    garden("undo", "--yes")
    (garden.path / "own-file.zinker").write_text("x")
    with (garden.home / "zinker.toml").open("a") as file:
        file.write(ROUND)
    garden.env["PATH"] = f"{COMMAND[0].parent}{os.pathsep}{os.environ['PATH']}"
    return garden


class Shell:
    """A shell at a terminal."""

    def __init__(self, garden, words, script):
        pty = pytest.importorskip("pty")
        pid, self.terminal = pty.fork()
        if pid == 0:
            os.chdir(garden.path)
            os.execvpe(
                words[0], words, garden.env | {"TERM": "vt100", "COLUMNS": "200", "PS1": "$ ", "LINES": "50"}
            )
        self.read(lambda text: "$ " in text)
        self.type(script + "\n")
        self.type("echo re''ady\n")
        self.read(lambda text: "ready" in text)

    def type(self, text):
        os.write(self.terminal, text.encode())

    def read(self, is_enough, patience=120):
        """Read until there is enough, and nothing more comes."""
        found, until = "", time.monotonic() + patience
        while time.monotonic() < until:
            if select.select([self.terminal], [], [], 0.5)[0]:
                found += os.read(self.terminal, 65536).decode(errors="replace")
            elif is_enough(plain(found)):
                return plain(found)
        raise AssertionError(plain(found))

    def completed(self, typed, added, more):
        """Type, ask for completion, and once more for what there is."""
        self.type(typed)
        self.read(lambda text: typed[-3:].strip() in text)
        self.type("\t")
        seen = self.read(lambda text: added in text)
        if more:
            self.type("\t\t")
            self.read(lambda text: all(name.rpartition("@")[2] in seen + text for name in more))
        self.type("\x15echo nex''t\n")
        self.read(lambda text: "next" in text)


def plain(text):
    return re.sub(r"\x1b\[[0-9;?]*[A-Za-z]|\x1b[=>()][0AB]?|[\x00\x07\r]|.\x08", "", text)


@pytest.mark.parametrize("shell", ["bash", "zsh"])
def test_what_is_begun_is_completed_at_a_terminal(ready, shell, tmp_path):
    needs_system(shutil.which(shell), shell)
    home = tmp_path / "home"
    home.mkdir()
    # Somebody's own file, kept elsewhere, in an old encoding, without a last line end.
    (tmp_path / "own").write_bytes(b"PS1='$ '  # B\xe4nke")
    (home / f".{shell}rc").symlink_to(tmp_path / "own")
    ready.env |= {"HOME": str(home), "SHELL": f"/bin/{shell}"}
    assert (
        "Added to" in ready("--install-completion").out and "Added" not in ready("--install-completion").out
    )
    assert (tmp_path / "own").read_bytes().startswith(b"PS1='$ '  # B\xe4nke\n") and (
        home / f".{shell}rc"
    ).is_symlink()
    begin = {"bash": "", "zsh": "unsetopt zle_bracketed_paste"}[shell]
    at = Shell(ready, [shell, *(["--noprofile"] if shell == "bash" else []), "-i"], begin)
    for typed, added, more in CASES:
        at.completed(typed, added, more)


def test_what_is_begun_is_completed_by_fish(ready, tmp_path):
    needs_system(shutil.which("fish"), "fish")
    ready.env |= {"HOME": str(tmp_path), "SHELL": "/usr/bin/fish"}
    ready("--install-completion")
    for typed, added, more in CASES:
        asked = f"complete -C {shlex.quote(typed)}"
        done = subprocess.run(
            ["fish", "-c", asked],
            cwd=ready.path,
            env=ready.env,
            capture_output=True,
            text=True,
        )
        offered = [line.partition("\t")[0] for line in done.stdout.splitlines()]
        wanted = more or (typed.split()[-1] + added,)
        assert set(wanted) <= set(offered), (typed, done)

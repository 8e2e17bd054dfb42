"""The installed command on the demo garden, in a temporary folder."""

import functools
import json
import os
import select
import signal
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

import hypothesis
import pytest
import zstandard
from starting import CAN_FORK, Starter

from zinker.demo import garden as demo_garden
from zinker.jobs import load_setup

# The same examples each time, whatever the machine's speed; `--hypothesis-seed` tries others.
hypothesis.settings.register_profile("always the same", deadline=None, derandomize=True)
hypothesis.settings.load_profile("always the same")

# What a shell starts in the background begins without Ctrl+C, and so would the commands that the tests interrupt.
if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
    signal.signal(signal.SIGINT, signal.default_int_handler)

ANSWERS = Path(__file__).parent.parent / "docs/answers"
# The installed command; a stick for Windows has none but Python's.
COMMAND = [sys.executable, "-m", "zinker"] if os.name == "nt" else [Path(sys.executable).with_name("zinker")]
BRANCH = r"HKEY_CURRENT_USER\Software\Tarn Hollow\Mosslight"


@dataclass
class Done:
    """How a run of the command ended."""

    code: int
    out: str
    err: str

    @property
    def json(self):
        return json.loads(self.out)


def check_answer(arguments, answer):
    """Hold what a command wrote against its published schema, which says all that may be in it."""
    words = [word for word in map(str, arguments) if not word.startswith("-")]
    both = f"{words[0]}-{words[1]}.schema.json" if len(words) > 1 else ""
    name = both if (ANSWERS / both).is_file() else f"{words[0]}.schema.json"
    if answer and len(answer) < 1_000_000 and (ANSWERS / name).is_file():  # there are commands without
        import jsonschema

        wrong = jsonschema.exceptions.best_match(answers(name).iter_errors(json.loads(answer)))
        assert wrong is None, f"{name}, {wrong.json_path}: {wrong.message[:800]}"


@functools.cache
def answers(name):
    import jsonschema

    schema = json.loads((ANSWERS / name).read_text())
    for described in schema["$defs"].values():
        described["additionalProperties"] = False
    return jsonschema.Draft202012Validator(schema)


starter = functools.cache(Starter)


class Garden:
    """The demo garden, and the command that works on it."""

    def __init__(self, path):
        self.path = demo_garden.build(path)
        self.home = self.path / "zinker-home"
        toml = self.home / "zinker.toml"  # nobody serves the garden's tenants here
        toml.write_text(toml.read_text().partition("\n[places.trial]")[0])
        own = ("ZINKER", "XDG", "COLUMNS", "PYTHONDONTWRITEBYTECODE")
        self.env = {k: v for k, v in os.environ.items() if not k.startswith(own)}
        self.env |= {"ZINKER_HOME": str(self.home), "HOME": str(self.path / "own"), "NO_COLOR": "1"}

    def __call__(self, *arguments, code=0, wrapper=(), **more):
        words, env = [*map(str, arguments)], self.env | more.pop("env", {})
        if CAN_FORK and not wrapper and not more:
            done = Done(*starter().run(words, self.path, env))
        else:
            ended = subprocess.run(
                [*wrapper, *COMMAND, *words],
                cwd=self.path,
                env=env,
                stdin=subprocess.DEVNULL,
                capture_output=True,
                text=True,
                check=False,
                **more,
            )
            done = Done(ended.returncode, ended.stdout, ended.stderr)
        assert "Traceback" not in done.err, done.err
        assert code is None or done.code == code, f"{done.code}\n{done.out}\n{done.err}"
        if "--json" in arguments and os.name != "nt":  # who judges it is not on the stick
            check_answer(arguments, done.out)
        return done

    def at_terminal(self, *arguments, answers=(), columns=80, env=()):
        """Run the command at a terminal of its own; returns what it wrote and how it ended.

        `answers` are pairs of a prompt and what is typed there, or what is done and returns that; one that is
        asked for again is given again.
        """
        pty = pytest.importorskip("pty")
        pid, descriptor = pty.fork()
        if pid == 0:
            os.chdir(self.path)
            own = {k: v for k, v in self.env.items() if k != "NO_COLOR"}
            size = {"TERM": "xterm-256color", "PAGER": "cat", "COLUMNS": str(columns), **dict(env)}
            os.execve(COMMAND[0], [*COMMAND, *map(str, arguments)], own | size)
        output, waiting, seen = b"", list(answers), 0
        while True:
            # Setting a terminal up may drop what was typed, so it answers when nothing more comes, and again.
            asked = [at for at, (prompt, _) in enumerate(waiting) if prompt.encode() in output[seen:]]
            if asked and not select.select([descriptor], [], [], 0.3)[0]:
                del waiting[: asked[0]]
                answer = waiting[0][1]
                os.write(descriptor, (answer() if callable(answer) else answer).encode())
                if select.select([descriptor], [], [], 2.0)[0] and len(waiting) > 1:
                    seen = len(output)
                    del waiting[0]
                continue
            try:
                piece = os.read(descriptor, 65536)
            except OSError:  # how a terminal on Linux says that nobody is left
                break
            if not piece:
                break
            output += piece
        return output.decode(), os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])

    @property
    def setup(self):
        os.environ["ZINKER_HOME"] = str(self.home)
        return load_setup()

    @property
    def settings(self):
        return self.path / "potting-shed/Users/ivy/AppData/Roaming/mosslight"

    @property
    def data(self):
        return self.path / "potting-shed/Users/ivy/AppData/Local/mosslight"

    @property
    def ini(self):
        return self.settings / "mosslight.ini"

    def workstation(self, name="potting-shed"):
        return self.path / "workstations" / f"{name}.json"

    def registry(self, name="potting-shed"):
        return json.loads(self.workstation(name).read_text())["registry"]["keys"]

    def edit_workstation(self, name, edit):
        state = json.loads(self.workstation(name).read_text())
        edit(state)
        self.workstation(name).write_text(json.dumps(state))

    def spoil(self):
        demo_garden.spoil(self.path)

    def places(self, *names):
        """Everything at some places, byte for byte; registries by their content."""
        found = {}
        for name in names or ("potting-shed", "glasshouse", "gate-kiosk"):
            for path in (self.path / name).rglob("*"):
                found[str(path.relative_to(self.path))] = path.read_bytes() if path.is_file() else None
            found[f"registry of {name}"] = self.registry(name)
        return found


def unpacked(path):
    """Return what an object of a shelf holds, as any reader of Zstandard has it."""
    return zstandard.ZstdDecompressor().stream_reader(path.read_bytes()).read()


# Runs a command, and says on a line of its own how much memory it had at most, in KiB.
MEASURED = (
    sys.executable,
    "-c",
    "import resource, subprocess, sys; code = subprocess.run(sys.argv[1:]).returncode; "
    "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss, file=sys.stderr); sys.exit(code)",
)


@pytest.fixture
def garden(tmp_path):
    return Garden(tmp_path / "garden")


@pytest.fixture
def kept(garden):
    """A garden with one version of everything on the shelf."""
    garden("export", "mosslight", "--place", "potting-shed", "--label", "season-start")
    return garden


def needs_system(is_there, what):
    """Skip without a part of the system, but never in CI."""
    if not is_there:
        if os.environ.get("ZINKER_TEST_ALL"):
            pytest.fail(f"{what} is needed here")
        pytest.skip(f"{what} is not here")

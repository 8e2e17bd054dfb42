"""Start time, and small commands, beside a bare Typer program, in processor time.

Both run in this environment, in turns, so that whatever else the machine does falls on both alike.
"""

import os
import resource
import statistics
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

from measure import Bench, Figure, Used, used

ROUNDS = 40
BARE = '''
import typer

app = typer.Typer(pretty_exceptions_enable=False)


def show_version(wanted: bool) -> None:
    if wanted:
        print("bare 1.0")
        raise typer.Exit


@app.callback()
def main(version: bool = typer.Option(False, "--version", is_eager=True, callback=show_version)) -> None:
    """A bare Typer program."""


@app.command()
def hello(name: str) -> None:
    """Say hello."""
    print(name)


def run() -> None:
    app()
'''
# The same as an installed console script is.
SCRIPT = "import sys\nfrom {module} import run\nif __name__ == '__main__':\n    sys.exit(run())\n"


def processor_seconds(command: list[str], environment: dict[str, str]) -> float:
    """Run a command once; the processor time of it, in seconds."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    done = subprocess.run(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    if done.returncode > 1:
        raise SystemExit(f"{command} ended with {done.returncode}")
    return after.ru_utime - before.ru_utime + after.ru_stime - before.ru_stime


def garden(folder: Path) -> Path:
    """Build the demo garden, with a few versions on its shelf; returns what ZINKER_HOME is then."""
    from zinker.demo.garden import build
    from zinker.jobs import Keeping, export, load_setup

    home = build(folder / "garden") / "zinker-home"
    os.environ["ZINKER_HOME"] = str(home)
    for label in ("season-start", "before-update", "agreed"):
        export(load_setup(), "mosslight", "potting-shed", Keeping(label=label, again=True))
    return home


def programs(bench: Bench) -> tuple[str, str, dict[str, str]]:
    """Write a bare program, and Zinker's start as it is installed; returns both, and what is around them."""
    Path(bench.base, "bare_program.py").write_text(BARE)
    bare, own = bench.base / "bare", bench.base / "zinker-start"
    bare.write_text(SCRIPT.format(module="bare_program"))
    own.write_text(SCRIPT.format(module="zinker.cli.main"))
    home = str(garden(bench.base))
    return str(own), str(bare), bench.env | {"PYTHONPATH": str(bench.base), "ZINKER_HOME": home}


def grouped(own: list[float], other: list[float]) -> tuple[list[float], list[float]]:
    """Return medians of groups of runs: single ones say little."""
    size = max(1, ROUNDS // 8)
    return tuple(  # type: ignore[return-value]
        [statistics.median(taken[at : at + size]) for at in range(0, len(taken), size)]
        for taken in (own, other)
    )


def starts(bench: Bench) -> Iterator[Figure]:
    """Show the version, and complete."""
    own, bare, around = programs(bench)
    for case, words, typed, aim in (
        ("`zinker --version`", ["--version"], "", 1.15),
        ("completing a command", [], " ", 1.15),
        ("completing a subject", [], " show moss", 1.6),
        ("completing a reference", [], " show mosslight@", 1.6),
    ):
        taken: tuple[list[float], list[float]] = ([], [])
        for number in range(ROUNDS + 3):
            for name, script, kept in (("ZINKER", own, taken[0]), ("BARE", bare, taken[1])):
                asks = {
                    f"_{name}_COMPLETE": "complete_fish",
                    "_TYPER_COMPLETE_FISH_ACTION": "get-args",
                    "_TYPER_COMPLETE_ARGS": f"{Path(script).name}{typed if script is own else ' '}",
                }
                seconds = processor_seconds(
                    [sys.executable, script, *words], around | (asks if typed else {})
                )
                if number >= 3:  # the first runs fill the caches
                    kept.append(seconds)
        yield Figure.ratio(f"start: {case}", "a bare Typer program", *grouped(*taken), aim)


def small(bench: Bench) -> Iterator[Figure]:
    """Run small commands on a usual application in turns with a command of the bare program."""
    own, bare, around = programs(bench)
    cases = {
        "bare": [bare, "hello", "ivy"],
        "`list`": [own, "list", "mosslight"],
        "`show`": [own, "show", "mosslight"],
        "`compare` of two versions": [own, "compare", "mosslight@1", "mosslight@2"],
        "`compare` with live": [own, "compare", "mosslight"],
        "`export`": [own, "export", "mosslight", "--place", "potting-shed", "--again"],
    }
    times: dict[str, list[float]] = {name: [] for name in cases}
    for number in range(ROUNDS + 1):
        for name, words in cases.items():
            taken = processor_seconds([sys.executable, *words], around)
            if number:
                times[name].append(taken)
    for name in list(cases)[1:]:
        case = f"{name}, 53 settings in 8 documents"
        yield Figure.ratio(
            case, "a command of a bare Typer program", *grouped(times[name], times["bare"]), 2.2
        )


# What the demo has shown since its first release is left out.
STORY = """
import sys
from pathlib import Path
from zinker.demo import garden, story
story._round = story._paper = lambda *_: None
story.tell(garden.build(Path(sys.argv[1])))
"""


def demo(bench: Bench) -> Iterator[Figure]:
    """Take the steps that the demo had in its first release."""
    number = iter(range(bench.rounds))

    def told() -> Used:
        folder = str(bench.base / f"garden-{next(number)}")
        return used([sys.executable, "-c", STORY, folder], bench.env)

    (taken,) = bench.in_turns(told)
    yield Figure("the steps of the first demo", "", [one.processor for one in taken], 10, "s")


CASES = {"start": starts, "small": small, "demo": demo}

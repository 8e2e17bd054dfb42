"""Start time, and small commands in processor time, beside a bare Typer program, in the same run.

Prints the ratios, and with `--write FILE` puts them into the table of docs/benchmarks.md. Both run in this
environment, in turns, so that whatever else the machine does falls on both alike.
"""

import argparse
import os
import platform
import re
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

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


def seconds(command: list[str], environment: dict[str, str]) -> float:
    """Run a command once; its time in seconds."""
    started = time.perf_counter()
    subprocess.run(command, env=environment, stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - started


def processor_seconds(command: list[str], environment: dict[str, str]) -> float:
    """Run a command once; the processor time of it, in seconds."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    done = subprocess.run(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    if done.returncode > 1:
        raise SystemExit(f"{command} ended with {done.returncode}")
    return after.ru_utime - before.ru_utime + after.ru_stime - before.ru_stime


def small(own: Path, bare: Path, environment: dict[str, str]) -> list[str]:
    """Run small commands on a usual application in turns with a command of the bare program; rows of the table."""
    cases = {
        "bare": [str(bare), "hello", "ivy"],
        "`list`": [str(own), "list", "mosslight"],
        "`show`": [str(own), "show", "mosslight"],
        "`compare` of two versions": [str(own), "compare", "mosslight@1", "mosslight@2"],
        "`compare` with live": [str(own), "compare", "mosslight"],
        "`export`": [str(own), "export", "mosslight", "--place", "potting-shed", "--again"],
    }
    times: dict[str, list[float]] = {name: [] for name in cases}
    for number in range(ROUNDS // 2 + 1):
        for name, words in cases.items():
            taken = processor_seconds([sys.executable, *words], environment)
            if number:
                times[name].append(taken)
    middle = {name: statistics.median(taken) for name, taken in times.items()}
    rows = []
    for name in list(cases)[1:]:
        ratio = middle[name] / middle["bare"]
        print(f"{name}: {middle[name] * 1000:.0f} ms, bare {middle['bare'] * 1000:.0f} ms: {ratio:.2f} x")
        rows.append(
            f"| {name}, 53 settings in 8 documents | a command of a bare Typer program | 2.2 × | {ratio:.2f} × |"
        )
    return rows


def compare(zinker: list[str], bare: list[str], both: list[dict[str, str]]) -> tuple[float, float]:
    """Run both in turns, each with its environment; the medians of their times in seconds."""
    times: tuple[list[float], list[float]] = ([], [])
    for number in range(ROUNDS + 3):
        for command, environment, kept in zip((zinker, bare), both, times, strict=True):
            taken = seconds(command, environment)
            if number >= 3:  # the first runs fill the caches
                kept.append(taken)
    return statistics.median(times[0]), statistics.median(times[1])


def garden(folder: Path) -> Path:
    """Build the demo garden, with a few versions on its shelf; returns what ZINKER_HOME is then."""
    from zinker.demo.garden import build
    from zinker.jobs import export, load_setup

    home = build(folder / "garden") / "zinker-home"
    os.environ["ZINKER_HOME"] = str(home)
    for label in ("season-start", "before-update", "agreed"):
        export(load_setup(), "mosslight", place="potting-shed", label=label, again=True)
    return home


def main() -> None:
    """Measure, print, and write."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", type=Path)
    chosen = parser.parse_args()
    environment = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}
    with tempfile.TemporaryDirectory() as folder:
        Path(folder, "bare_program.py").write_text(BARE)
        bare = Path(folder, "bare")
        bare.write_text(SCRIPT.format(module="bare_program"))
        own = Path(folder, "zinker")
        own.write_text(SCRIPT.format(module="zinker.cli.main"))
        environment["PYTHONPATH"] = folder
        rows = []
        environment["ZINKER_HOME"] = str(garden(Path(folder)))
        for case, arguments, typed, reach in (
            ("`zinker --version`", ["--version"], "", 1.15),
            ("completing a command", [], " ", 1.15),
            ("completing a subject", [], " show moss", 1.6),
            ("completing a reference", [], " show mosslight@", 1.6),
        ):
            both = []
            for name, script in (("ZINKER", own), ("BARE", bare)):
                line = f"{script.name}{typed if script is own else ' '}"
                asks = {
                    f"_{name}_COMPLETE": "complete_fish",
                    "_TYPER_COMPLETE_FISH_ACTION": "get-args",
                    "_TYPER_COMPLETE_ARGS": line,
                }
                both.append(environment | (asks if typed else {}))
            commands = [[sys.executable, str(script), *arguments] for script in (own, bare)]
            own_time, bare_time = compare(*commands, both)
            rows.append(
                f"| start: {case} | a bare Typer program | {reach} × | {own_time / bare_time:.2f} × |"
            )
            print(
                f"{case}: {own_time * 1000:.0f} ms, bare {bare_time * 1000:.0f} ms: {own_time / bare_time:.2f} x"
            )
        rows += small(own, bare, environment)
    if chosen.write:
        note = (
            f"Python {platform.python_version()}, {os.cpu_count()} cores, median of {ROUNDS} runs in turns; "
            f"small commands in processor time, of {ROUNDS // 2}."
        )
        text = chosen.write.read_text(encoding="utf-8")
        table = "\n".join(
            ["<!-- start -->", "| case | yardstick | to reach | reached |", "|---|---|---|---|", *rows]
        )
        found = re.compile(r"<!-- start -->.*?<!-- end -->", re.S)
        written = found.sub(lambda _: f"{table}\n\n{note}\n<!-- end -->", text)
        chosen.write.write_text(written, encoding="utf-8")


if __name__ == "__main__":
    main()

"""Start time: `zinker --version` and its completion beside a bare Typer program, in the same run.

Prints the ratios, and with `--write FILE` puts them into the table of docs/benchmarks.md. Both run in this
environment, in turns, so that whatever else the machine does falls on both alike.
"""

import argparse
import os
import platform
import re
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


def compare(zinker: list[str], bare: list[str], environment: dict[str, str]) -> tuple[float, float]:
    """Run both in turns; the medians of their times in seconds."""
    times: tuple[list[float], list[float]] = ([], [])
    for number in range(ROUNDS + 3):
        for command, kept in zip((zinker, bare), times, strict=True):
            taken = seconds(command, environment)
            if number >= 3:  # the first runs fill the caches
                kept.append(taken)
    return statistics.median(times[0]), statistics.median(times[1])


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
        for case, arguments, more in (
            ("`zinker --version`", ["--version"], {}),
            ("completing a command", [], {"complete": "1"}),
        ):
            both = []
            for name, script in (("ZINKER", own), ("BARE", bare)):
                extra = {
                    f"_{name}_COMPLETE": "complete_bash",
                    "COMP_WORDS": f"{script.name} ",
                    "COMP_CWORD": "1",
                }
                both.append(([sys.executable, str(script), *arguments], extra if more else {}))
            merged = environment | both[0][1] | both[1][1]
            own_time, bare_time = compare(both[0][0], both[1][0], merged)
            rows.append(f"| start: {case} | a bare Typer program | 1.15 × | {own_time / bare_time:.2f} × |")
            print(
                f"{case}: {own_time * 1000:.0f} ms, bare {bare_time * 1000:.0f} ms: {own_time / bare_time:.2f} x"
            )
    if chosen.write:
        note = (
            f"Python {platform.python_version()}, {os.cpu_count()} cores, median of {ROUNDS} runs in turns."
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

"""What all cases share: a home to work in, whole commands measured as processes, and figures with their aims.

A figure is a ratio of two things measured in turns in the same run, as the machines it is made on are noisy; its
spread is that of the single rounds.
"""

import json
import os
import platform
import re
import statistics
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

import psutil

ZINKER = Path(sys.executable).with_name("zinker")
DOCUMENT = Path(__file__).parent.parent / "docs/benchmarks.md"
SUBJECT = """
format = 1
id = "herbarium"
title = "Herbarium"
[[part]]
id = "sheet"
store = "file"
path = "{home}/sheet.*"
[[part]]
id = "pictures"
store = "file"
path = "{home}/pictures/**"
format = "whole"
"""
# Runs a command and tells its time and peak memory. A process of its own, as what a child is said to have used
# begins with the size of the one that started it.
RUNNER = """
import json, resource, subprocess, sys, time
started = time.perf_counter()
status = subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL).returncode
taken = time.perf_counter() - started
used = resource.getrusage(resource.RUSAGE_CHILDREN)
print(json.dumps([status, taken, used.ru_maxrss / 1024, used.ru_utime + used.ru_stime]))
"""


class Used(NamedTuple):
    """What a command took: seconds on the wall and of processors, and megabytes at most."""

    wall: float
    processor: float
    peak: float


def used(command: list[str], environment: dict[str, str], ends: int = 0) -> Used:
    """Run a command that ends with that code."""
    run = [sys.executable, "-c", RUNNER, *command]
    told = subprocess.run(run, env=environment, capture_output=True, check=True).stdout
    status, wall, peak, processor = json.loads(told)
    if status != ends:
        raise SystemExit(f"{command}: {status}")
    return Used(wall, processor, peak)


@dataclass
class Figure:
    """What came out of a case: a value for each round, beside what it is to stay below, if anything."""

    case: str
    yardstick: str
    values: list[float]
    aim: float | None = None
    unit: str = "×"
    peak: float = 0.0

    @classmethod
    def ratio(
        cls,
        case: str,
        yardstick: str,
        own: list[float],
        other: list[float],
        aim: float | None = None,
        peak: float = 0.0,
    ) -> "Figure":
        """Return the figure of two things that were measured in turns."""
        pairs = zip(own, other, strict=True)
        return cls(case, yardstick, [mine / theirs for mine, theirs in pairs], aim, peak=peak)

    @property
    def cells(self) -> list[str]:
        """The cells of its row: case, yardstick, aim, median, spread, whether the aim was reached, memory."""
        median = statistics.median(self.values)
        low, high = min(self.values), max(self.values)
        aim = "" if self.aim is None else f"{self.aim:g} {self.unit}"
        reached = "" if self.aim is None else "yes" if median <= self.aim else "no"
        spread = f"{_short(low)} to {_short(high)}" if len(self.values) > 1 else ""
        peak = f"{self.peak:.0f} MB" if self.peak else ""
        return [self.case, self.yardstick, aim, f"{_short(median)} {self.unit}", spread, reached, peak]


def _short(value: float) -> str:
    return f"{value:.3f}" if value < 0.1 else f"{value:.2f}" if value < 10 else f"{value:.0f}"


class Bench:
    """A home with something in it, and a shelf."""

    def __init__(self, base: Path, rounds: int) -> None:
        self.base, self.rounds = base, rounds
        self.home = base / "disk/home"
        self.home.mkdir(parents=True)
        own = base / "zinker"
        (own / "subjects").mkdir(parents=True)
        (own / "subjects/herbarium.subject.toml").write_text(SUBJECT)
        self.toml = own / "zinker.toml"
        self.toml.write_text(
            'subjects = ["subjects"]\n[places.disk]\nkind = "folder"\npath = "../disk"\n'
            'folders = { home = "home" }\n'
        )
        left = ("PYTHONDONTWRITEBYTECODE", "ZINKER_HOME")
        self.env = {k: v for k, v in os.environ.items() if k not in left} | {"ZINKER_HOME": str(own)}

    def zinker(self, *arguments: str, ends: int = 0) -> Used:
        """Run the installed command."""
        return used([str(ZINKER), *arguments], self.env, ends)

    def new_shelf(self, number: int) -> Path:
        """Have commands keep on a shelf that is not there yet; returns its folder."""
        lines = [line for line in self.toml.read_text().splitlines() if not line.startswith("shelf =")]
        self.toml.write_text("\n".join([f'shelf = "shelf-{number}"', *lines, ""]))
        return self.toml.parent / f"shelf-{number}"

    def in_turns(self, *runs: Callable[[], Used]) -> list[list[Used]]:
        """Run each in turns, as often as there are rounds; returns what each took."""
        taken = [[run() for run in runs] for _ in range(self.rounds)]
        return [list(of_one) for of_one in zip(*taken, strict=True)]


def against(
    case: str, yardstick: str, own: list[Used], other: list[Used], aim: float | None = None
) -> Figure:
    """Return the figure of commands beside others, in processor time."""
    both = [[one.processor for one in of_one] for of_one in (own, other)]
    return Figure.ratio(case, yardstick, *both, aim, max(one.peak for one in own))


@dataclass
class Table:
    """The figures of a section of the document; those of cases that are not run again stay."""

    mark: str
    rounds: int
    figures: list[Figure] = field(default_factory=list)
    began: tuple[float, float] = field(default_factory=lambda: processor_time())

    HEAD = "| case | yardstick | aim | median | spread | reached | memory |\n|---|---|---|---|---|---|---|"

    def add(self, figure: Figure) -> None:
        """Keep and print a figure."""
        self.figures.append(figure)
        print(" | ".join(filter(None, figure.cells)), flush=True)

    def write(self, path: Path) -> None:
        """Put the figures between the marks of the document."""
        found = re.compile(rf"<!-- {self.mark} -->\n(.*?)<!-- end -->", re.S)
        text = path.read_text(encoding="utf-8")
        before = found.search(text)
        assert before is not None, f"{path} has no table {self.mark}"
        rows = {cells[0]: cells for cells in _rows(before[1])}
        rows |= {figure.case: figure.cells for figure in self.figures}
        lines = "\n".join(f"| {' | '.join(cells)} |" for cells in rows.values())
        machine = f"Python {platform.python_version()}, {os.cpu_count()} cores, {self.rounds} rounds in turns"
        table = f"<!-- {self.mark} -->\n{self.HEAD}\n{lines}\n\n{machine}{self._stolen()}.\n<!-- end -->"
        path.write_text(found.sub(lambda _: table, text), encoding="utf-8")

    def _stolen(self) -> str:
        """Say how much of the machine its host gave to others meanwhile, where that was much."""
        total, stolen = (now - then for now, then in zip(processor_time(), self.began, strict=True))
        share = stolen / total if total else 0.0
        return f"; the machine's host took {share:.0%} of its processors meanwhile" if share > 0.02 else ""


def _rows(table: str) -> list[list[str]]:
    """Return the cells of a table's rows, if it has the columns that are written now."""
    lines = table.splitlines()
    if lines[:1] != Table.HEAD.splitlines()[:1]:
        return []
    return [[cell.strip() for cell in line[1:-1].split("|")] for line in lines[2:] if line.startswith("|")]


def processor_time() -> tuple[float, float]:
    """Return the time of all processors so far, and what of it a virtual machine's host gave to others."""
    times = psutil.cpu_times()
    stolen = getattr(times, "steal", 0.0)
    return sum(times) - getattr(times, "guest", 0.0) - getattr(times, "guest_nice", 0.0), stolen

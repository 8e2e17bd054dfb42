"""What is done regularly: a round of file subjects in which nothing has changed, in processor time.

What a subject costs is what fifty of them take more than one, ÷ 49: the start of the command is in both.
"""

import argparse
import statistics
import tempfile
import time
from pathlib import Path

from capture import Bench

SUBJECT = """
format = 1
id = "{id}"
title = "{id}"
[application]
processes = ["{id}"]
version = {{ part = "general", address = "/about/version" }}
[[part]]
id = "general"
store = "file"
path = "{{home}}/{id}/own.ini"
[[part]]
id = "more"
store = "file"
path = "{{home}}/{id}/more/*.json"
"""
SETTLED = 65  # seconds after which a file is known by its looks


def prepare(bench: Bench, count: int) -> None:
    """Make subjects with a file of 60 settings and five small ones each, and a round of all and one of one."""
    own = bench.base / "zinker"
    names = [f"fern-{number}" for number in range(count)]
    for name in names:
        (own / f"subjects/{name}.subject.toml").write_text(SUBJECT.format(id=name))
        folder = bench.home / name / "more"
        folder.mkdir(parents=True)
        lines = "".join(f"key{number} = {number}\n" for number in range(60))
        (bench.home / name / "own.ini").write_text(f"[about]\nversion = 1.2\n[keys]\n{lines}")
        for number in range(5):
            (folder / f"{number}.json").write_text(f'{{"a": {number}}}\n')
    with (own / "zinker.toml").open("a") as file:
        for round, members in (("all", names), ("one", names[:1])):
            what = ", ".join(f'"disk:{name}"' for name in members)
            file.write(f"\n[rounds.{round}]\nwhat = [{what}]\n")


def measure(bench: Bench, count: int) -> None:
    """Measure rounds of all and of one, in turns."""
    from zinker.jobs.schedule.record import FORMAT, Records, Schedule
    from zinker.model.when import when

    records = Records(bench.base / "zinker")
    for round in ("all", "one"):
        records.keep(Schedule(FORMAT, round, when("day", "02:00"), "cron", "2026-01-01T00:00:00+00:00"))
    time.sleep(SETTLED)
    bench.worked("schedule", "run", "all", "--now")
    taken: dict[str, list[float]] = {"all": [], "one": [], "none": []}
    peak = 0.0
    for _ in range(bench.rounds):
        for round in ("all", "one"):
            own, memory = bench.worked("schedule", "run", round, "--now")
            taken[round].append(own)
            peak = max(peak, memory)
        taken["none"].append(bench.worked("schedule", "run", "one")[0])
    all_of_them, one, none = (statistics.median(taken[round]) for round in ("all", "one", "none"))
    each = (all_of_them - one) / (count - 1) * 1000
    case = f"a round of {count} file subjects without a change, each of them"
    bench.rows.append(f"| {case} | | 5 ms | {each:.1f} ms | {peak:.0f} MB |")
    bench.rows.append(
        f"| a look of the timer when nothing is due | the round of one subject | | {none / one:.2f} × | |"
    )
    print(
        f"{case}: {each:.2f} ms; all {all_of_them:.2f} s, one {one:.2f} s, nothing due {none:.2f} s",
        flush=True,
    )


def main() -> None:
    """Measure, print, and write."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", type=Path)
    parser.add_argument("--rounds", type=int, default=7)
    parser.add_argument("--subjects", type=int, default=50)
    chosen = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="zinker-bench-") as folder:
        bench = Bench(Path(folder), chosen.rounds)
        prepare(bench, chosen.subjects)
        measure(bench, chosen.subjects)
        if chosen.write:
            bench.write(chosen.write, "schedule")


if __name__ == "__main__":
    main()

"""What is done regularly: a round of file subjects in which nothing has changed, in processor time.

What a subject costs is what fifty of them take more than one, ÷ 49: the start of the command is in both.
"""

import time
from collections.abc import Iterator

from measure import Bench, Figure, Used, against

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


def measure(bench: Bench, count: int = 50) -> Iterator[Figure]:
    """Measure rounds of all and of one, in turns."""
    from zinker.jobs.schedule.record import FORMAT, Records, Schedule
    from zinker.model.when import when

    prepare(bench, count)
    records = Records(bench.base / "zinker")
    for round in ("all", "one"):
        records.keep(Schedule(FORMAT, round, when("day", "02:00"), "cron", "2026-01-01T00:00:00+00:00"))
    time.sleep(SETTLED)
    bench.zinker("schedule", "run", "all", "--now")

    def run(*words: str) -> Used:
        return bench.zinker("schedule", "run", *words)

    every, one, none = bench.in_turns(
        lambda: run("all", "--now"), lambda: run("one", "--now"), lambda: run("one")
    )
    both = zip(every, one, strict=True)
    each = [1000 * (all_of_them.processor - single.processor) / (count - 1) for all_of_them, single in both]
    case = f"a round of {count} file subjects without a change, each of them"
    yield Figure(case, "", each, 5, "ms", max(taken.peak for taken in every))
    yield against("a look of the timer when nothing is due", "the round of one subject", none, one)


CASES = {"schedule": measure}

"""The shelf: what a version costs, and how long finding and comparing takes, beside yardsticks of the same run.

Growth is counted in bytes on the disk's files; times are processor times of whole commands.
"""

import argparse
import random
import statistics
import sys
import tempfile
from pathlib import Path

import msgspec
from capture import ZINKER, Bench, used
from registry import keys, write_text

from zinker.shelf.record import opened, sealed
from zinker.shelf.shelf import Shelf
from zinker.shelf.storage import FolderStorage
from zinker.shelf.versions import Record

VERSIONS = (10, 10_000)


def shelf_of(bench: Bench) -> Shelf:
    """Return the shelf that the commands work on."""
    folder = bench.base / "zinker/shelf"
    return Shelf(FolderStorage(folder), folder / "changes")


def size(folder: Path) -> int:
    """Return how many bytes the files in a folder have."""
    return sum(path.stat().st_size for path in folder.rglob("*") if path.is_file())


def growth(bench: Bench, values: int, changes: int) -> None:
    """Keep a million values, the same again, and the same with scattered changes."""
    shelf, text = bench.base / "zinker/shelf", bench.base / "big.reg"
    found, dice = keys(values), random.Random(3)
    write_text(text, found)
    sizes, peak = [0], 0.0
    for case in ("first", "same", "next"):
        if case == "next":
            for number in dice.sample(range(len(found)), changes):
                key, rows = found[number]
                found[number] = (key, [(rows[0][0], 4, b"\1\2\3\4"), *rows[1:]])
            write_text(text, found)
        worked, memory = bench.worked("export", str(text))
        print(f"  {case}: {worked:.1f} s, {size(shelf) - sizes[-1]:,} bytes", flush=True)
        peak = max(peak, memory)
        sizes.append(size(shelf))
    first, same, following = (after - before for before, after in zip(sizes, sizes[1:], strict=False))
    for case, reach, own in (
        (f"the next version of {values:,} values, {changes:,} scattered changes: growth", "1 %", following),
        ("a capture in which nothing changed: growth", "0.1 %", same),
    ):
        bench.rows.append(f"| {case} | the first version | {reach} | {own / first:.3%} | {peak:.0f} MB |")
        print(f"{case}: {own:,} of {first:,} bytes, {own / first:.3%}", flush=True)


def compare(bench: Bench) -> None:
    """Compare the two versions, in turns with GNU diff on their settings."""
    shelf = shelf_of(bench)
    (subject,) = shelf.subjects()
    versions = shelf.versions(subject)
    files = []
    for version in versions:
        files.append(bench.base / f"{version.number}.jsonl")
        profile = shelf.open(version)
        with files[-1].open("wb") as file:
            for part in profile.manifest.parts:
                file.writelines(profile.pieces(part.id))
    own, other, peak = [], [], 0.0
    for _ in range(bench.rounds):
        _, memory, worked = used([str(ZINKER), "compare", *(one.reference for one in versions)], bench.env, 1)
        own.append(worked)
        peak = max(peak, memory)
        other.append(used(["diff", *map(str, files)], bench.env, 1)[2])
    bench.row(
        "compare two kept versions of them",
        "GNU diff of their settings",
        "0.3",
        statistics.median(own),
        statistics.median(other),
        peak,
    )


def retracing(rounds: int, settings: int = 100_000, count: int = 200) -> list[str]:
    """Ask when one setting changed, over versions each of which differs from the last in a few settings."""
    with tempfile.TemporaryDirectory(prefix="zinker-bench-") as folder:
        bench, dice = Bench(Path(folder), rounds), random.Random(5)
        text = bench.base / "beds.reg"
        found = keys(settings)
        for number in range(count):
            for at in dice.sample(range(len(found)), 20):
                key, rows = found[at]
                found[at] = (key, [(rows[0][0], 4, number.to_bytes(4, "little")), *rows[1:]])
            write_text(text, found)
            bench.zinker("export", str(text))
        shelf = shelf_of(bench)
        (subject,) = shelf.subjects()
        name = f"/{found[at][1][0][0]}"
        own, one, peak = [], [], 0.0
        for _ in range(rounds):
            asked = [str(ZINKER), "history", subject, "--address", name]
            _, memory, worked = used(asked, bench.env)
            own.append(worked)
            peak = max(peak, memory)
            one.append(used([str(ZINKER), "show", f"{subject}@{count}", "--find", "no such"], bench.env)[2])
        bench.row(
            f"`history` of one setting over {count} versions of {settings:,}",
            "reading one of them",
            "3",
            statistics.median(own),
            statistics.median(one),
            peak,
        )
        return bench.rows


def finding(rounds: int) -> list[str]:
    """List, and find the latest, with ten versions and with ten thousand."""
    times: dict[tuple[str, int], list[float]] = {}
    peak = 0.0
    commands = {
        "`list` of a subject": ["list", "herbarium"],
        "`show` of `@latest`": ["show", "herbarium@latest"],
        "`show` of a label": ["show", "herbarium@spring"],
    }
    with tempfile.TemporaryDirectory(prefix="zinker-bench-") as folder:
        benches = {count: Bench(Path(folder) / str(count), 1) for count in VERSIONS}
        for count, bench in benches.items():
            fill(bench, count)
        for _ in range(rounds):
            for case, command in commands.items():
                for count, bench in benches.items():
                    _, memory, worked = used([str(ZINKER), *command], bench.env)
                    times.setdefault((case, count), []).append(worked)
                    peak = max(peak, memory)
    rows = []
    for case in commands:
        few, many = (statistics.median(times[case, count]) for count in VERSIONS)
        told = f"{case}, {VERSIONS[1]:,} versions kept"
        rows.append(f"| {told} | with {VERSIONS[0]} | 2 × | {many / few:.1f} × | {peak:.0f} MB |")
        print(f"{told}: {many:.2f} s, with {VERSIONS[0]} {few:.2f} s: {many / few:.2f} x", flush=True)
    return rows


def fill(bench: Bench, count: int, shelf: Shelf | None = None) -> None:
    """Keep one version, and so many like it, as if it had been kept each hour; an old one has a label."""
    shelf = shelf or shelf_of(bench)
    (bench.home / "sheet.ini").write_text("[a]\nb = 1\n")
    bench.zinker("export", "herbarium", "--place", "disk")
    with shelf.storage.open("subjects/herbarium/1.json") as file:
        record = opened(file.read(), Record)
    for number in range(1, count + 1):
        label = "spring" if number == 2 else ""
        day = f"{2000 + number // 8000:04}-{number // 700 % 12 + 1:02}-{number // 25 % 28 + 1:02}"
        about = msgspec.structs.replace(
            record.profile, captured=f"{day}T{number % 24:02}:00:00+00:00", label=label
        )
        page = sealed(msgspec.structs.replace(record, profile=about))
        shelf.storage.put(f"subjects/herbarium/{number}.json", page)
    shelf.records.write_index("herbarium", is_wanted=True)


def main() -> None:
    """Build the data, measure, print, and write."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", type=Path)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--values", type=int, default=1_000_000)
    chosen = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="zinker-bench-") as folder:
        bench = Bench(Path(folder), chosen.rounds)
        growth(bench, chosen.values, 1000)
        compare(bench)
        bench.rows += finding(max(5, chosen.rounds))
        bench.rows += retracing(chosen.rounds)
        if chosen.write:
            bench.write(chosen.write, "shelf")


if __name__ == "__main__":
    sys.exit(main())

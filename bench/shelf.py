"""The shelf: what a version costs, and how long finding and comparing takes, beside yardsticks of the same run.

Growth is counted in bytes of the disk's files; times are processor times of whole commands.
"""

import random
from collections.abc import Iterator
from pathlib import Path

import msgspec
from measure import Bench, Figure, Used, against, used
from registry import VALUES, keys, write_text

from zinker.shelf.record import checked, stamped
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


def growth(bench: Bench, changes: int = 1000) -> Iterator[Figure]:
    """Keep a million values, the same again, and the same with scattered changes; then compare the two versions."""
    shelf, text = bench.base / "zinker/shelf", bench.base / "big.reg"
    found, dice = keys(VALUES), random.Random(3)
    write_text(text, found)
    sizes, peak = [0], 0.0
    for case in ("first", "same", "next"):
        if case == "next":
            for number in dice.sample(range(len(found)), changes):
                key, rows = found[number]
                found[number] = (key, [(rows[0][0], 4, b"\1\2\3\4"), *rows[1:]])
            write_text(text, found)
        peak = max(peak, bench.zinker("export", str(text)).peak)
        sizes.append(size(shelf))
    first, same, following = (after - before for before, after in zip(sizes, sizes[1:], strict=False))
    for case, aim, own in (
        (f"the next version of {VALUES:,} values, {changes:,} scattered changes: growth", 1, following),
        ("a capture in which nothing changed: growth", 0.1, same),
    ):
        yield Figure(case, "the first version", [100 * own / first], aim, "%", peak)
    yield compare(bench)


def compare(bench: Bench) -> Figure:
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
    own, other = bench.in_turns(
        lambda: bench.zinker("compare", *(one.reference for one in versions), ends=1),
        lambda: used(["diff", *map(str, files)], bench.env, ends=1),
    )
    return against("compare two kept versions of them", "GNU diff of their settings", own, other, 0.3)


def history(bench: Bench, settings: int = 100_000, count: int = 200) -> Iterator[Figure]:
    """Ask when one setting changed, over versions each of which differs from the last in a few settings."""
    dice, text = random.Random(5), bench.base / "beds.reg"
    found = keys(settings)
    for number in range(count):
        for at in dice.sample(range(len(found)), 20):
            key, rows = found[at]
            found[at] = (key, [(rows[0][0], 4, number.to_bytes(4, "little")), *rows[1:]])
        write_text(text, found)
        bench.zinker("export", str(text))
    (subject,) = shelf_of(bench).subjects()
    key, rows = found[at]
    address = "/".join(("/SOFTWARE", *key.split("\\"), rows[0][0]))
    own, other = bench.in_turns(
        lambda: bench.zinker("history", subject, "--address", address),
        lambda: bench.zinker("show", f"{subject}@{count}", "--find", "no such"),
    )
    case = f"`history` of one setting over {count} versions of {settings:,}"
    yield against(case, "reading one of them", own, other, 3)


def finding(bench: Bench) -> Iterator[Figure]:
    """List, and find the latest, with ten versions and with ten thousand."""
    few, many = (Bench(bench.base / str(count), bench.rounds) for count in VERSIONS)
    for one, count in zip((few, many), VERSIONS, strict=True):
        fill(one, count)
    for case, words in (
        ("`list` of a subject", ["list", "herbarium"]),
        ("`show` of `@latest`", ["show", "herbarium@latest"]),
        ("`show` of a label", ["show", "herbarium@spring"]),
    ):

        def run(one: Bench, words: list[str] = words) -> Used:
            return one.zinker(*words)

        own, other = bench.in_turns(lambda run=run: run(many), lambda run=run: run(few))
        yield against(f"{case}, {VERSIONS[1]:,} versions kept", f"with {VERSIONS[0]}", own, other, 2)


def fill(bench: Bench, count: int, shelf: Shelf | None = None) -> None:
    """Keep one version, and so many like it, as if it had been kept each hour; an old one has a label."""
    shelf = shelf or shelf_of(bench)
    (bench.home / "sheet.ini").write_text("[a]\nb = 1\n")
    bench.zinker("export", "herbarium", "--place", "disk")
    with shelf.storage.open("subjects/herbarium/1.json") as file:
        record = checked(file.read(), Record)
    for number in range(1, count + 1):
        label = "spring" if number == 2 else ""
        day = f"{2000 + number // 8000:04}-{number // 700 % 12 + 1:02}-{number // 25 % 28 + 1:02}"
        about = msgspec.structs.replace(
            record.profile, captured=f"{day}T{number % 24:02}:00:00+00:00", label=label
        )
        page = stamped(msgspec.structs.replace(record, profile=about))
        shelf.storage.put(f"subjects/herbarium/{number}.json", page)
    shelf.records.write_index("herbarium", is_wanted=True)


CASES = {"growth": growth, "finding": finding, "history": history}

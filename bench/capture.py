"""Large documents and many files to the shelf, beside plain parses and `cp -a`."""

import json
import os
import random
import subprocess
import sys
from collections.abc import Iterator
from itertools import count as count_from
from pathlib import Path

from least import least, least_of, least_rest
from measure import ZINKER, Bench, Figure, Used, against, used

PARSES = {
    "ini": """
found, section = {}, ""
for line in open(PATH, encoding="utf-8"):
    if line[0] == "[":
        section = line[1:-2]
    elif line[0] not in ";#\\n":
        key, _, value = line.partition("=")
        found[section, key.strip()] = value.strip()
""",
    "json": "import json; json.load(open(PATH, encoding='utf-8'))",
    "json, msgspec": "import msgspec; msgspec.json.decode(open(PATH, 'rb').read())",
}
# What is left of a capture when the settings are there as rows: sorting, encoding, hashing, packing, flushing, and
# reading back what was written.
REST = """
import sys, time
from pathlib import Path
import msgspec
from zinker.model.rows import row_of
from zinker.model.setting import Leaf, decode_line
from zinker.profiles.reading import open_profile
from zinker.shelf.shelf import Shelf
from zinker.shelf.storage import FolderStorage
from zinker.stores.file_content import content_of
profile, source, folder = Path(sys.argv[1]), sys.argv[2], Path(sys.argv[3])
opened = open_profile(profile)
record = max(opened.manifest.parts, key=lambda part: part.settings)
head, *settings = map(decode_line, opened.lines(record.id))
rows = [row_of(one.address, Leaf(one.type, one.value)) for one in settings]
del settings
shelf = Shelf(FolderStorage(folder), folder / "changes")
def build(builder):
    file = open(source, "rb") if source else None
    content = content_of(file, Path(source).stat().st_size, lambda: open(source, "rb")) if file else None
    with builder.part(record.id, record.title, record.store, False):
        builder.add_blocks(head, [rows], content)
    about = msgspec.structs.replace(opened.manifest, parts=tuple(builder.parts))
    builder.finish(about)
    return about
started = time.process_time()
shelf.keep(opened.manifest.subject, build, "disk")
print(time.process_time() - started)
"""


def write_ini(path: Path, lines: int) -> None:
    """Write a file of that many lines, 40 keys a section."""
    chosen = random.Random(7)
    with path.open("w", encoding="utf-8") as file:
        for number in range(lines):
            if number % 41 == 0:
                file.write(f"[bench.{number // 41}]\n")
            else:
                file.write(
                    f"setting {number % 41} = {chosen.choice(['on', 'off', '19:30', 'Primula veris'])} {number}\n"
                )


def write_json(path: Path, size: int) -> None:
    """Write an indented document of that many bytes: names, texts, numbers, lists, three levels deep."""
    chosen = random.Random(7)
    words = [
        "Primula veris",
        "a note about watering in the early morning, before the doors open",
        "north bench",
    ]
    devices = {}
    while len(devices) * 1113 < size:
        devices[f"device-{len(devices)}"] = {
            group: {
                "title": chosen.choice(words),
                "description": " ".join(chosen.choices(words, k=3)),
                "level": chosen.randrange(1000),
                "ratio": chosen.random(),
                "enabled": chosen.random() < 0.5,
                "channels": [chosen.randrange(100) for _ in range(4)],
                "parent": None,
            }
            for group in ("lamps", "water", "vents")
        }
    path.write_text(json.dumps(devices, indent=2), encoding="utf-8")


def write_files(folder: Path, count: int, size: int) -> None:
    """Write files of about that size, every second one of text, 100 in a folder."""
    chosen = random.Random(7)
    text = b"Primula veris, north bench, watered in the early morning. " * (size // 58 + 1)
    for number in range(count):
        path = folder / f"{number // 100:03}" / f"{number:05}.bin"
        path.parent.mkdir(parents=True, exist_ok=True)
        own = chosen.randrange(size // 2, size * 3 // 2)
        path.write_bytes((b"%d " % number + text)[:own] if number % 2 else chosen.randbytes(own))


def rest(
    bench: Bench, case: str, source: str, yardstick: str, other: list[float], *words: str
) -> Iterator[Figure]:
    """Measure what no way of reading could save, with the yardstick of the case before."""
    profile = str(bench.base / "whole.zinker")
    bench.zinker("export", *words, "--to", profile, "--replace")
    taken = []
    for number in range(bench.rounds):
        run = [sys.executable, "-c", REST, profile, source, str(bench.base / f"rest-{number}")]
        taken.append(float(subprocess.run(run, env=bench.env, capture_output=True, check=True).stdout))
    told = f"{case}: what does not depend on how it is read"
    yield Figure.ratio(told, yardstick, taken, other)
    yield least_rest(bench, case, Path(profile), yardstick, other, *([source] if source else []))


def document(bench: Bench, case: str, aim: float, path: Path, parses: list[str]) -> Iterator[Figure]:
    """Capture one document to a new shelf, in turns with the parses; the fastest of these counts."""
    number = iter(range(bench.rounds))

    def own() -> Used:
        bench.new_shelf(next(number))
        return bench.zinker("export", "herbarium", "--place", "disk")

    def parse(name: str) -> Used:
        return used([sys.executable, "-c", PARSES[name].replace("PATH", repr(str(path)))], bench.env)

    taken, *others = bench.in_turns(own, *(lambda name=name: parse(name) for name in parses))
    fastest = min(range(len(parses)), key=lambda at: sum(one.processor for one in others[at]))
    yardstick = f"a plain parse ({parses[fastest]})"
    yield against(case, yardstick, taken, others[fastest], aim)
    whole = [one.processor for one in others[fastest]]
    yield from rest(bench, case, str(path), yardstick, whole, "herbarium", "--place", "disk")
    yield least_of(bench, case, path.name.rpartition(".")[2], path, yardstick, whole)


def ini(bench: Bench) -> Iterator[Figure]:
    """Capture an INI file of 200,000 lines."""
    write_ini(bench.home / "sheet.ini", 200_000)
    yield from document(
        bench, "an INI file of 200,000 lines → the shelf", 2.5, bench.home / "sheet.ini", ["ini"]
    )


def json_document(bench: Bench) -> Iterator[Figure]:
    """Capture a JSON document of 50 MB."""
    path = bench.home / "sheet.json"
    write_json(path, 50_000_000)
    yield from document(bench, "a JSON file of 50 MB → the shelf", 5, path, ["json", "json, msgspec"])


def preview(bench: Bench) -> Iterator[Figure]:
    """Preview the import of a document in which one setting differs, in turns with comparing the same."""
    sheet = bench.home / "sheet.ini"
    write_ini(sheet, 102_500)
    bench.zinker("export", "herbarium", "--place", "disk")
    lines = sheet.read_text(encoding="utf-8").splitlines()
    lines[len(lines) // 2 + 1] = lines[len(lines) // 2 + 1].partition("=")[0] + "= another"
    sheet.write_text("\n".join(lines) + "\n", encoding="utf-8")
    words = ["import", "herbarium", "--part", "sheet", "--place", "disk", "--preview"]
    own, other = bench.in_turns(
        lambda: bench.zinker(*words), lambda: bench.zinker("compare", "herbarium", "--part", "sheet", ends=1)
    )
    case = "preview of an import of a document of 100,000 settings with one difference"
    yield against(case, "`compare` of the same", own, other, 2.5)


def files(bench: Bench, count: int = 10_000, size: int = 50_000) -> Iterator[Figure]:
    """Capture many files on an empty shelf and put them back where nothing is, in turns with `cp -a`.

    What either leaves to be written later is written by `sync`, which counts.
    """
    pictures, copy = bench.home / "pictures", bench.base / "copy"
    write_files(pictures, count, size)
    own: dict[str, list[Used]] = {"there": [], "back": []}
    other: list[float] = []
    bare: list[float] = []
    numbers = count_from(0)

    def shell(line: str) -> Used:
        return used(["sh", "-c", f"{line}; sync"], bench.env)

    def set_aside(*folders: Path) -> None:
        """Take folders out of the way: removing them would have the disk look for room among what has just gone."""
        for folder in folders:
            folder.rename(bench.base / f"aside-{next(numbers)}")
        os.sync()

    for number in range(bench.rounds):
        os.sync()
        there = shell(f"cp -a {pictures} {copy}").wall
        set_aside(pictures)
        other.append(there + shell(f"cp -a {copy} {pictures}").wall)
        set_aside(copy)
        folder = bench.new_shelf(number)
        own["there"].append(shell(f"{ZINKER} export herbarium --place disk --part pictures"))
        set_aside(pictures)
        own["back"].append(shell(f"{ZINKER} import herbarium --place disk --yes"))
        set_aside(folder)
        objects = bench.base / "objects"
        bare.append(least(bench, "there", pictures, objects).wall)
        set_aside(pictures)
        bare[-1] += least(bench, "back", objects, pictures).wall
        set_aside(objects)
    both = [one.wall + two.wall for one, two in zip(own["there"], own["back"], strict=True)]
    case = f"{count:,} files, {count * size / 1e6:,.0f} MB: to the shelf and back"
    yardstick = "`cp -a` there and back, and `sync` each time"
    peak = max(one.peak for taken in own.values() for one in taken)
    yield Figure.ratio(case, yardstick, both, other, 2.5, peak)
    for way, taken in own.items():
        name = {"there": "to the shelf", "back": "back"}[way]
        yield Figure.ratio(f"of that, {name}", yardstick, [one.wall for one in taken], other)
    yield Figure.ratio(f"{case}: a bare loop in its place", yardstick, bare, other)


CASES = {"ini": ini, "json": json_document, "preview": preview, "files": files}

"""Capturing large documents and many files, beside plain parses and `cp -a`, each pair in the same run.

Prints time ratios and peak memory, and with `--write FILE` puts them into the table of docs/benchmarks.md.
Whole commands are measured, with their start; a yardstick in Python is a whole Python process, too.
"""

import argparse
import json
import os
import platform
import random
import re
import shutil
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

import psutil

ZINKER = Path(sys.executable).with_name("zinker")
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


# What is left of a capture when the settings are there as rows: sorting, encoding, hashing, packing, flushing.
REST = """
import sys, time
from pathlib import Path
import msgspec
from zinker.model.rows import Block, row_of
from zinker.model.setting import Leaf, decode_line
from zinker.profiles.reading import open_profile
from zinker.profiles.writing import profile_file
from zinker.stores.file_content import content_of
profile, source = Path(sys.argv[1]), sys.argv[2]
opened = open_profile(profile)
record = max(opened.manifest.parts, key=lambda part: part.settings)
head, *settings = map(decode_line, opened.lines(record.id))
rows = [row_of(one.address, Leaf(one.type, one.value)) for one in settings]
del settings
started = time.process_time()
file = open(source, "rb") if source else None
content = content_of(file, Path(source).stat().st_size, lambda: open(source, "rb")) if file else None
with profile_file(profile.with_name("rest.zinker")) as builder:
    with builder.part(record.id, record.title, record.store, False):
        builder.add_blocks(head, [rows], content)
    builder.finish(msgspec.structs.replace(opened.manifest, parts=tuple(builder.parts)))
    builder.close()
print(time.process_time() - started)
"""


def measured(command: list[str], environment: dict[str, str]) -> tuple[float, float]:
    """Run a command; its time in seconds and its peak memory in MB."""
    taken, peak, _ = used(command, environment)
    return taken, peak


def used(command: list[str], environment: dict[str, str], ends: int = 0) -> tuple[float, float, float]:
    """Run a command; its time in seconds, its peak memory in MB, and its processor time in seconds."""
    run = [sys.executable, "-c", RUNNER, *command]
    told = subprocess.run(run, env=environment, capture_output=True, check=True).stdout
    status, taken, peak, processor = json.loads(told)
    if status != ends:
        raise SystemExit(f"{command}: {status}")
    return taken, peak, processor


def processor_time() -> tuple[float, float]:
    """Return the time of all processors so far, and what of it a virtual machine's host gave to others."""
    times = psutil.cpu_times()
    stolen = getattr(times, "steal", 0.0)
    return sum(times) - getattr(times, "guest", 0.0) - getattr(times, "guest_nice", 0.0), stolen


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


class Bench:
    """A home with something in it, a shelf, and the rows measured so far."""

    def __init__(self, base: Path, rounds: int) -> None:
        self.base, self.rounds = base, rounds
        self.home = base / "disk/home"
        self.home.mkdir(parents=True)
        own = base / "zinker"
        (own / "subjects").mkdir(parents=True)
        (own / "subjects/herbarium.subject.toml").write_text(SUBJECT)
        (own / "zinker.toml").write_text(
            'subjects = ["subjects"]\n[places.disk]\nkind = "folder"\npath = "../disk"\n'
            'folders = { home = "home" }\n'
        )
        self.env = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"} | {
            "ZINKER_HOME": str(own)
        }
        self.rows: list[str] = []
        self._began = processor_time()

    def zinker(self, *arguments: str) -> tuple[float, float]:
        """Run the installed command."""
        return measured([str(ZINKER), *arguments], self.env)

    def worked(self, *arguments: str) -> tuple[float, float]:
        """Run the installed command; its processor time in seconds, and its peak memory in MB."""
        _, peak, processor = used([str(ZINKER), *arguments], self.env)
        return processor, peak

    def row(self, case: str, yardstick: str, reach: str, own: float, other: float, peak: float) -> None:
        """Keep and print a result."""
        aim = f"{reach} ×" if reach else ""
        self.rows.append(f"| {case} | {yardstick} | {aim} | {own / other:.1f} × | {peak:.0f} MB |")
        print(
            f"{case}: {own:.2f} s, {yardstick} {other:.2f} s: {own / other:.2f} x, {peak:.0f} MB", flush=True
        )

    def rest(self, profile: Path, source: str, yardstick: str, other: float) -> None:
        """Measure what no way of reading could save, with the yardstick of the case before."""
        run = [sys.executable, "-c", REST, str(profile), source]
        runs = [
            subprocess.run(run, env=self.env, capture_output=True, check=True) for _ in range(self.rounds)
        ]
        own = statistics.median(float(done.stdout) for done in runs)
        case = "of that, what does not depend on how it is read"
        self.rows.append(f"| {case} | {yardstick} | | {own / other:.1f} × | |")
        print(f"{case}: {own:.2f} s, {own / other:.2f} x", flush=True)

    def write(self, path: Path, mark: str) -> None:
        """Put the results between the marks of a table in a document."""
        machine = f"Python {platform.python_version()}, {os.cpu_count()} cores"
        rows = [
            f"<!-- {mark} -->",
            "| case | yardstick | to reach | reached | peak memory |",
            "|---|---|---|---|---|",
            *self.rows,
            "",
            f"{machine}, median of {self.rounds} runs in turns{self._stolen()}.",
            "<!-- end -->",
        ]
        found = re.compile(rf"<!-- {mark} -->.*?<!-- end -->", re.S)
        text = path.read_text(encoding="utf-8")
        path.write_text(found.sub(lambda _: "\n".join(rows), text), encoding="utf-8")

    def _stolen(self) -> str:
        """Say how much of the machine its host gave to others meanwhile, where that was much."""
        total, stolen = (now - then for now, then in zip(processor_time(), self._began, strict=True))
        share = stolen / total if total else 0.0
        return f"; the machine's host took {share:.0%} of its processors meanwhile" if share > 0.02 else ""

    def document(self, case: str, reach: str, path: Path, parses: list[str]) -> None:
        """Capture one document to a profile file, in turns with the parses; the fastest of these counts."""
        times: dict[str, list[float]] = {name: [] for name in ("own", *parses)}
        peak = 0.0
        for _ in range(self.rounds):
            target = str(self.base / "sheet.zinker")
            worked, memory = self.worked(
                "export", "herbarium", "--place", "disk", "--to", target, "--replace"
            )
            times["own"].append(worked)
            peak = max(peak, memory)
            for name in parses:
                script = PARSES[name].replace("PATH", repr(str(path)))
                times[name].append(used([sys.executable, "-c", script], self.env)[2])
        fastest = min(parses, key=lambda name: statistics.median(times[name]))
        middle = {name: statistics.median(taken) for name, taken in times.items()}
        yardstick = f"a plain parse ({fastest})"
        self.row(case, yardstick, reach, middle["own"], middle[fastest], peak)
        self.rest(self.base / "sheet.zinker", str(path), yardstick, middle[fastest])
        path.unlink()

    def preview(self, settings: int) -> None:
        """Preview the import of a document in which one setting differs, in turns with comparing the same."""
        sheet = self.home / "sheet.ini"
        write_ini(sheet, settings + settings // 40)
        self.zinker("export", "herbarium", "--place", "disk")
        lines = sheet.read_text(encoding="utf-8").splitlines()
        lines[len(lines) // 2 + 1] = lines[len(lines) // 2 + 1].partition("=")[0] + "= another"
        sheet.write_text("\n".join(lines) + "\n", encoding="utf-8")
        own, other, peak = [], [], 0.0
        for _ in range(2 * self.rounds):
            compare = [str(ZINKER), "compare", "herbarium", "--part", "sheet"]
            other.append(used(compare, self.env, ends=1)[2])
            preview = [str(ZINKER), "import", "herbarium", "--part", "sheet", "--place", "disk", "--preview"]
            _, memory, processor = used(preview, self.env)
            own.append(processor)
            peak = max(peak, memory)
        sheet.unlink()
        case = (
            f"preview of an import of a document of {settings:,} settings with one difference, processor time"
        )
        self.row(case, "`compare` of the same", "2.5", statistics.median(own), statistics.median(other), peak)

    def files(self, count: int, size: int) -> None:
        """Capture many files on an empty shelf and put them back where nothing is, in turns with `cp -a`.

        What either leaves to be written later is written by `sync`, which counts.
        """
        pictures, copy = self.home / "pictures", self.base / "copy"
        write_files(pictures, count, size)
        own, other, peaks = [], [], []
        for _ in range(max(1, self.rounds - 1)):
            os.sync()
            there = measured(["sh", "-c", f"cp -a {pictures} {copy}; sync"], self.env)[0]
            shutil.rmtree(pictures)
            os.sync()
            other.append(there + measured(["sh", "-c", f"cp -a {copy} {pictures}; sync"], self.env)[0])
            shutil.rmtree(copy)
            shutil.rmtree(self.base / "zinker/shelf", ignore_errors=True)
            os.sync()
            export = f"{ZINKER} export herbarium --place disk --part pictures; sync"
            out = measured(["sh", "-c", export], self.env)
            shutil.rmtree(pictures)
            os.sync()
            back = measured(["sh", "-c", f"{ZINKER} import herbarium --place disk --yes; sync"], self.env)
            own.append(out[0] + back[0])
            print(f"  export {out[0]:.1f} s, import {back[0]:.1f} s, cp {other[-1]:.1f} s", flush=True)
            peaks += [out[1], back[1]]
        total = f"{count:,} files, {count * size / 1e6:,.0f} MB: to the shelf and back"
        self.row(
            total,
            "`cp -a` there and back, and `sync` each time",
            "2.5",
            statistics.median(own),
            statistics.median(other),
            max(peaks),
        )


def main() -> None:
    """Build the data, measure, print, and write."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", type=Path)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--only", choices=["ini", "json", "preview", "files"])
    chosen = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="zinker-bench-") as folder:
        bench = Bench(Path(folder), chosen.rounds)
        if chosen.only in (None, "ini"):
            write_ini(bench.home / "sheet.ini", 200_000)
            bench.document(
                "an INI file of 200,000 lines → a profile file", "2.5", bench.home / "sheet.ini", ["ini"]
            )
        if chosen.only in (None, "json"):
            write_json(bench.home / "sheet.json", 50_000_000)
            size = (bench.home / "sheet.json").stat().st_size / 1e6
            parses = ["json", "json, msgspec"]
            bench.document(
                f"a JSON file of {size:.0f} MB → a profile file", "5", bench.home / "sheet.json", parses
            )
        if chosen.only in (None, "preview"):
            bench.preview(100_000)
        if chosen.only in (None, "files"):
            bench.files(10_000, 50_000)
    if chosen.write:
        bench.write(chosen.write, "capture")


if __name__ == "__main__":
    main()

"""A million registry values: from text and from a hive into a profile file, compared, and over the network.

Prints time ratios and peak memory, and with `--write FILE` puts them into the table of docs/benchmarks.md.
The floor is what remains when the settings are there as objects: encoding them (msgspec), SHA-256, zstd.
"""

import argparse
import os
import random
import statistics
import subprocess
import sys
import tempfile
import time
import zipfile
from pathlib import Path

from capture import Bench, measured

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

WORDS = ["Window", "Width", "Font", "Path", "Sync", "Lamp", "North", "Ticket", "Printer", "Layout", "Color"]
WORDS += ["Recent", "Panel", "State", "Options", "Cache"]
FLOOR = """
import hashlib, sys, time
import msgspec, zstandard
from zinker.model.setting import Setting
settings = msgspec.json.Decoder(Setting).decode_lines(open(sys.argv[1], "rb").read())
started = time.process_time()
lines = msgspec.json.Encoder().encode_lines(settings)
hashlib.sha256(lines).digest()
zstandard.ZstdCompressor().compress(lines)
print(time.process_time() - started)
"""


def keys(count: int, each: int = 8, word: str = "Item") -> list[tuple[str, list[tuple[str, int, bytes]]]]:
    """Return keys of `each` values: texts, numbers, bytes, lists of texts, as programs have them."""
    chosen = random.Random(7)
    found = []
    for number in range(count // each):
        path = f"{WORDS[number // 8192 % 16]}\\{WORDS[number // 512 % 16]}{number // 16:05}\\{word} {number % 16}"
        values = []
        for place in range(each):
            name, dice = f"{chosen.choice(WORDS)}{' ' * (place % 3 == 0)}{place}", chosen.random()
            if dice < 0.55:
                text = f"C:\\Program Files\\Tarn Hollow\\{chosen.randrange(10**6)}\\file.dll\0"
                values.append((name, 1, text.encode("utf-16-le")))
            elif dice < 0.85:
                values.append((name, 4, chosen.randbytes(4)))
            elif dice < 0.95:
                values.append((name, 3, chosen.randbytes(chosen.randrange(1, 64))))
            else:
                values.append((name, 7, "east\0west\0\0".encode("utf-16-le")))
        found.append((path, values))
    return found


def write_text(path: Path, found: list[tuple[str, list[tuple[str, int, bytes]]]]) -> None:
    """Write a registration text file as Windows does."""
    from zinker.formats.registry_text_writer import _value_line
    from zinker.formats.registry_values import from_bytes
    from zinker.model.setting import Setting

    with path.open("w", encoding="utf-16", newline="") as file:
        file.write("Windows Registry Editor Version 5.00\r\n")
        for key, values in found:
            file.write(f"\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\{key}]\r\n")
            for name, number, data in values:
                file.write(_value_line(name, Setting("", "", *from_bytes(number, data)), False))


def write_hive_file(path: Path, found: list[tuple[str, list[tuple[str, int, bytes]]]]) -> None:
    """Write the same as a hive."""
    from zinker.demo.hive_writer import Node, write_hive

    root, groups = Node("ROOT"), {}
    for key, values in found:
        top, group, name = key.split("\\")
        if top not in groups:
            groups[top] = Node(top)
            root.below.append(groups[top])
        if (top, group) not in groups:
            groups[top, group] = Node(group)
            groups[top].below.append(groups[top, group])
        groups[top, group].below.append(Node(name, values))
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(write_hive(root))


def floor(bench: Bench, profile: Path) -> float:
    """Return the seconds that encoding, hashing and packing the settings of a profile take."""
    with zipfile.ZipFile(profile) as members:
        name = next(name for name in members.namelist() if name.startswith("settings/"))
        lines = bench.base / "lines.jsonl"
        lines.write_bytes(members.read(name))
    run = [sys.executable, "-c", FLOOR, str(lines)]
    return float(subprocess.run(run, env=bench.env, capture_output=True, check=True).stdout)


def capture(bench: Bench, case: str, reach: str, profile: Path, arguments: list[str]) -> None:
    """Measure an export in turns with the floor."""
    own, other, peak = [], [], 0.0
    for _ in range(bench.rounds):
        worked, memory = bench.worked("export", *arguments, "--to", str(profile), "--replace")
        own.append(worked)
        peak = max(peak, memory)
        other.append(floor(bench, profile))
    bench.row(case, "encode + SHA-256 + zstd", reach, statistics.median(own), statistics.median(other), peak)
    bench.rest(profile, "", "encode + SHA-256 + zstd", statistics.median(other))


def compare(bench: Bench, one: Path, other: Path) -> None:
    """Measure a comparison in turns with GNU diff on the settings of the same profiles."""
    lines = []
    for profile in (one, other):
        lines.append(bench.base / f"{profile.stem}.jsonl")
        with zipfile.ZipFile(profile) as members:
            lines[-1].write_bytes(members.read("settings/keys.jsonl"))
    own, yard, peak = [], [], 0.0
    for _ in range(bench.rounds):
        taken, memory = measured(
            ["sh", "-c", f"{sys.executable} -m zinker compare {one} {other}; test $? = 1"], bench.env
        )
        own.append(taken)
        peak = max(peak, memory)
        yard.append(measured(["sh", "-c", f"diff {lines[0]} {lines[1]}; test $? = 1"], bench.env)[0])
    case = "compare two such profiles, 1,000 scattered changes"
    bench.row(case, "GNU diff of their settings", "2", statistics.median(own), statistics.median(yard), peak)


def network(bench: Bench, count: int) -> None:
    """Measure reading and writing over Samba's registry service on loopback."""
    from test_registry import SMBD, Samba

    from zinker.stores.remote_registry import RemoteRegistry

    if SMBD is None or os.geteuid():
        print("over the network: not measured, there is no Samba")
        return
    server = Samba(bench.base / "samba")
    try:
        registry = RemoteRegistry(server.dial())
        started = time.perf_counter()
        for number in range(count):
            registry.set(
                rf"HKEY_LOCAL_MACHINE\SOFTWARE\Bench\Group {number // 50}", f"Value {number}", "dword", number
            )
        written = count / (time.perf_counter() - started)
        started = time.perf_counter()
        found = sum(len(block.rows) for block in registry.blocks(r"HKEY_LOCAL_MACHINE\SOFTWARE\Bench", []))
        read = found / (time.perf_counter() - started)
    finally:
        server.stop()
    for what, speed in (("read", read), ("written", written)):
        bench.rows.append(
            f"| {count:,} values {what} over the network | values a second | 300 | {speed:.0f} | |"
        )
        print(f"{count} values {what} over the network: {speed:.0f} a second", flush=True)


def main() -> None:
    """Build the data, measure, print, and write."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", type=Path)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--values", type=int, default=1_000_000)
    chosen = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="zinker-bench-") as folder:
        bench = Bench(Path(folder), chosen.rounds)
        found = keys(chosen.values)
        text, hive = bench.base / "big.reg", bench.base / "disk/Windows/System32/config/SOFTWARE"
        write_text(text, found)
        write_hive_file(hive, found)
        one, other = bench.base / "one.zinker", bench.base / "other.zinker"
        capture(bench, f"{chosen.values:,} values, registration text → a profile file", "5", one, [str(text)])
        for each, word, case in (
            (3, "Item", "3 a key"),
            (30, "Item", "30 a key"),
            (8, "Session Key", "a telling path"),
        ):
            odd = bench.base / "odd.reg"
            write_text(odd, keys(chosen.values, each, word))
            capture(bench, f"the same, {case}", "5", bench.base / "odd.zinker", [str(odd)])
        subject = (
            'format = 1\nid = "software"\ntitle = "Software"\n[[part]]\nid = "keys"\nstore = "registry"\n'
        )
        subject += "path = 'HKEY_LOCAL_MACHINE\\SOFTWARE'\n"
        (bench.base / "zinker/subjects/software.subject.toml").write_text(subject)
        capture(
            bench,
            f"{chosen.values:,} values, hive → a profile file",
            "6",
            other,
            ["software", "--place", "disk"],
        )
        chosen_values = random.Random(3).sample(range(len(found)), 1000)
        for number in chosen_values:
            key, values = found[number]
            found[number] = (key, [(values[0][0], 4, b"\1\2\3\4"), *values[1:]])
        write_text(text, found)
        bench.zinker("export", str(text), "--to", str(other), "--replace")
        before = bench.base / "before.reg"
        write_text(before, keys(chosen.values))
        bench.zinker("export", str(before), "--to", str(one), "--replace")
        compare(bench, one, other)
        network(bench, 2000)
    if chosen.write:
        bench.write(chosen.write, "registry")


if __name__ == "__main__":
    main()

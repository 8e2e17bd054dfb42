"""A million registry values: from text and from a hive to the shelf, compared, and over the network.

The floor is what remains when the settings are there as objects: encoding them (msgspec), SHA-256, zstd.
"""

import os
import random
import subprocess
import sys
import time
import zipfile
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

from capture import rest
from least import least_of
from measure import Bench, Figure, Used, against, used

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

VALUES = 1_000_000
YARDSTICK = "encode + SHA-256 + zstd"
WORDS = ["Window", "Width", "Font", "Path", "Sync", "Lamp", "North", "Ticket", "Printer", "Layout", "Color"]
WORDS += ["Recent", "Panel", "State", "Options", "Cache"]
# What remains when the settings are there as objects.
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


def with_hive(bench: Bench) -> Path:
    """Describe a branch of a workstation's hive; returns where that is to be."""
    subject = 'format = 1\nid = "software"\ntitle = "Software"\n[[part]]\nid = "keys"\nstore = "registry"\n'
    subject += "path = 'HKEY_LOCAL_MACHINE\\SOFTWARE'\n"
    (bench.base / "zinker/subjects/software.subject.toml").write_text(subject)
    return bench.base / "disk/Windows/System32/config/SOFTWARE"


def floor(bench: Bench, profile: Path) -> float:
    """Return the seconds that encoding, hashing and packing the settings of a profile take."""
    with zipfile.ZipFile(profile) as members:
        name = next(name for name in members.namelist() if name.startswith("settings/"))
        lines = bench.base / "lines.jsonl"
        lines.write_bytes(members.read(name))
    run = [sys.executable, "-c", FLOOR, str(lines)]
    return float(subprocess.run(run, env=bench.env, capture_output=True, check=True).stdout)


def kept(bench: Bench, case: str, aim: float, source: Path, *words: str) -> Iterator[Figure]:
    """Measure an export to a new shelf in turns with the floor."""
    profile = bench.base / "floor.zinker"
    bench.zinker("export", *words, "--to", str(profile))
    own: list[Used] = []
    other: list[float] = []
    for number in range(bench.rounds):
        bench.new_shelf(number)
        own.append(bench.zinker("export", *words))
        other.append(floor(bench, profile))
    taken, peak = [one.processor for one in own], max(one.peak for one in own)
    yield Figure.ratio(case, YARDSTICK, taken, other, aim, peak)
    yield from rest(bench, case, "", YARDSTICK, other, *words)
    kind = "text" if source.suffix == ".reg" else "hive"
    yield least_of(bench, case, kind, source, YARDSTICK, other)


def text(bench: Bench, each: int = 8, told: str = "") -> Iterator[Figure]:
    """Keep a registration text file."""
    path = bench.base / "big.reg"
    write_text(path, keys(VALUES, each))
    case = f"{VALUES:,} values of registration text, {told or '8 a key'} → the shelf"
    yield from kept(bench, case, 5, path, str(path))


def telling(bench: Bench) -> Iterator[Figure]:
    """Keep one in which the path of every value holds a telling word, in turns with the same without it."""
    plain, odd = bench.base / "plain.reg", bench.base / "odd.reg"
    write_text(plain, keys(VALUES))
    write_text(odd, keys(VALUES, 8, "Session Key"))
    number = iter(range(2 * bench.rounds))

    def run(path: Path) -> Used:
        bench.new_shelf(next(number))
        return bench.zinker("export", str(path))

    own, other = bench.in_turns(partial(run, odd), partial(run, plain))
    case = f"{VALUES:,} values below paths with a telling word → the shelf"
    yield against(case, "the same file without it", own, other, 1.2)


def hive(bench: Bench) -> Iterator[Figure]:
    """Keep a branch of a hive."""
    file = with_hive(bench)
    write_hive_file(file, keys(VALUES))
    case = f"{VALUES:,} values of a hive → the shelf"
    yield from kept(bench, case, 6, file, "software", "--place", "disk")


def compared(bench: Bench) -> Iterator[Figure]:
    """Compare two profiles, in turns with GNU diff on their settings."""
    found, path, lines, profiles = keys(VALUES), bench.base / "big.reg", [], []
    for name in ("one", "other"):
        write_text(path, found)
        profiles.append(bench.base / f"{name}.zinker")
        bench.zinker("export", str(path), "--to", str(profiles[-1]))
        lines.append(bench.base / f"{name}.jsonl")
        with zipfile.ZipFile(profiles[-1]) as members:
            lines[-1].write_bytes(members.read("settings/keys.jsonl"))
        for at in random.Random(3).sample(range(len(found)), 1000):
            key, values = found[at]
            found[at] = (key, [(values[0][0], 4, b"\1\2\3\4"), *values[1:]])
    own, other = bench.in_turns(
        lambda: bench.zinker("compare", *map(str, profiles), ends=1),
        lambda: used(["diff", *map(str, lines)], bench.env, ends=1),
    )
    case = f"compare two profile files of {VALUES:,} values, 1,000 scattered changes"
    yield against(case, "GNU diff of their settings", own, other, 2)


def network(bench: Bench, count: int = 2000) -> Iterator[Figure]:
    """Measure reading and writing over Samba's registry service on loopback."""
    from test_registry import SMBD, Samba

    from zinker.stores.remote_registry import RemoteRegistry

    if SMBD is None or os.geteuid():
        print("over the network: not measured, there is no Samba")
        return
    server = Samba(bench.base / "samba")
    branch = r"HKEY_LOCAL_MACHINE\SOFTWARE\Bench"

    def timed(work: Callable[[], None]) -> float:
        started = time.perf_counter()
        work()
        return 1000 * (time.perf_counter() - started) / count

    def write(registry: RemoteRegistry) -> None:
        for number in range(count):
            registry.set(rf"{branch}\Group {number // 50}", f"Value {number}", "dword", number)

    def read(registry: RemoteRegistry) -> None:
        assert sum(map(len, registry.blocks(branch, []))) >= count

    try:
        registry = RemoteRegistry(server.dial())
        taken = [[timed(lambda w=work: w(registry)) for work in (write, read)] for _ in range(bench.rounds)]
    finally:
        server.stop()
    written, found = ([one[at] for one in taken] for at in (0, 1))
    # 300 a second were wished for.
    yield Figure("a value written over the network", "", written, 3.3, "ms")
    yield Figure("a value read over the network", "", found, 3.3, "ms")


CASES = {
    "text": text,
    "text-3": partial(text, each=3, told="3 a key"),
    "text-30": partial(text, each=30, told="30 a key"),
    "telling": telling,
    "hive": hive,
    "compare": compared,
    "network": network,
}

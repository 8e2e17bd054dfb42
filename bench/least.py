"""The least that any program in Python does of a case: bare loops that know one shape of everything.

They look for no secrets, know no escapes, comments, links and rights, and check nothing; they sort, encode, hash,
pack, flush and read back, as what is kept has to be. What Zinker takes beyond them is what it knows and looks for;
what they take beyond an aim is out of reach.
"""

import subprocess
import sys
import zipfile
from pathlib import Path

from measure import Bench, Figure, Used, used
from start import BARE

_KEEP = """
import hashlib, os, sys, zstandard
def keep(data, path):
    with open(path, "wb") as file:
        file.write(zstandard.ZstdCompressor().compress(data))
        file.flush()
        os.fsync(file.fileno())
    return hashlib.sha256(data).digest()
def read_back(path):
    with open(path, "rb") as file:
        data = zstandard.ZstdDecompressor().decompress(file.read())
    return data, hashlib.sha256(data).digest()
"""
_ROWS = """
rows.sort()
assert keep("\\n".join(rows).encode(), sys.argv[2]) == read_back(sys.argv[2])[1]
for path in sys.argv[3:]:  # a document is kept as the file that it is, too
    assert keep(open(path, "rb").read(), sys.argv[2] + ".file") == read_back(sys.argv[2] + ".file")[1]
"""
_TEXT = """
from binascii import b2a_base64
rows, path = [], ""
with open(sys.argv[1], encoding="utf-16", newline="") as file:
    lines = file.read().replace("\\\\\\r\\n  ", "").split("\\r\\n")
for line in lines:
    if line[:1] == '"':
        name, _, value = line.partition('"=')
        if value[0] == '"':
            rows.append(f'["{path}/{name[1:]}","sz",{value}]')
        elif value[:6] == "dword:":
            rows.append(f'["{path}/{name[1:]}","dword",{int(value[6:], 16)}]')
        else:
            data = b2a_base64(bytes.fromhex(value.partition(":")[2].replace(",", " ")), newline=False)
            rows.append(f'["{path}/{name[1:]}","binary","{data.decode()}"]')
    elif line[:1] == "[":
        path = line[1:-1].replace("\\\\", "/")
"""
_INI = """
rows, section = [], ""
for line in open(sys.argv[1], encoding="utf-8"):
    if line[0] == "[":
        section = line[1:-2]
    elif line[0] not in ";#\\n":
        key, _, value = line.partition("=")
        rows.append(f'["/{section}/{key.strip()}","text","{value.strip()}"]')
"""
_JSON = """
import msgspec
rows = []
def walk(value, path):
    if type(value) is dict:
        for name, one in value.items():
            walk(one, f"{path}/{name}")
    elif type(value) is list:
        for number, one in enumerate(value):
            walk(one, f"{path}/{number}")
    elif type(value) is str:
        rows.append(f'["{path}","text","{value}"]')
    else:
        rows.append(f'["{path}","{type(value).__name__}",{value}]')
walk(msgspec.json.decode(open(sys.argv[1], "rb").read()), "")
"""
_HIVE = """
import struct
from binascii import b2a_base64
data, rows = open(sys.argv[1], "rb").read(), []
key = struct.Struct("<2sH16xI4xI4xII28xHH").unpack_from
value = struct.Struct("<2sHIIIH").unpack_from
def walk(at, path):
    _, _, subkeys, below, values, listed, length, _ = key(data, at + 4100)
    path = f"{path}/{data[at + 4176:at + 4176 + length].decode('latin-1')}"
    for at in struct.unpack_from(f"<{values}I", data, listed + 4100) if values else ():
        _, length, size, where, kind, _ = value(data, at + 4100)
        name = data[at + 4120:at + 4120 + length].decode("latin-1")
        own = size & 0x7FFFFFFF
        held = data[where + 4100:where + 4100 + own] if own == size else where.to_bytes(4, "little")[:own]
        if kind == 1:
            rows.append(f'["{path}/{name}","sz","{held.decode("utf-16-le")[:-1]}"]')
        elif kind == 4:
            rows.append(f'["{path}/{name}","dword",{int.from_bytes(held, "little")}]')
        else:
            rows.append(f'["{path}/{name}","binary","{b2a_base64(held, newline=False).decode()}"]')
    if subkeys:
        each(below, path)
def each(at, path):
    kind, count = struct.unpack_from("<2sH", data, at + 4100)
    step = 2 if kind in (b"lf", b"lh") else 1
    for one in struct.unpack_from(f"<{count * step}I", data, at + 4104)[::step]:
        (each if kind == b"ri" else walk)(one, path)
walk(struct.unpack_from("<I", data, 36)[0], "")
"""
_REST = """
import time
rows = open(sys.argv[1], encoding="utf-8").read().splitlines()
started = time.process_time()
"""
_THERE = """
open_ones, parts = [], []
os.makedirs(sys.argv[2])
for folder, _, names in os.walk(sys.argv[1]):
    for name in names:
        with open(os.path.join(folder, name), "rb") as file:
            data = file.read()
        digest = hashlib.sha256(data).hexdigest()
        there = os.path.join(sys.argv[2], digest)
        file = open(there + ".part", "xb")
        file.write(zstandard.ZstdCompressor().compress(data))
        open_ones.append(file)
        parts.append(there)
        if len(open_ones) == 128:
            for file in open_ones:
                file.flush()
                os.fsync(file.fileno())
                file.close()
            open_ones.clear()
for file in open_ones:
    file.flush()
    os.fsync(file.fileno())
    file.close()
for there in parts:
    os.replace(there + ".part", there)
for there in parts:
    assert read_back(there)[1].hex() == os.path.basename(there)
"""
_BACK = """
names = [os.path.join(sys.argv[1], name) for name in os.listdir(sys.argv[1])]
for number, name in enumerate(names):
    folder = os.path.join(sys.argv[2], str(number // 100))
    os.makedirs(folder, exist_ok=True)
    data, digest = read_back(name)
    assert digest.hex() == os.path.basename(name)
    with open(os.path.join(folder, f"{number}.part"), "xb") as file:
        file.write(data)
os.sync()
for number in range(len(names)):
    path = os.path.join(sys.argv[2], str(number // 100), str(number))
    os.replace(path + ".part", path)
for number, name in enumerate(names):
    with open(os.path.join(sys.argv[2], str(number // 100), str(number)), "rb") as file:
        assert hashlib.sha256(file.read()).hexdigest() == os.path.basename(name)
"""
PROGRAMS = {
    "text": _KEEP + _TEXT + _ROWS,
    "ini": _KEEP + _INI + _ROWS,
    "json": _KEEP + _JSON + _ROWS,
    "hive": _KEEP + _HIVE + _ROWS,
    "rest": _KEEP + _REST + _ROWS + "print(time.process_time() - started)",
    "there": _KEEP + _THERE,
    "back": _KEEP + _BACK,
}


def least(bench: Bench, kind: str, source: Path, target: Path, *files: Path) -> Used:
    """Run one of the programs on a source; it keeps that at a target, and some files beside it."""
    return used([sys.executable, "-c", PROGRAMS[kind], *map(str, (source, target, *files))], bench.env)


def least_of(bench: Bench, case: str, kind: str, source: Path, yardstick: str, other: list[float]) -> Figure:
    """Measure the least that any command does of a case, its start included, with the yardstick of the case."""
    taken = []
    (bench.base / "bare_program.py").write_text(BARE)
    start = [sys.executable, "-c", "from bare_program import run; run()", "hello", "fern"]
    files = [source] if kind in ("ini", "json") else []
    for number in range(bench.rounds):
        done = least(bench, kind, source, bench.base / f"least-{number}", *files).processor
        taken.append(done + used(start, bench.env | {"PYTHONPATH": str(bench.base)}).processor)
    return Figure.ratio(f"{case}: a bare loop in its place", yardstick, taken, other)


def least_rest(
    bench: Bench, case: str, profile: Path, yardstick: str, other: list[float], *files: str
) -> Figure:
    """Measure the least that sorting, encoding, hashing, packing, flushing and reading back take."""
    lines, taken = bench.base / "lines-of-all.jsonl", []
    with zipfile.ZipFile(profile) as members:
        settings = [one for one in members.infolist() if one.filename.startswith("settings/")]
        lines.write_bytes(members.read(max(settings, key=lambda one: one.file_size)))
    for number in range(bench.rounds):
        target = str(bench.base / f"least-rest-{number}")
        run = [sys.executable, "-c", PROGRAMS["rest"], str(lines), target, *files]
        taken.append(float(subprocess.run(run, env=bench.env, capture_output=True, check=True).stdout))
    return Figure.ratio(f"{case}: of a bare loop, what does not", yardstick, taken, other)

"""The least that any program in Python does of a case: bare loops that know one shape of everything.

They look for no secrets, know no escapes, comments, links and rights, and check nothing; they sort, encode, hash,
pack, flush and read back, as what is kept has to be. What Zinker takes beyond them is what it knows and looks for;
what they take beyond an aim is out of reach.
"""

import sys
from pathlib import Path

from measure import Bench, Figure, Used, used

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
    "there": _KEEP + _THERE,
    "back": _KEEP + _BACK,
}


def least(bench: Bench, kind: str, source: Path, target: Path) -> Used:
    """Run one of the programs on a source; it keeps that at a target."""
    return used([sys.executable, "-c", PROGRAMS[kind], str(source), str(target)], bench.env)


def least_of(bench: Bench, case: str, kind: str, source: Path, yardstick: str, other: list[float]) -> Figure:
    """Measure the least that any program does of a case, with the yardstick of the case."""
    taken = [
        least(bench, kind, source, bench.base / f"least-{number}").processor for number in range(bench.rounds)
    ]
    return Figure.ratio(f"{case}: a bare loop in its place", yardstick, taken, other)

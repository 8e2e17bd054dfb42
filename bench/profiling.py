"""Where the time of the largest cases goes: which module runs, asked 500 times a second of processor time."""

import json
import re
import subprocess
import sys
import tempfile
from collections import Counter
from pathlib import Path

from capture import write_json
from measure import Bench
from registry import keys, with_hive, write_hive_file, write_text

SAMPLER = """
import collections, concurrent.futures, json, os, signal, sys
import zinker
from zinker.cli.main import run
own, taken = os.path.dirname(zinker.__file__) + os.sep, collections.Counter()
class Inline:  # what reads ahead does so in this thread, as signals come to no other
    def __init__(self, *_):
        pass
    def submit(self, work, *given):
        done = concurrent.futures.Future()
        done.set_result(work(*given))
        return done
    def shutdown(self, **_):
        pass
concurrent.futures.ThreadPoolExecutor = Inline
def sample(_, frame):
    while frame is not None and not frame.f_code.co_filename.startswith(own):
        frame = frame.f_back
    where = "" if frame is None else frame.f_code.co_filename.removeprefix(own).replace(os.sep, "/")
    taken[where, frame.f_code.co_qualname if frame else ""] += 1
signal.signal(signal.SIGPROF, sample)
signal.setitimer(signal.ITIMER_PROF, 0.002, 0.002)
try:
    run()
finally:
    signal.setitimer(signal.ITIMER_PROF, 0)
    print(json.dumps([[*where, count] for where, count in taken.most_common()]), file=sys.stderr)
"""
MOST = 9


def profiled(bench: Bench, *arguments: str) -> list[tuple[str, float]]:
    """Run the command; returns what took most, and which share of it."""
    run = [sys.executable, "-c", SAMPLER, *arguments]
    told = subprocess.run(run, env=bench.env, capture_output=True, check=True, text=True).stderr
    taken = json.loads(told.splitlines()[-1])
    total = sum(count for *_, count in taken)
    modules: Counter[str] = Counter()
    functions: dict[str, list[str]] = {}
    for where, name, count in taken:  # what took most comes first
        modules[where] += count
        functions.setdefault(where, []).append(f"`{name.removesuffix('.<locals>.<listcomp>')}`")
    rows = [
        (
            f"`{where}`: {', '.join(dict.fromkeys(functions[where][:3]))}" if where else "loading",
            count / total,
        )
        for where, count in modules.most_common(MOST)
    ]
    return [*rows, ("all else", 1 - sum(share for _, share in rows))]


def measure(document: Path | None) -> None:
    """Profile registration text, a hive and a JSON document on their way to the shelf."""
    columns: dict[str, list[tuple[str, float]]] = {}
    with tempfile.TemporaryDirectory(prefix="zinker-bench-") as folder:
        bench, found = Bench(Path(folder), 1), keys(1_000_000)
        text = bench.base / "big.reg"
        write_text(text, found)
        columns["1,000,000 values of registration text"] = profiled(bench, "export", str(text))
        write_hive_file(with_hive(bench), found)
        columns["1,000,000 values of a hive"] = profiled(bench, "export", "software", "--place", "disk")
        write_json(bench.home / "sheet.json", 50_000_000)
        columns["a JSON document of 50 MB"] = profiled(bench, "export", "herbarium", "--place", "disk")
    lines = []
    for case, rows in columns.items():
        lines += [f"| {case} → the shelf | share |", "|---|---|"]
        lines += [f"| {what} | {share:.0%} |" for what, share in rows]
        lines.append("")
    table = "\n".join(lines)
    print(table, flush=True)
    if document:
        text_of = document.read_text(encoding="utf-8")
        found_at = re.compile(r"<!-- profile -->\n.*?<!-- end -->", re.S)
        document.write_text(
            found_at.sub(lambda _: f"<!-- profile -->\n{table}<!-- end -->", text_of), encoding="utf-8"
        )

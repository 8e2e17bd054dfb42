"""What it costs that a shelf is sealed: processor times of whole commands, beside the same on one that is not."""

import argparse
import os
import random
import statistics
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from capture import ZINKER, Bench, used
from registry import keys, write_text
from shelf import fill

from zinker.jobs.setup import load_setup

VERSIONS = 10_000
PHRASE = "three quiet ferns"
SEALS = {"": "", "key file": 'seal = "shelf.key"\n', "passphrase": 'seal = "passphrase"\n'}


def benches(base: Path, seals: list[str], make: Callable[[Bench], None]) -> dict[str, Bench]:
    """Build the same once for each kind of seal."""
    found = {}
    for seal in seals:
        bench = found[seal] = Bench(base / (seal.replace(" ", "-") or "none"), 1)
        toml = bench.base / "zinker/zinker.toml"
        toml.write_text(SEALS[seal] + toml.read_text())
        bench.env["ZINKER_SECRET_SEAL"] = PHRASE
        make(bench)
    return found


def in_turns(
    rounds: int, found: dict[str, Bench], run: Callable[[Bench, int], list[str]]
) -> dict[str, float]:
    """Run a command on each in turns; returns medians of the processor times, and the highest peak as "peak"."""
    times: dict[str, list[float]] = {}
    peak = 0.0
    for number in range(rounds):
        for seal, bench in found.items():
            _, memory, worked = used([str(ZINKER), *run(bench, number)], bench.env)
            times.setdefault(seal, []).append(worked)
            peak = max(peak, memory)
    return {seal: statistics.median(own) for seal, own in times.items()} | {"peak": peak}


def anew(bench: Bench, number: int, *words: str) -> list[str]:
    """Have a command write to a shelf that is not there yet."""
    toml = bench.base / "zinker/zinker.toml"
    lines = [line for line in toml.read_text().splitlines() if not line.startswith("shelf =")]
    toml.write_text("\n".join([f'shelf = "shelf-{number}"', *lines, ""]))
    return list(words)


def main() -> None:
    """Build the data, measure, print, and write."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", type=Path)
    parser.add_argument("--rounds", type=int, default=3)
    chosen = parser.parse_args()
    dice = random.Random(7)

    def with_values(bench: Bench) -> None:
        write_text(bench.base / "big.reg", keys(1_000_000))

    def with_files(bench: Bench) -> None:
        (bench.home / "pictures").mkdir()
        for number in range(2000):
            (bench.home / f"pictures/{number}.bin").write_bytes(dice.randbytes(50_000))

    def with_versions(bench: Bench) -> None:
        os.environ |= {"ZINKER_HOME": bench.env["ZINKER_HOME"], "ZINKER_SECRET_SEAL": PHRASE}
        fill(bench, VERSIONS, load_setup().shelf)

    with tempfile.TemporaryDirectory(prefix="zinker-bench-") as folder:
        base, both = Path(folder), ["", "key file"]
        whole = Bench(base / "rows", chosen.rounds)

        def case(told: str, found: dict[str, float]) -> None:
            for seal in found.keys() - {"", "peak"}:
                whole.row(
                    f"{told}, {seal}", "the same, not sealed", "", found[seal], found[""], found["peak"]
                )

        ready = benches(base / "values", both, with_values)
        run = in_turns(chosen.rounds, ready, lambda b, n: anew(b, n, "export", str(b.base / "big.reg")))
        case("1,000,000 values → a new shelf", run)
        ready = benches(base / "files", both, with_files)
        run = in_turns(
            chosen.rounds, ready, lambda b, n: anew(b, n, "export", "herbarium", "--place", "disk")
        )
        case("2,000 files, 100 MB → a new shelf", run)
        case("`check` of them", in_turns(chosen.rounds, ready, lambda b, n: ["check"]))
        ready = benches(base / "many", list(SEALS), with_versions)
        case(
            f"`list`, {VERSIONS:,} versions kept",
            in_turns(chosen.rounds, ready, lambda b, n: ["list", "herbarium"]),
        )
        case("`show` of `@latest`", in_turns(chosen.rounds, ready, lambda b, n: ["show", "herbarium@latest"]))
        if chosen.write:
            whole.write(chosen.write, "sealed")


if __name__ == "__main__":
    sys.exit(main())

"""What it costs that a shelf is sealed: processor times of whole commands, beside the same on one that is not."""

import os
import random
from collections.abc import Callable, Iterator

from measure import Bench, Figure, against
from registry import VALUES, keys, write_text
from shelf import fill

from zinker.jobs.setup import load_setup

VERSIONS = 10_000
PHRASE = "three quiet ferns"
SEALS = {"key file": 'seal = "shelf.key"\n', "passphrase": 'seal = "passphrase"\n'}


def beside(
    bench: Bench, seal: str, make: Callable[[Bench], None], cases: dict[str, Callable[[Bench], list[str]]]
) -> Iterator[Figure]:
    """Run commands on a sealed shelf in turns with the same on one that is not."""
    both = []
    for name, line in (("sealed", SEALS[seal]), ("plain", "")):
        one = Bench(bench.base / name, bench.rounds)
        one.toml.write_text(line + one.toml.read_text())
        one.env["ZINKER_SECRET_SEAL"] = PHRASE
        make(one)
        both.append(one)
    for case, words in cases.items():
        own, other = bench.in_turns(*(lambda one=one: one.zinker(*words(one)) for one in both))  # noqa: B023 - at once
        yield against(f"{case}, {seal}", "the same, not sealed", own, other)


def anew(bench: Bench, *words: str) -> list[str]:
    """Have a command write to a shelf that is not there yet."""
    bench.new_shelf(len(list(bench.toml.parent.glob("shelf-*"))))
    return list(words)


def values(bench: Bench) -> Iterator[Figure]:
    """Keep a million values."""
    yield from beside(
        bench,
        "key file",
        lambda one: write_text(one.base / "big.reg", keys(VALUES)),
        {f"{VALUES:,} values → a new shelf": lambda one: anew(one, "export", str(one.base / "big.reg"))},
    )


def files(bench: Bench) -> Iterator[Figure]:
    """Keep 2,000 files, and check them."""
    dice = random.Random(7)

    def make(one: Bench) -> None:
        (one.home / "pictures").mkdir()
        for number in range(2000):
            (one.home / f"pictures/{number}.bin").write_bytes(dice.randbytes(50_000))

    yield from beside(
        bench,
        "key file",
        make,
        {
            "2,000 files, 100 MB → a new shelf": lambda one: anew(
                one, "export", "herbarium", "--place", "disk"
            ),
            "`check` of them": lambda one: ["check"],
        },
    )


def versions(bench: Bench) -> Iterator[Figure]:
    """List ten thousand versions, and find the latest."""

    def make(one: Bench) -> None:
        os.environ |= {"ZINKER_HOME": one.env["ZINKER_HOME"], "ZINKER_SECRET_SEAL": PHRASE}
        fill(one, VERSIONS, load_setup().shelf)

    for seal in SEALS:
        cases = {
            f"`list`, {VERSIONS:,} versions kept": lambda one: ["list", "herbarium"],
            "`show` of `@latest`": lambda one: ["show", "herbarium@latest"],
        }
        yield from beside(Bench(bench.base / seal, bench.rounds), seal, make, cases)


CASES = {"sealed-values": values, "sealed-files": files, "sealed-versions": versions}

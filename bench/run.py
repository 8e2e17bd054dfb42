"""All benchmarks: measures what is asked for, prints it, and with `--write` puts it into docs/benchmarks.md."""

import argparse
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

import capture
import pages
import places
import profiling
import registry
import schedule
import sealing
import shelf
import start
import tenant
import traps
from measure import DOCUMENT, Bench, Figure, Table

SECTIONS: dict[str, dict[str, Callable[..., Iterator[Figure]]]] = {
    "start": start.CASES,
    "capture": capture.CASES,
    "registry": registry.CASES,
    "shelf": shelf.CASES,
    "sealed": sealing.CASES,
    "tenant": tenant.CASES,
    "pages": pages.CASES,
    "places": places.CASES,
    "schedule": schedule.CASES,
}
# What is written in another shape: each with what measures and writes it.
OTHERS: dict[str, Callable[[Path | None], None]] = {"traps": traps.measure, "profile": profiling.measure}


def main() -> None:
    """Measure what is asked for, or everything."""
    every = [*(case for cases in SECTIONS.values() for case in cases), *OTHERS]
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("case", nargs="*", help=", ".join(every))
    parser.add_argument("--write", action="store_true")
    parser.add_argument("--rounds", type=int, default=3)
    chosen = parser.parse_args()
    if unknown := set(chosen.case) - set(every):
        parser.error(f"no such case: {', '.join(unknown)}; there are {', '.join(every)}")
    wanted = chosen.case or every
    for mark, cases in SECTIONS.items():
        table = Table(mark, chosen.rounds)
        for name in [name for name in cases if name in wanted]:
            with tempfile.TemporaryDirectory(prefix="zinker-bench-") as folder:
                for figure in cases[name](Bench(Path(folder), chosen.rounds)):
                    table.add(figure)
        if chosen.write and table.figures:
            table.write(DOCUMENT)
    for name in [name for name in OTHERS if name in wanted]:
        OTHERS[name](DOCUMENT if chosen.write else None)


if __name__ == "__main__":
    main()

"""Tries documents of other people's, and writes what came of it into docs/formats.md.

python tools/conformance_table.py docs/formats.md
"""

import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from conformance.corpus import FORMATS, corpus  # noqa: E402 - from the folder of the tests
from conformance.databases import databases  # noqa: E402
from conformance.suites import SUITES  # noqa: E402
from conformance.trial import Tally, tried_all  # noqa: E402

START, END = "<!-- conformance -->\n", "<!-- end of conformance -->\n"
HEAD = "| documents | files | right: read | right: refused | wrong: refused, read | edits | left alone | spoilt |\n"


def of_suite(name: str) -> Tally:
    return tried_all(SUITES[name]())


def of_files(format: str) -> Tally:
    return tried_all(corpus(format))


def main() -> int:
    page = Path(sys.argv[1])
    with ProcessPoolExecutor(2) as pool:
        files = {f"Files of Debian packages: {format}": pool.submit(of_files, format) for format in FORMATS}
        suites = {name: pool.submit(of_suite, name) for name in SUITES}
        suites["Databases of GLib"] = pool.submit(databases)
        tallies = {name: waiting.result() for name, waiting in (suites | files).items()}
    lines = [f"| {name} | {tally.line} |\n" for name, tally in tallies.items()]
    before, _, rest = page.read_text().partition(START)
    table = HEAD + "|" + "---|" * 8 + "\n" + "".join(lines)
    page.write_text(f"{before}{START}{table}{END}{rest.partition(END)[2]}")
    for tally in tallies.values():
        print(*tally.wrong, sep="\n", end="\n" if tally.wrong else "")
    print(table)
    return any(tally.wrong for tally in tallies.values())


if __name__ == "__main__":
    sys.exit(main())

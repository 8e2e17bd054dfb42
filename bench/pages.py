"""Pages: one of 100,000 differences in a browser, and a tenant of 5,000 policies written down.

What a browser takes is wall time, as somebody waits for it: from asking for the page until its first rows are
painted, until it can be filtered, and from a letter in its search field until what fits is painted. What Zinker
takes is the processor time of whole commands.
"""

import argparse
import statistics
import sys
import tempfile
from pathlib import Path

from capture import ZINKER, Bench, used
from playwright.sync_api import sync_playwright
from registry import keys, write_text
from tenant import TenantBench

DIFFERENCES = 100_000
POLICIES = 5_000
QUIET = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update"]
# Types a text as a person does, and waits until what fits has been painted.
FILTER = """async text => {
  const field = document.querySelector("input[type=search]"), started = performance.now();
  field.value = text;
  field.dispatchEvent(new Event("input", { bubbles: true }));
  await new Promise(done => requestAnimationFrame(() => requestAnimationFrame(() => setTimeout(done))));
  return (performance.now() - started) / 1000;
}"""
OPENED = """() => [performance.getEntriesByName("first-contentful-paint")[0].startTime / 1000,
  performance.getEntriesByType("navigation")[0].domComplete / 1000]"""


def browsed(path: Path, rounds: int) -> list[str]:
    """Open the page and filter it; returns rows of the table."""
    times: dict[str, list[float]] = {"first rows painted": [], "ready to be filtered": [], "filtered": []}
    with sync_playwright() as playwright:
        for _ in range(rounds):
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=QUIET)
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.goto(path.as_uri())
            for case, taken in zip(times, page.evaluate(OPENED), strict=False):
                times[case].append(taken)
            times["filtered"].append(
                max(page.evaluate(FILTER, text) for text in ("item", "x7", "no such", ""))
            )
            browser.close()
    size = path.stat().st_size / 1e6
    rows = []
    for case, taken in times.items():
        told = f"a page of {DIFFERENCES:,} differences ({size:.0f} MB) in Chromium: {case}"
        rows.append(f"| {told} | | 1 s | {statistics.median(taken):.2f} s | |")
        print(f"{told}: {statistics.median(taken):.2f} s", flush=True)
    return rows


def written(bench: Bench, name: str, reach: str, *command: str) -> str:
    """Write a report; returns a row of the table."""
    taken, peak = [], 0.0
    path = bench.base / name
    for _ in range(bench.rounds):
        path.unlink(missing_ok=True)
        _, memory, worked = used(
            [str(ZINKER), *command, "--output", str(path)], bench.env, int("compare" in command)
        )
        taken.append(worked)
        peak = max(peak, memory)
    what = f"{DIFFERENCES:,} differences" if "compare" in command else f"a tenant of {POLICIES:,} policies"
    told = f"`{command[0]}`, {what} → {path.suffix[1:].upper()}"
    print(f"{told}: {statistics.median(taken):.1f} s, {peak:.0f} MB", flush=True)
    return f"| {told} | | {reach} | {statistics.median(taken):.1f} s | {peak:.0f} MB |"


def main() -> None:
    """Build the data, measure, print, and write."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", type=Path)
    parser.add_argument("--rounds", type=int, default=3)
    chosen = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="zinker-bench-") as folder:
        bench = Bench(Path(folder) / "pages", chosen.rounds)
        found = keys(DIFFERENCES)
        both = [bench.base / "was.reg", bench.base / "now.reg"]
        write_text(both[0], found)
        now = [
            (key, [(row[0], 1, f"x{at}\0".encode("utf-16-le")) for at, row in enumerate(rows)])
            for key, rows in found
        ]
        write_text(both[1], now)
        for name in ("page.html", "page.docx"):
            bench.rows.append(written(bench, name, "", "compare", *map(str, both)))
        bench.rows += browsed(bench.base / "page.html", chosen.rounds)
        tenants = TenantBench(Path(folder) / "tenants", chosen.rounds, POLICIES)
        tenants.stock("WorkstationRules")
        with tenants.served():
            tenants.zinker("export", "garden-tenant", "--place", "trial")
        for name, reach in (("whole.html", "30 s"), ("whole.md", "30 s"), ("whole.docx", "120 s")):
            bench.rows.append(written(tenants, name, reach, "document", "garden-tenant"))
        if chosen.write:
            bench.write(chosen.write, "pages")


if __name__ == "__main__":
    sys.exit(main())

"""Pages: one of 100,000 differences in a browser, and a tenant of 5,000 policies written down.

What a browser takes is wall time, as somebody waits for it: from asking for the page until its first rows are
painted, until it can be filtered, and from a letter in its search field until what fits is painted. What Zinker
takes is the processor time of whole commands.
"""

from collections.abc import Iterator
from pathlib import Path

from measure import Bench, Figure, Used
from playwright.sync_api import sync_playwright
from registry import keys, write_text
from tenant import POLICIES, TenantBench

DIFFERENCES = 100_000
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


def browsed(path: Path, rounds: int) -> Iterator[Figure]:
    """Open the page and filter it."""
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
    for case, taken in times.items():
        told = f"a page of {DIFFERENCES:,} differences ({size:.0f} MB) in Chromium: {case}"
        yield Figure(told, "", taken, 1, "s")


def written(bench: Bench, name: str, aim: float | None, what: str, *command: str) -> Figure:
    """Write a report."""
    path = bench.base / name
    ends = int("compare" in command)

    def run() -> Used:
        path.unlink(missing_ok=True)
        return bench.zinker(*command, "--output", str(path), ends=ends)

    (taken,) = bench.in_turns(run)
    told = f"`{command[0]}`, {what} → {path.suffix[1:].upper()}"
    return Figure(told, "", [one.processor for one in taken], aim, "s", max(one.peak for one in taken))


def differences(bench: Bench) -> Iterator[Figure]:
    """Write a page of 100,000 differences, and open it."""
    found = keys(DIFFERENCES)
    both = [bench.base / "was.reg", bench.base / "now.reg"]
    write_text(both[0], found)
    now = [
        (key, [(row[0], 1, f"x{at}\0".encode("utf-16-le")) for at, row in enumerate(rows)])
        for key, rows in found
    ]
    write_text(both[1], now)
    for name in ("page.html", "page.docx"):
        yield written(bench, name, None, f"{DIFFERENCES:,} differences", "compare", *map(str, both))
    yield from browsed(bench.base / "page.html", bench.rounds)


def whole_tenant(bench: Bench) -> Iterator[Figure]:
    """Write a tenant down."""
    tenants = TenantBench(bench.base / "tenants", bench.rounds, POLICIES)
    tenants.stock("WorkstationRules")
    with tenants.served():
        tenants.zinker("export", "garden-tenant", "--place", "trial")
    for name, aim in (("whole.html", 30), ("whole.md", 30), ("whole.docx", 120)):
        yield written(tenants, name, aim, f"a tenant of {POLICIES:,} policies", "document", "garden-tenant")


CASES = {"pages": differences, "document": whole_tenant}

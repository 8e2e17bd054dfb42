"""A tenant of 5,000 policies at 50 ms an answer, captured with the real command from the service that ships.

The yardstick is what nobody can beat: all requests answered, ÷ how many are under way, × 50 ms. Where a list holds
its policies whole, those are so few that what is left is reading and keeping 80,000 settings. A storm is a time in
which the service answers everything with 429; what it costs is held against what it asks to wait.

The chain is as many rules of which each notifies by the next, brought into an empty tenant: the yardstick is as
many that do not refer to each other. Each of the chain has to wait for the one before.
"""

import argparse
import contextlib
import json
import socket
import statistics
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from capture import ZINKER, Bench

from zinker.demo.ports import free_port
from zinker.demo.tenant_data import tenant

DELAY = 0.05
ONE_BY_ONE = "StartingSets"
CONCURRENCY = 8  # the usual one of a place
PLACES = """
[places.trial]
kind = "tenant"
address = "http://127.0.0.1:{port}/tarnhollow-trial/api"
directory = "http://127.0.0.1:{port}/tarnhollow-trial/scim/v2"
client_id = "zinker"

[places.tarnhollow]
kind = "tenant"
address = "http://127.0.0.1:{port}/tarnhollow/api"
directory = "http://127.0.0.1:{port}/tarnhollow/scim/v2"
client_id = "zinker"
"""
RULE = {
    "planted": "2026-03-02T08:00:00Z",
    "tended": "2026-09-14T16:20:00Z",
    "tendedBy": "fern@tarnhollow.example",
    "turn": 1,
    "fixed": False,
    "terms": [{"topic": "password.length", "label": "Letters of a password", "value": 12}],
}


class TenantBench(Bench):
    """A home with a tenant as a place, and the service that has it."""

    def __init__(self, base: Path, rounds: int, policies: int) -> None:
        super().__init__(base, rounds)
        self.policies = policies
        self.folder = base / "tenants"
        self.port = free_port()
        own = base / "zinker"
        with (own / "zinker.toml").open("a") as file:
            file.write(PLACES.format(port=self.port))
        garden = Path(__file__).parent.parent / "src/zinker/demo/garden_files/subjects"
        subject = "garden-tenant.subject.toml"
        (own / "subjects" / subject).write_bytes((garden / subject).read_bytes())
        self.env |= dict.fromkeys(("ZINKER_SECRET_TRIAL", "ZINKER_SECRET_TARNHOLLOW"), "a heron by the pond")

    @contextlib.contextmanager
    def served(self) -> Iterator[None]:
        """Serve the tenant."""
        arguments = ["--folder", self.folder, "--port", str(self.port), "--policies", str(self.policies)]
        service = subprocess.Popen(
            [ZINKER, "demo", "tenant", *arguments], env=self.env, stdout=subprocess.DEVNULL
        )
        try:
            while service.poll() is None:
                with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", self.port)):
                    break
                time.sleep(0.1)
            yield
        finally:
            service.terminate()
            service.wait()

    def stock(self, collection: str) -> None:
        """Put the policies into one collection of the tenants."""
        self.folder.mkdir(exist_ok=True)
        for name in ("tarnhollow-trial", "tarnhollow"):
            state = tenant(name, self.policies)
            policies = state["collections"].pop("WorkstationRules")
            state["collections"] |= {"WorkstationRules": {}, collection: policies}
            (self.folder / f"{name}.json").write_text(json.dumps(state))

    def fill(self, is_chain: bool) -> None:
        """Put rules into one tenant, each referring to the next or to none, and nothing into the other."""
        self.folder.mkdir(exist_ok=True)
        for name in ("tarnhollow-trial", "tarnhollow"):
            state = tenant(name)
            state["collections"] = {collection: {} for collection in state["collections"]}
            if name == "tarnhollow-trial":
                ids = [f"00000000-0000-4000-8000-{number:012d}" for number in range(self.policies)]
                state["collections"]["HouseRules"] = {
                    id: {"id": id, "name": f"Rule {id[-5:]}", **RULE, "tellAlso": after if is_chain else None}
                    for id, after in zip(ids, [*ids[1:], None], strict=True)
                }
            (self.folder / f"{name}.json").write_text(json.dumps(state))

    def bring(self) -> tuple[float, float]:
        """Export the rules of one tenant and import them into the other; seconds and peak memory of that."""
        self.zinker("export", "garden-tenant", "--place", "trial", "--part", "house-rules")
        wanted = ["--place", "tarnhollow", "--live", "tarnhollow", "--adopt", "--yes"]
        taken, peak = self.zinker("import", "garden-tenant", *wanted)
        rules = json.loads((self.folder / "tarnhollow.json").read_text())["collections"]["HouseRules"]
        if len(rules) != self.policies:
            raise SystemExit(f"{len(rules)} of {self.policies} rules arrived")
        return taken, peak

    def capture(self, **faults: float) -> tuple[float, float, int, float]:
        """Export once; returns seconds, peak memory in MB, requests answered, and seconds asked to wait."""
        (self.folder / "faults.json").write_text(json.dumps({"delay": DELAY, **faults}))
        log = self.folder / "log.jsonl"
        before = log.stat().st_size
        taken, peak = self.zinker("export", "garden-tenant", "--place", "trial")
        with log.open() as file:
            file.seek(before)
            lines = [json.loads(line) for line in file]
        answered = sum(1 for line in lines if line.get("status") == 200)
        return taken, peak, answered, sum(line.get("storm", 0) for line in lines)


def brought(policies: int, is_chain: bool) -> tuple[float, float]:
    """Bring rules into an empty tenant, once; seconds and peak memory."""
    with tempfile.TemporaryDirectory(prefix="zinker-bench-") as folder:
        bench = TenantBench(Path(folder), 1, policies)
        bench.fill(is_chain)
        with bench.served():
            return bench.bring()


def captured(chosen: argparse.Namespace, collection: str, case: str, reach: str) -> list[str]:
    """Capture policies of a collection in calm and in storms, some times; returns the rows."""
    with tempfile.TemporaryDirectory(prefix="zinker-bench-") as folder:
        bench = TenantBench(Path(folder), chosen.rounds, chosen.policies)
        bench.stock(collection)
        with bench.served():
            calm, stormy = [], []
            for _ in range(chosen.rounds):
                calm.append(bench.capture())
                if collection == ONE_BY_ONE:
                    stormy.append(bench.capture(storm_every=max(1, chosen.policies // 5), retry_after=2))
    took, peak = statistics.median(run[0] for run in calm), max(run[1] for run in calm)
    ideal = statistics.median(run[2] for run in calm) / CONCURRENCY * DELAY
    print(f"{case}: {took:.1f} s, ideal {ideal:.1f} s: {took / ideal:.2f} x, {peak:.0f} MB", flush=True)
    yardstick = f"requests ÷ {CONCURRENCY} × 50 ms"
    rows = [f"| {case} | {yardstick} ({ideal:.1f} s) | {reach} × | {took / ideal:.2f} × | {peak:.0f} MB |"]
    if stormy:
        cost = statistics.median(one[0] - other[0] for one, other in zip(stormy, calm, strict=True))
        asked = statistics.median(run[3] for run in stormy)
        case = "the same in storms of 429: what they cost"
        print(f"{case}: {cost:.1f} s, asked to wait {asked:.1f} s: {cost / asked:.2f} x", flush=True)
        rows.append(f"| {case} | the waiting asked for | 1.1 × | {cost / asked:.2f} × | |")
    return rows


def main() -> None:
    """Serve, measure, print, and write."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", type=Path)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--policies", type=int, default=5000)
    chosen = parser.parse_args()
    of = f"a tenant of {chosen.policies:,} policies, 50 ms an answer → the shelf"
    rows = captured(chosen, "WorkstationRules", f"{of}, lists that hold them whole", "1.5")
    rows += captured(chosen, ONE_BY_ONE, f"{of}, asked for one by one", "1.3")
    apart, chained = (brought(chosen.policies, is_chain) for is_chain in (False, True))
    case = f"import {chosen.policies:,} policies, each naming the next"
    print(
        f"{case}: {chained[0]:.1f} s, {apart[0]:.1f} s without: {chained[0] / apart[0]:.2f} x, {chained[1]:.0f} MB"
    )
    rows.append(
        f"| {case} | as many that name none | | {chained[0] / apart[0]:.1f} × | {chained[1]:.0f} MB |"
    )
    if chosen.write:
        with tempfile.TemporaryDirectory(prefix="zinker-bench-") as folder:
            bench = TenantBench(Path(folder), chosen.rounds, chosen.policies)
            bench.rows += rows
            bench.write(chosen.write, "tenant")


if __name__ == "__main__":
    main()

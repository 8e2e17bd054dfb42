"""A tenant of 5,000 policies at 50 ms an answer, captured with the real command from the service that ships.

The yardstick is what nobody can beat: all requests answered, ÷ how many are under way, × 50 ms. Where a list holds
its policies whole, those are so few that what is left is reading and keeping 80,000 settings. A storm is a time in
which the service answers everything with 429; what it costs is held against what it asks to wait.

The chain is as many rules of which each notifies by the next, brought into an empty tenant: the yardstick is as
many that do not refer to each other. Each of the chain has to wait for the one before.
"""

import contextlib
import json
import socket
import subprocess
import time
from collections.abc import Iterator
from functools import partial
from pathlib import Path

from measure import ZINKER, Bench, Figure, Used

from zinker.demo.ports import free_port
from zinker.demo.tenant_data import tenant

DELAY = 0.05
ONE_BY_ONE = "StartingSets"
POLICIES = 5_000
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

    def bring(self) -> Used:
        """Export the rules of one tenant and import them into the other; what that took."""
        self.zinker("export", "garden-tenant", "--place", "trial", "--part", "house-rules")
        wanted = ["--place", "tarnhollow", "--live", "tarnhollow", "--adopt", "--yes"]
        taken = self.zinker("import", "garden-tenant", *wanted)
        rules = json.loads((self.folder / "tarnhollow.json").read_text())["collections"]["HouseRules"]
        if len(rules) != self.policies:
            raise SystemExit(f"{len(rules)} of {self.policies} rules arrived")
        return taken

    def capture(self, **faults: float) -> tuple[Used, int, float]:
        """Export once; returns what that took, requests answered, and seconds asked to wait."""
        (self.folder / "faults.json").write_text(json.dumps({"delay": DELAY, **faults}))
        log = self.folder / "log.jsonl"
        before = log.stat().st_size
        taken = self.zinker("export", "garden-tenant", "--place", "trial")
        with log.open() as file:
            file.seek(before)
            lines = [json.loads(line) for line in file]
        answered = sum(1 for line in lines if line.get("status") == 200)
        return taken, answered, sum(line.get("storm", 0) for line in lines)


def captured(bench: Bench, collection: str, how: str, aim: float) -> Iterator[Figure]:
    """Capture policies of a collection in calm, and in storms where each is asked for."""
    tenants = TenantBench(bench.base / "tenant", bench.rounds, POLICIES)
    tenants.stock(collection)
    storms = {"storm_every": POLICIES // 5, "retry_after": 2}
    with tenants.served():
        calm, stormy = [], []
        for _ in range(bench.rounds):
            calm.append(tenants.capture())
            if collection == ONE_BY_ONE:
                stormy.append(tenants.capture(**storms))
    walls = [taken.wall for taken, *_ in calm]
    ideals = [answered / CONCURRENCY * DELAY for _, answered, _ in calm]
    case = f"a tenant of {POLICIES:,} policies, 50 ms an answer → the shelf, {how}"
    peak = max(taken.peak for taken, *_ in calm)
    yield Figure.ratio(case, f"requests ÷ {CONCURRENCY} × 50 ms", walls, ideals, aim, peak)
    each = [1000 * taken.processor / POLICIES for taken, *_ in calm]
    yield Figure(f"of that, {how}: processor time of a policy", "", each, unit="ms")
    if stormy:
        cost = [one.wall - wall for (one, *_), wall in zip(stormy, walls, strict=True)]
        asked = [waited for *_, waited in stormy]
        case = "the same in storms of 429: what they cost"
        yield Figure.ratio(case, "the waiting asked for", cost, asked, 1.1)


def chain(bench: Bench) -> Iterator[Figure]:
    """Bring rules into an empty tenant, each naming the next, in turns with as many that name none."""

    def brought(is_chain: bool, number: int) -> Used:
        tenants = TenantBench(bench.base / f"{'chain' if is_chain else 'apart'}-{number}", 1, POLICIES)
        tenants.fill(is_chain)
        with tenants.served():
            return tenants.bring()

    taken = [[brought(is_chain, number) for is_chain in (True, False)] for number in range(bench.rounds)]
    own, other = ([pair[at].wall for pair in taken] for at in (0, 1))
    case = f"import {POLICIES:,} policies, each naming the next"
    yield Figure.ratio(case, "as many that name none", own, other, peak=max(pair[0].peak for pair in taken))


CASES = {
    "tenant-whole": partial(
        captured, collection="WorkstationRules", how="lists that hold them whole", aim=1.5
    ),
    "tenant-one-by-one": partial(captured, collection=ONE_BY_ONE, how="asked for one by one", aim=1.3),
    "tenant-chain": chain,
}

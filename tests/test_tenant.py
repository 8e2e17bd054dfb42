"""Policies of a tenant, with the real command against the service that ships with Zinker."""

import contextlib
import datetime
import json
import random
import re
import shutil
import socket
import ssl
import subprocess
import threading
import time
import urllib.request
from urllib.parse import quote_plus

import httpx2
import pytest
from conftest import COMMAND, Garden
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from test_plug import run

from zinker.demo.ports import free_port
from zinker.demo.tenant_data import TENANTS, tenant
from zinker.disk.files import make_folders, write_file
from zinker.jobs import Keeping, Wishes, changes, export, import_profile, load_setup
from zinker.model.policy import PolicyShape
from zinker.stores.tenants.connection import Answer, Connection
from zinker.stores.tenants.home import TenantHome
from zinker.stores.tenants.odata import Api
from zinker.stores.tenants.service import Service
from zinker.stores.tenants.tenant import Tenant
from zinker.stores.tenants.unfinished import Unfinished

SECRET = "a heron by the pond"
LIVE = ("--place", "tarnhollow", "--live", "tarnhollow", "--adopt", "--yes")
PLACE = """
[places.{name}]
kind = "tenant"
address = "http://127.0.0.1:{port}/{tenant}/api"
directory = "http://127.0.0.1:{port}/{tenant}/scim/v2"
client_id = "{client}"
{more}
"""


def in_no_order(value):
    """Lists of settings have none."""
    return (
        sorted(value, key=lambda one: json.dumps(one, sort_keys=True)) if isinstance(value, list) else value
    )


class Tenants(Garden):
    """A garden with both its tenants, and the service that has them."""

    def __init__(self, path, policies=0, collection="WorkstationRules"):
        super().__init__(path)
        self.port = free_port()
        self.folder, self.policies = self.path / "tenants", policies
        self.place("trial", "tarnhollow-trial")
        self.place("tarnhollow", "tarnhollow", more="live = true")
        self.env |= {"ZINKER_SECRET_TRIAL": SECRET, "ZINKER_SECRET_TARNHOLLOW": SECRET}
        if collection != "WorkstationRules":
            make_folders(self.folder)
            for name in TENANTS:
                state = tenant(name, policies)
                state["collections"][collection] = state["collections"].pop("WorkstationRules")
                state["collections"]["WorkstationRules"] = {}
                write_file(self.folder / f"{name}.json", json.dumps(state).encode())
        self.serve()

    def place(self, name, tenant, client="zinker", more=""):
        text = PLACE.format(name=name, port=self.port, tenant=tenant, client=client, more=more)
        with (self.home / "zinker.toml").open("a") as file:
            file.write(text)

    def serve(self):
        arguments = [
            "demo",
            "tenant",
            "--folder",
            self.folder,
            "--port",
            str(self.port),
            "--policies",
            str(self.policies),
        ]
        self.service = subprocess.Popen([*COMMAND, *arguments], env=self.env, stdout=subprocess.DEVNULL)
        while self.service.poll() is None:  # it answers, or ends
            with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", self.port)):
                return
            time.sleep(0.05)
        raise AssertionError("the service has ended")

    def stop(self):
        self.service.terminate()
        self.service.wait()

    def faults(self, **faults):
        (self.folder / "faults.json").write_text(json.dumps(faults))

    def log(self, *methods):
        lines = map(json.loads, (self.folder / "log.jsonl").read_text().splitlines())
        return [line for line in lines if not methods or line["method"] in methods]

    def written(self, count, signs=('"POST"', '"PATCH"')):
        """Return what tells whether so many policies have been written since now, or whatever has the `signs`."""
        log = self.folder / "log.jsonl"
        begin = log.stat().st_size

        def is_time():
            with log.open() as file:
                file.seek(begin)
                return sum(any(sign in line for sign in signs) for line in file) >= count

        return is_time

    def state(self, tenant="tarnhollow"):
        """The policies of a tenant as the service has them on its disk, by collection and name."""
        state = json.loads((self.folder / f"{tenant}.json").read_bytes())
        return {c: {p["name"]: p for p in policies.values()} for c, policies in state["collections"].items()}

    def meaning(self, tenant="tarnhollow"):
        """The same without what the service makes: what is put back has another id."""
        made = ("id", "planted", "tended", "tendedBy", "turn")
        state = self.state(tenant)
        ids = {p["id"]: f"id of {name}" for policies in state.values() for name, p in policies.items()}
        text = re.sub("|".join(map(re.escape, ids)), lambda found: ids[found[0]], json.dumps(state))
        return {
            c: {
                name: {k: in_no_order(v) for k, v in p.items() if k not in made}
                for name, p in policies.items()
            }
            for c, policies in json.loads(text).items()
        }

    def api(self, method, path, tenant="tarnhollow", **more):
        base = f"http://127.0.0.1:{self.port}/{tenant}"
        form = {"grant_type": "client_credentials"}
        own = ("zinker", quote_plus(SECRET))
        token = httpx2.post(f"{base}/oauth/token", data=form, auth=own).json()["access_token"]
        headers = {"Authorization": f"Bearer {token}", "If-Match": "*"}
        answer = httpx2.request(method, f"{base}/api/{path}", headers=headers, **more)
        assert answer.is_success, answer.text
        return answer

    def change(self, collection, policy, tenant="tarnhollow", **changed):
        id = self.state(tenant)[collection][policy]["id"]
        self.api("PATCH", f"{collection}('{id}')", tenant, json=changed)


@pytest.fixture
def tenants(tmp_path):
    tenants = Tenants(tmp_path / "garden")
    yield tenants
    tenants.stop()


def test_a_whole_tenant_is_captured_and_what_refuses_is_named(tenants):
    tenants("export", "garden-tenant", "--place", "trial", "--log", "steps.log")
    log = (tenants.path / "steps.log").read_text()
    assert re.search(r"INFO GET http://[^?]*/Programs: HTTP/1.1 200 OK$", log, re.M) and "POST" in log
    assert not any(text in log for text in ("?", quote_plus(SECRET), SECRET, "Bearer"))
    tenants("export", "garden-tenant", "--place", "trial", "--to", "plain")
    tenants("export", "garden-tenant", "--place", "trial", "--to", "again")
    settings = sorted((tenants.path / "plain/settings").iterdir())
    assert [path.name for path in settings] == [
        f"{part}.jsonl"
        for part in sorted(
            ("errands", "house-rules", "programs", "quiet-hours", "starting-sets", "workstation-rules")
        )
    ]
    for path in settings:  # the same bytes for the same state
        assert path.read_bytes() == (tenants.path / "again/settings" / path.name).read_bytes()
    shown = tenants("show", "garden-tenant", "--part", "programs", "--json").json["settings"]
    values = {(s["document"], s["address"]): s["value"] for s in shown}
    assert values["Brindlepot", "/comesAfter"] == "Kiosk rules"
    assert values["Brindlepot", "/leansOn"] == ["Moss runtime"]
    assert values["Brindlepot", "/forWhom/Trial kiosks/how"] == "with"
    assert "moss-0001" not in (tenants.path / "plain/settings/programs.jsonl").read_text()
    tenants.faults(denied=["Errands", "StartingSets"])
    out = tenants("export", "garden-tenant", "--place", "trial", code=1).out
    assert "Errands: The account may not read Errands (403 Forbidden)" in out and "Programs" in out
    # A collection that may not be read costs itself: those that refer to it have ids in place of names.
    tenants.faults(denied=["HouseRules"])
    out = tenants("export", "garden-tenant", "--place", "trial", "--label", "less", code=1).out
    assert re.search(r"with a reservation:.*Brindlepot: HouseRules are told by their ids", out, re.S)
    asked = [line for line in tenants.log("GET") if line["status"] == 403 and "HouseRules" in line["path"]]
    assert len(asked) <= 4  # not for every policy that refers to it
    # What changes while the rest is read is read again, until it rests; else that is said.
    tenants.faults(restless="WorkstationRules")
    assert "fit" not in tenants("export", "garden-tenant", "--place", "trial", "--label", "rests").out
    tenants.faults()
    now = tenants.api("GET", "WorkstationRules", "tarnhollow-trial").json()["value"][0]
    find = ("show", "garden-tenant@rests", "--find", "turn", "--json")
    kept = {s["document"]: s["value"] for s in tenants(*find).json["settings"]}
    assert kept[now["name"]] == str(now["turn"]) == "5"
    tenants.faults(restless="WorkstationRules", rounds=1000)
    out = tenants("export", "garden-tenant", "--place", "trial").out
    assert re.search(rf"with a reservation.*{now['name']}: it changed again and again", out, re.S)


def test_policies_are_compared_by_what_people_call_them(tenants):
    found = tenants("compare", "trial:garden-tenant", "tarnhollow:garden-tenant", "--json", code=1).json
    by_address = {(d["document"], d["address"]): d for d in found["differences"]}
    length = by_address["Kiosk rules", "/terms/password.length/value"]
    assert length["title"] == "Letters of a password" and length["before"]["value"] == 12
    assert not any(address.startswith("/@server") for _, address in by_address)
    tenants("export", "garden-tenant", "--place", "tarnhollow")
    # Order that means nothing is none, and a new name is not a new policy.
    tenants.change("WorkstationRules", "Office desks", marks=["warm", "glass"])
    settings = tenants.state()["WorkstationRules"]["Office desks"]["entries"]
    tenants.change("WorkstationRules", "Office desks", entries=settings[::-1])
    assert "No differences" in tenants("compare", "garden-tenant").out
    settings[0]["value"] = 21
    tenants.change("WorkstationRules", "Office desks", name="Desks in the office", entries=settings)
    out = tenants("compare", "garden-tenant", code=1).out
    assert "Desks in the office (was called Office desks)" in out
    assert re.search(r"changed +Minutes until the screen locks +was 20, now 21", out)
    assert "1 changed; 7" in out


def test_a_set_of_policies_goes_live_and_back(tenants):
    tenants("export", "garden-tenant", "--place", "trial", "--label", "set")
    before = tenants.meaning()
    out = tenants("import", "garden-tenant@set", "--place", "tarnhollow", "--preview").out
    assert "4 of the policies are meant for groups" in out and "new      policy Potting benches" in out
    assert not [
        line for line in tenants.log() if line["method"] not in ("GET",)
    ]  # the service's own word for it
    why = tenants("import", "garden-tenant@set", "--place", "tarnhollow", "--adopt", "--yes", code=3).err
    assert "tarnhollow is live: others depend on it" in why and "--live tarnhollow" in why
    tenants(
        "import", "garden-tenant@set", "--place", "tarnhollow", "--adopt", "--live", "trial", "--yes", code=3
    )
    assert tenants.meaning() == before
    assert re.search(r"changed  Letters of a password +is 10, becomes 12", out)
    tenants("import", "garden-tenant@set", *LIVE)
    assert (
        "no policy has a default to go back to"
        in tenants("reset", "garden-tenant", *LIVE[:4], "--yes", code=1).out
    )
    state = tenants.state()
    ids = {name: policy["id"] for policies in state.values() for name, policy in policies.items()}
    assert state["Programs"]["Brindlepot"]["comesAfter"] == ids["Kiosk rules"]
    assert state["Programs"]["Brindlepot"]["leansOn"] == [ids["Moss runtime"]]
    assert state["HouseRules"]["Kiosk rules"]["tellAlso"] == ids["Notice"]
    assert state["Programs"]["Brindlepot"]["forWhom"] == []
    made = [line["path"].rpartition("/")[2] for line in tenants.log("POST") if "/api/" in line["path"]]
    assert made.index("HouseRules") < made.index("Programs")  # what is referred to comes first
    assert tenants("import", "garden-tenant@set", *LIVE, "--json").json["state"] == "alike"
    tenants("undo", "--yes", code=3)
    tenants("undo", "--yes", "--live", "tarnhollow")
    assert tenants.meaning() == before
    answers = [("write this:", "tarnhollow\n")]
    out, code = tenants.at_terminal("import", "garden-tenant@set", *LIVE[:2], "--adopt", answers=answers)
    assert code == 0 and "Type its name to write this" in out and tenants.meaning() != before
    out, code = tenants.at_terminal("undo", answers=[("write this:", "trial\n")])
    assert code == 3 and "Nothing was changed" in out


def test_groups_names_and_twins(tenants):
    tenants("export", "garden-tenant", "--place", "trial", "--label", "set")
    before = tenants.meaning()
    done = tenants("import", "garden-tenant@set", *LIVE, "--for-whom", code=1)
    assert "there is no group Trial kiosks there" in done.out
    tenants("undo", "--yes", "--live", "tarnhollow")
    assert tenants.meaning() == before
    (tenants.path / "go.crosswalk.toml").write_text(
        'format = 1\ngroups = { "Trial gardeners" = "Gardeners", "Trial kiosks" = "Kiosks" }\n'
        '[[replace]]\nfrom = "trial.tarnhollow.example"\nto = "tarnhollow.example"\n'
    )
    rules = ("--crosswalk", "go.crosswalk.toml")
    parts = ("--part", "programs", "--part", "house-rules")
    tenants("import", "garden-tenant@set", *LIVE, "--for-whom", *rules, *parts)
    brindlepot = tenants.state()["Programs"]["Brindlepot"]
    groups = {
        g["displayName"]: g["id"]
        for g in json.loads((tenants.folder / "tarnhollow.json").read_bytes())["groups"]
    }
    assert brindlepot["forWhom"] == [{"people": groups["Kiosks"], "how": "with"}]
    assert brindlepot["fetch"] == "install brindlepot --from store.tarnhollow.example"
    assert (
        "No differences"
        in tenants("compare", "garden-tenant@set", "tarnhollow:garden-tenant", *rules, *parts).out
    )
    tenants("undo", "--yes", "--live", "tarnhollow")
    tenants("import", "garden-tenant@set", *LIVE, "--prefix", "trial: ", *parts)
    state = tenants.state()
    assert set(state["HouseRules"]) == {"Kiosk rules", "trial: Kiosk rules", "trial: Notice"}
    mine = state["HouseRules"]["trial: Kiosk rules"]["id"]
    assert state["Programs"]["trial: Brindlepot"]["comesAfter"] == mine
    # What was brought under another name is compared under that name.
    brought = ("garden-tenant@set", "tarnhollow:garden-tenant", *parts, "--prefix", "trial: ")
    found = tenants("compare", *brought, "--json", code=1).json["differences"]
    mine = [d for d in found if d["document"].startswith("trial: ")]
    assert mine and all(d["address"].startswith("/forWhom") for d in mine)  # that was not asked for
    tenants("undo", "--yes", "--live", "tarnhollow")
    tenants("import", "garden-tenant@set", *LIVE, "--on-conflict", "both", "--part", "house-rules")
    lengths = {
        name: rule["value"]
        for name, policy in tenants.state()["HouseRules"].items()
        for rule in policy["terms"]
        if rule["topic"] == "password.length"
    }
    assert lengths == {"Kiosk rules": 10, "Kiosk rules (from trial)": 12, "Notice": 12}
    tenants("undo", "--yes", "--live", "tarnhollow")
    tenants("import", "garden-tenant@set", *LIVE, "--on-conflict", "keep", "--part", "house-rules", code=1)
    assert tenants.meaning()["HouseRules"]["Kiosk rules"] == before["HouseRules"]["Kiosk rules"]
    tenants("undo", "--yes", "--live", "tarnhollow")
    # Exactly the set: what the live tenant has besides goes, but for what is built in; and comes back as it was.
    tenants.change("WorkstationRules", "Office desks", forWhom=[{"people": groups["Office"]}])
    before = tenants.meaning()
    tenants(
        "import",
        "garden-tenant@set",
        *LIVE,
        "--exact",
        "--part",
        "workstation-rules",
        "--part",
        "quiet-hours",
    )
    assert set(tenants.state()["WorkstationRules"]) == {
        "Greenhouse desks",
        "Potting benches",
        "Service defaults",
    }
    undone = tenants("undo", "--yes", "--live", "tarnhollow").out
    assert "new      policy Office desks" in undone and tenants.meaning() == before


def test_policies_that_refer_to_each_other_come_and_go(tenants):
    """Neither can be made with what it refers to, nor removed while the other refers to it."""
    ids = {name: policy["id"] for name, policy in tenants.state("tarnhollow-trial")["HouseRules"].items()}
    tenants.change("HouseRules", "Notice", "tarnhollow-trial", tellAlso=ids["Kiosk rules"])
    for name in ("Round", "And round"):
        made = tenants.api(
            "POST", "HouseRules", "tarnhollow-trial", json={"name": name, "terms": [], "tellAlso": None}
        )
        ids[name] = made.json()["id"]
    tenants.change("HouseRules", "Round", "tarnhollow-trial", tellAlso=ids["And round"])
    tenants.change("HouseRules", "And round", "tarnhollow-trial", tellAlso=ids["Round"])
    before = tenants.meaning()
    tenants("export", "garden-tenant", "--place", "trial", "--part", "house-rules")
    tenants("import", "garden-tenant", *LIVE)
    trial = tenants.meaning("tarnhollow-trial")["HouseRules"]
    assert tenants.meaning()["HouseRules"] == trial and trial["Round"]["tellAlso"] == "id of And round"
    tenants("undo", "--yes", "--live", "tarnhollow")
    assert tenants.meaning() == before


def test_what_policies_say_of_people_is_translated(tenants):
    tenants("export", "garden-tenant", "--place", "trial", "--part", "errands")
    shown = tenants("show", "garden-tenant", "--find", "keeper", "--json").json["settings"]
    assert [s["value"] for s in shown] == ["ivy@tarnhollow.example"]
    rules = tenants.path / "people.crosswalk.toml"
    rules.write_text(
        'format = 1\nusers = { "ivy@tarnhollow.example" = "fern@tarnhollow.example", "moss@x" = "newt@x" }\n'
    )
    tenants("import", "garden-tenant", *LIVE, "--crosswalk", rules)
    live = json.loads((tenants.folder / "tarnhollow.json").read_bytes())
    fern = next(user["id"] for user in live["users"] if user["userName"].startswith("fern"))
    assert tenants.state()["Errands"]["Water the logs"]["keeper"] == fern
    rules.write_text('format = 1\nusers = { "ivy@tarnhollow.example" = "newt@tarnhollow.example" }\n')
    out = tenants("import", "garden-tenant", *LIVE, "--crosswalk", rules, code=1).out
    assert "there is no user newt@tarnhollow.example there" in out


def test_a_policy_that_has_changed_since_is_left_alone(tenants, monkeypatch):
    for name, value in tenants.env.items():
        if name.startswith("ZINKER"):
            monkeypatch.setenv(name, value)
    setup = load_setup()
    export(setup, "garden-tenant", "trial", Keeping(label="set"))
    wishes = Wishes(overruled=frozenset({"adopt", "live"}), parts=("house-rules", "workstation-rules"))

    def between(plan):
        tenants.change("HouseRules", "Kiosk rules", description="somebody else was faster")
        return True

    with pytest.raises(Exception, match="have changed since the plan was made"):
        import_profile(setup, "garden-tenant@set", "tarnhollow", wishes, approve=between)
    told = []

    def while_written(what, done, total):
        if what == "Writing" and not told:
            told.append(done)
            tenants.change("HouseRules", "Kiosk rules", description="somebody else was as fast")

    setup = load_setup()
    setup.progress = while_written
    outcome = import_profile(setup, "garden-tenant@set", "tarnhollow", wishes)
    left = {(item.document, item.why) for item in outcome.left}
    assert outcome.state == "partly" and told
    assert ("Kiosk rules", "it has changed since the plan was made, so it was left alone") in left
    state = tenants.state()
    assert state["HouseRules"]["Kiosk rules"]["description"] == "somebody else was as fast"
    assert "Potting benches" in state["WorkstationRules"]


@pytest.mark.parametrize(
    ("client", "secret", "tenant", "faults", "says"),
    [
        ("zinker", "wrong", "tarnhollow", {}, "does not know the account or its secret"),
        ("stale", "an old reed", "tarnhollow", {}, "the secret expired on 2026-01-01"),
        ("zinker", SECRET, "tarnhollow", {"consent": False}, "an administrator has to consent first"),
        ("zinker", SECRET, "nowhere", {}, "is not the address of a tenant"),
        ("zinker", "", "tarnhollow", {}, "the password of zinker is neither in ZINKER_SECRET_"),
    ],
)
def test_accounts_that_do_not_get_in_are_told_why(tenants, client, secret, tenant, faults, says):
    tenants.place("other", tenant, client)
    tenants.faults(**faults)
    env = {"ZINKER_SECRET_OTHER": secret} if secret else {}
    done = tenants("export", "garden-tenant", "--place", "other", code=None, env=env)
    assert done.code in (1, 3) and says in done.out + done.err, done
    assert SECRET not in done.out + done.err


def test_a_service_that_is_not_there_and_an_address_in_clear(tenants):
    assert tenants("places").out.count("answers") == 7
    tenants.place("wrong", "tarnhollow")
    assert "wrong is silent: the password of" in tenants("places", code=1).out
    tenants.stop()
    assert re.search(r"trial is silent: 127.0.0.1:\d+ cannot be reached", tenants("places", code=1).out)
    done = tenants("export", "garden-tenant", "--place", "trial", code=None)
    assert done.code in (1, 3) and "cannot be reached" in done.out + done.err
    tenants.place("clear", "x")
    path = tenants.home / "zinker.toml"
    path.write_text(
        path.read_text().replace(f'"http://127.0.0.1:{tenants.port}/x/api"', '"http://tenants.example/x"')
    )
    assert "is not encrypted, and would carry secrets in clear" in tenants("places", code=2).err


def test_a_certificate_that_does_not_hold_is_refused(tenants):
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "127.0.0.1")])
    now = datetime.datetime.now(datetime.UTC)
    made = x509.CertificateBuilder(name, name, key.public_key(), 1, now, now + datetime.timedelta(days=1))
    pem = made.sign(key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM)
    form = serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    file = tenants.path / "own.pem"
    file.write_bytes(pem + key.private_bytes(serialization.Encoding.PEM, *form))
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(file)
    asked = []
    with socket.create_server(("127.0.0.1", 0)) as plain, context.wrap_socket(plain, True) as server:

        def answer():
            with contextlib.suppress(OSError):
                asked.append(server.accept()[0].recv(100))

        thread = threading.Thread(target=answer, daemon=True)
        thread.start()
        tenants.port = plain.getsockname()[1] if plain.fileno() >= 0 else server.getsockname()[1]
        tenants.place("other", "tarnhollow")
        path = tenants.home / "zinker.toml"
        path.write_text(
            path.read_text().replace(f"http://127.0.0.1:{tenants.port}", f"https://127.0.0.1:{tenants.port}")
        )
        done = tenants(
            "export", "garden-tenant", "--place", "other", code=3, env={"ZINKER_SECRET_OTHER": SECRET}
        )
        assert "has a certificate that does not hold" in done.err and not asked


def test_a_crosswalk_is_proposed_from_two_tenants(tenants):
    tenants("crosswalk", "new", "trial", "tarnhollow", "--subject", "garden-tenant", "--to", "go.toml")
    text = (tenants.path / "go.toml").read_text()
    assert "'Trial gardeners' = 'Gardeners'\n'Trial kiosks' = 'Kiosks'" in text and "[[move]]" not in text
    assert "2 groups or users" in tenants("crosswalk", "check", "go.toml").out


def test_a_next_page_elsewhere_is_not_followed(tmp_path):
    tenants = Tenants(tmp_path / "garden", policies=600)
    try:
        with socket.create_server(("127.0.0.1", 0)) as elsewhere:
            elsewhere.settimeout(0)
            tenants.faults(stray=f"127.0.0.1:{elsewhere.getsockname()[1]}")
            done = tenants("export", "garden-tenant", "--place", "trial", code=3)
            assert "the next page of WorkstationRules would be at http://127.0.0.1:" in done.err
            with pytest.raises(BlockingIOError):
                elsewhere.accept()  # the token went nowhere
    finally:
        tenants.stop()


@pytest.mark.parametrize("depth", [200, 950, 100_000])
def test_a_policy_nested_without_end_is_named_and_the_others_are_read(tmp_path, depth):
    deep = b'{"id": "1", "name": "Deep", "v": ' + b"[" * depth + b"]" * depth + b"}"
    answers = {
        "/api/Errands": b'{"value": [{"id": "1", "name": "Deep"}, {"id": "2", "name": "Plain"}]}',
        "/api/Errands('1')": deep,
        "/api/Errands('2')": b'{"id": "2", "name": "Plain", "v": 1}',
    }

    class Line(Connection):
        def send(self, method, url, *more, **named):
            path = url.removeprefix("http://a.example").partition("?")[0]
            return Answer(url, 200 if path in answers else 404, httpx2.Headers(), answers.get(path, b""))

    class SignIn:
        service = Service(place="a", root="http://a.example/api")

        def token(self):
            return "a token"

    tenant = Tenant(Api(Line(SignIn.service), SignIn()), Unfinished(tmp_path / "x", lambda: bytes(32)))
    home = TenantHome(tenant, tenant.collection("Errands", PolicyShape(one_by_one=True)))
    assert home.documents() == ["Deep", "Plain"]
    reading = home.read("Deep")
    if depth != 950:  # which some Pythons can read, and others cannot
        assert reading.is_readable == (depth == 200)
    assert reading.is_readable or "nested too deeply" in reading.troubles[0].why
    assert home.read("Plain").leaves["/v"].value == 1
    tenant.api.connection.close()


@pytest.mark.soak
def test_a_service_that_takes_two_at_a_time_gets_no_more(tmp_path):
    tenants = Tenants(tmp_path / "garden", policies=150, collection="StartingSets")
    try:
        tenants.faults(concurrent=2, delay=0.02, retry_after=1)
        assert "150 policies" in tenants("export", "garden-tenant", "--place", "trial").out
        refused = [line for line in tenants.log() if line["status"] == 429]
        assert 0 < len(refused) < 40  # with eight at a time all along, it would be most of them
    finally:
        tenants.stop()


def test_a_person_signs_in_at_another_device(tenants):
    tenants.place("person", "tarnhollow-trial", more='sign_in = "device"')
    tenants.faults(delay=0.2, token_seconds=0.3)
    command = [*COMMAND, "export", "garden-tenant", "--place", "person"]
    waiting = subprocess.Popen(
        command, cwd=tenants.path, env=tenants.env, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    found = (re.search(r"open (\S+) and enter (\d+)", told) for told in iter(waiting.stderr.readline, ""))
    url, code = next(filter(None, found)).groups()
    urllib.request.urlopen(f"{url}?code={code}").read()
    out, err = waiting.communicate(timeout=60)
    assert waiting.returncode == 0 and "House rules" in out, err
    # Tokens that ran out on the way were refreshed, and nobody was asked again.
    assert 401 in {line["status"] for line in tenants.log()} and "enter" not in err


@pytest.mark.soak
def test_a_thousand_policies_through_a_bad_line_without_twins(tmp_path):
    tenants = Tenants(tmp_path / "garden", policies=1000, collection="StartingSets")
    try:
        tenants.faults(throttled=0.05, failed=0.05, cut=0.02, lost=0.02, token_seconds=2, retry_after=0)
        done = tenants("export", "garden-tenant", "--place", "trial", "--label", "all")
        assert "1,000 policies, 16,000 settings" in done.out
        changed = ("--suffix", " (trial)", "--part", "starting-sets")
        tenants("import", "garden-tenant@all", *LIVE, *changed)
        found = json.loads((tenants.folder / "tarnhollow.json").read_bytes())["collections"]["StartingSets"]
        names = sorted(policy["name"] for policy in found.values())
        assert len(names) == len(set(names)) == 2000
        assert {line["status"] for line in tenants.log()} >= {200, 401, 429, 500, 503}
    finally:
        tenants.stop()


def test_an_export_that_was_cut_off_goes_on(tmp_path):
    tenants = Tenants(tmp_path / "garden", policies=200, collection="StartingSets")
    try:
        tenants.faults(delay=0.1)
        asked = tenants.written(60, ("('",))
        code, _ = run(tenants, ["export", "garden-tenant", "--place", "trial"], asked)
        items = lambda: [line for line in tenants.log("GET") if "('" in line["path"]]  # noqa: E731
        first = len(items())
        assert code == -9 and 0 < first < 200
        [held] = (tenants.home / "unfinished").iterdir()  # what has been read so far, for nobody else's eyes
        assert held.stat().st_mode & 0o77 == 0 and b"Bench" not in held.read_bytes()
        tenants("export", "garden-tenant", "--place", "trial")
        assert 200 <= len(items()) <= 200 + 30  # the few that were on their way are asked for again
        assert not list((tenants.home / "unfinished").iterdir())
    finally:
        tenants.stop()


@pytest.mark.soak
def test_an_import_killed_at_50_random_instants_comes_to_the_same_end(tenants):
    import zinker.cli.undo_command
    import zinker.stores.tenants.home  # noqa: F401 - what every run needs is here before it forks

    parts = ("--part", "house-rules", "--part", "programs", "--part", "workstation-rules")
    tenants("export", "garden-tenant", "--place", "trial", "--label", "set", *parts)
    before = tenants.meaning()
    importing = ["import", "garden-tenant@set", *LIVE]
    undo = ["undo", "--yes", "--live", "tarnhollow"]
    tenants.faults(delay=0.005)
    earlier = len(tenants.log("POST", "PATCH"))
    code, things = run(tenants, importing)
    writes = len(tenants.log("POST", "PATCH")) - earlier
    wanted = tenants.meaning()
    assert code == 0 and run(tenants, undo)[0] == 0 and tenants.meaning() == before
    shelf = tenants.path.parent / "shelf"
    shutil.copytree(tenants.path / "shelf", shelf)
    dice, cut = random.Random(5), 0
    for number in range(50):
        # At any of the things that it does, or when so many policies have been written.
        instant = dice.randrange(things // 4, things) if number % 2 else dice.randrange(1, writes // 2 + 1)
        code, _ = run(tenants, importing, instant if number % 2 else tenants.written(instant))
        cut += code == -9 and tenants.meaning() not in (before, wanted)
        assert run(tenants, importing)[0] == 0, (number, instant)
        assert tenants.meaning() == wanted, (number, instant)
        state = json.loads((tenants.folder / "tarnhollow.json").read_bytes())
        held = sum(map(len, state["collections"].values()))
        assert held == sum(map(len, wanted.values()))  # no twins: those would have one name
        # Take all of it back, whatever changes it took.
        done = [c for c in changes(tenants.setup, place="tarnhollow") if c.state in ("done", "partly")]
        for _ in [change for change in done if change.kind == "import"]:
            code = run(tenants, undo)[0]
            said = (
                tenants.path.parent / "said"
            ).read_text()  # nothing is left of one that had written nothing yet
            assert code in (0, 1) or "is left to undo" in said, (number, instant, said)
        assert tenants.meaning() == before, (number, instant)
        shutil.rmtree(tenants.path / "shelf")
        shutil.copytree(shelf, tenants.path / "shelf")
    assert cut > 3, (cut, writes)  # some were killed between two policies

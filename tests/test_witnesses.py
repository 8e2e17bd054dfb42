"""Tenants on servers that nobody here wrote: OData 4, OAuth 2.0 and SCIM, with the real command."""

import base64
import contextlib
import json
import os
import re
import subprocess
import sys
import tomllib
from pathlib import Path
from urllib.parse import quote_plus

import httpx2
import pytest
from conformance.fetched import npm_modules
from conftest import COMMAND, Garden
from jwcrypto import jwk

from zinker.demo.ports import free_port
from zinker.jobs import Keeping, Wishes, export, import_profile, load_setup

WITNESS = Path(__file__).parent / "witness"
SECRET = "a heron & 100% of the pond: +"
MODULES = ("odata-v4-server@0.2.13", "odata-v4-inmemory@0.1.9", "oidc-provider@9.13.3")
PLACE = """
[places.{name}]
kind = "tenant"
address = "http://127.0.0.1:{api}/{tenant}/odata"
issuer = "http://127.0.0.1:{issuer}"
directory = "http://127.0.0.1:{people}/{tenant}/v2"
client_id = "{client}"
scopes = ["policies"]
resource = "http://127.0.0.1:{api}/{tenant}/odata"
{more}
"""
DOCS = (Path(__file__).parent.parent / "docs/reference.md").read_text(encoding="utf-8")
SUBJECT = next(
    block for block in re.findall(r"```toml\n(.*?)```", DOCS, re.S) if block.startswith("# glass.")
)
GROUPS = {"glade": ["Trial kiosks", "Everybody"], "meadow": ["Kiosks", "Everybody"]}


class Witnesses(Garden):
    """A garden whose tenants are on other people's servers."""

    def __init__(self, path):
        super().__init__(path)
        self.modules = npm_modules(*MODULES)
        self.ports = {name: free_port() for name in ("api", "issuer", "people")}
        self.running = []
        self.key = jwk.JWK.generate(kty="EC", crv="P-256")

    def serve(self):
        """Start the servers, and fill the tenants."""
        roots = [f"http://127.0.0.1:{self.ports['api']}/{tenant}/odata" for tenant in GROUPS]
        keys = json.dumps({"keys": [json.loads(self.key.export_public())]})
        self.issuer = f"http://127.0.0.1:{self.ports['issuer']}"
        self.start(["node", WITNESS / "issuer.mjs", self.ports["issuer"], *roots], keys)
        self.start(["node", WITNESS / "odata.cjs", self.ports["api"], self.issuer])
        self.start([sys.executable, WITNESS / "people.py", self.ports["people"], self.issuer])
        self.token = self.signed_in()
        self.groups = {
            tenant: {name: self.group(tenant, name) for name in GROUPS[tenant]} for tenant in GROUPS
        }
        self.state(glade=self.glade(), meadow=self.meadow())
        (self.path / "subjects/glass.subject.toml").write_text(SUBJECT)
        self.place("glade", "glade", "by header")
        self.place("meadow", "meadow", "by-form", "live = true")
        self.env |= {"ZINKER_SECRET_GLADE": SECRET, "ZINKER_SECRET_MEADOW": SECRET}

    def start(self, command, given=""):
        env = self.env | {"NODE_PATH": str(self.modules / "node_modules")}
        one = subprocess.Popen(
            [*map(str, command)],
            env=env,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
        )
        self.running.append(one)
        with contextlib.suppress(BrokenPipeError):
            one.stdin.write(given)
            one.stdin.close()
        if one.stdout.readline().strip() != "ready":
            raise ChildProcessError(command)

    def stop(self):
        for one in self.running:
            one.kill()
            one.wait()
            one.stdout.close()

    def place(self, name, tenant, client, more=""):
        with (self.home / "zinker.toml").open("a") as file:
            file.write(PLACE.format(name=name, tenant=tenant, client=client, more=more, **self.ports))

    def signed_in(self):
        own = base64.b64encode(f"by+header:{quote_plus(SECRET)}".encode()).decode()
        form = {"grant_type": "client_credentials", "scope": "policies"}
        answer = httpx2.post(f"{self.issuer}/token", data=form, headers={"Authorization": f"Basic {own}"})
        return answer.json()["access_token"]

    def group(self, tenant, name):
        url = f"http://127.0.0.1:{self.ports['people']}/{tenant}/v2/Groups"
        given = {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"], "displayName": name}
        headers = {"Authorization": f"Bearer {self.token}", "Content-Type": "application/scim+json"}
        answer = httpx2.post(url, content=json.dumps(given), headers=headers)
        assert answer.status_code == 201, answer.text
        return answer.json()["id"]

    def state(self, **given):
        """Return what the service has by tenant, collection and name; first give it something."""
        url = f"http://127.0.0.1:{self.ports['api']}/state"
        if given:
            httpx2.post(url, json=given)
        names = {"Beds": "title", "Shelves": "label", "Soils": "code", "Crews": "title"}
        return {
            tenant: {name: {one[title]: one for one in state[name]} for name, title in names.items()}
            for tenant, state in httpx2.get(url).json().items()
        }

    def glade(self):
        shelf = "8ABF2E00-a041-44c4-a839-49413ee2daec"
        bed = {
            "open": True,
            "touchedBy": "ivy@tarnhollow.example",
            "touchedIn": "glade",
            "after": None,
            "shelf": shelf,
        }
        kiosks = [{"code": "0", "group": self.groups["glade"]["Trial kiosks"], "how": "with"}]
        return {
            "Soils": [{"code": "it's clay", "says": "heavy"}, {"code": "loam, fine", "says": None}],
            "Crews": [{"code": 1, "title": "Early"}, {"code": 2, "title": "Late"}],
            "Shelves": [{"ref": shelf, "label": "Upper", "soil": "it's clay", "members": [1, 2]}],
            "Beds": [
                bed
                | {"no": 3, "title": "Ferns", "marks": ["wet", "dim"], "price": 0.1, "due": "2026-03-01"}
                | {"spot": {"row": 1, "column": 2}, "people": kiosks},
                bed
                | {"no": 4, "title": "Mosses", "marks": [], "price": 1e21, "due": None, "after": 3}
                | {"spot": None, "people": []},
            ],
        }

    def meadow(self):
        bed = {
            "open": False,
            "touchedBy": "fern@tarnhollow.example",
            "touchedIn": "meadow",
            "after": None,
            "shelf": None,
        }
        return {
            "Soils": [{"code": "it's clay", "says": "light"}],
            "Crews": [{"code": 77, "title": "Late"}],
            "Beds": [
                bed
                | {"no": 12, "title": "Ferns", "marks": ["dim"], "price": 0.1, "due": "2026-03-01"}
                | {"spot": {"row": 1, "column": 9}, "people": []}
            ],
        }


@pytest.fixture
def witnesses(tmp_path):
    for number in range(5):  # a port that was free may be somebody else's by now
        witnesses = Witnesses(tmp_path / f"garden-{number}")
        with contextlib.suppress(ChildProcessError):
            witnesses.serve()
            break
        witnesses.stop()
    yield witnesses
    witnesses.stop()


LIVE = ("--place", "meadow", "--live", "meadow", "--adopt", "--yes")


def test_policies_go_from_tenant_to_tenant_of_somebody_elses_service(witnesses):
    """Captured, compared, translated, brought with references of three types and with groups, and taken back."""
    witnesses("export", "glass", "--place", "glade", "--label", "set")
    shown = witnesses("show", "glass", "--json").json["settings"]
    values = {(s["document"], s["address"]): s["value"] for s in shown}
    assert values["Mosses", "/after"] == "Ferns" and values["Mosses", "/shelf"] == "Upper"
    assert values["Upper", "/soil"] == "it's clay" and values["Upper", "/crews"] == ["Early", "Late"]
    assert values["Ferns", "/people/Trial kiosks/how"] == "with" and values["Ferns", "/price"] == 0.1
    assert values["Ferns", "/@server/no"] == "3" and not [at for _, at in values if "@odata" in at]
    compared = witnesses("compare", "glade:glass", "meadow:glass", code=1).out
    assert "last changed by fern@tarnhollow.example" in compared and "was 2, now 9" in compared
    before = witnesses.state()
    witnesses("crosswalk", "new", "glade", "meadow", "--subject", "glass", "--to", "go.toml")
    assert "'Trial kiosks' = 'Kiosks'" in (witnesses.path / "go.toml").read_text()
    wanted = ("import", "glass@set", *LIVE, "--for-whom", "--crosswalk", "go.toml")
    told = " ".join(witnesses(*wanted, "--preview").out.split())
    assert told.count("Beds are written unguarded, since the service lists them without ETags") == 1
    assert witnesses.state() == before
    witnesses(*wanted)
    after = witnesses.state()["meadow"]
    ferns, mosses, upper = after["Beds"]["Ferns"], after["Beds"]["Mosses"], after["Shelves"]["Upper"]
    assert [one["group"] for one in ferns["people"]] == [witnesses.groups["meadow"]["Kiosks"]]
    assert (ferns["no"], ferns["spot"], ferns["marks"]) == (12, {"row": 1, "column": 2}, ["dim", "wet"])
    assert mosses["after"] == 12 and mosses["shelf"] == upper["ref"] and mosses["price"] == 1e21
    assert {after["Crews"]["Early"]["code"], 77} == set(upper["members"]) and upper["soil"] == "it's clay"
    rules = ("--crosswalk", "go.toml")
    assert "No differences" in witnesses("compare", "glass@set", "meadow:glass", *rules).out
    witnesses("undo", "--live", "meadow", "--yes")
    assert witnesses.state() == before


def test_what_somebody_else_changes_meanwhile_is_left_alone_without_etags(witnesses, monkeypatch):
    for name, value in witnesses.env.items():
        if name.startswith("ZINKER"):
            monkeypatch.setenv(name, value)
    setup = load_setup()
    export(setup, "glass", "glade", Keeping(label="set"))
    told = []

    def while_written(what, done, total):
        if what == "Writing" and not told:
            told.append(done)
            beds = witnesses.meadow()["Beds"]
            witnesses.state(meadow={"Beds": [beds[0] | {"open": True}]})

    wishes = Wishes(overruled=frozenset({"adopt", "live"}))
    setup = load_setup()
    setup.progress = while_written
    outcome = import_profile(setup, "glass@set", "meadow", wishes)
    left = {(item.document, item.why) for item in outcome.left}
    assert ("Ferns", "it has changed since the plan was made, so it was left alone") in left
    assert witnesses.state()["meadow"]["Beds"]["Ferns"]["spot"] == {"row": 1, "column": 9}


def test_every_way_to_sign_in_that_the_metadata_names(witnesses):
    key = witnesses.path / "own.key"
    key.write_bytes(witnesses.key.export_to_pem(private_key=True, password=None))
    witnesses.place("key", "glade", "by-key", f'sign_in = "key"\ncredential = "{key}"')
    assert "can be read by others, too" in witnesses("export", "glass", "--place", "key", code=3).err
    key.chmod(0o600)
    witnesses("export", "glass", "--place", "key")
    # The private key of somebody else, a wrong secret, and a resource that the issuer does not know.
    key.write_text(jwk.JWK.generate(kty="RSA", size=2048).export())
    assert "does not know the account" in witnesses("export", "glass", "--place", "key", code=3).err
    env = {"ZINKER_SECRET_GLADE": "wrong"}
    done = witnesses("export", "glass", "--place", "glade", code=3, env=env)
    assert "does not know the account or its secret" in done.err and SECRET not in done.err
    toml = witnesses.home / "zinker.toml"
    own = toml.read_text()
    toml.write_text(
        own.replace(
            f'resource = "http://127.0.0.1:{witnesses.ports["api"]}/glade', 'resource = "http://x/glade'
        )
    )
    done = witnesses("export", "glass", "--place", "glade", code=3)
    assert "gives out no tokens for what `resource` or `audience` names" in done.err
    # Without scopes the service does not let us in; without an issuer, it is asked who that is.
    toml.write_text(own.replace('scopes = ["policies"]\n', ""))
    assert "Who are you? (401 Unauthorized)" in witnesses("export", "glass", "--place", "glade", code=3).err
    toml.write_text(own.replace(f'issuer = "{witnesses.issuer}"\n', ""))
    done = witnesses("export", "glass", "--place", "glade", code=3)
    assert f'add issuer = "{witnesses.issuer}" to its entry' in done.err
    toml.write_text(own.replace(f'issuer = "{witnesses.issuer}"', f'issuer = "{witnesses.issuer}/"'))
    assert "is of another issuer" in witnesses("export", "glass", "--place", "glade", code=3).err


def test_a_subject_file_is_drafted_from_what_a_service_says_of_itself(witnesses):
    witnesses("subjects", "new", "drafted", "--place", "glade", "--to", ".")
    path = witnesses.path / "drafted.subject.toml"
    witnesses("subjects", "check", path)
    parts = {part["path"]: part["policy"] for part in tomllib.loads(path.read_text())["part"]}
    assert {name: (policy["name"], policy["id"]) for name, policy in parts.items()} == {
        "Beds": ("title", "no"),
        "Shelves": ("label", "ref"),
        "Soils": ("code", "code"),
        "Crews": ("title", "code"),
    }
    assert parts["Beds"]["server"] == ["touchedIn"] and parts["Beds"]["changed_by"] == "touchedBy"
    assert parts["Shelves"]["links"] == {"crews": {"write": "ref", "to": "Crews"}}
    path.rename(witnesses.path / "subjects/drafted.subject.toml")
    witnesses("export", "drafted", "--place", "glade")
    why = witnesses("subjects", "new", "one", "--place", "glade", "--home", "Bed", code=2).err
    assert "Beds" in why


def approve(page, code):
    """Do what a person does at another device: enter the code, sign in, and allow it."""
    with httpx2.Client(follow_redirects=True) as browser:
        answer = browser.get(page)
        given = {"user_code": code, "login": "ivy", "password": "any"}
        for _ in range(6):
            form = re.search(r"<form[^>]*>", answer.text)
            if form is None:
                return
            action = re.search(r'action="([^"]*)"', form[0])
            fields = re.findall(r'<input[^>]*name="([^"]*)"(?:[^>]*value="([^"]*)")?', answer.text)
            target = str(answer.url.join(action[1])) if action else str(answer.url)
            data = {name: given.get(name, value) for name, value in fields if name != "abort"}
            answer = browser.post(target, data=data)
    raise AssertionError(answer.text)


def test_what_a_person_has_granted_once_lets_nightly_runs_in(witnesses):
    held = witnesses.path / "grant"
    witnesses.place("person", "glade", "by-person", f'sign_in = "device"\ncredential = "{held}"')
    nightly = ("export", "glass", "--place", "person")
    why = witnesses(*nightly, code=3).err
    assert "nobody has signed in yet" in why and "Run `zinker places` at a terminal" in why
    reading, terminal = os.openpty()  # a person is at it
    run = subprocess.Popen(
        [*COMMAND, *nightly], cwd=witnesses.path, env=witnesses.env, stderr=terminal, stdout=subprocess.PIPE
    )
    seen = ""
    while not (found := re.search(r"open (\S+) and enter ([\w-]+)\.", seen)):
        seen += os.read(reading, 4096).decode()
    approve(*found.groups())
    assert run.wait(120) == 0, run.stdout.read()
    run.stdout.close()
    assert held.stat().st_mode & 0o77 == 0
    first = json.loads(held.read_bytes())
    assert "Beds" in witnesses(*nightly).out
    later = json.loads(held.read_bytes())  # the issuer gives out another one each time
    assert first["refresh_token"] != later["refresh_token"] and first["since"] == later["since"]
    assert "by-person by a person at another device, from" in witnesses("places").out
    httpx2.post(
        f"{witnesses.issuer}/token/revocation",
        data={"token": later["refresh_token"], "client_id": "by-person"},
    )
    for _ in range(2):  # each night anew
        why = witnesses(*nightly, code=3).err
        assert why.count(f"the grant that a person gave on {first['since']} has run out") == 1
    assert "The newest version from person is glass@1, last right today; nothing is kept now." in why
    for fd in (reading, terminal):
        os.close(fd)


def test_the_places_and_rounds_of_the_documentation_can_be_configured(tmp_path):
    found = re.findall(r"```toml\n(.*?)```", DOCS, re.S)
    blocks = [block for block in found if "[places." in block or "[rounds." in block]
    assert len(blocks) == 5
    for number, block in enumerate(blocks):
        path = tmp_path / f"{number}.toml"
        path.write_text(block, encoding="utf-8")
        setup = load_setup(path)
        assert len(setup.places) > 1 or setup.rounds

"""Tenants of services that are odd, tired, hostile or nothing of the kind, each answer written by hand."""

import http.server
import itertools
import json
import re
import signal
import socket
import subprocess
import threading
import time
import zlib

import pytest
from conftest import COMMAND, MEASURED, Garden

SUBJECT = """
format = 1
id = "things"
title = "Things"

[[part]]
id = "things"
store = "tenant"
path = "Things"
[part.policy]
groups = ["/whom"]
references = { "/after" = "Things" }
"""


def answer(value, status=200, **headers):
    """An answer of JSON."""
    return status, {"Content-Type": "application/json", **headers}, json.dumps(value).encode()


def inline(value):
    """A value as TOML has it."""
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{key} = {inline(one)}" for key, one in value.items()) + " }"
    return json.dumps(value)


class Unkind(Garden):
    """A garden with one tenant, whose service answers what `answers` has for a method and a path."""

    def __init__(self, path):
        super().__init__(path)
        self.asked, self.answers, self.things = [], {}, {}
        outer = self

        class Handler(http.server.BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def log_message(self, *told):
                pass

            def handle_any(self):
                length = int(self.headers.get("Content-Length") or 0)
                body = self.rfile.read(length)
                path = self.path.partition("?")[0]
                outer.asked.append((self.command, self.path, dict(self.headers), body))
                found = outer.answers.get((self.command, path)) or outer.usual(self.command, path)
                status, headers, data = found(self.path, body) if callable(found) else found
                self.send_response(status)
                for name, value in headers.items():
                    self.send_header(name.replace("_", "-"), value)
                if isinstance(data, bytes):
                    self.send_header("Content-Length", str(len(data)))
                    self.end_headers()
                    self.wfile.write(data)
                    return
                self.send_header("Connection", "close")
                self.end_headers()
                self.close_connection = True
                try:
                    for piece in data:
                        self.wfile.write(piece)
                        self.wfile.flush()
                except OSError:
                    pass  # whoever asked has gone

            do_GET = do_POST = do_PATCH = do_DELETE = handle_any

        self.server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.server.daemon_threads = True
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.base = f"http://127.0.0.1:{self.server.server_address[1]}"
        (self.path / "subjects/things.subject.toml").write_text(SUBJECT)
        self.place("odd")
        self.env |= {"ZINKER_SECRET_ODD": "a heron"}

    def place(self, name, **more):
        entry = {
            "kind": "tenant",
            "address": f"{self.base}/api",
            "issuer": f"{self.base}/issuer",
            "directory": f"{self.base}/scim",
            "client_id": "zinker",
            **more,
        }
        lines = "\n".join(f"{key} = {inline(value)}" for key, value in entry.items())
        toml = self.home / "zinker.toml"
        toml.write_text(f"{toml.read_text().partition(f'[places.{name}]')[0]}\n[places.{name}]\n{lines}\n")

    def limits(self, **limits):
        with (self.home / "zinker.toml").open("a") as file:
            file.write(
                "[places.odd.limits]\n" + "".join(f"{name} = {value}\n" for name, value in limits.items())
            )

    def usual(self, method, path):
        """What a kind service would say."""
        item = re.fullmatch(r"/api/Things\('(.*)'\)", path)
        if path == "/.well-known/oauth-authorization-server/issuer":
            return answer({"issuer": f"{self.base}/issuer", "token_endpoint": f"{self.base}/token"})
        if path == "/token":
            return answer({"access_token": "abc", "token_type": "bearer"})
        if (method, path) == ("GET", "/api/Things"):
            return answer({"value": list(self.things.values())})
        if method == "GET" and item and item[1] in self.things:
            return answer(self.things[item[1]])
        if path == "/scim/Groups":
            return answer({"totalResults": 1, "Resources": [{"id": "g1", "displayName": "Kiosks"}]})
        return answer({"error": {"message": "There is none"}}, 404)

    def times(self, method, path):
        return sum((one[0], one[1].partition("?")[0]) == (method, path) for one in self.asked)

    def export(self, **more):
        return self("export", "things", "--place", "odd", code=None, **more)

    def read(self):
        """Export, and return what of the settings has been kept, by document and address."""
        done = self.export()
        assert done.code == 0, done
        shown = self("show", "things", "--json").json["settings"]
        return {(s["document"], s["address"]): s["value"] for s in shown}


@pytest.fixture
def unkind(tmp_path):
    unkind = Unkind(tmp_path / "garden")
    unkind.things = {"1": {"id": "1", "name": "One", "@odata.etag": "a"}}
    yield unkind
    unkind.server.shutdown()
    unkind.server.server_close()


META = ("GET", "/.well-known/oauth-authorization-server/issuer")


def test_no_secret_goes_to_a_stranger_or_over_an_open_line(unkind):
    with socket.create_server(("127.0.0.1", 0)) as elsewhere:
        elsewhere.settimeout(0)
        stranger = f"127.0.0.1:{elsewhere.getsockname()[1]}"
        for end, why in (
            (
                "HTTP://tenants.example/token",
                "would have secrets sent in clear, to HTTP://tenants.example/token",
            ),
            (f"http://{stranger}/token", f"is at {stranger}, which zinker.toml does not name"),
            ("ftp://127.0.0.1/token", "would have secrets sent in clear"),
            ("https://[::1/token", "which is no address"),
        ):
            unkind.answers[META] = answer({"issuer": f"{unkind.base}/issuer", "token_endpoint": end})
            done = unkind.export()
            assert done.code == 3 and why in done.err, done
        unkind.answers[META] = answer(
            {"issuer": f"{unkind.base}/other", "token_endpoint": f"{unkind.base}/token"}
        )
        assert "is of another issuer" in unkind.export().err
        del unkind.answers[META]
        for token in ({"token_type": "mac"}, {}, {"access_token": 5}, {"access_token": "a\r\nb"}):
            given = {"access_token": "abc", "token_type": "bearer", **token}
            given = given if token else {"access_token": "abc"}
            unkind.answers["POST", "/token"] = answer(given)
            done = unkind.export()
            assert done.code == 3 and "gave out" in done.err, done
        with pytest.raises(BlockingIOError):
            elsewhere.accept()  # nothing went there
    assert not unkind.times("GET", "/api/Things")


def test_trouble_at_the_token_service_is_trouble_and_passes(unkind):
    said = iter([answer({}, 503), (429, {}, b""), (429, {"Retry-After": "Sun Nov  6 08:49:37 1994"}, b"")])
    good = unkind.usual("POST", "/token")
    unkind.answers["POST", "/token"] = lambda *asked: next(said, good)
    assert unkind.read()[("One", "/@server/id")] == "1"
    for odd in (
        (500, {}, b"<html><title>Down for\x1b[2J a while</title>"),
        (200, {}, b"<html>"),
        answer([1]),
    ):
        unkind.answers["POST", "/token"] = odd
        done = unkind.export()
        assert done.code == 3 and "No answer from odd" in done.err and "\x1b" not in done.err, done
    unkind.answers["POST", "/token"] = (500, {}, b"<html><title>Down for\x1b[2J a while</title>")
    assert r"Down for\x1b[2J a while (500" in unkind.export().err


@pytest.mark.parametrize(
    ("wait", "why"),
    [
        ("Fri, 31 Dec 2100 23:59:59 GMT", "asks for patience until 2100-"),
        ("100000000", "asks for patience until"),
    ],
)
def test_patience_has_an_end(unkind, wait, why):
    unkind.answers["GET", "/api/Things"] = (429, {"Retry-After": wait}, b"")
    done = unkind.export()
    assert done.code == 3 and why in done.out + done.err, done


def test_lists_without_end_end(unkind):
    unkind.answers["GET", "/api/Things"] = answer({"value": [], "@odata.nextLink": "Things?page=2"})
    assert "go in a circle" in unkind.export().err

    def more(path, body):
        number = int(path.partition("page=")[2] or 0) + 1
        return answer({"value": [], "@nextLink": f"Things?page={number}"})

    unkind.answers["GET", "/api/Things"] = more
    assert "goes on and on, and brings nothing new" in unkind.export().err
    unkind.limits(pages=20)
    assert "has more than the 20 pages that its entry in zinker.toml allows" in unkind.export().err
    unkind.answers["GET", "/api/Things"] = answer({"value": [], "@odata.nextLink": "http://[::1/api"})
    assert "is not followed" in unkind.export().err


def dripping():
    yield b'{"value": ['
    for _ in range(10_000):
        time.sleep(0.1)
        yield b" "


def test_who_drips_is_left_and_an_interrupt_ends_at_once(unkind):
    unkind.answers["GET", "/api/Things"] = lambda *asked: (200, {}, dripping())
    unkind.limits(seconds=1)
    assert "did not come to an end within 1 seconds" in unkind.export().err
    unkind.place("odd")
    command = [*COMMAND, "export", "things", "--place", "odd"]
    asked = unkind.times("GET", "/api/Things")
    run = subprocess.Popen(
        command, cwd=unkind.path, env=unkind.env, stderr=subprocess.PIPE, stdout=subprocess.PIPE
    )
    while unkind.times("GET", "/api/Things") == asked:
        time.sleep(0.01)
    run.send_signal(signal.SIGINT)
    assert run.wait(60) == 3  # a dripping answer would take a quarter of an hour
    run.communicate()


def test_answers_that_unpack_without_end_cannot_be_unpacked_or_nest_without_end(unkind):
    packer = zlib.compressobj(wbits=16 + zlib.MAX_WBITS)  # in pieces: what this process has held counts, too
    pieces = [b'{"value": [', *([b" " * 1024 * 1024] * 500), b"]}"]
    packed = b"".join([*map(packer.compress, pieces), packer.flush()])
    unkind.answers["GET", "/api/Things"] = (200, {"Content-Encoding": "gzip"}, packed)
    done = unkind.export(wrapper=MEASURED)
    assert done.code == 3 and "more than the 64 MB that its entry in zinker.toml allows" in done.err
    assert int(done.err.split()[-1]) < 300 * 1024
    unkind.answers["GET", "/api/Things"] = (200, {"Content-Encoding": "gzip"}, packed[:5000])
    assert "cannot be unpacked" in unkind.export().err
    unkind.answers["GET", "/api/Things"] = (200, {"Content-Encoding": "gzip"}, b"plain")
    assert "cannot be unpacked" in unkind.export().err
    unkind.answers["GET", "/api/Things"] = (200, {"Content-Encoding": "br"}, b"plain")
    assert "in an encoding that was not asked for: br" in unkind.export().err
    unkind.answers["GET", "/api/Things"] = (200, {}, b'{"value": [' + b"{}," * 3_000_000 + b"{}]}")
    done = unkind.export(wrapper=MEASURED)
    assert "more than 2,000,000 values" in done.err and int(done.err.split()[-1]) < 300 * 1024
    deep = b'{"id": "2", "name": "Deep", "v": ' + b"[" * 100_000 + b"]" * 100_000 + b"}"
    one = json.dumps(unkind.things["1"]).encode()
    unkind.answers["GET", "/api/Things"] = (200, {}, b'{"value": [' + one + b"," + deep + b"]}")
    done = unkind.export()
    assert (
        done.code == 1
        and "1 policy" in done.out
        and "Deep: what the service says of it cannot be read" in done.out
    )


def test_an_odd_item_costs_itself_and_an_odd_directory_no_policy(unkind):
    items = [
        None,
        5,
        {"name": "Nameless"},
        {"id": "1", "name": "One", "whom": ["g1", 7]},
        {"id": "1", "name": "One"},
    ]
    unkind.answers["GET", "/api/Things"] = answer(
        {"value": [*items, {"id": 12, "name": 5}, {"id": "x", "name": None}]}
    )
    done = unkind.export()
    assert done.code == 1 and "number 3 of the list" in done.out and "it has no id" in done.out
    shown = unkind("show", "things", "--json", code=1).json["settings"]
    assert {s["document"] for s in shown} == {"One", "5", "x"}  # an item on two pages is one
    assert [s["value"] for s in shown if s["address"].startswith("/whom")] == [["Kiosks", 7]]
    for odd in (
        answer({"Resources": "none"}),
        answer({"totalResults": 10**9, "Resources": []}),
        (403, {}, b"No"),
    ):
        unkind.answers["GET", "/scim/Groups"] = odd
        unkind.answers["GET", "/api/Things"] = answer({"value": [{"id": "1", "name": "One", "whom": "g1"}]})
        done = unkind.export()
        shown = unkind("show", "things", "--json").json["settings"]
        assert [s["value"] for s in shown if s["address"] == "/whom"] == ["g1"]
    assert "groups are told by their ids, since their names cannot be read: No (403" in done.out


def test_values_come_exactly_and_what_is_said_about_them_is_none(unkind):
    exact = (
        b'{"@odata.etag": "x", "id": "1", "name": "One", "@odata.type": "#Garden.Glass", "v@odata.type": "#Int64", '
        b'"v": 9007199254740993, "price": 1.000000000000000000001, "due": "2026-01-02T03:04:05.123456789012Z", '
        b'"sub": {"@odata.id": "Things(2)", "a": 1.50}, "photo@odata.mediaReadLink": "x", "big": 1e400}'
    )
    unkind.answers["GET", "/api/Things"] = (200, {}, b'{"value": [' + exact + b"]}")
    found = unkind.read()
    assert {
        address: value for (_, address), value in found.items() if not address.startswith("/@server")
    } == {
        "/@odata.type": "#Garden.Glass",
        "/v@odata.type": "#Int64",
        "/v": "9007199254740993",
        "/price": "1.000000000000000000001",
        "/due": "2026-01-02T03:04:05.123456789012Z",
        "/sub/a": 1.5,
        "/big": "1e400",
    }


def test_a_new_policy_is_found_however_its_service_answers(unkind):
    source = {
        "1": {"id": "1", "name": "New", "@odata.type": "#Garden.Glass", "price": 0.10, "@odata.etag": "a"}
    }
    unkind.things = source
    unkind("export", "things", "--place", "odd", "--label", "set")
    sent = []

    def made(status, headers, data=b""):
        def create(path, body):
            sent.append(json.loads(body))
            new = {"é/1": {**sent[-1], "id": "é/1", "@odata.etag": "b"}}
            looks = itertools.count()
            # What is taken now may be made later, when the service comes to it.
            unkind.answers["GET", "/api/Things"] = lambda *asked: answer(
                {"value": list(new.values()) if next(looks) >= 3 or status != 202 else []}
            )
            unkind.things = new
            return status, headers, data

        return create

    where = f"{unkind.base}/api/Things('%C3%A9%2F1')"
    for status, headers, data in (
        (204, {"OData-EntityId": where}, b""),
        (201, {"Location": where}, b""),
        (202, {"Location": f"{unkind.base}/later"}, b""),
        (201, {}, b""),
        (201, {"Location": "http://tenants.example/x"}, b"no JSON"),
        (500, {}, json.dumps({"error": {"message": "It is done, though"}}).encode()),
    ):
        unkind.things = {}
        unkind.answers.pop(("GET", "/api/Things"), None)
        unkind.answers["POST", "/api/Things"] = made(status, headers, data)
        unkind.answers["GET", "/api/Things('%C3%A9%2F1')"] = lambda *asked: answer(
            next(iter(unkind.things.values()))
        )
        before = len(sent)
        unkind("import", "things@set", "--place", "odd", "--yes")
        assert len(sent) == before + 1 and sent[-1] == {
            "name": "New",
            "@odata.type": "#Garden.Glass",
            "price": 0.1,
        }
    asked = [headers for method, _, headers, _ in unkind.asked if method == "POST" and "Prefer" in headers]
    assert asked and all(headers["Prefer"] == "return=representation" for headers in asked)
    assert all(
        headers["OData-MaxVersion"] == "4.01" for method, path, headers, _ in unkind.asked if "/api/" in path
    )
    # What a service refuses for a reason is not sent again and again, and the reason is told.
    unkind.things = {}
    del unkind.answers["GET", "/api/Things"]
    unkind.answers["POST", "/api/Things"] = answer({"error": {"message": "No room\n" * 50}}, 500)
    before = unkind.times("POST", "/api/Things")
    done = unkind("import", "things@set", "--place", "odd", "--yes", code=1)
    assert "No room · No room · No room… (500 Internal Server Error)" in done.out
    assert unkind.times("POST", "/api/Things") - before <= 3
    unkind.answers["POST", "/api/Things"] = (307, {"Location": "http://tenants.example/api"}, b"")
    done = unkind("import", "things@set", "--place", "odd", "--yes", code=1)
    assert "has moved to http://tenants.example/api, which is not followed" in done.out


def test_two_groups_of_one_name_are_told_apart(unkind):
    groups = [{"id": "g1", "displayName": "Kiosks"}, {"id": "g2", "displayName": "Kiosks"}]
    unkind.answers["GET", "/scim/Groups"] = answer({"totalResults": 2, "Resources": groups})
    unkind.things = {"1": {"id": "1", "name": "One", "whom": ["g1", "g2"], "@odata.etag": "a"}}
    assert unkind.read()["One", "/whom"] == ["Kiosks [g1]", "Kiosks [g2]"]
    # What another tenant calls Kiosks may be either, until a crosswalk says which.
    unkind.answers["GET", "/scim/Groups"] = answer({"totalResults": 1, "Resources": groups[:1]})
    unkind.things["1"]["whom"] = ["g1"]
    unkind("export", "things", "--place", "odd", "--label", "one")
    unkind.answers["GET", "/scim/Groups"] = answer({"totalResults": 2, "Resources": groups})
    unkind.things = {"1": {"id": "1", "name": "One", "whom": [], "@etag": "b"}}
    done = unkind("import", "things@one", "--place", "odd", "--yes", code=1)
    assert (
        "there are 2 groups called Kiosks there; a crosswalk can say which: Kiosks [g1], Kiosks [g2]"
        in done.out
    )
    (unkind.path / "which.toml").write_text('format = 1\ngroups = { "Kiosks" = "Kiosks [g2]" }\n')

    def change(path, body):
        unkind.things["1"] |= json.loads(body)
        return 204, {}, b""

    unkind.answers["PATCH", "/api/Things('1')"] = change
    unkind("import", "things@one", "--place", "odd", "--yes", "--crosswalk", "which.toml")
    assert unkind.things["1"]["whom"] == ["g2"]
    assert [headers["If-Match"] for method, _, headers, _ in unkind.asked if method == "PATCH"] == ["b"]


def test_what_belongs_to_a_policy_can_be_asked_for_apart_and_written_with_it(unkind):
    links = 'links = { whom = { read = "apart" } }\nserver = ["/whom/*/no"]\nunordered = ["/whom"]\n'
    text = SUBJECT.replace('groups = ["/whom"]', 'groups = ["/whom/*/team"]') + links
    (unkind.path / "subjects/things.subject.toml").write_text(text)
    whom = [{"no": 1, "team": "g1", "how": "with"}, {"no": 2, "team": "g1", "how": "without"}]
    pages = {"": {"value": whom[:1], "@odata.nextLink": "whom?page=2"}, "page=2": {"value": whom[1:]}}
    unkind.answers["GET", "/api/Things('1')/whom"] = lambda path, body: answer(pages[path.partition("?")[2]])
    assert unkind.read()["One", "/whom/0/team"] == "Kiosks" and unkind.times("GET", "/api/Things('1')") == 1
    pages[""] = {"value": []}

    def change(path, body):
        pages[""] = {"value": [{"no": 7, **one} for one in json.loads(body)["whom"]]}
        return answer({})

    unkind.answers["PATCH", "/api/Things('1')"] = change
    unkind("import", "things", "--place", "odd", "--yes")
    sent = [json.loads(body) for method, _, _, body in unkind.asked if method == "PATCH"]
    assert sent == [{"whom": [{"team": "g1", "how": "with"}, {"team": "g1", "how": "without"}]}]


def test_what_two_tenants_call_by_one_id_are_two_policies(unkind):
    unkind.place("other", address=f"{unkind.base}/api2")
    unkind.env |= {"ZINKER_SECRET_OTHER": "a heron"}
    other = {"id": "1", "name": "Other", "says": "something else"}
    unkind.answers["GET", "/api2/Things"] = answer({"value": [other]})
    out = unkind("compare", "odd:things", "other:things", code=1).out
    assert "new      policy Other" in out and "was called" not in out


def test_an_entry_of_an_earlier_version_is_understood_and_the_new_lines_are_printed(unkind):
    toml = unkind.home / "zinker.toml"
    lines = [line for line in toml.read_text().splitlines() if not line.startswith(("issuer", "directory"))]
    toml.write_text("\n".join(lines).replace("/api", "") + "\n")
    meta = answer({"issuer": unkind.base, "token_endpoint": f"{unkind.base}/token"})
    unkind.answers["GET", "/.well-known/oauth-authorization-server"] = meta
    done = unkind.export()
    assert done.code == 0 and f'address = "{unkind.base}/api"\nissuer = "{unkind.base}"' in done.err, done
    assert f'directory = "{unkind.base}/scim/v2"' in done.err


METADATA = {
    "$Version": "4.01",
    "Garden": {
        "$Alias": "G",
        "Base": {"$Kind": "EntityType", "$Key": ["row", "slot"], "row": {"$Type": "Edm.Int64"}, "slot": {}},
        "Thing": {
            "$Kind": "EntityType",
            "$BaseType": "G.Base",
            "price": {"$Type": "Edm.Decimal", "$Nullable": True},
            "tags": {"$Collection": True},
            "kind": {"$Type": "G.Sun", "$DefaultValue": "shade"},
            "wanted": {},
            "spot": {"$Type": "G.Spot", "$Nullable": True},
            "seen": {"$Type": "Edm.DateTimeOffset", "@Org.OData.Core.V1.Computed": True},
            "crew": {
                "$Kind": "NavigationProperty",
                "$Type": "G.Crew",
                "$Collection": True,
                "$ContainsTarget": True,
            },
        },
        "Spot": {"$Kind": "ComplexType", "at": {"$Type": "Edm.Int64"}, "by": {"$Nullable": True}},
        "Crew": {"$Kind": "EntityType", "$Key": ["no"], "no": {"$Type": "Edm.Int32"}, "team": {}},
        "Sun": {"$Kind": "EnumType", "sun": 0, "shade": 1},
        "All": {"$Kind": "EntityContainer", "Things": {"$Collection": True, "$Type": "G.Thing"}},
    },
}
STANDARD = """
format = 1
id = "things"
title = "Things"

[[part]]
id = "things"
store = "tenant"
path = "Things"
[part.policy]
name = "slot"
server = ["/crew/*/no"]
groups = ["/crew/*/team"]
keys = { "/crew" = "team" }
unordered = ["/tags"]
links.crew = { write = "items" }
"""
IEEE = {"Content-Type": "application/json;IEEE754Compatible=true"}


def test_a_service_is_taken_by_its_word_about_its_types(unkind):
    """Composite keys, exact numbers as texts, merging, defaults, a contained collection, groups of its own."""
    (unkind.path / "subjects/things.subject.toml").write_text(STANDARD)
    unkind.place("odd", directory={"groups": {"path": "Teams", "id": "code", "name": "title"}})
    teams = [{"code": 4, "title": "Early"}, {"code": 5, "title": "Late"}]
    unkind.answers["GET", "/api/Teams"] = answer({"value": teams})
    unkind.answers["GET", "/api/$metadata"] = answer(METADATA)
    exact = "0.100000000000000000000000001"
    now = {
        "row": "9007199254740993",
        "slot": "it's",
        "price": exact,
        "tags": ["b", "a"],
        "kind": "sun",
        "wanted": "yes",
        "spot": {"at": "9007199254740995", "by": "ivy"},
        "seen": "2026-01-02T03:04:05Z",
        "crew": [{"no": 1, "team": 4}, {"no": 2, "team": 5}],
    }
    url = "/api/Things(row=9007199254740993,slot='it''s')"
    headers = {**IEEE, "ETag": '"one"'}
    sent = []

    def change(path, body):
        given = json.loads(body)
        sent.append(("PATCH", given))
        for name, value in given.items():
            merged = {**now[name], **value} if isinstance(value, dict) else value
            now[name] = merged
        return 204, {}, b""

    unkind.answers["GET", "/api/Things"] = lambda *asked: (200, IEEE, json.dumps({"value": [now]}).encode())
    unkind.answers["GET", url] = lambda *asked: (200, headers, json.dumps(now).encode())
    unkind.answers["PATCH", url] = change
    found = unkind.read()
    assert found["it's", "/price"] == exact and found["it's", "/spot/at"] == "9007199254740995"
    assert found["it's", "/row"] == found["it's", "/@server/row"] == "9007199254740993"
    assert {address for _, address in found if "crew" in address} == {"/crew/Early", "/crew/Late"}
    kept = json.loads(json.dumps(now))
    # Somebody adds a property, takes out what must be there, and other people look after it.
    now |= {
        "price": "2",
        "spot": {"at": "1", "by": "fern"},
        "tags": [],
        "kind": "shade",
        "seen": "2026-02-02T03:04:05Z",
    }
    now["crew"] = [{"no": 2, "team": 5}, {"no": 3, "team": 9}]
    unkind.answers["DELETE", f"{url}/crew(3)"] = lambda *asked: (sent.append(("DELETE", 3)), (204, {}, b""))[
        1
    ]
    unkind.answers["POST", f"{url}/crew"] = lambda path, body: (
        sent.append(("POST", json.loads(body))),
        now.update(crew=kept["crew"]),
        (201, {}, b""),
    )[2]
    unkind("import", "things@latest", "--place", "odd", "--yes", "--exact")
    spot = {"at": "9007199254740995", "by": "ivy"}
    assert sent == [
        ("PATCH", {"price": exact, "spot": spot, "tags": ["a", "b"], "kind": "sun"}),
        ("DELETE", 3),
        ("POST", {"team": 4}),
    ]
    own = [headers for method, _, headers, _ in unkind.asked if method == "PATCH"][0]
    assert own["If-Match"] == '"one"' and own["Content-Type"] == IEEE["Content-Type"]
    # What a profile does not have goes: from a complex value by its name, to the default, or not at all.
    del kept["spot"]["by"], kept["kind"], kept["wanted"]
    kept["crew"] = now["crew"]
    shown, before = json.dumps({"value": [kept]}).encode(), dict(now)
    unkind.answers["GET", "/api/Things"] = (200, IEEE, shown)
    unkind("export", "things", "--place", "odd", "--label", "less", "--loss-is-meant")
    unkind.answers["GET", "/api/Things"] = lambda *asked: (200, IEEE, json.dumps({"value": [now]}).encode())
    now |= before
    sent.clear()
    done = unkind("import", "things@less", "--place", "odd", "--yes", "--exact", code=1)
    assert sent == [("PATCH", {"spot": {"at": "9007199254740995", "by": None}, "kind": "shade"})]
    assert "/wanted: it cannot be taken out: the service wants a value there" in done.out


def test_proxies_and_authorities_of_the_environment_count(unkind):
    asked = []

    class Proxy(http.server.BaseHTTPRequestHandler):
        def log_message(self, *told):
            pass

        def do_GET(self):
            asked.append(self.path)
            self.send_response(404)
            self.send_header("Content-Length", "0")
            self.end_headers()

    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), Proxy) as proxy:
        threading.Thread(target=proxy.serve_forever, daemon=True).start()
        unkind.export(env={"HTTP_PROXY": f"http://127.0.0.1:{proxy.server_address[1]}"})
        proxy.shutdown()
    assert asked[0] == f"{unkind.base}/.well-known/oauth-authorization-server/issuer"


def test_a_service_that_answers_for_one_otherwise_than_in_its_list_is_held_against_itself(unkind):
    """One by itself has more than in a list, which has no ETags; and what has gone is no 404, but empty."""
    now = {"id": "1", "name": "One", "minutes": 1}
    unkind.things = {"1": now}
    unkind.answers["GET", "/api/Things('1')"] = lambda *asked: answer(
        {**now, "value": [now]} if now else {"value": []}
    )
    unkind.answers["PATCH", "/api/Things('1')"] = lambda path, body: (
        now.update(json.loads(body)),
        (204, {}, b""),
    )[1]
    unkind.answers["DELETE", "/api/Things('1')"] = lambda *asked: (
        now.clear(),
        unkind.things.clear(),
        (204, {}, b""),
    )[2]
    unkind.read()
    now["minutes"] = 9
    unkind("import", "things", "--place", "odd", "--yes")
    assert now["minutes"] == 1
    unkind.things = {"2": {"id": "2", "name": "Two"}}
    unkind("export", "things", "--place", "odd", "--label", "less", "--loss-is-meant")
    unkind.things["1"] = now
    unkind("import", "things@less", "--place", "odd", "--yes", "--exact")
    assert not now


KEYRING = """
import json, pathlib
PATH = pathlib.Path(__file__).with_name("held.json")
def get_password(service, user):
    return json.loads(PATH.read_text()).get(f"{service} {user}")
def set_password(service, user, text):
    PATH.write_text(json.dumps({**json.loads(PATH.read_text()), f"{service} {user}": text}))
"""


def test_a_grant_in_the_keyring_is_used_and_renewed(unkind):
    folder = unkind.path / "packages"
    folder.mkdir()
    (folder / "keyring.py").write_text(KEYRING)  # stands for a desktop's own
    held = folder / "held.json"
    grant = {
        "refresh_token": "one",
        "issuer": f"{unkind.base}/issuer",
        "client_id": "zinker",
        "since": "2026-01-02",
    }
    held.write_text(json.dumps({"zinker:odd zinker (granted)": json.dumps(grant)}))
    unkind.place("odd", sign_in="device", credential="keyring")
    asked = []

    def give(path, body):
        asked.append(body)
        return answer({"access_token": "abc", "token_type": "Bearer", "refresh_token": "two"})

    unkind.answers["POST", "/token"] = give
    done = unkind.export(env={"PYTHONPATH": str(folder)})
    assert done.code == 0 and asked == [b"grant_type=refresh_token&refresh_token=one&client_id=zinker"], done
    now = json.loads(json.loads(held.read_text())["zinker:odd zinker (granted)"])
    assert now == grant | {"refresh_token": "two"}
    unkind.answers["POST", "/token"] = answer({"error": "invalid_grant"}, 400)
    why = unkind.export(env={"PYTHONPATH": str(folder)}).err
    assert (
        "the grant that a person gave on 2026-01-02 has run out" in why
        and "things@1, last right today" in why
    )

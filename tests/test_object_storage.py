"""A shelf on object storage that others have built: S3 and Azure; over lines that are slow, busy, cut and gone."""

import json
import shutil
import subprocess
import sys
import threading
import time
import types
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from conftest import Garden
from object_stand import S3, Azure, Between, sealed, shelved
from test_shared import AT, WRITER

from zinker.model.errors import NoAnswer, WrongUsage
from zinker.shelf import lease
from zinker.shelf.object_storage import Kept, ObjectStorage, kept_at
from zinker.shelf.storage import Busy

# What does not depend on whose storage it is.
ON_S3 = pytest.mark.parametrize("server", [S3], ids=["s3"], indirect=True)
IMPATIENT = {"PYTHONPATH": str(Path(__file__).parent / "impatient")}


@pytest.fixture(params=[S3, pytest.param(Azure, marks=pytest.mark.soak)], ids=["s3", "azure"])
def server(request, tmp_path):
    server = request.param(tmp_path)
    yield server
    server.stop()


@pytest.fixture
def garden(server, tmp_path):
    return shelved(Garden(tmp_path / "garden"), server)


def storage(server, port=0, folder="shelf", **more):
    address = server.address.replace("/shelf", f"/{folder}")
    endpoint = f"http://127.0.0.1:{port or server.port}{server.path}"
    return ObjectStorage(
        kept_at(address, endpoint, user=server.user), lambda: more.get("secret", server.secret)
    )


def test_a_shelf_there_does_all_that_one_in_a_folder_does(garden, server):
    told = server.address
    assert f"A new shelf has been made: {told}" in garden("export", "mosslight", *AT, "--label", "x").err
    assert "Nothing has changed" in garden("export", "mosslight", *AT).out
    spoilt = garden.spoil() or garden.places()
    garden("import", "mosslight@x", *AT, "--yes")
    assert garden.places() != spoilt
    garden("undo", "--yes")
    assert garden.places() == spoilt
    garden("export", "mosslight", *AT)
    assert garden("compare", "mosslight@x", "mosslight@latest", code=1).out
    garden("copy", "--to", "local")
    assert garden("check").code == 0
    # A flipped bit is found, and mended from the other shelf.
    there = storage(server)
    part = json.loads(there.open("subjects/mosslight/1.json").read())["profile"]["parts"][0]["sha256"]
    name = f"objects/{part[:2]}/{part}.zst"
    data = bytearray(there.open(name).read())
    data[len(data) // 2] ^= 1
    there.put(name, bytes(data))
    assert "Damaged" in garden("check", code=5).out
    garden("check", "--from", "local")
    assert garden("check").code == 0
    # Room really comes back, and nothing is left of runs that are over.
    assert garden("thin", "mosslight@x", "--yes", "--json").json["freed"] > 0
    assert garden("check").code == 0
    assert there.names("writing") == [] and len(there.names("lock")) <= 4
    assert set(there.names("")) == {"changes", "lock", "objects", "shelf.json", "subjects"}
    before = garden("list", "--json").json
    garden("copy", "--to", server.address + "-too")
    assert [one["reference"] for one in before] and garden("list", "--json").json == before


def test_what_cannot_be_done_there_is_said(garden, server, tmp_path):
    garden("export", "mosslight", *AT)
    shelved(garden, server, folder="../up")
    assert "is not the address of a folder on object storage" in garden("list", code=2).err
    toml = garden.home / "zinker.toml"
    shelved(garden, server)
    text = toml.read_text()
    toml.write_text(text.replace("http://127.0.0.1", "http://objects.example"))
    assert "would carry secrets in clear" in garden("list", code=2).err
    toml.write_text(text.replace("://garden/", "://nowhere/"))
    missing = garden("export", "mosslight", *AT, code=3).err
    assert "there is no " in missing and "nowhere" in missing
    toml.write_text(text)
    server.stop()
    gone = garden("list", code=3).err
    assert f"No answer from {server.address}" in gone and "the line to it is lost" in gone


def answered(status, body, kind="s3"):
    """Return what is said of an answer of a server's."""

    class Refuses:
        port, path, user, secret, address = 0, "", "x", "y", f"{kind}://garden/shelf"

    between = Between(Refuses)
    handler = between._web.RequestHandlerClass
    handler.do_GET = handler.do_PUT = handler.do_HEAD = lambda self: (
        self.rfile.read(int(self.headers.get("Content-Length") or 0)),
        self._answer(status, {"Content-Length": str(len(body))}, body.encode()),
    )
    try:
        with pytest.raises((NoAnswer, OSError)) as found:
            storage(Refuses, between.port, secret="eWVz").put("shelf.json", b"{}")
        return str(found.value) + getattr(found.value, "why", "")
    finally:
        between.stop()


@pytest.mark.parametrize(
    ("status", "code", "said"),
    [
        (403, "AccessDenied", "the key has no right to do that"),
        (403, "RequestTimeTooSkewed", "its clock and this machine's differ"),
        (403, "InvalidAccessKeyId", "does not know the key"),
        (403, "SignatureDoesNotMatch", "does not know the key"),
        (404, "NoSuchBucket", "there is no bucket garden"),
    ],
)
def test_each_refusal_has_a_word_of_its_own(status, code, said):
    assert said in answered(status, f"<?xml version='1.0'?><Error><Code>{code}</Code></Error>")


def test_a_slow_and_busy_line_that_is_cut_now_and_then_is_got_through(garden, server):
    """Also where the server has done what was asked, and the answer was lost: nothing is there twice."""

    def meddle(number):
        return {0: "busy", 5: "cut", 9: "lost"}.get(number % 13, "late" if number % 3 == 0 else "")

    between = Between(server, meddle)
    shelved(garden, server, between.port)
    for number in range(4):
        garden.ini.write_bytes(garden.ini.read_bytes() + b"x%d = 1\r\n" % number)
        garden("export", "mosslight", *AT, "--label", f"label-{number}")
    shelved(garden, server)
    found = [(one["number"], one["label"]) for one in garden("list", "--json").json]
    assert found == [(number + 1, f"label-{number}") for number in range(4)]
    assert garden("check").code == 0 and storage(server).names("writing") == []
    between.stop()


@ON_S3
def test_a_line_that_is_gone_leaves_whole_versions(garden, server):
    """For good, from some request of an export on; and it comes back."""
    garden.env |= IMPATIENT
    garden("export", "mosslight", *AT)
    between = Between(server)
    shelved(garden, server, between.port)
    ends = []
    for last in (1, 8, 18):
        garden.ini.write_bytes(garden.ini.read_bytes() + b"x%d = 1\r\n" % last)
        between.count, between.meddle = 0, lambda number, last=last: "cut" if number > last else ""
        done = garden("export", "mosslight", *AT, code=None)
        assert done.code in (0, 3) and ("No answer from" in done.err) == (done.code == 3), done
        ends.append(done.code)
        between.meddle = lambda number: ""
        assert garden("check").code == 0
    assert ends.count(3) >= 2
    numbers = [one["number"] for one in garden("list", "--json").json]
    assert numbers == list(range(1, len(numbers) + 1))
    between.stop()


def elsewhere(garden):
    """The same places and shelf, from another machine: nothing of Zinker's own is there but the configuration."""
    other = Garden.__new__(Garden)
    other.path, other.home = garden.path, garden.home.with_name("other-home")
    other.home.mkdir(exist_ok=True)
    shutil.copy(garden.home / "zinker.toml", other.home)
    other.env = garden.env | {"ZINKER_HOME": str(other.home)}
    return other


@ON_S3
def test_what_was_changed_here_is_undone_from_another_machine(garden, server):
    garden("export", "mosslight", *AT, "--label", "x")
    garden.spoil()
    spoilt = garden.places()
    other = elsewhere(garden)
    garden("import", "mosslight@x", *AT, "--yes")
    (seen,) = other("changes", "--json").json
    assert (seen["number"], seen["state"]) == (1, "done")
    assert other("changes", "1").out == garden("changes", "1").out
    other("undo", "1", "--yes")
    assert garden.places() == spoilt
    assert "undone already, by change 2" in garden("undo", "1", code=3).err
    garden("undo", "2", "--yes")
    assert garden.places() != spoilt and other("check").code == 0
    assert not list((garden.home / "changes-of").rglob("change.json"))
    assert garden("check").code == 0
    assert [one["state"] for one in other("changes", "--json").json] == ["undone", "undone", "done"]


@ON_S3
@pytest.mark.soak
def test_a_line_that_goes_in_the_middle_of_an_import_leaves_nothing_half_done(garden, server):
    """Gone for good from some request on; what is left on this machine follows when the line is back."""
    garden.env |= IMPATIENT
    garden("export", "mosslight", *AT, "--label", "x")
    pristine = garden.places()
    garden.spoil()
    spoilt = garden.places()
    between, ends = Between(server), []
    for last in (3, 12, 24, 30, 36, 44, 60, 90, 10_000):
        shelved(garden, server, between.port)
        between.count, between.meddle = 0, lambda number, last=last: "cut" if number > last else ""
        done = garden("import", "mosslight@x", *AT, "--yes", code=None)
        between.meddle = lambda number: ""
        now = garden.places()
        if done.code:
            assert done.code in (3, 4) and "the line to it is lost" in done.err and now == spoilt, done
            ends.append("refused")
            continue
        assert now.keys() >= pristine.keys() and now != spoilt
        ends.append("later" if "follow with the next run" in done.err else "done")
        garden("undo", "--yes")  # also where it has not followed yet
        assert garden.places() == spoilt
    # From another machine, nothing is missing.
    states = [one["state"] for one in elsewhere(garden)("changes", "--json").json]
    assert states == ["undone", "done"] * (len(ends) - ends.count("refused"))
    assert not list((garden.home / "changes-of").rglob("change.json"))
    assert ends.count("refused") >= 3 and ends.count("later") >= 2 and ends[-1] == "done", ends
    assert elsewhere(garden)("check").code == 0
    between.stop()


def test_one_run_holds_it_and_a_dead_one_does_not(server, monkeypatch):
    monkeypatch.setattr(lease, "LEASE", 1.0)
    monkeypatch.setattr(lease, "_BEAT", 0.2)
    ours, theirs = storage(server), storage(server)
    with ours.hold(5), ours.hold(5), pytest.raises(Busy), theirs.hold(2):
        raise AssertionError
    inside, most, done = [0], [0], []

    def work():
        own = storage(server)
        for _ in range(5):
            with own.hold(60):
                inside[0] += 1
                most[0] = max(most[0], inside[0])
                time.sleep(0.01)
                inside[0] -= 1
                done.append(1)

    threads = [threading.Thread(target=work) for _ in range(6)]
    [thread.start() for thread in threads]
    [thread.join() for thread in threads]
    assert most[0] == 1 and len(done) == 30
    # One that is killed writes no more; one that only slept is told when it wakes.
    monkeypatch.setattr(lease, "_BEAT", 1000.0)
    with theirs.hold(5), theirs.batch() as batch:
        with batch.sink("objects/ab/x") as file:
            file.write(b"x")
        until = time.monotonic() + 60
        while ours.writers() and time.monotonic() < until:
            time.sleep(0.1)
        assert ours.writers() == 0
        with ours.hold(30):
            pass
        monkeypatch.setattr(lease, "_SURE", -1.0)
        for dare in (
            batch.settle,
            lambda: theirs.delete("objects/ab/x"),
            lambda: theirs.put_new("subjects/x", b""),
        ):
            with pytest.raises(OSError, match="took it for dead"):
                dare()
        monkeypatch.setattr(lease, "_SURE", 15.0)


def test_a_lock_that_goes_from_hand_to_hand_is_waited_for_and_one_that_stays_is_not(monkeypatch):
    """Many that write at once on a slow line: the turn of each comes, however long it takes."""
    clock, taken = [0.0], {}

    class Names:
        hands = 9

        def seen(self, folder):
            held = 1 + min(int(clock[0]), self.hands)
            return {str(held): f"beat {clock[0]}", **({f"{held}.free": ""} if clock[0] > 12 else {}), **taken}

        def put_new(self, name, data):
            return taken.setdefault(name.partition("/")[2], str(data)) == str(data)

        def put(self, name, data):
            taken[name.partition("/")[2]] = str(data)

        def delete(self, name):
            taken.pop(name.partition("/")[2], None)

    def later(seconds):
        clock[0] += seconds

    instant = types.SimpleNamespace(monotonic=lambda: clock[0], time=lambda: clock[0], sleep=later)
    monkeypatch.setattr(lease, "time", instant)
    with lease.Lock(Names()).held(5.0):
        assert 12 < clock[0] < 13 and "11" in taken
    clock[0] = 0.0
    taken.clear()
    monkeypatch.setattr(Names, "hands", 2)
    with pytest.raises(Busy), lease.Lock(Names()).held(5.0):
        pass
    assert 7 < clock[0] < 8


def test_only_what_is_an_address_is_taken_for_one():
    assert kept_at("gs://garden/a/b/") == Kept("gs", "garden", "a/b")
    for wrong in ("s3://garden", "s3://Garden/x", "az://garden/a/../b", "gs://garden//x", "s3://garden/x?y"):
        with pytest.raises(WrongUsage):
            kept_at(wrong)


@pytest.mark.soak
@pytest.mark.timeout(3600)
def test_many_machines_write_at_once_and_nothing_is_lost(server, tmp_path):
    """Eight of them, fifty versions each (fifteen on Azure); whoever reads meanwhile never sees half of one."""
    times = 50 if isinstance(server, S3) else 15
    gardens = [shelved(Garden(tmp_path / f"garden-{number}"), server) for number in range(8)]
    writers = [
        subprocess.Popen(
            [sys.executable, "-c", WRITER, garden.ini, f"writer{number}", str(times)],
            cwd=garden.path,
            env=garden.env,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        for number, garden in enumerate(gardens)
    ]
    while any(one.poll() is None for one in writers):
        listed = gardens[0]("list", "--json").json
        assert not [one for one in listed if one.get("problem")], listed
        if listed:
            assert gardens[1]("show", listed[-1]["reference"], "--json").json["settings"]
    ended = [one.communicate() for one in writers]
    assert [one.returncode for one in writers] == [0] * 8, [err for _, err in ended]
    numbers = [int(line) for out, _ in ended for line in out.split()]
    assert sorted(numbers) == list(range(1, 8 * times + 1))
    listed = gardens[0]("list", "--json").json
    assert len({one.get("note") for one in listed}) == 8 * times and gardens[0]("check").code == 0


@pytest.mark.soak
def test_a_long_list_takes_few_requests(tmp_path):
    server = S3(tmp_path)
    garden = shelved(Garden(tmp_path / "garden"), server)
    garden("export", "mosslight", *AT)
    there = storage(server)
    page = there.open("subjects/mosslight/1.json").read()
    with ThreadPoolExecutor(16) as pool:
        list(pool.map(lambda number: there.put(f"subjects/mosslight/{number}.json", page), range(2, 3_001)))
    garden("export", "mosslight", *AT, "--again")  # which writes the index
    between = Between(server)
    shelved(garden, server, between.port)
    assert len(garden("list", "--json").json) == 3_001
    # Four pages of names, the subjects, the index, what is newer than it, and the shelf's own page.
    assert between.count <= 10, between.asked
    between.stop()
    server.stop()


@pytest.mark.soak
@pytest.mark.timeout(3600)
def test_killed_at_a_hundred_events_nothing_is_lost_or_damaged(tmp_path):
    """On a sealed shelf, as what is there has to open, too."""
    server = S3(tmp_path)
    garden = shelved(sealed(Garden(tmp_path / "garden"), "garden.key"), server)
    garden.env |= IMPATIENT
    garden("export", "mosslight", *AT, "--label", "first")
    kept, kills = {"first"}, 0
    number = 0
    while kills < 100:
        number += 1
        garden.ini.write_bytes(garden.ini.read_bytes() + b"x%d = 1\r\n" % number)
        jobs = (
            (20, ("export", "mosslight", *AT, "--label", f"l-{number}")),
            (6, ("thin", "mosslight", "--newest", "3", "--yes")),
            (9, ("copy", "--to", f"{server.address}-{number % 3}", "--sealed")),
        )
        for most, job in jobs:
            done = garden(*job, code=None, env={"KILL_AT": str(1 + number % most), "KILL_BELOW": "s/"})
            assert done.code in (0, -9), done
            kills += done.code == -9
            if job[0] == "export" and done.code == 0:
                kept.add(f"l-{number}")
        listed = garden("list", "--json").json
        assert kept <= {one.get("label") for one in listed} and not [
            one for one in listed if one.get("problem")
        ]
    assert garden("check").code == 0
    garden("thin", "mosslight", "--newest", "3", "--yes")
    assert storage(server).names("writing") == []
    server.stop()

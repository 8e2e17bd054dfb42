"""A shelf that many write to, on a disk and on a share; one that goes away, is full, or has a wrong clock."""

import errno
import json
import os
import shutil
import subprocess
import sys

import pytest
from conftest import Garden
from object_stand import sealed
from test_refusals import in_mounts
from test_registry import samba  # noqa: F401 - a fixture

from zinker.jobs import Keeping, export
from zinker.model.errors import Damaged, NoAnswer
from zinker.shelf.page import Page
from zinker.shelf.smb_storage import SmbStorage, share_at
from zinker.shelf.storage import FolderStorage

AT = ("--place", "potting-shed")
WRITER = """
import os, re, sys
from pathlib import Path
from zinker.jobs import Keeping, export, load_setup
ini, name, times = Path(sys.argv[1]), sys.argv[2], int(sys.argv[3])
for number in range(times):
    text = ini.read_bytes()
    ini.write_bytes(re.sub(rb"level = .*?\\r", b"level = %s-%d\\r" % (name.encode(), number), text))
    done = export(load_setup(), "mosslight", "potting-shed", Keeping(note=f"{name}-{number}"))
    print(done.version.number, flush=True)
"""


def shelved(garden, address):
    """Have a garden keep its versions elsewhere."""
    toml = garden.home / "zinker.toml"
    lines = toml.read_text().splitlines()
    toml.write_text("\n".join(f'shelf = "{address}"' if one.startswith("shelf = ") else one for one in lines))
    garden.env["ZINKER_SECRET_SHELF"] = "fern-42"
    return garden


@pytest.fixture
def on_share(samba, tmp_path):  # noqa: F811
    shutil.rmtree(samba.path / "kept/shelf", ignore_errors=True)
    garden = Garden(tmp_path / "garden")
    return shelved(garden, f"smb://root@127.0.0.1:{samba.port}/kept/shelf")


def test_a_shelf_on_a_share_does_all_that_one_in_a_folder_does(on_share, samba):  # noqa: F811
    kept = samba.path / "kept/shelf"
    assert (
        "A new shelf has been made: smb://127.0.0.1"
        in on_share("export", "mosslight", *AT, "--label", "x").err
    )
    assert "Nothing has changed" in on_share("export", "mosslight", *AT).out
    on_share.spoil()
    on_share("import", "mosslight@x", *AT, "--yes")
    on_share("undo", "--yes")
    on_share("export", "mosslight", *AT)
    assert on_share("compare", "mosslight@x", "mosslight@latest", code=1).out
    assert sorted(os.listdir(kept)) == [".lock", "changes", "objects", "shelf.json", "subjects", "writing"]
    assert not list((kept / "writing").iterdir())
    on_share("copy", "--to", "local")
    assert on_share("check").code == 0
    part = json.loads((kept / "subjects/mosslight/1.json").read_text())["profile"]["parts"][0]["sha256"]
    whole = kept / "objects" / part[:2] / f"{part}.zst"
    whole.write_bytes(whole.read_bytes()[:-50])
    assert "Damaged" in on_share("check", code=5).out
    on_share("check", "--from", "local")
    assert on_share("check").code == 0
    assert on_share("thin", "mosslight@x", "--yes", "--json").json["freed"] > 0
    assert on_share("check").code == 0
    # What cannot be done there is said, and nothing is half there.
    before = [version["number"] for version in on_share("list", "--json").json]
    on_share.env["ZINKER_SECRET_SHELF"] = "wrong"
    assert "its password is wrong" in on_share("list", code=3).err
    on_share.env["ZINKER_SECRET_SHELF"] = "fern-42"
    samba.stop()
    assert "No answer from smb://" in on_share("export", "mosslight", *AT, "--again", code=3).err
    samba.start()
    shelved(on_share, f"smb://root@127.0.0.1:{samba.port}/nowhere/shelf")
    assert "it has no share nowhere" in on_share("list", code=3).err
    shelved(on_share, f"smb://root@127.0.0.1:{samba.port}/kept/shelf")
    assert [version["number"] for version in on_share("list", "--json").json] == before
    shelved(on_share, "smb://nobody/x")
    assert "is not the address of a folder on a share" in on_share("list", code=2).err


@pytest.mark.soak
def test_a_line_that_is_lost_leaves_whole_versions_and_is_swept(on_share, samba, tmp_path):  # noqa: F811
    """The server is gone at some event of an export, and comes back; on a sealed shelf, all that is there opens."""
    sealed(on_share, "shelf.key")
    on_share("export", "mosslight", *AT)
    killer = tmp_path / "killer"
    killer.mkdir()
    (killer / "sitecustomize.py").write_text(
        "import os, subprocess, sys\nleft = int(os.environ['LEFT'])\n"
        "def hook(event, arguments):\n    global left\n    if event == 'zinker.disk':\n        left -= 1\n"
        f"        if left == 0:\n            subprocess.run(['pkill', '-KILL', '-f', '{samba.path}'])\n"
        "sys.addaudithook(hook)\n"
    )
    ends = []
    for number in range(1, 7):
        on_share.ini.write_bytes(on_share.ini.read_bytes() + b"x%d = 1\r\n" % number)
        environment = {"LEFT": str(number), "PYTHONPATH": str(killer)}
        done = on_share("export", "mosslight", *AT, code=None, env=environment)
        assert done.code in (0, 3) and ("No answer from smb://" in done.err) == (done.code == 3), done
        ends.append(done.code)
        samba.stop()
        samba.start()
        assert on_share("check").code == 0
    assert ends.count(3) > 2
    on_share("export", "mosslight", *AT)
    assert not list((samba.path / "kept/shelf/writing").iterdir())
    assert on_share("show", "mosslight", "--find", "x6").out.count("x6") >= 1


@pytest.mark.parametrize("number", [errno.EBADF, errno.EPIPE, errno.ECONNRESET, errno.ETIMEDOUT, errno.EIO])
def test_whatever_a_lost_line_says_is_told_as_one(number, samba, monkeypatch):  # noqa: F811
    """A socket that another thread has closed has a bad descriptor; and nothing of a file is believed then."""
    import smbprotocol.open
    import smbprotocol.transport

    flushed = []
    flush = smbprotocol.open.Open.flush
    monkeypatch.setattr(smbprotocol.open.Open, "flush", lambda *given: flushed.append(1) or flush(*given))
    storage = SmbStorage(share_at(f"smb://root@127.0.0.1:{samba.port}/kept/lines"), lambda: "fern-42")
    storage.prepare()
    with storage.batch() as batch:
        with batch.sink("one") as file:
            file.write(b"1")
        assert flushed, "it is on the server's disk before it has its name"
        batch.settle()
        with pytest.raises(OSError, match="not here"), batch.sink("two"):
            raise OSError(errno.ENOENT, "not here")  # of this machine
        with pytest.raises(NoAnswer, match="the connection was lost"), batch.sink("three") as file:
            monkeypatch.setattr(smbprotocol.transport.Tcp, "send", failing(number))
            file.write(b"3")
            file.close()
    for asked in (lambda: storage.names("."), lambda: storage.size("one"), lambda: storage.open("one")):
        with pytest.raises(NoAnswer, match="the connection was lost"):
            asked()


def test_what_is_being_let_go_of_is_somebody_elses(samba):  # noqa: F811
    """A file that is removed while somebody has it open is there until then, and nobody can open it."""
    storage = SmbStorage(share_at(f"smb://root@127.0.0.1:{samba.port}/kept/going"), lambda: "fern-42")
    storage.prepare()
    for name, take in (("1.claim", storage.claimed), ("1.lock", storage._alone)):
        with storage.batch() as batch:
            with batch.sink(name):
                pass
            batch.settle()
        with storage.open(name):
            storage.delete(name)
            with take(name) as taken:
                assert not taken
        with take(name) as taken:
            assert taken


def test_what_somebody_has_open_for_a_moment_is_waited_for(samba, monkeypatch):  # noqa: F811
    """A folder that is being made, a page that is read while it is written anew, and one that is not shared."""
    from smbclient._io import SMBDirectoryIO

    at = share_at(f"smb://root@127.0.0.1:{samba.port}/kept/held")
    own, other = (SmbStorage(at, lambda: "fern-42") for _ in range(2))
    list(own.prepare())
    for name in ("read", "going", "alone"):
        own.put(name, b"1")
    with other._session() as smb:
        made = SMBDirectoryIO(other._at("made"), mode="x", **other._more)
        made.open()
        alone = smb.open_file(other._at("alone"), "r+b", share_access="", **other._more)
    going = other.open("going")
    own.delete("going")
    held = [made, other.open("read"), going, alone]
    waited = []

    def let_go(_):
        waited.append(held[0])
        if len(waited) % 3 == 0:  # not at once
            held[0].close()

    monkeypatch.setattr("zinker.disk.held.time.sleep", let_go)
    assert own.names("made") == []
    del held[0]
    own.put("read", b"2")
    del held[0]
    with pytest.raises(FileNotFoundError):
        own.size("going")
    del held[0]
    assert own.open("alone").read() == b"1" and own.open("read").read() == b"2"
    assert len(waited) == 12


def failing(number):
    """Return what fails so when it is called."""

    def fail(*_):
        raise OSError(number, os.strerror(number))

    return fail


def written_at_once(gardens, times):
    """Let a process for each garden export so many times; returns the numbers that each was given."""
    runs = [
        subprocess.Popen(
            [sys.executable, "-c", WRITER, garden.ini, f"w{number}", str(times)],
            env=garden.env,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        for number, garden in enumerate(gardens)
    ]
    ended = [run.communicate() for run in runs]
    assert [run.returncode for run in runs] == [0] * len(runs), [err[-2000:] for _, err in ended]
    return [[int(line) for line in out.split()] for out, _ in ended]


def sound(garden, given):
    """Check that every number was given once, and that every version is what its writer kept."""
    every = sorted(number for own in given for number in own)
    versions = garden("list", "mosslight", "--json").json
    assert every == [version["number"] for version in versions] == list(range(1, len(every) + 1))
    notes = {version["number"]: version["note"] for version in versions}
    for writer, own in enumerate(given):
        assert [notes[number] for number in own] == [f"w{writer}-{turn}" for turn in range(len(own))]
    for own in given:
        for number in own[:: max(1, len(own) // 3)]:
            found = garden("show", f"mosslight@{number}", "--find", "level", "--json").json["settings"]
            assert notes[number] in {one["value"] for one in found}
    assert garden("check").code == 0


@pytest.mark.soak
@pytest.mark.parametrize("where", ["disk", "share"])
def test_eight_writers_keep_fifty_versions_each_and_none_is_lost(where, request, tmp_path):
    address = str(tmp_path / "shelf")
    if where == "share":
        server = request.getfixturevalue("samba")
        shutil.rmtree(server.path / "kept/shelf", ignore_errors=True)
        address = f"smb://root@127.0.0.1:{server.port}/kept/shelf"
    gardens = [shelved(Garden(tmp_path / f"garden-{number}"), address) for number in range(8)]
    sound(gardens[0], written_at_once(gardens, 50))


def test_some_writers_at_once_get_numbers_of_their_own(tmp_path):
    gardens = [shelved(Garden(tmp_path / f"garden-{number}"), tmp_path / "shelf") for number in range(3)]
    sound(gardens[0], written_at_once(gardens, 4))


def test_a_shelf_that_another_run_makes_meanwhile_is_no_damaged_one(tmp_path):
    class Late(FolderStorage):
        def open(self, name):
            try:
                return super().open(name)
            finally:
                Page(FolderStorage(tmp_path), None, print).make()

    Page(Late(tmp_path), None, print).make()
    assert (tmp_path / "shelf.json").read_bytes() == b'{"format": 2}\n'
    (tmp_path / "shelf.json").write_bytes(b"")
    with pytest.raises(Damaged, match="is damaged"):
        Page(FolderStorage(tmp_path), None, print).make()


@pytest.mark.skipif(sys.platform != "linux", reason="mounts are Linux's")
def test_a_stick_that_is_pulled_or_full_leaves_nothing_half(garden):
    """The stick is a file system of its own, which goes away, is full, or cannot be written."""
    script = """
        mkdir stick2; mount -t tmpfs -o size=300k none stick2
        sed -i 's|^shelf = .*|shelf = "../stick2/shelf"|' zinker-home/zinker.toml
        $Z export mosslight --place potting-shed
        head -c 400000 /dev/zero > stick2/stuff || true
        printf 'x = 1\\r\\n' >> potting-shed/Users/ivy/AppData/Roaming/mosslight/mosslight.ini
        $Z export mosslight --place potting-shed && exit 9
        $Z check
        $Z copy --to stick2/other && exit 8
        rm stick2/stuff
        $Z export mosslight --place potting-shed
        $Z check
        mount -o remount,ro stick2
        $Z export mosslight --place potting-shed --again && exit 7
        $Z list mosslight --json > /dev/null
        $Z thin mosslight@1 --yes && exit 6
        umount stick2
        $Z list && exit 5
        $Z export mosslight --place potting-shed && exit 4
        test -z "$(ls stick2)"
        exit 3
    """
    done = in_mounts(garden, script, 3)
    told = done.stderr
    assert "cannot be written: the disk is full" in told and "the disk is read-only" in told
    assert "Make room there, or choose another shelf" in told and "Let it be written to, or" in told
    assert "was a shelf, and there is none now" in told and "Damaged" not in done.stdout


def test_a_file_system_without_links_and_with_labels_is_written_under_the_lock(garden, monkeypatch):
    """As sticks have it: numbers are given out under the lock, also by who holds it already."""
    monkeypatch.setattr(os, "link", lambda *paths: (_ for _ in ()).throw(PermissionError(1, "no links here")))
    for number in range(3):
        garden.ini.write_bytes(garden.ini.read_bytes() + b"x%d = 1\r\n" % number)
        done = export(garden.setup, "mosslight", "potting-shed", Keeping(label=f"L{number}"))
        assert done.version.number == number + 1
    done = export(garden.setup, "mosslight", "potting-shed", Keeping(label="L0", move=True))
    assert [one.label for one in garden.setup.shelf.versions("mosslight")] == ["", "L1", "L2", "L0"]
    assert garden("check").code == 0


def test_a_clock_that_is_wrong_is_seen_and_costs_nothing(kept):
    """What is dated ahead is said, is not thinned, and hides nothing that is newer by its number."""
    from test_shelf import dated, numbers, turn

    for level in (21, 22):
        turn(kept, level)
        kept("export", "mosslight", *AT)
    dated(kept, {2: -400, 3: 1})
    assert "dated ahead" in kept("list").out
    assert kept("show", "mosslight", "--json").json["source"].startswith("mosslight@3")
    kept("thin", "--older-than", "0 days", "--yes")
    assert numbers(kept) == [1, 2, 3]

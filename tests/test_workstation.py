"""A workstation over the network: its files by a share, its registry by the registry service, against Samba."""

import hashlib
import json
import os
import shutil
import subprocess
import threading

import pytest
import smbclient
from conftest import Garden, needs_system
from smbprotocol.exceptions import SMBOSError
from test_killed import KILLING
from test_registry import SMBD, Samba
from test_shared import failing

from zinker.jobs import Keeping, export, import_profile
from zinker.model.errors import NoAnswer
from zinker.stores.remote_registry import RemoteRegistry
from zinker.stores.smb_files import SmbFolder, SmbTree
from zinker.stores.smb_session import Share, SmbSession

AT = ("--place", "front-desk")
PLACE = """
[places.front-desk]
kind = "workstation"
address = "127.0.0.1:{port}"
user = "root"
share = "{share}"
folders = {{ home = "Users/ivy" }}
"""
BRANCH = r"HKEY_CURRENT_USER\Software\Tarn Hollow\Mosslight"


@pytest.fixture(scope="module")
def server(tmp_path_factory):
    needs_system(SMBD and os.geteuid() == 0, "Samba's smbd, and root")
    server = Samba(tmp_path_factory.mktemp("desk"))
    disk = server.path / "disk"
    disk.mkdir()
    with server.conf.open("a") as conf:
        for share, more in (("C$", "read only = no"), ("closed", "read only = yes")):
            # The attributes of Windows, in what Linux has for it.
            conf.write(f"[{share}]\npath = {disk}\n{more}\nstore dos attributes = yes\nmap archive = no\n")
    server.stop()
    server.start()
    yield server
    server.stop()


@pytest.fixture
def desk(server, tmp_path):
    """A garden with a workstation over the network, whose disk is the old workstation's; one version is kept."""
    desk = Garden(tmp_path / "garden")
    desk.disk = server.path / "disk"
    for entry in desk.disk.iterdir():
        shutil.rmtree(entry)
    shutil.copytree(desk.path / "potting-shed", desk.disk, dirs_exist_ok=True)
    with (desk.home / "zinker.toml").open("a") as toml:
        toml.write(PLACE.format(port=server.port, share="C$"))
    desk.env["ZINKER_SECRET_FRONT_DESK"] = os.environ["ZINKER_SECRET_FRONT_DESK"] = "fern-42"
    desk("export", "mosslight", *AT, "--label", "agreed")
    return desk


def everything(desk):
    """What is on the disk over there, as the disk itself has it."""
    return {
        str(path.relative_to(desk.disk)): path.read_bytes() if path.is_file() else None
        for path in desk.disk.rglob("*")
    }


def spoil(desk):
    (ini,) = desk.disk.rglob("mosslight.ini")
    ini.write_bytes(ini.read_bytes().replace(b"dusk = 19:30", b"dusk = 11:11"))
    next(desk.disk.rglob("bench-east.json")).unlink()
    shutil.rmtree(next(desk.disk.rglob("benches")))
    return ini


def through_smb(desk, server, path, **more):
    """Open a file over there as another program would: by a client of its own."""
    unc = rf"\\127.0.0.1\C$\{path.relative_to(desk.disk)}".replace("/", "\\")
    login = {"username": "root", "password": "fern-42", "port": server.port, "connection_cache": {}}
    return smbclient.open_file(unc, **login, **more)


def test_a_workstation_is_captured_compared_put_back_and_undone(desk, server):
    before = everything(desk)
    ini = spoil(desk)
    ini.chmod(0o640)
    os.setxattr(ini, "user.made-by", b"ivy")
    spoilt = everything(desk)
    assert desk("compare", "mosslight@agreed", code=1).out.count("gone") > 2
    plan = desk("import", "mosslight@agreed", *AT, "--preview").out
    assert "who is signed in there, cannot be told from here" in plan and everything(desk) == spoilt
    desk("import", "mosslight@agreed", *AT, "--yes")
    assert everything(desk) == before
    assert "No differences" in desk("compare", "mosslight@agreed").out
    desk("undo", "--yes")
    assert everything(desk) == spoilt
    # A program over there sees what was written, through a client of its own.
    with through_smb(desk, server, ini, mode="rb") as seen:
        assert seen.read() == ini.read_bytes()
    # Another account of it, by the name of its home; the place itself is the one that is named.
    shutil.copytree(desk.disk / "Users/ivy", desk.disk / "Users/rowan")
    desk("export", "mosslight", *AT, "--each-account", "--loss-is-meant")
    places = {one["place"] for one in desk("list", "--json").json}
    assert places == {"front-desk", "front-desk/rowan"}
    told = desk("show", "front-desk/rowan:mosslight", "--json").json["profile"]
    assert told["folders"]["home"] == r"C:\Users\rowan" and told["user"] == "rowan"
    assert "no account of that name" in desk("show", "front-desk/nobody:mosslight", code=2).err


def test_files_and_registry_of_one_subject_come_back_together(desk, server):
    """The registry is reached by the same sign-in, through the service that Samba has."""
    registry = RemoteRegistry(server.dial())
    registry.set(rf"{BRANCH}\Alarm", "Sound", "sz", "drip.wav")
    try:
        kept = desk("export", "mosslight", *AT, "--label", "with-alarm", "--json").json
        assert {part["id"] for part in kept[0]["profile"]["parts"] if part["documents"]} >= {
            "general",
            "panel",
        }
        spoil(desk)
        spoilt = everything(desk)
        registry.set(rf"{BRANCH}\Alarm", "Sound", "sz", "siren.wav")
        desk("import", "mosslight@with-alarm", *AT, "--yes")
        assert registry.value(rf"{BRANCH}\Alarm", "Sound")[2] == "drip.wav"
        desk("undo", "--yes")
        assert registry.value(rf"{BRANCH}\Alarm", "Sound")[2] == "siren.wav" and everything(desk) == spoilt
    finally:
        registry.delete_value(rf"{BRANCH}\Alarm", "Sound")
        registry.delete_key(rf"{BRANCH}\Alarm")


def test_attributes_and_access_rights_of_a_file_stay_when_it_is_replaced(desk, server):
    ini = spoil(desk)
    unc = rf"\\127.0.0.1\C$\{ini.relative_to(desk.disk)}".replace("/", "\\")
    session = SmbSession(Share("root", "127.0.0.1", server.port, "C$", "here", "there"), lambda: "fern-42")
    folder = SmbTree(session, desk.disk).folder(ini.relative_to(desk.disk).parts[:-1])

    def access():
        return subprocess.run(["getfacl", "-c", "-p", ini], capture_output=True, text=True, check=True).stdout

    subprocess.run(["setfacl", "-m", "u:daemon:r", ini], check=True)
    from smbprotocol.open import FilePipePrinterAccessMask

    from zinker.stores.smb_requests import set_bits

    hidden = 0x2 | 0x1  # hidden and read-only
    folder._together(
        unc, FilePipePrinterAccessMask.FILE_WRITE_ATTRIBUTES, [lambda asked: set_bits(asked, hidden)]
    )
    was = access()
    desk("import", "mosslight@agreed", *AT, "--yes")
    assert b"19:30" in ini.read_bytes()
    assert folder.stat(ini.name).st_file_attributes & 0x3 == 0x3
    # Samba writes the owner down once more; who else may read it is as it was.
    assert {"user:daemon:r--", "other::r--"} <= set(was.split()) & set(access().split())


def test_what_is_held_open_or_may_not_be_written_is_said_before_anything_is(desk, server):
    ini = spoil(desk)
    spoilt = everything(desk)
    with through_smb(desk, server, ini, mode="rb", share_access="r"):
        refused = desk("import", "mosslight@agreed", *AT, "--yes", code=3)
        assert "another program holds it open" in refused.err and "mosslight.ini" in refused.err
        assert everything(desk) == spoilt
        done = desk("import", "mosslight@agreed", *AT, "--yes", "--leave-unwritable", code=1)
        assert "another program holds it open" in done.out and b"11:11" in ini.read_bytes()
        assert list(desk.disk.rglob("bench-east.json"))
    desk("import", "mosslight@agreed", *AT, "--yes")
    toml = desk.home / "zinker.toml"
    toml.write_text(toml.read_text().replace('share = "C$"', 'share = "closed"'))
    spoil(desk)
    spoilt = everything(desk)
    why = desk("import", "mosslight@agreed", *AT, "--yes", code=3).err
    assert "no right to write in" in why or "read-only" in why, why
    assert everything(desk) == spoilt
    toml.write_text(toml.read_text().replace('share = "closed"', 'share = "nowhere"'))
    assert "it has no share nowhere" in desk("export", "mosslight", *AT, code=3).err
    desk.env["ZINKER_SECRET_FRONT_DESK"] = "wrong"
    why = desk("export", "mosslight", *AT, code=3).err
    assert "password is wrong" in why and "ZINKER_SECRET_FRONT_DESK" in why


def test_names_that_lead_elsewhere_are_neither_read_nor_written(desk):
    """A server may offer links; a profile may name what a server would take apart otherwise."""
    outside = desk.disk.parent / "outside"
    outside.mkdir(exist_ok=True)
    (outside / "secret.ini").write_text("[a]\nb = 1\n")
    data = next(desk.disk.rglob("benches"))
    (data / "link").symlink_to(outside)
    (data / "link.ini").symlink_to(outside / "secret.ini")
    desk("export", "mosslight", *AT, code=None)
    assert "secret.ini" not in desk("show", "mosslight").out
    desk("export", "mosslight@agreed", "--to", "forged/")
    lines = desk.path / "forged/settings/artwork.jsonl"
    known = lines.read_text().splitlines()
    name = json.loads(known[0])[0]
    for bad in ("..\\..\\evil.plan", "a:stream.plan", "CON.plan"):
        folder = desk.path / f"forged-{hashlib.sha256(bad.encode()).hexdigest()[:6]}"
        shutil.copytree(desk.path / "forged", folder)
        text = "\n".join(line.replace(json.dumps(name), json.dumps(bad)) for line in known) + "\n"
        (folder / "settings/artwork.jsonl").write_text(text)
        desk("check", f"{folder}/", "--accept", code=None)
        desk("import", f"{folder}/", *AT, "--yes", code=None)
    assert not [p for p in desk.disk.parent.rglob("*") if "evil" in p.name or "stream" in p.name]
    assert sorted(path.name for path in outside.iterdir()) == ["secret.ini"]


def test_what_no_subject_describes_is_kept_and_drafted_from_there(desk):
    kept = desk("export", "--home", "~/AppData/Roaming/mosslight", *AT, "--json").json
    about = kept[0]["profile"]
    assert sum(part["settings"] for part in about["parts"]) == 43 and about["place"] == "front-desk"
    desk("subjects", "new", "lamps", *AT, "--home", "%APPDATA%/mosslight/mosslight.ini")
    assert 'format = "ini"' in (desk.path / "subjects/lamps.subject.toml").read_text()
    assert "does not exist" in desk("export", "--home", "~/nothing.ini", *AT, code=2).err


def test_what_the_other_machine_says_of_one_file_is_of_that_file_alone(desk, server, monkeypatch):
    """An answer that nobody has a word for is no lost line; a folder is no file; threads hold a folder once."""
    share = Share("root", "127.0.0.1", server.port, "C$", "here", "there")
    session = SmbSession(share, lambda: "fern-42")
    tree = SmbTree(session, desk.disk)
    with pytest.raises(OSError, match="it is not a file"):
        tree.folder(("Users",)).open("ivy")
    for status, kind in (
        (0xC0000279, OSError),
        (0xC0000203, NoAnswer),
    ):  # a placeholder; a session that is gone
        with pytest.raises(kind) as told, session():
            raise SMBOSError(status, "x.ini")
        assert (getattr(told.value, "why", "") == f"the other machine answers 0x{status:08X}") == (
            kind is OSError
        )
    session.let_go()
    opened, gate = [], threading.Barrier(4)
    real = SmbFolder._opened
    monkeypatch.setattr(SmbFolder, "_opened", lambda *given: opened.append(1) or real(*given))

    def reach():
        gate.wait()
        SmbTree(session, desk.disk).folder(("Users", "ivy", "AppData"))

    threads = [threading.Thread(target=reach) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(opened) == 3 == len(session.held)
    session.let_go()


def test_a_folder_on_the_way_cannot_be_swapped_for_another(desk, server):
    """It is held open without sharing its removal, for as long as a run is at the place, and no longer."""
    share = Share("root", "127.0.0.1", server.port, "C$", "here", "there")
    session = SmbSession(share, lambda: "fern-42")
    folder = SmbTree(session, desk.disk).folder(("Users", "ivy", "AppData", "Roaming", "mosslight"))
    login = {"username": "root", "password": "fern-42", "port": server.port, "connection_cache": {}}
    old, new = (rf"\\127.0.0.1\C$\Users\ivy\AppData\Roaming\{name}" for name in ("mosslight", "moss"))
    with pytest.raises(OSError, match="used by another process"):
        smbclient.rename(old, new, **login)
    assert folder.has("mosslight.ini")
    session.let_go()
    smbclient.rename(old, new, **login)
    smbclient.rename(new, old, **login)
    desk("export", "mosslight", *AT)
    smbclient.rename(old, new, **login)


def test_a_line_that_is_lost_in_the_middle_leaves_nothing_half_done(desk, server, tmp_path):
    """The server is gone at some change; when it is back, the next run takes back or finishes what was begun."""
    spoil(desk)
    spoilt = everything(desk)
    pristine = tmp_path / "pristine"
    shutil.copytree(desk.path, pristine)
    killer = tmp_path / "killer"
    killer.mkdir()
    (killer / "sitecustomize.py").write_text(
        "import os, subprocess, sys\nleft = int(os.environ['LEFT'])\n"
        "def hook(event, arguments):\n    global left\n"
        "    if event == 'zinker.disk' and any('127.0.0.1' in str(one) for one in arguments):\n        left -= 1\n"
        f"        if left == 0:\n            subprocess.run(['pkill', '-KILL', '-f', '{server.path}'])\n"
        "sys.addaudithook(hook)\n"
    )
    ends = set()
    for number in (1, 3, 5, 7, 9):
        environment = {"LEFT": str(number), "PYTHONPATH": str(killer)}
        done = desk("import", "mosslight@agreed", *AT, "--yes", code=None, env=environment)
        server.stop()
        server.start()
        after = desk("export", "mosslight", *AT, "--loss-is-meant")
        ends.add(done.code)
        assert done.code in (0, 3, 4), done
        if everything(desk) != spoilt:
            assert done.code == 0 or "counts as done" in after.err, (done, after)
            desk("undo", "--yes")
        assert everything(desk) == spoilt, number
        shutil.rmtree(desk.path)
        shutil.copytree(pristine, desk.path)
    assert ends & {3, 4}


@pytest.mark.soak
@pytest.mark.parametrize("what", ["import", "undo"])
def test_a_run_that_is_killed_at_any_change_over_there_is_put_right(desk, server, tmp_path, what):
    spoil(desk)
    if what == "undo":
        desk("import", "mosslight@agreed", *AT, "--yes")
    begun = everything(desk)
    job = ("undo",) if what == "undo" else ("import", "mosslight@agreed", *AT)
    pristine, disk = tmp_path / "pristine", tmp_path / "disk"
    shutil.copytree(desk.path, pristine)
    shutil.copytree(desk.disk, disk)
    number, killed = 1, 0
    while True:
        environment = {
            "KILL_AT": str(number),
            "KILL_BELOW": "127.0.0.1",
            "PYTHONPATH": str(KILLING),
        }
        done = desk(*job, "--yes", code=None, env=environment)
        if done.code == 0:
            break
        killed += 1
        said = desk("export", "mosslight", *AT, "--loss-is-meant").err
        left = [path.name for path in desk.disk.rglob("*") if "zinker" in path.name]
        assert not left, (number, left)
        if everything(desk) != begun:
            assert "counts as done" in said, (number, said)
        shutil.rmtree(desk.path)
        shutil.copytree(pristine, desk.path)
        for entry in desk.disk.iterdir():
            shutil.rmtree(entry)
        shutil.copytree(disk, desk.disk, dirs_exist_ok=True)
        number += 1
    assert killed > 5


def test_many_small_files_take_few_requests(desk, server, monkeypatch):
    """How long it takes is how many requests there are, and how many of them are under way: they are counted."""
    import smbprotocol.connection

    folder = desk.disk / "Users/ivy/AppData/Roaming/many"
    for number in range(300):
        file = folder / f"d{number % 20}/f{number}.json"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(f'{{"a": {number}, "b": "x"}}\n')
    (desk.path / "subjects/many.subject.toml").write_text(
        'format = 1\nid = "many"\ntitle = "Many"\n[[part]]\nid = "m"\nstore = "file"\npath = "{config}/many/**"\n'
    )
    lock, sent = threading.Lock(), [0]
    together = smbprotocol.connection.Connection.send_compound

    def counted(self, *given, **more):
        with lock:
            sent[0] += 1
        return together(self, *given, **more)

    monkeypatch.setattr(smbprotocol.connection.Connection, "send_compound", counted)
    setup = desk.setup
    kept = export(setup, "many", "front-desk", Keeping(label="all")).manifest
    assert kept.settings == 600 and sent[0] < 3 * 300, sent
    for file in folder.rglob("*.json"):
        file.write_text(file.read_text().replace('"x"', '"y"'))
    sent[0] = 0
    done = import_profile(desk.setup, "many@all", "front-desk")
    assert done.state == "done" and sent[0] < 18 * 300, sent
    assert all('"x"' in file.read_text() for file in folder.rglob("*.json"))
    # Whatever a lost line says while several are under way, it is told as one.
    monkeypatch.setattr(smbprotocol.transport.Tcp, "send", failing(9))
    with pytest.raises(NoAnswer, match="the connection was lost"):
        export(desk.setup, "many", "front-desk", Keeping(again=True))

"""Registries: one set of cases for the simulated one, Windows' interface, and Samba's service over the network."""

import json
import os
import shutil
import socket
import subprocess
import sys
import threading
import time
from collections import Counter

import pytest
import registry_cases
from conftest import BRANCH, needs_system
from windows_stand_in import winreg_on

from zinker.demo.ports import free_port
from zinker.model.rows import address_of, leaf_of
from zinker.stores import remote_registry, smb_line
from zinker.stores.registry import RegistryError, RegistryHome, in_view
from zinker.stores.remote_registry import Dial, NoAnswer, RemoteRegistry
from zinker.stores.simulated_registry import SimulatedRegistry
from zinker.stores.windows_registry import WindowsRegistry

SMBD = shutil.which("smbd", path=os.environ.get("PATH", "") + ":/usr/sbin")
ROOT = r"HKEY_LOCAL_MACHINE\SOFTWARE\Tarn Hollow"


class Samba:
    """A Samba server of our own on loopback, with its registry service; its folders and port are its own."""

    def __init__(self, path):
        self.path = path
        self.port = free_port()
        for folder in ("private", "state", "cache", "lock", "pid", "ncalrpc", "kept"):
            (path / folder).mkdir(parents=True)
        folders = "\n".join(
            f"{name} = {path / folder}"
            for name, folder in (
                ("private dir", "private"),
                ("state directory", "state"),
                ("cache directory", "cache"),
                ("lock directory", "lock"),
                ("pid directory", "pid"),
                ("ncalrpc dir", "ncalrpc"),
                ("log file", "log"),
            )
        )
        self.conf = path / "smb.conf"
        self.conf.write_text(
            f"[global]\nnetbios name = GATEKIOSK\nserver role = standalone server\ninterfaces = 127.0.0.1\n"
            f"bind interfaces only = yes\nsmb ports = {self.port}\ndisable netbios = yes\nload printers = no\n"
            f"disable spoolss = yes\npassdb backend = tdbsam\nserver min protocol = SMB3\n{folders}\n"
            f"[kept]\npath = {path / 'kept'}\nread only = no\n"
        )
        secret = ["smbpasswd", "-c", self.conf, "-a", "-s", "root"]
        subprocess.run(secret, input=b"fern-42\nfern-42\n", check=True, capture_output=True)
        self.start()

    def start(self):
        command = [SMBD, "-F", "--no-process-group", "-s", self.conf, "-l", self.path]
        with (self.path / "out").open("wb") as out:
            self.process = subprocess.Popen(command, stdout=out, stderr=out, start_new_session=True)
        while self.process.poll() is None:  # it answers, or ends
            with socket.socket() as probe:
                if probe.connect_ex(("127.0.0.1", self.port)) == 0:
                    return
            time.sleep(0.05)
        pytest.fail((self.path / "out").read_text())

    def stop(self):
        """End the server with all its children, which have process groups of their own."""
        subprocess.run(["pkill", "-KILL", "-f", str(self.path)], check=False)
        self.process.wait()

    def dial(self, secret="fern-42", port=0, encrypt=True):
        return Dial("127.0.0.1", port or self.port, "root", lambda: secret, encrypt)


@pytest.fixture(scope="module")
def samba(tmp_path_factory):
    needs_system(SMBD and os.geteuid() == 0, "Samba's smbd, and root")
    server = Samba(tmp_path_factory.mktemp("samba"))
    yield server
    server.stop()


def _simulated(tmp_path, **state):
    path = tmp_path / "workstation.json"
    path.write_text(json.dumps({"registry": {"keys": {ROOT: {}}, **state}}))
    return SimulatedRegistry(path)


@pytest.mark.parametrize("case", registry_cases.CASES, ids=lambda case: case.__name__)
@pytest.mark.parametrize("kind", ["simulated", "windows", "samba"])
def test_every_registry_behaves_alike(kind, case, tmp_path, request):
    if kind == "samba":
        registry = RemoteRegistry(request.getfixturevalue("samba").dial())
    else:
        registry = _simulated(tmp_path)
        registry = registry if kind == "simulated" else WindowsRegistry(winreg_on(registry))
    branch = rf"{ROOT}\{case.__name__}"
    registry.create(branch)
    case(registry, branch)


@pytest.mark.parametrize("kind", ["simulated", "windows"])
def test_what_windows_documents_of_keys(kind, tmp_path):
    """Locked keys, missing rights, links, keys that change while they are read, and the views."""
    keys = {
        ROOT: {"a": ["sz", "b"]},
        rf"{ROOT}\Locked": {"a": ["sz", "b"]},
        rf"{ROOT}\Vault": {"a": ["sz", "b"]},
        rf"{ROOT}\Set2": {"Width": ["dword", 2]},
        r"HKEY_LOCAL_MACHINE\SOFTWARE\WOW6432Node\Tarn Hollow": {"a": ["sz", "32"]},
    }
    simulated = _simulated(
        tmp_path,
        keys=keys,
        locked={rf"{ROOT}\Locked": "till.exe"},
        denied={rf"{ROOT}\Vault": "read"},
        links={rf"{ROOT}\Current": rf"{ROOT}\Set2"},
    )
    windows = winreg_on(simulated)
    registry = simulated if kind == "simulated" else WindowsRegistry(windows)
    assert "lock" in registry.obstacle(rf"{ROOT}\Locked\Below")
    for change in (
        lambda: registry.set(rf"{ROOT}\Locked", "a", "sz", "c"),
        lambda: registry.set(rf"{ROOT}\Vault", "a", "sz", "c"),
        lambda: registry.values(rf"{ROOT}\Vault"),
    ):
        with pytest.raises(RegistryError, match="lock|right"):
            change()
    reading = RegistryHome(registry, (ROOT,)).read(ROOT)
    rows = [row for block in reading.blocks() for row in block]
    assert {address_of(row): leaf_of(row).type for row in rows} == {
        "/a": "sz",
        "/Locked/a": "sz",
        "/Set2/Width": "dword",
        "/Current/SymbolicLinkValue": "link",
    }
    assert [trouble.address for trouble in reading.later] == ["/Vault"]
    followed = RegistryHome(registry, (rf"{ROOT}\Current",))
    assert followed.read(rf"{ROOT}\Current").leaves_at(
        ["/Width"]
    )  # whoever names a link means what it leads to
    narrow = in_view(simulated, 32) if kind == "simulated" else WindowsRegistry(windows, 32)
    assert narrow.values(ROOT) == [("a", "sz", "32")]


def test_a_key_that_changes_while_it_is_read_is_named(garden):
    key = r"HKEY_CURRENT_USER\Software\Tarn Hollow\Brindlepot\Prices"
    garden.edit_workstation("gate-kiosk", lambda state: state["registry"].update(restless={key: "till.exe"}))
    out = garden("export", "brindlepot", "--place", "gate-kiosk", code=1).out
    assert "/Prices: it changed while it was read, 3 times" in out


def _accounts(state):
    list_of = r"HKEY_LOCAL_MACHINE\SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList"
    state["registry"]["keys"] |= {
        rf"{list_of}\S-1-5-21-7-1001": {"ProfileImagePath": ["expand_sz", r"%SystemDrive%\Users\ivy"]},
        r"HKEY_USERS\S-1-5-21-7-1001\Software\Tarn Hollow\Brindlepot": {"Version": ["sz", "ivy's"]},
    }


def test_other_accounts_and_all_of_them(garden):
    garden.edit_workstation("gate-kiosk", _accounts)
    garden("export", "brindlepot", "--place", "gate-kiosk/ivy")
    assert "ivy's" in garden("show", "brindlepot").out
    garden("export", "brindlepot", "--place", "old-kiosk", "--label", "old")
    before = garden.registry("gate-kiosk")
    done = garden(
        "import", "brindlepot@old", "--place", "gate-kiosk/all-users", "--adopt", "--yes", "--while-running"
    )
    assert "zinker undo" in done.out
    machine = r"HKEY_LOCAL_MACHINE\SOFTWARE\Tarn Hollow\Brindlepot"
    after = garden.registry("gate-kiosk")
    assert after[rf"{machine}\Prices"]["Adult"] == ["dword", 980]
    assert {key: values for key, values in after.items() if not key.startswith(machine)} == before
    garden("undo", "--yes", "--while-running")
    left = garden.registry("gate-kiosk")
    assert {key: values for key, values in left.items() if values or key in before} == before
    why = garden("export", "brindlepot", "--place", "gate-kiosk/rowan", code=2).err
    assert "no account of that name" in why and "ivy, all-users" in why


REMOTE = """
[places.far-kiosk]
kind = "remote-registry"
address = "127.0.0.1:{port}"
user = "root"
"""


@pytest.fixture
def far(garden, samba):
    """A garden from which Samba's registry is reached as a place, empty of the till."""
    with (garden.home / "zinker.toml").open("a") as file:
        file.write(REMOTE.format(port=samba.port))
    garden.env |= {"ZINKER_SECRET_FAR_KIOSK": "fern-42"}
    yield garden
    garden("undo", "--yes", code=None)


def test_the_till_moves_to_a_workstation_over_the_network(far):
    far("export", "brindlepot", "--place", "old-kiosk", "--label", "old")
    far("import", "brindlepot@old", "--place", "far-kiosk", "--adopt", "--yes")
    assert "No differences: 7 settings" in far("compare", "brindlepot@old", "far-kiosk:brindlepot").out
    preview = far("import", "brindlepot@old", "--place", "far-kiosk", "--preview", "--json").json
    assert preview["settings"] == 0
    far("undo", "--yes")
    assert "0 settings." in far("show", "far-kiosk:brindlepot").out


def test_a_connection_lost_in_the_middle_leaves_a_known_state(far, samba):
    """The server dies while values are written; the next run finds the journal and takes them back."""
    far("export", "brindlepot", "--place", "old-kiosk", "--label", "old")
    registry = RemoteRegistry(samba.dial())
    branch = r"HKEY_CURRENT_USER\Software\Tarn Hollow\Brindlepot"
    registry.set(rf"{branch}\Prices", "Adult", "dword", 1)
    script = f"""
import os, subprocess, sys
from zinker.stores.remote_registry import RemoteRegistry
set_value, count = RemoteRegistry.set, 0
def cut(self, *value):
    global count
    count += 1
    if count == 3:
        subprocess.run(["pkill", "-KILL", "-f", {str(samba.path)!r}])
    set_value(self, *value)
RemoteRegistry.set = cut
from zinker.cli.main import run
sys.argv = ["zinker", "import", "brindlepot@old", "--place", "far-kiosk", "--adopt", "--yes"]
run()
"""
    (far.path / "cut.py").write_text(script)
    done = subprocess.run(
        [sys.executable, "cut.py"], cwd=far.path, env=far.env, capture_output=True, text=True
    )
    assert done.returncode == 4 and "The next run at far-kiosk (127.0.0.1) tries that again" in done.stderr, (
        done
    )
    samba.process.wait()
    samba.start()
    told = far("export", "brindlepot", "--place", "far-kiosk")
    assert "was cut off; it has been taken back" in told.err
    kept = far("show", "brindlepot", "--json").json["settings"]
    assert [(s["address"], s["value"]) for s in kept] == [("/Prices/Adult", 1)]
    RemoteRegistry(samba.dial()).delete_value(rf"{branch}\Prices", "Adult")


@pytest.mark.soak
def test_a_branch_takes_few_round_trips_one_after_the_other(samba, monkeypatch):
    """Keys, and pieces of a large one, are asked for side by side: no pipe has to do half of the work.

    One by one, the large key alone would be two thirds; how even the shares are, the busy machine has a say in.
    """
    registry = RemoteRegistry(samba.dial())
    branch = rf"{ROOT}\Round trips"
    for number in range(600):
        registry.set(rf"{branch}\Large", f"Value {number}", "dword", number)
    for number in range(60):
        registry.set(rf"{branch}\Small {number}", "a", "sz", "b")
    trips = Counter()
    exchange = smb_line._Pipe.exchange
    slow = lambda self, request: (trips.update([id(self)]), time.sleep(0.002), exchange(self, request))[2]  # noqa: E731
    monkeypatch.setattr(smb_line._Pipe, "exchange", slow)
    assert len(registry_cases.read(registry, branch)) == 660
    assert len(trips) >= 8 and max(trips.values()) < sum(trips.values()) / 2, trips


def test_a_key_that_changes_while_its_pieces_are_read(samba, monkeypatch):
    registry = RemoteRegistry(samba.dial())
    branch = rf"{ROOT}\Changing"
    for number in range(200):
        registry.set(branch, f"Value {number}", "dword", number)
    value, left = remote_registry._value, [1]

    def meanwhile(service, handle, number, info):
        if number == 70 and left:
            left.pop()
            RemoteRegistry(samba.dial()).delete_value(branch, "Value 3")
        return value(service, handle, number, info)

    monkeypatch.setattr(remote_registry, "_value", meanwhile)
    assert len(registry_cases.read(registry, branch)) == 199


def test_whoever_cannot_be_reached_says_why(samba, far, tmp_path):
    def why(**changes):
        with pytest.raises(NoAnswer) as refused:
            RemoteRegistry(samba.dial(**changes)).values(BRANCH)
        return refused.value.why

    assert "password is wrong" in why(secret="moss")
    assert "nothing listens" in why(port=1)
    assert "ZINKER_SECRET_FAR_KIOSK" in far("places", code=1, env={"ZINKER_SECRET_FAR_KIOSK": ""}).out
    listener = socket.create_server(("127.0.0.1", 0))  # something else than SMB
    with listener:

        def answer():
            connection, _ = listener.accept()
            connection.sendall(b"HTTP/1.0 400 Bad Request\r\n\r\n")
            connection.close()

        threading.Thread(target=answer, daemon=True).start()
        assert why(port=listener.getsockname()[1])


POLICIES = """
format = 1
id = "till"
title = "Till"
[[part]]
id = "till"
store = "registry"
path = 'HKEY_CURRENT_USER\\Software\\Tarn Hollow\\Brindlepot'
policies = [
    'HKEY_LOCAL_MACHINE\\Software\\Policies\\Tarn Hollow\\Brindlepot',
    'HKEY_CURRENT_USER\\Software\\Policies\\Tarn Hollow\\Brindlepot',
]
titles = { "/Prices/Adult" = "Adult ticket" }
"""


def test_what_a_policy_sets_counts_and_that_is_said_before_and_after(garden):
    """The machine's own policy comes before the user's; names are the same whatever their case."""
    machine = r"HKEY_LOCAL_MACHINE\Software\Policies\Tarn Hollow\Brindlepot"
    user = r"HKEY_CURRENT_USER\Software\Policies\Tarn Hollow\Brindlepot"
    (garden.path / "subjects/till.subject.toml").write_text(POLICIES)
    at = ("--place", "gate-kiosk")
    garden("export", "till", *at, "--label", "set", code=1)

    def edit(state):
        keys = state["registry"]["keys"]
        keys[rf"{machine}\PRICES"] = {"adult": ["dword", 1100], "Season": ["dword", 5000]}
        keys[rf"{user}\Prices"] = {"Adult": ["dword", 1], "Child": ["dword", 2]}
        keys[r"HKEY_CURRENT_USER\Software\Tarn Hollow\Brindlepot\Prices"]["Adult"] = ["dword", 7]
        keys[r"HKEY_CURRENT_USER\Software\Tarn Hollow\Brindlepot\Prices"]["Pensioner"] = ["dword", 7]
        state["running"] = []

    garden.edit_workstation("gate-kiosk", edit)
    shown = garden("show", "gate-kiosk:till", "--json", code=1).json["settings"]  # not all can be read
    shown = {one["address"]: one for one in shown}
    assert shown["/Prices/Adult"]["value"] == 7
    assert shown["/Prices/Adult"]["layer"] == rf"does not count: 1100 does, by {machine}\PRICES"
    assert shown["/PRICES/Season"]["layer"] == rf"by a policy, {machine}\PRICES"
    assert shown["/Prices/Child"]["layer"] == rf"does not count: 2 does, by {user}\Prices"
    assert "layer" not in shown["/Prices/Pensioner"] or not shown["/Prices/Pensioner"]["layer"]
    written_down = garden("document", "gate-kiosk:till", "--format", "markdown").out
    assert "does not count: 1100 does" in written_down and "5000" in written_down
    plan = garden("import", "till@set", *at, "--preview").out
    assert plan.count("will not count") == 1 and rf"1100 does, by {machine}\PRICES" in plan.replace(
        "\n  ", " "
    )
    done = garden("import", "till@set", *at, "--yes", "--json").json
    (document,) = done["plan"]
    assert {one["address"]: one.get("by") for one in document["settings"]} == {
        "/Prices/Adult": rf"{machine}\PRICES",
        "/Prices/Pensioner": None,
    }
    # A policy is not the part's own: it is neither captured nor touched.
    assert garden.registry("gate-kiosk")[rf"{machine}\PRICES"]["Season"] == ["dword", 5000]
    assert "Season" not in garden("show", "till@set", code=1).out
    assert garden("undo", "--preview", *()).out.count("will not count") == 1
    for wrong in ("['fern.ini']", "['HKLM\\Software\\Policies']"):
        text = POLICIES.replace(
            POLICIES[POLICIES.index("[\n    'HK") : POLICIES.index("]\ntitles") + 1], wrong
        )
        (garden.path / "subjects/till.subject.toml").write_text(text)
        assert (
            "must begin with a root key"
            in garden("subjects", "check", "subjects/till.subject.toml", code=None).out
        )

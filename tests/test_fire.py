"""After a fire: the walk of the guide, as it stands there, out of a sealed shelf on object storage."""

import os
import re
import shutil
import subprocess
from pathlib import Path

import pytest
from conftest import COMMAND, Garden, needs_system
from object_stand import S3
from test_schedule import CRONTAB

GUIDE = Path(__file__).parent.parent / "docs/guide.md"
CONFIGURATION = """# Where the things of this house are.
shelf = "s3://garden/shelf"
shelf_credential = "shelf-secret"
seal = "~/garden.key"
subjects = ["./subjects"]

[object_storage]
endpoint = "https://objects.example"
user = "garden-key"

[places.potting-shed]                       # the disk, and what the registry of that machine is
kind = "folder"
path = "~/house/potting-shed"
workstation = "~/house/workstations/potting-shed.json"
folders = { home = "Users/ivy", config = "Users/ivy/AppData/Roaming", data = "Users/ivy/AppData/Local" }

[places.gate-kiosk]
kind = "folder"
path = "~/house/gate-kiosk"
workstation = "~/house/workstations/gate-kiosk.json"
folders = { home = "Users/sage", config = "Users/sage/AppData/Roaming", data = "Users/sage/AppData/Local" }

[rounds.house]
what = ["here:*", "potting-shed:*", "gate-kiosk:brindlepot"]
"""


class Machine:
    """A home with nothing in it, on a machine of that name, and a house of workstations beside it."""

    def __init__(self, path, name, build):
        self.home, self.name = path / name, name
        house = self.home / "house"
        build(house)
        self.garden = Garden.__new__(Garden)
        self.garden.path, self.garden.home = house, self.home
        programs = path / f"programs-{name}"
        programs.mkdir()
        (programs / "crontab").write_text(CRONTAB)
        (programs / "crontab").chmod(0o755)
        own = ("ZINKER", "XDG", "COLUMNS", "PYTHONDONTWRITEBYTECODE")
        self.env = {k: v for k, v in os.environ.items() if not k.startswith(own)}
        search = [str(programs), str(Path(COMMAND[0]).parent), os.environ["PATH"]]
        self.env |= {"HOME": str(self.home), "PATH": os.pathsep.join(search), "NO_COLOR": "1"}

    def __call__(self, script):
        """Run some lines as a person does, each to its end; the first that fails is the last."""
        words = ["unshare", "--uts", "sh", "-c", f"hostname {self.name}; exec bash -e", "sh"]
        done = subprocess.run(
            words, input=script, cwd=self.home, env=self.env, capture_output=True, text=True, check=False
        )
        assert done.returncode == 0, f"{done.stdout}\n{done.stderr}"
        return done.stdout


def emptied(house):
    """Leave what a fresh install has: the machines, and nothing that a person has set up."""
    garden = Garden(house)
    for app in ("mosslight", "quillfern"):
        for folder in house.rglob(f"AppData/*/{app}"):
            shutil.rmtree(folder)
    for name in ("potting-shed", "gate-kiosk"):
        garden.edit_workstation(name, without_settings)


def without_settings(state):
    state["running"] = []
    state["registry"] = {**state["registry"], "denied": {}, "locked": {}}
    keys = state["registry"]["keys"]
    state["registry"]["keys"] = {path: values for path, values in keys.items() if "Tarn Hollow" not in path}


@pytest.mark.soak
def test_from_an_empty_machine_to_a_restored_house(tmp_path):
    needs_system(
        os.geteuid() == 0 and shutil.which("unshare"), "the right to give a process another host name"
    )
    server = S3(tmp_path)
    endpoint = f"http://127.0.0.1:{server.port}"

    def built(house):
        garden = Garden(house)
        garden.edit_workstation("gate-kiosk", lambda state: state["registry"].update(denied={}, locked={}))

    old = Machine(tmp_path, "old-bench", built)
    own = old.home / ".config/zinker"
    shutil.copytree(old.home / "house/subjects", own / "subjects")
    (old.home / ".config/mosslight").mkdir()
    shutil.copy(old.garden.ini, old.home / ".config/mosslight/mosslight.ini")
    (own / "zinker.toml").write_text(CONFIGURATION.replace("https://objects.example", endpoint))
    (own / "shelf-secret").write_text(server.secret)
    (own / "shelf-secret").chmod(0o600)
    old("zinker schedule add house --every day --at 02:00 --yes; zinker schedule run house --now")
    paper = (old.home / "garden.key").read_text()
    assert endpoint in paper and 'user = "garden-key"' in paper
    before, written = old.garden.places("potting-shed", "gate-kiosk"), (own / "zinker.toml").read_bytes()
    shutil.rmtree(old.home)

    new = Machine(tmp_path, "new-bench", emptied)
    walk = re.search(r"## After a fire\n.*?```sh\n(.*?)```", GUIDE.read_text(), re.S)[1]
    told = walk.replace("https://objects.example", endpoint).replace(
        "the secret of garden-key", server.secret
    )
    key = re.search("^zinker-key .*$", paper, re.M)[0]
    told = re.sub(r"zinker-key [A-Z2-7-]+", key, told)
    assert told.count(key) == 1
    out = new(told)
    assert "All of it is as it was written" in out and "Nothing to write" in out
    assert "Of 5: 3 kept, 2 as before." in out, out
    after = new.garden.places("potting-shed", "gate-kiosk")
    differing = {name for name in before.keys() | after.keys() if before.get(name) != after.get(name)}
    # But for a secret, which is entered again.
    assert differing == {"potting-shed/Users/ivy/AppData/Roaming/mosslight/mosslight.ini"}
    (ini,) = differing
    assert after[ini] == before[ini].replace(b"token = 7f3d-moss-91aa-peat\r\n", b""), after[ini]
    assert (new.home / ".config/mosslight/mosslight.ini").read_bytes() == after[ini]
    assert (new.home / ".config/zinker/zinker.toml").read_bytes() == written
    assert " * * * " in Path(new.env["PATH"].partition(os.pathsep)[0], "table").read_text()
    server.stop()

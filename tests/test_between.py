"""Nobody gets between: what is saved after the plan was made is at the place afterwards, or in a kept version."""

import os
import sys
import threading

import httpx2
import pytest
from conftest import BRANCH, Garden, unpacked
from test_desktop import desk  # noqa: F401 - a fixture
from test_tenant import tenants  # noqa: F401 - a fixture

from zinker.demo.tenant_data import SERVER_MADE
from zinker.jobs import Wishes, export, import_profile, load_setup, undo
from zinker.model.errors import ZinkerError
from zinker.stores.desktop_db import DesktopHome
from zinker.stores.registry import RegistryHome
from zinker.stores.simulated_registry import SimulatedRegistry

pytestmark = pytest.mark.skipif(not hasattr(os, "fork"), reason="no fork here")


class Steps:
    """The steps of a run from its plan on: changes to the disk, looks at a store. `save` comes before the n-th."""

    def __init__(self, number, save, case):
        self.number, self.save, self.has_saved = number, save, False
        self.is_counting, self.turn = False, threading.RLock()
        below = str(case.garden.path)

        def hook(event, arguments):
            path = str(arguments[1]) if event == "zinker.disk" else ""
            if path.startswith(below) and not path.startswith(case.own):
                self.take()

        sys.addaudithook(hook)
        for owner, name in case.looks:
            setattr(owner, name, self.counted(getattr(owner, name)))

    def counted(self, method):
        def call(*arguments, **more):
            self.take()
            return method(*arguments, **more)

        return call

    def approve(self, plan):
        self.is_counting = True
        return True

    def take(self):
        with self.turn:  # requests are made side by side
            self.number -= self.is_counting
            if self.is_counting and self.number == 0:
                self.is_counting = False
                self.save()
                self.has_saved = True


class Files:
    """Files of an application: one that an exact import edits, one that it replaces, one that it removes."""

    place, subject, wishes, undoing, own, looks, count = "potting-shed", "mosslight", {}, {}, "\n", (), 3
    codes = {13, 14}  # refused before anything was touched, and taken back from the middle of it

    def __init__(self, garden):
        self.garden = garden
        self.set_up()

    def set_up(self):
        pictures = self.garden.data / "artwork/benches"
        self.paths = [self.garden.ini, pictures / "north.svg", pictures / "more.svg"]
        self.garden("export", self.subject, "--place", self.place)
        self.garden.spoil()
        self.paths[2].write_text("<svg>more</svg>")

    def run(self, kind, approve=lambda plan: True):
        if kind == "undo":
            return undo(load_setup(), 1, approve=approve, **self.undoing)
        wishes = Wishes(exact=kind == "exact", **self.wishes)
        return import_profile(load_setup(), f"{self.subject}@1", self.place, wishes, approve=approve)

    def save(self, marks):
        for path, mark in zip(self.paths, marks, strict=True):
            path.parent.mkdir(parents=True, exist_ok=True)
            text = b"[lamps]\r\nnorth = " + mark + b"\r\n" if path.suffix == ".ini" else mark
            self.write(path, text)

    def write(self, path, data):
        with path.open("wb") as file:
            file.write(data)

    def keep(self):
        self.pristine = self.garden.path.with_name("pristine")
        os.system(f"cp -a {self.garden.path} {self.pristine}")

    def reset(self):
        os.system(f"rm -r {self.garden.path}; cp -a {self.pristine} {self.garden.path}")


class Renamed(Files):
    """The same, saved as most applications do: a new file is put in the old one's place."""

    def write(self, path, data):
        aside = path.with_name("aside")
        aside.write_bytes(data)
        aside.replace(path)


class Values(Files):
    """Values of a registry."""

    looks = ((RegistryHome, "_now"),)
    codes = {2, 13}  # refused, and left alone one by one

    def set_up(self):
        self.own = str(self.garden.path / "workstations")  # the simulated registry at work
        self.save([b"kept", b"kept", b"kept"])
        self.set({"More 2": None})
        self.garden("export", self.subject, "--place", self.place)
        self.save([b"edited", b"removed", b"more"])
        self.set({"More 1": None})

    def set(self, values):
        registry = SimulatedRegistry(self.garden.workstation())
        for name, value in values.items():
            if value is None:
                registry.delete_value(BRANCH, name)
            else:
                registry.set(BRANCH, name, "sz", value)

    def save(self, marks):
        self.set({f"More {at}": mark.decode() for at, mark in enumerate(marks)})


class Desktop(Values):
    """Values of the desktop's settings database, through its own service."""

    place, subject = "here", "garden-desk"
    looks = ((DesktopHome, "_leaves"),)

    def set(self, values):
        for name, value in values.items():
            path = f"/garden/desk/more-{name[-1]}"
            self.garden.dconf(*(("reset", path) if value is None else ("write", path, f"'{value}'")))

    def keep(self):
        super().keep()
        self.values = [self.garden.dconf("read", f"/garden/desk/more-{at}") for at in range(3)]

    def reset(self):
        super().reset()
        self.set({str(at): value.strip()[1:-1] or None for at, value in enumerate(self.values)})


class Policies(Files):
    """Policies of a tenant: one that is edited and one that goes."""

    place, subject = "tarnhollow", "garden-tenant"
    looks = ((httpx2.Client, "send"),)
    overruled = frozenset({"adopt", "live"})
    wishes = {"overruled": overruled, "parts": ("house-rules", "workstation-rules")}
    undoing = {"overruled": overruled}
    codes, count = {2, 13}, 2

    def set_up(self):
        self.garden("export", self.subject, "--place", "trial")
        self.office = self.garden.state()["WorkstationRules"]["Office desks"]

    def save(self, marks):
        self.garden.change("HouseRules", "Kiosk rules", description=marks[0].decode())
        text = {"description": marks[1].decode()}
        if "Office desks" in self.garden.state()["WorkstationRules"]:
            self.garden.change("WorkstationRules", "Office desks", **text)
        else:  # somebody makes it again
            new = {name: value for name, value in self.office.items() if name not in SERVER_MADE}
            self.garden.api("POST", "WorkstationRules", json=new | text)

    def reset(self):
        self.garden.stop()
        super().reset()
        self.garden.serve()


def run(job):
    """Run a job in a process of its own; returns the number that it returns."""
    child = os.fork()
    if child == 0:
        code = 9
        try:
            code = job()
        finally:
            os._exit(code)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])


def kept_anywhere(garden, data):
    """Tell whether a version on the shelf has a file with that in it."""
    objects = (garden.path / "shelf/objects").rglob("*.zst")
    return any(data in unpacked(path) for path in objects)


@pytest.mark.parametrize("kind", ["import", "exact", "undo"])
@pytest.mark.parametrize(
    ("place", "case"),
    [
        ("garden", Files),
        ("garden", Renamed),
        ("garden", Values),
        ("desk", Desktop),
        ("tenants", Policies),
    ],
    ids=lambda case: getattr(case, "__name__", ""),
)
@pytest.mark.soak
def test_what_somebody_saves_at_any_step_is_not_lost(request, monkeypatch, place, case, kind):
    garden = request.getfixturevalue(place)
    for name, value in garden.env.items():
        monkeypatch.setenv(name, value)
    case = case(garden)
    if kind == "undo":
        assert run(lambda: case.run("exact").state != "done") == 0
    case.keep()
    lost, seen, number = [], set(), 0
    while True:
        number += 1
        marks = [f"saved-{number}-{at}".encode() for at in range(3)]

        def tried(number=number, marks=marks):
            steps = Steps(number, lambda: case.save(marks), case)
            try:
                outcome = case.run(kind, steps.approve)
                code = 1 if outcome.is_complete else 2
            except ZinkerError as error:
                code = 10 + error.exit_code
            return code if steps.has_saved else 0

        code = run(tried)
        if code == 0:
            break
        seen.add(code)
        assert code != 9
        garden(
            "export", case.subject, "--place", case.place, "--loss-is-meant"
        )  # the next run puts right what is open
        assert not load_setup().shelf.changes.open_ones()
        lost += [(number, code, mark) for mark in marks[: case.count] if not kept_anywhere(garden, mark)]
        case.reset()
    assert lost == [] and number > 10
    assert case.codes <= seen, seen


def test_a_value_that_changes_before_its_turn_is_left_alone(tmp_path, monkeypatch):
    """Right before each of the looks at values, somebody sets the one that is looked at."""
    garden = Garden(tmp_path / "garden")
    monkeypatch.setenv("ZINKER_HOME", str(garden.home))
    for number in range(3):
        garden.edit_workstation(
            "potting-shed",
            lambda state, number=number: state["registry"]["keys"][BRANCH].update(
                {f"More {number}": ["dword", 1]}
            ),
        )
    export(load_setup(), "mosslight", place="potting-shed")
    garden.spoil()
    garden.edit_workstation("potting-shed", lambda state: state["registry"]["keys"][BRANCH].pop("More 1"))
    garden.edit_workstation("potting-shed", lambda state: state["registry"]["keys"][BRANCH].pop("More 2"))
    pristine = garden.workstation().read_bytes()
    look, changed = RegistryHome._now, 0
    while True:
        looks = 0

        def meddled(self, branch, step, at=changed):
            nonlocal looks
            looks += 1
            if looks == at + 1:
                *path, name = step.address[1:].split("/")
                other = SimulatedRegistry(garden.workstation())
                other.set("\\".join([branch, *path]), name, "sz", f"mine-{at}")
            return look(self, branch, step)

        monkeypatch.setattr(RegistryHome, "_now", meddled)
        outcome = import_profile(load_setup(), "mosslight@1", "potting-shed")
        if looks <= changed:
            break
        (left,) = [item for item in outcome.left if item.wanted]
        assert left.reason == "refused" and "changed since the plan was made" in left.why
        assert f"mine-{changed}" in garden.workstation().read_text()
        undo(load_setup())
        assert f"mine-{changed}" in garden.workstation().read_text()
        garden.workstation().write_bytes(pristine)
        garden("import", "mosslight@2", "--place", "potting-shed", "--yes")  # the files as they were spoiled
        changed += 1
    assert changed > 2 and outcome.state == "done"

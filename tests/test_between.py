"""Nobody gets between: what is saved after the plan was made is at the place afterwards, or in a kept version."""

import os
import sys
import zipfile

import pytest
from conftest import BRANCH, Garden

from zinker.jobs import Wishes, export, import_profile, load_setup, undo
from zinker.model.errors import ZinkerError
from zinker.stores.registry import RegistryHome
from zinker.stores.simulated_registry import SimulatedRegistry

pytestmark = pytest.mark.skipif(not hasattr(os, "fork"), reason="no fork here")


def at_change(number, below, do):
    """Call `do` right before the n-th change that Zinker makes to the disk below a folder."""
    left = number

    def hook(event, arguments):
        nonlocal left
        if event == "zinker.disk" and str(arguments[1]).startswith(str(below)):
            left -= 1
            if left == 0:
                do()

    sys.addaudithook(hook)


def in_place(path, data):
    with path.open("wb") as file:
        file.write(data)


def by_renaming(path, data):
    aside = path.with_name("aside")
    aside.write_bytes(data)
    aside.replace(path)


def run(job):
    """Run a job in a process of its own; tell whether `job` said that it was there in time."""
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
    for path in (garden.path / "shelf/subjects").rglob("*.zinker"):
        with zipfile.ZipFile(path) as profile:
            if any(data in profile.read(name) for name in profile.namelist()):
                return True
    return False


@pytest.mark.parametrize("save", [in_place, by_renaming])
@pytest.mark.parametrize("kind", ["import", "exact", "undo"])
@pytest.mark.soak
def test_what_an_application_saves_at_any_step_is_not_lost(tmp_path, monkeypatch, save, kind):
    garden = Garden(tmp_path / "garden")
    monkeypatch.setenv("ZINKER_HOME", str(garden.home))
    export(load_setup(), "mosslight", place="potting-shed")
    garden.spoil()
    pictures = garden.data / "artwork/benches"
    (pictures / "more.svg").write_text("<svg>more</svg>")  # goes with an exact import
    if kind == "undo":
        import_profile(load_setup(), "mosslight@1", "potting-shed", Wishes(exact=True))

    def job():
        setup = load_setup()
        if kind == "undo":
            return undo(setup, 1)
        return import_profile(setup, "mosslight@1", "potting-shed", Wishes(exact=kind == "exact"))

    lost, seen = [], set()
    targets = [garden.ini, pictures / "north.svg", pictures / "more.svg"]
    pristine = garden.path.with_name("pristine")
    os.system(f"cp -a {garden.path} {pristine}")
    number = 0
    while True:
        number += 1
        said = [f"saved-{number}-{at}".encode() for at in range(len(targets))]

        def tried(number=number, said=said):
            done = []

            def application_saves():
                for path, mark in zip(targets, said, strict=True):
                    path.parent.mkdir(parents=True, exist_ok=True)
                    text = b"[lamps]\r\nnorth = " + mark + b"\r\n" if path.suffix == ".ini" else mark
                    save(path, text)
                done.append(True)

            at_change(number, garden.path, application_saves)
            try:
                outcome = job()
                return 0 if not done else 1 if outcome.is_complete else 2
            except ZinkerError as error:
                return 10 + error.exit_code if done else 0

        code = run(tried)
        if code == 0:
            break
        seen.add(code)
        export(load_setup(), "mosslight", place="potting-shed")  # the next run puts right what is open
        assert not load_setup().shelf.changes.open_ones()
        for path, mark in zip(targets, said, strict=True):
            is_there = path.exists() and mark in path.read_bytes()
            if not is_there and not kept_anywhere(garden, mark):
                lost.append((number, code, path.name))
        os.system(f"rm -r {garden.path}; cp -a {pristine} {garden.path}")
    assert lost == [] and number > 20
    # Refused before anything was touched, and taken back from the middle of it.
    assert {13, 14} <= seen, seen


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

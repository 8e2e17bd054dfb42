"""Killed at every single change to the disk: nothing is lost, and the next run puts things right."""

import os
import shutil
import signal
import sys
import traceback
from pathlib import Path

import pytest
from conftest import Garden

from zinker.jobs import export, import_profile, load_setup, undo
from zinker.model.errors import ZinkerError

KILLING = Path(__file__).parent / "killing"
sys.path.insert(0, str(KILLING))
from sitecustomize import kill_at  # noqa: E402


@pytest.fixture
def spoiled(tmp_path, monkeypatch):
    garden = Garden(tmp_path / "garden")
    monkeypatch.setenv("ZINKER_HOME", str(garden.home))
    export(load_setup(), "mosslight", place="potting-shed")
    garden.spoil()
    shutil.rmtree(garden.settings / "devices")  # so that folders have to be made, too
    return garden


def killed(number, below, job):
    """Run a job in a process of its own that is killed at its n-th change; tell whether it was."""
    child = os.fork()
    if child == 0:
        kill_at(number, str(below))
        code = 1
        try:
            job()
            code = 0
        except BaseException:  # noqa: BLE001
            traceback.print_exc()
        finally:
            os._exit(code)
    status = os.waitpid(child, 0)[1]
    assert not os.WIFEXITED(status) or os.WEXITSTATUS(status) == 0
    return os.WIFSIGNALED(status) and os.WTERMSIG(status) == signal.SIGKILL


def at_every_change(garden, job, after, step=1):
    """Kill a job at its 1st, 2nd, ... change until it gets through; `after` checks every time."""
    pristine = garden.path.with_name("pristine")
    shutil.copytree(garden.path, pristine, symlinks=True)
    number = 1
    while killed(number, garden.path, job):
        after(number)
        shutil.rmtree(garden.path)
        shutil.copytree(pristine, garden.path, symlinks=True)
        number += step
    return number // step


@pytest.mark.skipif(not hasattr(os, "fork"), reason="no fork here")
def test_an_import_killed_anywhere_is_taken_back_or_finished(spoiled):
    before = spoiled.places()
    restore = lambda: import_profile(load_setup(), "mosslight@1", "potting-shed")  # noqa: E731
    ends = set()

    def after(number):
        untouched = spoiled.places() == before
        setup = load_setup()
        said = []
        setup.notify = said.append
        fallbacks = [v for v in setup.shelf.versions("mosslight") if v.manifest and v.manifest.fallback_of]
        # Whatever has changed at the place, its state before is on the shelf.
        assert untouched or fallbacks
        export(setup, "mosslight", place="potting-shed")  # the next run
        assert not setup.shelf.changes.open_ones()
        now = spoiled.places()
        leftover = [path for path in now if path.endswith(".zinker-part")]
        assert not leftover, (number, leftover)
        if now == before:
            ends.add("taken back" if said else "not begun")
        else:
            ends.add("finished")
            assert said and "counts as done" in said[0]
            assert undo(setup).state == "done"
            assert spoiled.places() == before
            return
        # And the import can simply be run again.
        assert restore().state == "done"

    points = at_every_change(spoiled, restore, after)
    assert ends == {"not begun", "taken back", "finished"}
    assert points > 40


@pytest.mark.skipif(not hasattr(os, "fork"), reason="no fork here")
def test_an_undo_killed_anywhere_and_a_recovery_killed_again(spoiled):
    setup = load_setup()
    before = spoiled.places()
    import_profile(setup, "mosslight@1", "potting-shed")
    imported = spoiled.places()

    def after(number):
        # The run that puts things right is killed, too, again and again, until one gets through.
        again = 1
        while killed(again, spoiled.path, lambda: export(load_setup(), "mosslight", place="potting-shed")):
            again += 7
        assert not load_setup().shelf.changes.open_ones()
        assert spoiled.places() in (before, imported)
        if spoiled.places() == imported:
            undo(load_setup(), 1)
        else:
            with pytest.raises(ZinkerError, match="undone already"):
                undo(load_setup(), 1)
        assert spoiled.places() == before

    assert at_every_change(spoiled, lambda: undo(load_setup(), 1), after, step=2) > 15


@pytest.mark.skipif(not hasattr(os, "fork"), reason="no fork here")
def test_an_export_killed_anywhere_leaves_whole_versions_only(spoiled):
    def after(number):
        setup = load_setup()
        versions = setup.shelf.versions("mosslight")
        assert all(version.manifest for version in versions) and len(versions) in (1, 2)
        assert export(setup, "mosslight", place="potting-shed").version.number > versions[-1].number

    assert at_every_change(spoiled, lambda: export(load_setup(), "mosslight", "potting-shed"), after) > 5


@pytest.mark.parametrize("number", [30, 40, 50])
def test_the_command_says_what_was_cut_off(spoiled, number):
    before = spoiled.places()
    environment = {"KILL_AT": str(number), "KILL_BELOW": str(spoiled.path), "PYTHONPATH": str(KILLING)}
    done = spoiled("import", "mosslight@1", "--place", "potting-shed", "--yes", code=None, env=environment)
    assert done.code == -signal.SIGKILL
    if spoiled("list").err:
        assert "was cut off in the middle" in spoiled("list").err
        assert "was cut off" in spoiled("export", "mosslight", "--place", "potting-shed").err
    assert "cut off" not in spoiled("list").err
    if spoiled.places() != before:
        spoiled("undo", "--yes")
    assert spoiled.places() == before

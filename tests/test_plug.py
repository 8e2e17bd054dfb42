"""The plug is pulled at 300 random instants of an import: no place is left half-changed, no fallback is missing.

An instant is one of the things that a run does, counted, so that the same ones are met on every machine.
"""

import contextlib
import io
import os
import random
import shutil
import signal
import sys
import time

import pytest
from conftest import Garden, needs_system
from test_desktop import TOOLS, Desk

pytestmark = [pytest.mark.soak, pytest.mark.skipif(not hasattr(os, "fork"), reason="no fork here")]

FILES = 60
VALUES = 60
SUBJECT = """format = 1
id = "nursery"
title = "Nursery"
[[part]]
id = "beds"
store = "file"
path = "{config}/nursery/**"
[[part]]
"""
REGISTRY = 'id = "store"\nstore = "registry"\npath = \'HKEY_CURRENT_USER\\Software\\Tarn Hollow\\Nursery\'\n'
DESKTOP = 'id = "store"\nstore = "desktop-db"\npath = "/garden/nursery/"\n'


def run(garden, arguments, instant=None):
    """Run the command in a fork of this process; returns code, and how many things it did that Python tells of.

    It is killed at the one of that number, or as soon as `instant`, called again and again, says so.
    """
    import zinker.cli.changing  # noqa: F401 - what every run needs is here before the fork
    import zinker.cli.export_command
    import zinker.cli.import_command
    import zinker.jobs.exporting
    import zinker.jobs.importing
    import zinker.reports.change  # noqa: F401
    from zinker.cli.main import run as command

    said = garden.path.parent / "said"
    counted = garden.path.parent / "counted"
    child = os.fork()
    if child == 0:
        code = 9
        with contextlib.suppress(BaseException):
            os.chdir(garden.path)
            os.environ.clear()
            os.environ.update(garden.env)
            sys.argv = ["zinker", *arguments]
            sys.stdin = io.StringIO()
            with said.open("w") as sys.stdout:
                sys.stderr = sys.stdout
                count = kill_at_event(instant if isinstance(instant, int) else 0)
                try:
                    command()
                except SystemExit as ended:
                    code = ended.code or 0
                counted.write_text(str(count()))
        os._exit(code)
    if callable(instant):
        while not instant() and os.waitpid(child, os.WNOHANG) == (0, 0):
            time.sleep(0.001)
        with contextlib.suppress(ProcessLookupError):
            os.kill(child, signal.SIGKILL)
        with contextlib.suppress(ChildProcessError):
            os.waitpid(child, 0)
        return -signal.SIGKILL, 0
    code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    return code, int(counted.read_text()) if code >= 0 else 0


def kill_at_event(number):
    """Kill this process at its n-th audit event, and count them: an instant that no clock has a part in."""
    count = 0

    def hook(event, arguments):
        nonlocal count
        count += 1
        if count == number:
            os.kill(os.getpid(), signal.SIGKILL)

    sys.addaudithook(hook)
    return lambda: count


class Nursery:
    """Beds in files, and as many values in a registry or in the desktop's database."""

    def __init__(self, garden, place, config, kind):
        self.garden, self.place, self.kind = garden, place, kind
        self.folder = config / "nursery"
        self.pristine = garden.path.parent / "pristine"
        (garden.path / "subjects/nursery.subject.toml").write_text(SUBJECT + kind)
        self.grow("spring")
        assert run(garden, ["export", "nursery", "--place", place, "--label", "spring"])[0] == 0
        self.wanted = self.state()
        self.grow("autumn")
        self.before = self.state()

    def grow(self, season):
        """Plant the beds as of a season: of some files, keys and values there are none in one of them."""
        shutil.rmtree(self.folder, ignore_errors=True)
        for number in range(FILES):
            if season == "spring" or number % 5:
                path = self.folder / f"house-{number % 7}/{number}.json"
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_text(f'{{"plant": "{season}", "bed": {number}}}')
        if self.kind == REGISTRY:
            key = r"HKEY_CURRENT_USER\Software\Tarn Hollow\Nursery"
            keys = {
                rf"{key}\bed-{n}": {"Plant": ["sz", season]}
                for n in range(VALUES)
                if season == "spring" or n % 5
            }
            self.garden.edit_workstation(
                self.place, lambda state: state["registry"].update(keys={key: {}} | keys)
            )
        else:
            text = "\n".join(f"bed-{n}='{season}'" for n in range(VALUES) if season == "spring" or n % 5)
            self.garden.dconf("reset", "-f", "/garden/nursery/")
            self.garden.dconf_load("/garden/nursery/", f"[/]\n{text}\n")

    def state(self):
        """All that is there, byte for byte."""
        files = {str(path): path.read_bytes() for path in self.folder.rglob("*") if path.is_file()}
        if self.kind == REGISTRY:
            return files, {k: v for k, v in self.garden.registry(self.place).items() if v}
        return files, self.garden.dconf("dump", "/garden/nursery/")

    def again(self, shelf):
        """Put place and shelf back to where they were before the import."""
        self.grow("autumn")
        shutil.rmtree(self.garden.path / "shelf")
        shutil.copytree(shelf, self.garden.path / "shelf")


def pull_the_plug(nursery, times, seed):
    """Import and kill, so many times; returns how often which end was seen."""
    garden, place = nursery.garden, nursery.place
    importing = ["import", "nursery@spring", "--place", place, "--yes"]
    shelf = garden.path.parent / "shelf"
    shutil.copytree(garden.path / "shelf", shelf)
    lengths = []
    for _ in range(3):
        code, things = run(garden, importing)
        assert code == 0 and nursery.state() == nursery.wanted
        lengths.append(things)
        nursery.again(shelf)
    ends = dict.fromkeys(("not begun", "taken back", "finished", "half-changed", "no fallback"), 0)
    dice = random.Random(seed)
    for number in range(times):
        instant = dice.randrange(1, sorted(lengths)[1] + 10)
        run(garden, importing, instant)
        touched = nursery.state() != nursery.before
        fallback = (garden.path / "shelf/subjects/nursery/2.json").exists()
        ends["no fallback"] += touched and not fallback
        assert run(garden, ["export", "nursery", "--place", place, "--loss-is-meant"])[0] == 0, (
            seed,
            number,
            instant,
        )
        after = nursery.state()
        leftover = list(nursery.folder.rglob("*.zinker-part")) + list(
            (garden.path / "shelf/changes/open").glob("*")
        )
        if leftover or after not in (nursery.before, nursery.wanted):
            ends["half-changed"] += 1
            wrong = [n for n in (0, 1) if after[n] not in (nursery.before[n], nursery.wanted[n])]
            ends[f"{number}"] = leftover, wrong, (garden.path.parent / "said").read_text()
        elif after == nursery.wanted:
            ends["finished"] += 1
        else:
            ends["taken back" if touched else "not begun"] += 1
        nursery.again(shelf)
    return ends


@pytest.mark.parametrize("seed", [1, 2])
def test_files_and_registry_at_100_instants(tmp_path, seed):
    garden = Garden(tmp_path / "garden")
    config = garden.path / "glasshouse/Users/fern/AppData/Roaming"
    ends = pull_the_plug(Nursery(garden, "glasshouse", config, REGISTRY), 100, seed)
    assert ends["half-changed"] == ends["no fallback"] == 0, ends
    assert ends["not begun"] and ends["taken back"] and sum(ends.values()) == 100, ends


def test_files_and_desktop_database_at_100_instants(tmp_path):
    needs_system(all(map(shutil.which, TOOLS)), "dconf with dconf-service, D-Bus and GLib's tools")
    desk = Desk(tmp_path / "garden")
    try:
        ends = pull_the_plug(Nursery(desk, "here", desk.desk / "config", DESKTOP), 100, 3)
    finally:
        os.kill(desk.bus, signal.SIGTERM)
    assert ends["half-changed"] == ends["no fallback"] == 0, ends
    assert ends["not begun"] and ends["taken back"] and sum(ends.values()) == 100, ends

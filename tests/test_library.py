"""Zinker from a script, as docs/library.md has it, and what the pieces promise."""

import doctest
import importlib
import pkgutil
import re
import subprocess
import sys

import pytest

import zinker
from zinker.jobs import Keeping, compare, export, import_profile, load_setup, undo
from zinker.model.crosswalk import Crosswalk, between
from zinker.model.setting import Setting
from zinker.subjects.toml_check import line_of


def test_a_script_does_the_whole_job(garden, monkeypatch):
    monkeypatch.setenv("ZINKER_HOME", str(garden.home))
    setup = load_setup()
    kept = export(setup, "mosslight", "potting-shed", Keeping(label="before"))
    assert kept.is_complete and kept.version.reference == "mosslight@1"
    garden.spoil()
    found = compare(setup, "mosslight@before")
    assert {d.word for d in found.differences} == {"changed", "gone"}
    plans = []
    outcome = import_profile(
        setup, "mosslight@before", "potting-shed", approve=lambda plan: plans.append(plan)
    )
    assert outcome.state == "declined" and plans[0].count == 6
    outcome = import_profile(setup, "mosslight@before", "potting-shed")
    assert outcome.state == "done" and outcome.plan == plans[0]
    assert undo(setup, outcome.change.number).is_complete


def test_the_example_in_the_docs_runs(garden, monkeypatch, pytestconfig, capsys):
    monkeypatch.setenv("ZINKER_HOME", str(garden.home))
    (code,) = re.findall(
        r"```python\n(.*?)```", (pytestconfig.rootpath / "docs/library.md").read_text(), re.S
    )
    exec(code, {})  # our own documentation
    assert "north" in capsys.readouterr().out


def test_examples_in_docstrings_hold():
    tried = 0
    for module in pkgutil.walk_packages(zinker.__path__, "zinker."):
        if not module.name.endswith("__main__"):
            result = doctest.testmod(importlib.import_module(module.name))
            assert result.failed == 0
            tried += result.attempted
    assert tried > 8


def test_every_promise_has_its_test(pytestconfig):
    text = (pytestconfig.rootpath / "docs/safety.md").read_text()
    rows = [line for line in text.splitlines() if line.startswith("| ") and not line.startswith("| promise")]
    assert len(rows) > 30
    for row in rows:
        named = re.findall(r"`(test_\w+\.py)::(test_\w+)`", row)
        assert named, row
        for file, test in named:
            assert f"\ndef {test}(" in (pytestconfig.rootpath / "tests" / file).read_text(), (file, test)


@pytest.mark.soak
def test_nothing_needs_what_only_one_system_has(garden):
    """The whole story without the functions and modules that Windows does not have."""
    script = """
import os, shutil, sys
import types, filelock, platformdirs, platformdirs.unix, psutil, rich.console, typer
own = types.ModuleType("os")  # platformdirs has another class for each system, and this system's may use it
vars(own).update(vars(os))
for name, module in list(sys.modules.items()):
    if name.startswith("platformdirs") and hasattr(module, "os"):
        module.os = own
shutil.disk_usage = lambda path: types.SimpleNamespace(free=10**12)  # uses what is taken away here
for name in ("chown", "fork", "geteuid", "getuid", "O_NOFOLLOW", "pathconf", "statvfs", "ST_RDONLY", "WUNTRACED"):
    delattr(os, name)
sys.modules.update(dict.fromkeys(("fcntl", "grp", "pwd", "resource", "termios")))
from zinker.cli.main import run
for line in sys.stdin.read().splitlines():
    sys.argv = ["zinker", *line.split()]
    try:
        run()
    except SystemExit as ended:
        assert ended.code == 0, (line, ended.code)
"""
    commands = """export mosslight --place potting-shed
compare mosslight
import mosslight --place glasshouse --adopt --yes
undo --yes
list
places
subjects show mosslight
demo --folder another"""
    run = [sys.executable, "-c", script]
    environment = garden.env | {"LOGNAME": "ivy"}
    done = subprocess.run(
        run, input=commands, cwd=garden.path, env=environment, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr


def test_imports_run_downward_and_in_no_circle(tmp_path, pytestconfig):
    """And what checks that, in `make check`, sees an upward import, one inside a function, and a circle."""
    tool = pytestconfig.rootpath / "tools/layers.py"

    def checked(source):
        done = subprocess.run([sys.executable, tool, source], capture_output=True, text=True, check=False)
        return done.returncode, done.stdout

    assert checked(pytestconfig.rootpath / "src/zinker") == (0, "Imports run downward.\n")
    for path, text in {
        "model/plan.py": "from zinker.stores.files import FileHome\n",
        "stores/files.py": "",
        "jobs/plan/part.py": "def plan():\n    from zinker.jobs.apply import write\n",
        "jobs/apply/write.py": "from zinker.jobs.apply.recover import take_back\n",
        "jobs/apply/recover.py": "import zinker.jobs.apply.write\n",
    }.items():
        (tmp_path / path).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / path).write_text(text)
    code, out = checked(tmp_path)
    assert code == 1 and "model.plan imports stores.files: stores is not below model" in out
    assert "jobs.plan.part imports jobs.apply.write: apply is not below plan" in out
    assert "a circle: jobs.apply.recover -> jobs.apply.write -> jobs.apply.recover" in out


@pytest.mark.parametrize(
    ("value", "translated"),
    [
        (r"C:\Users\ivy\x.csv", r"C:\Users\fern\x.csv"),
        (r"c:\users\IVY", r"C:\Users\fern"),
        (r"C:\Users\ivy\Documents\a", r"D:\Papers\a"),
        (r"C:\Users\ivyleaf\x", r"C:\Users\ivyleaf\x"),
        (r"at C:\Users\ivy", r"at C:\Users\fern"),
        (r"at C:\Users\ivy Docs\x, not", r"at C:\Users\fern Docs\x, not"),
        (r"C:\Users\ivy Docs\x", r"C:\Users\ivy Docs\x"),
        (r'"c:\users\ivy\a b.exe" /d D:\ivy', r'"C:\Users\fern\a b.exe" /d D:\ivy'),
        ("file:///C:/Users/ivy/x.svg", "file:///C:/Users/fern/x.svg"),
    ],
)
def test_folders_are_translated_in_texts(value, translated):
    old = {"home": r"C:\Users\ivy", "documents": r"C:\Users\ivy\Documents", "program": r"C:\P"}
    new = {"home": r"C:\Users\fern", "documents": r"D:\Papers", "program": r"C:\P"}
    crosswalk = Crosswalk(between(old, new))
    assert crosswalk.translate("p", Setting("d", "/a", "sz", value)).value == translated
    assert crosswalk.translate("p", Setting("d", "/a", "dword", 1)).value == 1
    unix = Crosswalk(between({"home": r"C:\Users\ivy"}, {"home": "/home/ivy"}))
    assert unix.translate("p", Setting("d", "/a", "text", r"C:\Users\ivy\a\b")).value == "/home/ivy/a/b"


def test_lines_of_toml_keys_are_found():
    text = "a = 1\n[[p]]\nx = 1\n[p.t]\n'k/l' = 2\n[[p]]\nx = 2\n[q.r]\ny = 3\n"
    assert line_of(text, ["p", 1, "x"]) == 7
    assert line_of(text, ["p", 0, "t", "k/l"]) == 5
    assert line_of(text, ["q", "r", "y"]) == 9
    assert line_of(text, ["p", 1, "missing"]) == 6

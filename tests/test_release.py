"""What is released: the manual page and completion as the commands are, and a package that can be made again."""

import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from conftest import needs_system

PROJECT = Path(__file__).parent.parent


def test_the_manual_page_and_completion_are_as_the_commands_are(tmp_path):
    subprocess.run([sys.executable, PROJECT / "tools/manual.py", tmp_path], check=True)
    packaged = PROJECT / "packaging"
    own = {path.relative_to(tmp_path): path.read_text() for path in tmp_path.rglob("*.*") if path.is_file()}
    own |= {path.relative_to(tmp_path): path.read_text() for path in (tmp_path / "completion").iterdir()}
    assert {path: (packaged / path).read_text() for path in own} == own, "run: make manual"
    assert len(own) == 5
    needs_system(shutil.which("groff"), "groff")
    words = ["groff", "-man", "-ww", "-Tascii", "-P-cbou", packaged / "zinker.1"]
    done = subprocess.run(words, capture_output=True, text=True, check=True)
    assert done.stderr == "" and "zinker export mosslight" in done.stdout
    assert all(f"zinker {name}" in done.stdout for name in ("seal add", "schedule run", "export", "undo"))


@pytest.mark.soak
def test_a_release_is_made_twice_alike_and_runs_in_empty_environments(tmp_path):
    copy = tmp_path / "project"
    left_out = shutil.ignore_patterns(
        ".git", ".venv*", ".*_cache", "__pycache__", ".hypothesis", "screenshots"
    )
    shutil.copytree(PROJECT, copy, ignore=left_out)
    pythons = os.environ.get("ZINKER_TEST_PYTHONS", sys.executable).split(os.pathsep)
    words = [sys.executable, copy / "tools/release.py", "--to", tmp_path / "dist", "--version", "7.8.9"]
    for python in pythons:
        words += ["--python", python]
    done = subprocess.run(words, cwd=copy, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    assert done.stdout.count(": zinker 7.8.9") == len(pythons)
    assert len(re.findall("^[0-9a-f]{64}  .*zinker-7.8.9", done.stdout, re.M)) == 2
    assert "(unreleased)" not in (copy / "CHANGELOG.md").read_text()
    assert "Zinker 7.8.9" in (copy / "packaging/zinker.1").read_text()
    again = subprocess.run([*words[:4], "--version", "7.9.0"], cwd=copy, capture_output=True, text=True)
    assert again.returncode == 1 and "no part that is unreleased" in again.stderr

"""Every parser of files, fed with what leads to parts of it that nothing has led to yet.

Run one for long by hand: `python tests/conformance/fuzz.py yaml 3600 /tmp/finds`.
"""

import contextlib
import importlib.util
import os
import re
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest
from conftest import needs_system

from zinker import formats
from zinker.demo.hive_writer import Node, write_hive

HERE = Path(__file__).parent
PARSERS = [
    "gvariant-text",
    "gvdb",
    "hive",
    "hive-log",
    "registry-text",
    "sqlite-log",
    *sorted(formats._FORMATS),
]
SECONDS = int(os.environ.get("ZINKER_FUZZ_SECONDS", "15"))
REGISTRATION = """Windows Registry Editor Version 5.00

[HKEY_CURRENT_USER\\A\\B]
@="x\\\\y"
"a"=dword:00000001
"b"=hex(7):41,00,\\
  00,00,00,00
"c"=-
[-HKEY_CURRENT_USER\\A\\C]
"""


def examples(parser):
    """Yield documents to begin with: those of the documentation, and small ones of the other kinds."""
    page = (HERE.parent / "docs/formats.md").read_text()
    for found in re.finditer(rf"```{parser}(?: [^\n]*)?\n(.*?)```", page, re.DOTALL):
        yield found[1].encode()
    if parser == "sqlite" or parser == "sqlite-log":
        with contextlib.closing(sqlite3.connect(":memory:")) as made:
            made.execute("PRAGMA page_size = 512")
            made.execute("CREATE TABLE prefs (name TEXT PRIMARY KEY, value, more)")
            made.execute("CREATE TABLE rows (a, b, c, PRIMARY KEY (a, b)) WITHOUT ROWID")
            made.execute("INSERT INTO prefs VALUES ('a', 'b', 1), ('c', x'00', NULL)")
            made.commit()
            yield made.serialize()
    if parser in ("hive", "hive-log"):
        yield write_hive(Node("", values=[("a", 1, "x\0".encode("utf-16-le"))], below=[Node("B"), Node("C")]))
    if parser == "registry-text":
        yield REGISTRATION.encode()
        yield b"\xff\xfe" + REGISTRATION.replace("\n", "\r\n").encode("utf-16-le")
    if parser == "gvariant-text":
        yield from (b"[('a', <1>), ('b', <@as []>)]", b"{'a': byte 0x01}", b"just b'x\\n'")


@pytest.mark.soak
@pytest.mark.parametrize("parser", PARSERS)
def test_a_parser_says_a_word_whatever_it_is_fed(parser, tmp_path):
    needs_system(importlib.util.find_spec("atheris"), "atheris")
    seeds = tmp_path / "seeds"
    seeds.mkdir()
    for number, data in enumerate(examples(parser)):
        (seeds / str(number)).write_bytes(data)
    command = [sys.executable, HERE / "conformance/fuzz.py", parser, str(SECONDS), tmp_path / "finds", seeds]
    env = os.environ | {"PYTHONPATH": str(HERE)}
    done = subprocess.run([*map(str, command)], env=env, capture_output=True, text=True)
    finds = {path.name: path.read_bytes() for path in (tmp_path / "finds").glob("*-*") if path.is_file()}
    assert done.returncode == 0, f"{finds}\n{done.stderr[-3000:]}"
    assert int(re.search(r"number_of_executed_units: (\d+)", done.stderr)[1]) > 100

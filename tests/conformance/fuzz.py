"""Feeds a parser with what leads to parts of it that nothing has led to yet, for some seconds.

python tests/conformance/fuzz.py PARSER SECONDS FOLDER [SEEDS…]

Whatever is raised but a word for the user is a find: it is left in the folder, and ends the run with an error.
"""

import sys
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["zinker.formats"]):
    from zinker import formats
    from zinker.formats import (
        gvariant_text,
        gvdb,
        hive,
        hive_logs,
        ini,
        json,
        key_value,
        pattern,
        plist,
        properties,
        registry_text,
        sqlite,
        sqlite_logs,
        toml,
        xml,
        yaml,
    )

from zinker.formats.dialect import PLAIN, Dialect, Table  # noqa: E402
from zinker.formats.leaves import Edit  # noqa: E402
from zinker.model.errors import DocumentError, NotWritable  # noqa: E402
from zinker.model.setting import Leaf  # noqa: E402

assert ini and json and key_value and pattern and plist and properties and sqlite and toml and xml and yaml

DIALECTS = {
    "ini": [
        PLAIN,
        Dialect(continued="indent", inline=True, quotes=True),
        Dialect(continued="backslash", delimiter="=:", ignore_case=True),
        Dialect(nested=True, quotes=True, comments=("#",)),
        Dialect(spaces=True, delimiter="=", comments=("#",)),
        Dialect(delimiter="space"),
    ],
    "pattern": [Dialect(pattern=r"^set (?P<key>\S+) (?P<value>.*)$", line="set {key} {value}")],
    "sqlite": [Dialect(tables=(Table("prefs", ("name",), "value"), Table("rows", ("a", "b"))))],
}


def of_format(name):
    """Read, and edit three ways what is read."""
    dialects = DIALECTS.get(name, [PLAIN])

    def run(data):
        dialect = dialects[len(data) % len(dialects)]
        leaves = formats.read(name, data, dialect)
        addresses = list(leaves)[: 1 + len(data) % 3]
        for leaf in (Leaf("text", "x\n#é"), None):
            for address in addresses:
                try:
                    formats.edit(
                        name, data, [Edit(address, leaf), Edit("/new/one", Leaf("text", "="))], dialect
                    )
                    formats.edit(name, data, [Edit(address, leaf)], dialect)
                except NotWritable:
                    continue

    return run


def of_hive(data):
    found = hive.Hive(data)
    damages = []
    sum(len(block) for block in found.blocks([], damages))


def of_registry_text(data):
    import io

    sum(len(block) for _, block in registry_text.RegistryText(lambda: io.BytesIO(data)).blocks())


def of_gvariant_text(data):
    gvariant_text.parse_variant(data.decode("utf-8", "replace"))


def of_hive_with_log(data):
    at = int.from_bytes(data[:3], "little") % (len(data) + 1)
    hive_logs.recovered(data[3:at], [data[at:]])


def of_database_with_log(data):
    at = int.from_bytes(data[:3], "little") % (len(data) + 1)
    sqlite_logs.put_together(data[4:at], *((data[at:], b"") if data[3:4] < b"\x80" else (b"", data[at:])))


PARSERS = {
    "hive-log": of_hive_with_log,
    "sqlite-log": of_database_with_log,
    "gvdb": gvdb.read_gvdb,
    "gvariant-text": of_gvariant_text,
    "hive": of_hive,
    "registry-text": of_registry_text,
    **{name: of_format(name) for name in formats._FORMATS},
}


def main() -> None:
    parser, seconds, folder, *seeds = sys.argv[1:]
    run = PARSERS[parser]

    def one(data: bytes) -> None:
        try:
            run(data)
        except DocumentError:
            return

    Path(folder, "seen").mkdir(parents=True, exist_ok=True)
    options = [f"-max_total_time={seconds}", "-timeout=20", "-rss_limit_mb=2000", "-max_len=6000", "-seed=7"]
    options += [f"-artifact_prefix={folder}/", "-verbosity=0", "-print_final_stats=1"]
    atheris.Setup(["fuzz", *options, f"{folder}/seen", *seeds], one)
    atheris.Fuzz()


if __name__ == "__main__":
    main()

"""GLib's own databases: schemas that its tests and desktops have, compiled by it, and what it says is in them."""

import os
import shutil
import subprocess
import tempfile
from pathlib import Path

from conformance.fetched import debian, debian_source
from conformance.trial import Tally

from zinker.formats.gvariant import text_of
from zinker.formats.gvdb import read_gvdb


def databases() -> Tally:
    """Compare what is read from each database with what GLib reads from it."""
    tally = Tally()
    source = next(debian_source("glib2.0").glob("*/gio/tests"))
    sources = [[path] for path in sorted(source.glob("schema-tests/*.gschema.xml"))]
    sources.append([source / "org.gtk.test.gschema.xml.orig"])
    folder = debian("gsettings-desktop-schemas") / "usr/share/glib-2.0/schemas"
    sources.append([*folder.glob("*.xml"), *folder.glob("*.override")])
    for files in sources:
        with tempfile.TemporaryDirectory() as made:
            for path in files:
                shutil.copy(path, Path(made, path.name.removesuffix(".orig")))
            compiled = ["glib-compile-schemas", made]
            if subprocess.run(compiled, capture_output=True).returncode == 0:
                _compared(Path(made), files[0].name, tally)
    return tally


def _compared(folder: Path, name: str, tally: Tally) -> None:
    tally.note("files")
    only = {"GSETTINGS_SCHEMA_DIR": str(folder), "XDG_DATA_DIRS": str(folder)}
    env = os.environ | {"GSETTINGS_BACKEND": "memory"} | only
    mine, theirs = {}, {}
    for schema, table in read_gvdb((folder / "gschemas.compiled").read_bytes()).tables.items():
        if ".path" not in table.values:
            continue
        for key, entry in table.values.items():
            if not key.startswith(".") and isinstance(entry.value, list):
                mine[schema, key] = text_of(entry.value[0], True)
        told = subprocess.run(
            ["gsettings", "list-recursively", schema], env=env, capture_output=True, text=True
        )
        for line in told.stdout.splitlines():
            schema, key, value = line.split(" ", 2)
            theirs[schema, key] = value
    odd = {at for at in mine | theirs if at in mine and mine[at] != theirs.get(at)}
    if odd:
        tally.wrong.append(f"{name}: {[(at, mine.get(at), theirs.get(at)) for at in sorted(odd)[:4]]}"[:400])
        tally.counts["wrong"] += 1
    else:
        tally.note("read")
        tally.counts["keys"] += len(mine)

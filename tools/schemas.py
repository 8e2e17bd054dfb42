"""Writes the JSON Schemas of our own formats into a folder; a test compares them with the code."""

import sys
from pathlib import Path

import msgspec

from zinker.model import crosswalk
from zinker.profiles import layout
from zinker.reports import answers
from zinker.shelf import keys, versions
from zinker.subjects import subject

for name, schema in (
    *((f"answers/{command.replace(' ', '-')}", schema) for command, schema in answers.schemas()),
    ("profile", layout.schema()),
    ("subject", subject.schema()),
    ("crosswalk", crosswalk.schema()),
    ("version", versions.schema()),
    ("seal", keys.schema()),
):
    data = msgspec.json.format(msgspec.json.encode(schema), indent=2) + b"\n"
    Path(sys.argv[1], f"{name}.schema.json").write_bytes(data)

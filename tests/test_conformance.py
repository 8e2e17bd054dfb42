"""What Zinker reads and writes, judged by readers of other people's, on documents that other people made."""

import pytest
from conformance.corpus import FORMATS, corpus
from conformance.databases import databases
from conformance.mutated import mutated
from conformance.suites import SUITES
from conformance.trial import tried_all

pytestmark = pytest.mark.soak

# So many documents at least; a suite that is not there would be passed by everything.
LEAST = {
    "TOML suite": 300,
    "YAML suite": 400,
    "JSON parsing suite": 300,
    "XML conformance suite": 1900,
    "Property lists of libplist": 40,
    "Property lists of CPython": 300,
    "INI files of CPython": 100,
    "Key files of GLib": 40,
}
FILES = {"ini": 600, "json": 400, "properties": 600, "toml": 20, "xml": 1000, "yaml": 1000}


@pytest.mark.parametrize("suite", SUITES)
def test_a_suite_of_other_peoples_is_read_and_edited_as_its_reference_does(suite):
    tally = tried_all(SUITES[suite]())
    assert not tally.wrong
    assert tally.counts["files"] >= LEAST[suite] and tally.counts["edited"] > tally.counts["left alone"]


def test_databases_of_glib_are_read_as_glib_reads_them():
    tally = databases()
    assert not tally.wrong
    assert tally.counts["read"] >= 40 and tally.counts["keys"] > 300


@pytest.mark.parametrize("format", FORMATS)
def test_files_as_they_are_used_are_edited_and_none_is_spoilt(format):
    tally = tried_all(corpus(format))
    assert not tally.wrong
    assert tally.counts["files"] >= FILES[format]
    assert tally.counts["edited"] >= 0.98 * (tally.counts["edited"] + tally.counts["left alone"])


@pytest.mark.parametrize("format", [*FORMATS, "plist"])
def test_an_edit_of_a_file_with_mistakes_is_right_or_is_not_made(format):
    tally = tried_all(mutated(format, 3000), most=1)
    assert not tally.wrong
    assert tally.counts["files"] == 3000 and tally.counts["edited"] > 1000

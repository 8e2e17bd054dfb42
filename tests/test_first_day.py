"""The first day: the walk of the guide, as it stands there, with an application that no subject file describes."""

import os
import re
import shlex
from pathlib import Path

import pytest
from conftest import Garden

GUIDE = Path(__file__).parent.parent / "docs/guide.md"
INI = """[about]
version = 2.4.1

[window]
width = 640
height = 480

[pots]
count = 4
mist = "F7"

[account]
token = t-shy-newt-71
"""


class Person(Garden):
    """Somebody with Fernwork in an empty home, who has read nothing."""

    def __init__(self, path, name):
        self.path = path / name
        self.own = self.path / ".config/fernwork/fernwork.ini"
        own = ("ZINKER", "XDG", "COLUMNS", "PYTHONDONTWRITEBYTECODE")
        self.env = {k: v for k, v in os.environ.items() if not k.startswith(own)}
        self.env |= {"HOME": str(self.path), "NO_COLOR": "1"}
        files = {
            "fernwork.ini": INI,
            "beds/north.json": '{"level": 3, "lamps": {"dusk": "19:30"}}',
            "beds/south.json": '{"level": 4, "lamps": {"dusk": "20:30"}}',
            "Cache/leaf": "x",
        }
        for name, text in files.items():
            (self.own.parent / name).parent.mkdir(parents=True, exist_ok=True)
            (self.own.parent / name).write_text(text)
        (self.path / ".config/other.conf").write_text("[other]\nkey = 1\n")
        self.share = self.path / ".local/share/fernwork"
        self.share.mkdir(parents=True)
        (self.share / "licence.dat").write_text("2AF9")

    def change(self, old, new):
        text = self.own.read_text()
        assert old in text
        self.own.write_text(text.replace(old, new))
        return "\n"


@pytest.mark.skipif(os.name == "nt", reason="needs a terminal of its own")
def test_an_application_that_nobody_described_is_kept_spoilt_and_restored(tmp_path):
    person = Person(tmp_path, "ivy")
    stick = tmp_path / "stick"
    stick.mkdir()
    section = GUIDE.read_text().partition("### The first day")[2].partition("\n## ")[0]
    lines = [line.partition("  #")[0].strip() for line in re.findall(r"^    (zinker.*)$", section, re.M)]
    assert len(lines) == 13
    steps = iter(line.replace("~", str(person.path)).replace("/media/stick", str(stick)) for line in lines)

    def do(code=0):
        words = shlex.split(next(steps))[1:]
        return person(*words, code=code).out

    assert "Nothing was found here" in do()
    answers = [
        ("save, close it.", lambda: person.change("width = 640", "width = 700")),
        ("Now the same", lambda: person.change("count = 4", "count = 5")),
    ]
    out, code = person.at_terminal(*shlex.split(next(steps))[1:], answers=answers)
    assert code == 0 and "fernwork/fernwork.ini" in out and "/pots/count" in out
    assert "/window/width" not in out.partition("left out here")[0]
    person.change("count = 5", "count = 4")
    drafted = do()
    assert re.search(r"beds/\{instance\}.json +2 files", drafted) and "bound to this machine" in drafted
    assert "1 secret" in drafted and "Cache (1 file): a cache" in drafted
    assert "instances: north, south" in do()
    assert "1 secret withheld" in do()
    # What it writes by itself is seen, and marked.
    person.change("[about]", "[about]\nstarts = 12")
    assert "/about/starts" in do(1)
    subject = person.path / ".local/share/zinker/subjects/fernwork.subject.toml"
    text = subject.read_text()
    subject.write_text(text.replace("volatile = [ ", 'volatile = [ "/about/starts", ', 1))
    assert subject.read_text() != text and "is right" in do() and "No differences" in do()
    # A mistake is saved, seen, and taken back.
    good = person.own.read_bytes()
    person.change("count = 4", "count = 400")
    person.change('mist = "F7"\n', "")
    spoilt = do(1)
    assert re.search(r"changed +/pots/count +was 4, now 400", spoilt) and "/pots/mist" in spoilt
    out, code = person.at_terminal(*shlex.split(next(steps))[1:], answers=[("[y/N]:", "y\n")])
    assert code == 0 and "2 settings written and read back" in out
    assert "No differences" in do() and person.own.read_bytes() == good
    # A colleague, on a machine that is another's.
    do()
    colleague = Person(tmp_path, "rowan")
    colleague.change("count = 4", "count = 9")
    folder = colleague.path / ".local/share/zinker/subjects"
    folder.mkdir(parents=True)
    (folder / subject.name).write_bytes(subject.read_bytes())
    (profile,) = stick.glob("fernwork-*.zinker")
    words = shlex.split(next(steps).replace(str(stick / "fernwork-*.zinker"), str(profile)))[1:]
    done = colleague(*words, "--yes")
    assert "read back" in done.out and "count = 4" in colleague.own.read_text()
    assert "token = t-shy-newt-71" in colleague.own.read_text()

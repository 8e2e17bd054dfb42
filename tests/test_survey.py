"""A house of many machines: which are captured, what has changed since, and which one is not like the others."""

import csv
import os
import re
import socket
import threading

import msgspec
import pytest
from conftest import Garden
from test_pages import from_docx, from_html, from_markdown, written

from zinker.jobs import place_states
from zinker.places.folder import FolderPlace
from zinker.shelf.record import checked, stamped
from zinker.shelf.versions import Record

SUBJECT = """
format = 1
id = "kiosk"
title = "Kiosk"
[[part]]
id = "till"
store = "file"
path = "{home}/till.ini"
volatile = ["/seen/*"]
"""
INI = (
    "[till]\ncurrency = EUR\nround = {round}\nplans = {home}/plans\n[seen]\nat = {name}\n[{name}]\nown = 1\n"
)
PLACE = '[places.{name}]\nkind = "folder"\npath = "house/{name}"\nfolders = {{ home = "home/ivy" }}\n'
NAMES = [f"kiosk-{number:02}" for number in range(12)]


@pytest.fixture
def house(tmp_path):
    """Twelve kiosks that are alike but for what is their own, all captured."""
    house = Garden(tmp_path / "garden")
    (house.path / "subjects/kiosk.subject.toml").write_text(SUBJECT)
    toml = house.home / "zinker.toml"
    # What the demo has besides is not of this house.
    head = toml.read_text().partition("\n[places.")[0]
    toml.write_text(
        head
        + "\n"
        + "\n".join(PLACE.format(name=name).replace("house", f"{house.path}/house") for name in NAMES)
    )
    for name in NAMES:
        house_till(house, name).parent.mkdir(parents=True)
        house_till(house, name).write_text(INI.format(name=name, round=5, home="/home/ivy"))
    places = [word for name in NAMES for word in ("--place", name)]
    house("export", "kiosk", *places)
    return house


def house_till(house, name):
    return house.path / "house" / name / "home/ivy/till.ini"


def test_everything_is_captured_or_it_is_said_what_is_not(house):
    out = house("survey").out
    assert "All 12 are captured as they are now." in out and "Not like the others" not in out
    till = house_till(house, NAMES[3])
    till.write_text(till.read_text().replace("EUR", "PLN"))
    house_till(house, NAMES[4]).unlink()
    os.rename(house.path / "house" / NAMES[5], house.path / "away")
    house_till(house, NAMES[6]).write_bytes(b"no = [broken\n\0")
    record = house.path / "shelf/subjects/kiosk/8.json"
    old = checked(record.read_bytes(), Record)
    about = msgspec.structs.replace(old.profile, captured="2020-02-02T02:02:02+00:00")
    record.write_bytes(stamped(msgspec.structs.replace(old, profile=about)))
    (house.path / "shelf/subjects/kiosk/index.json").unlink(missing_ok=True)
    with (house.home / "zinker.toml").open("a") as toml:
        toml.write(PLACE.format(name="kiosk-new").replace("house", f"{house.path}/house"))
    house_till(house, "kiosk-new").parent.mkdir(parents=True)
    house_till(house, "kiosk-new").write_text("[till]\ncurrency = EUR\n")
    found = house("survey", "--json", code=1).json
    cells = {cell["place"]: cell for cell in found["cells"]}
    assert {name: cells[name]["state"] for name in cells if cells[name]["state"] != "kept"} == {
        NAMES[4]: "missing",
        NAMES[5]: "silent",
        NAMES[7]: "stale",
        "kiosk-new": "never",
    }
    assert cells[NAMES[3]]["changed"] == 1 and not cells[NAMES[6]]["right"] and not found["right"]
    assert "is not there" in cells[NAMES[5]]["why"] and cells[NAMES[5]]["newest"] == "kiosk@6"
    text = house("survey", code=1).out
    assert "7 of 13 are captured as they are now." in text
    assert re.search(rf"^{NAMES[3]} +kiosk +kept +@4, .* 1$", text, re.M)
    for form, read in (("html", from_html), ("docx", from_docx), ("markdown", from_markdown)):
        rows = {row[0]: row[2] for row in read(written(house, form, "survey", code=1)) if len(row) == 7}
        assert rows["kiosk-new"] == "never captured" and rows[NAMES[7]] == "stale"
    rows = list(csv.DictReader(house("survey", "--format", "csv", code=1).out.lstrip("\ufeff").splitlines()))
    assert [row["what"] for row in rows if row["place"] == "kiosk-new"] == ["never"]
    house("survey", "--output", "house.png", code=1)
    house("survey", "--output", "house.svg", code=1)
    assert (house.path / "house.png").read_bytes()[1:4] == b"PNG"
    assert house("survey", "--place", NAMES[0], "--place", NAMES[1]).code == 0
    assert "No place kiosk-99" in house("survey", "--place", "kiosk-99", code=2).err


def test_the_odd_one_is_found_and_what_is_its_own_is_no_oddity(house):
    till = house_till(house, NAMES[9])
    till.write_text(till.read_text().replace("EUR", "PLN").replace("round = 5\n", "") + "tip = 3\n")
    house("export", "kiosk", "--place", NAMES[9])
    house("label", "kiosk@1", "agreed")
    (odd,) = house("survey", "--json").json["odd"]
    assert (odd["place"], odd["count"]) == (NAMES[9], 3)
    told = {one["address"]: (one["usual"], one["own"], one["share"]) for one in odd["settings"]}
    text = {"type": "text"}
    assert told == {
        "/till/currency": (text | {"value": "EUR"}, text | {"value": "PLN"}, [11, 12]),
        "/till/round": (text | {"value": "5"}, None, [11, 12]),
        "/{own}/tip": (None, text | {"value": "3"}, [11, 12]),
    }
    out = house("survey").out
    assert f"{NAMES[9]}: Kiosk, 3 settings" in out and "most EUR, here PLN" in out
    against = house("survey", "--against", "@agreed", "--json", code=1).json
    drift = {cell["place"]: cell["drift"] for cell in against["cells"]}
    assert drift[NAMES[0]] == 0 and drift[NAMES[9]] > drift[NAMES[1]] > 0


def test_a_place_that_answers_after_a_day_stops_nobody(house):
    with socket.create_server(("127.0.0.1", 0)) as silent:
        address = f"http://127.0.0.1:{silent.getsockname()[1]}/slow/"
        with (house.home / "zinker.toml").open("a") as toml:
            toml.write(f'[places.slow]\nkind = "tenant"\naddress = "{address}"\nclient_id = "zinker"\n')
        house.env["ZINKER_SECRET_SLOW"] = "a heron by the pond"
        found = house("survey", "--within", "15", "--json", code=1, timeout=250).json
    slow = [cell for cell in found["cells"] if cell["place"] == "slow"]
    assert [(cell["state"], cell["why"]) for cell in slow] == [("silent", "no answer within 15 s")]
    assert sum(cell["right"] for cell in found["cells"]) == 12


def test_places_are_asked_side_by_side_and_say_when_they_were_captured(house, monkeypatch):
    record = house.path / "shelf/subjects/kiosk/3.json"
    old = checked(record.read_bytes(), Record)
    about = msgspec.structs.replace(old.profile, captured="2020-02-02T02:02:02+00:00")
    record.write_bytes(stamped(msgspec.structs.replace(old, profile=about)))
    (house.path / "shelf/subjects/kiosk/index.json").unlink(missing_ok=True)
    done = house("places")
    assert re.search(r"kiosk-00 .* just now +answers|kiosk-00 .* ago +answers", done.out)
    assert re.search(r"^here .* never +answers$", done.out, re.M)
    assert "Warning: what is kept of kiosk-02 is stale, from 2020-02-02" in done.out
    # Each waits until all have been asked: one after another, that would never be.
    gate = threading.Barrier(len(NAMES), timeout=120)
    monkeypatch.setattr(FolderPlace, "absence", lambda self: "silent" if gate.wait() < 0 else "")
    assert [state.name for state in place_states(house.setup)] == ["here", *NAMES]
    assert not gate.broken


def test_what_cannot_be_looked_at_from_here_is_no_secret(house):
    """Other machines share the shelf, an account was captured, a version is damaged."""
    folder = house.path / "shelf/subjects/kiosk"
    for number, changed in (
        (9, {"place": "here", "machine": "LODGE-PC"}),
        (11, {"place": f"{NAMES[0]}/rowan"}),
    ):
        record = checked((folder / f"{number}.json").read_bytes(), Record)
        about = msgspec.structs.replace(record.profile, **changed)
        (folder / f"{number}.json").write_bytes(stamped(msgspec.structs.replace(record, profile=about)))
    (folder / "index.json").unlink(missing_ok=True)
    (folder / "12.json").write_bytes(b"{")
    cells = {cell["place"]: cell for cell in house("survey", "--json", code=1).json["cells"]}
    assert cells["LODGE-PC"]["state"] == "silent" and cells["LODGE-PC"]["newest"] == "kiosk@9"
    assert "cannot be looked at from here" in cells["LODGE-PC"]["why"] and not cells["LODGE-PC"]["right"]
    assert cells[f"{NAMES[0]}/rowan"]["newest"] == "kiosk@11" and "here" not in cells
    assert cells[""]["why"] == "damaged: kiosk@12"
    # Between two days, the machines are held against themselves; with the live settings, only this one can be.
    left = house("compare", "@2020-01-01", "--json", code=1).json["left"]
    assert {"LODGE-PC: kiosk"} < {one["what"] for one in left}
    today = cells[NAMES[0]]["known"][:10]
    told = house("compare", f"@{today}", code=1).out
    assert "LODGE-PC: kiosk: here is the machine LODGE-PC, and only there can be told how it is now" in told
    assert "kiosk@12: " in house("history", "kiosk").out
    assert (
        "no version of any subject is called @agreed" in house("survey", "--against", "@agreed", code=2).err
    )
    assert "Did you mean" in house("history", "kiosk", "--address", "/till/curency", code=2).err

"""The core on its own: differences, the simulated registry, locks, the journal."""

import json
import os
import signal
import subprocess
import sys
import time
from datetime import UTC

import pytest
from conftest import BRANCH
from filelock import FileLock
from hypothesis import given
from hypothesis import strategies as st

from zinker.jobs import Wishes, export, import_profile, kept_versions, load_setup, place_lock, undo
from zinker.model.address import matches, pointer, tokens
from zinker.model.difference import differences
from zinker.model.errors import Refused, WrongUsage
from zinker.model.rows import address_of, leaf_of
from zinker.model.setting import Leaf, Setting, encode_line, text_of
from zinker.reports.words import age, cut, visible
from zinker.shelf.record import stamped
from zinker.stores.registry import RegistryError, RegistryHome
from zinker.stores.simulated_registry import SimulatedRegistry

keys = st.tuples(st.sampled_from(["a", "b", "ü"]), st.sampled_from(["/x", "/y", "/x/z", "/\ud800", "/~1"]))
leaves = st.sampled_from(
    [("text", "1"), ("text", "2"), ("int", 1), ("bool", True), ("float", 1.0), ("sz", "\ud800")]
)
states = st.dictionaries(keys, leaves)


def lines(state):
    return iter([encode_line(Setting(*key, *state[key])) for key in sorted(state)])


@given(states, states)
def test_differences_are_those_of_the_two_states(before, after):
    found = {
        (d.document, d.address): (d.before, d.after) for d in differences("p", lines(before), lines(after))
    }
    expected = {
        key: tuple(None if key not in side else Leaf(*side[key]) for side in (before, after))
        for key in before.keys() | after.keys()
        if before.get(key) != after.get(key)
        or [type(s.get(key, (0, 0))[1]) for s in (before, after)] == [int, bool]
    }
    assert found == expected
    ignored = list(differences("p", lines(before), lines(after), lambda s: s.address == "/x"))
    assert all(d.address != "/x" for d in ignored)


@given(st.lists(st.text(), min_size=1))
def test_addresses_come_apart_as_they_were_put_together(names):
    assert tokens(pointer(*names)) == tuple(names)
    assert matches(pointer(*names[:-1], "*"), pointer(*names, "below"))
    assert not matches(pointer(*names, "*"), pointer(*names))


def test_words_for_people():
    from datetime import datetime, timedelta

    now = datetime(2026, 3, 1, 12, tzinfo=UTC)
    ages = [age((now - timedelta(seconds=s)).isoformat(), now) for s in (5, 60, 7200, 90000, 86400 * 400)]
    assert ages == ["just now", "1 minute", "2 hours", "1 day", "400 days"]
    assert len(cut("x" * 500, 20)) == 20
    assert visible("a\u202eb\ud800\x07ü🪴") == "a\\u202eb\\ud800\\u0007ü🪴"
    spoken = [
        text_of(Leaf(*pair))
        for pair in (("binary", "AQI="), ("text", ""), ("multi_sz", ["a"]), ("null", None))
    ]
    assert spoken == ["01 02", '""', '["a"]', "no value"]


@pytest.fixture
def registry(tmp_path):
    path = tmp_path / "workstation.json"
    vault, sync = BRANCH + r"\Vault", BRANCH + r"\Sync"
    values = {BRANCH: {"Width": ["dword", 1]}, vault: {"a": ["sz", "b"]}, sync: {}, BRANCH + r"\Deep\er": {}}
    state = {
        "keys": values,
        "locked": {sync: "sync.exe"},
        "denied": {vault: "read", BRANCH + r"\Deep": "write"},
    }
    path.write_text(json.dumps({"registry": state, "machine": "kept"}))
    return SimulatedRegistry(path)


def test_the_simulated_registry_behaves_like_one(registry, tmp_path):
    assert sorted(registry.subkeys(BRANCH)) == ["Deep", "Sync", "Vault"]
    assert registry.subkeys(BRANCH + r"\deep") == ["er"]  # a key that only leads to others is one, too
    registry.set(BRANCH.upper(), "WIDTH", "dword", 2)  # case does not count, and is kept
    assert registry.values(BRANCH) == [("Width", "dword", 2)]
    registry.set(BRANCH.lower() + r"\New\Key", "", "sz", "x")
    assert registry.values(BRANCH + r"\New\Key") == [("", "sz", "x")]
    for change in (
        lambda: registry.set(BRANCH + r"\Sync\Below", "a", "sz", ""),
        lambda: registry.values(BRANCH + r"\Vault"),
        lambda: registry.create(BRANCH + r"\Deep\More"),
        lambda: registry.delete_key(BRANCH + r"\New"),
        lambda: registry.set(r"HKEY_NOWHERE\x", "a", "sz", ""),
    ):
        with pytest.raises(RegistryError):
            change()
    with pytest.raises(KeyError):
        registry.values(BRANCH + r"\Missing")
    assert json.loads((tmp_path / "workstation.json").read_text())["machine"] == "kept"


def test_a_branch_is_read_as_far_as_it_can_be(registry):
    reading = RegistryHome(registry, (BRANCH,)).read(BRANCH)
    rows = [row for block in reading.blocks() for row in block]
    assert {address_of(row): leaf_of(row) for row in rows} == {
        "/Width": Leaf("dword", 1),
        "/Sync/": Leaf("key", None),
        "/Deep/er/": Leaf("key", None),
    }
    assert [(trouble.address, trouble.why) for trouble in reading.later] == [
        ("/Vault", "no right to read this key")
    ]


def test_a_place_that_another_run_holds_is_waited_for_and_then_refused(kept, monkeypatch):
    monkeypatch.setenv("ZINKER_HOME", str(kept.home))
    monkeypatch.setattr(place_lock, "PATIENCE", 0.2)
    setup = load_setup()
    with FileLock(kept.home / "locks/potting-shed.lock"):
        with pytest.raises(Refused, match="another run of Zinker has been busy at potting-shed"):
            export(setup, "mosslight", place="potting-shed")
        export(setup, "mosslight", place="glasshouse")  # other places are free
    export(setup, "mosslight", place="potting-shed")


def test_a_run_that_is_still_going_does_not_count_as_cut_off(kept, monkeypatch):
    """It stops on its way (SIGSTOP), looks dead to nobody, and goes on to the end."""
    monkeypatch.setenv("ZINKER_HOME", str(kept.home))
    monkeypatch.setattr(place_lock, "PATIENCE", 0.2)
    kept.spoil()
    script = """
import os, signal, sys
from zinker.stores import simulated_registry
write = simulated_registry.write_file
def stopped(path, data):
    os.kill(os.getpid(), signal.SIGSTOP)
    write(path, data)
simulated_registry.write_file = stopped
sys.argv = ["zinker", "import", "mosslight@1", "--place", "potting-shed", "--yes"]
from zinker.cli.main import run
run()
"""
    run = subprocess.Popen([sys.executable, "-c", script], env=kept.env, stdout=subprocess.DEVNULL)
    try:
        os.waitpid(run.pid, os.WUNTRACED)
        setup = load_setup()
        said = []
        setup.notify = said.append
        assert len(setup.shelf.changes.open_ones()) == 1
        kept_versions(setup)
        with pytest.raises(Refused, match="another run"):
            import_profile(setup, "mosslight@1", "potting-shed")
        assert said == []
    finally:
        while run.poll() is None:  # every write of the registry stops it once
            run.send_signal(signal.SIGCONT)
            time.sleep(0.01)
        assert run.returncode == 0
    assert not load_setup().shelf.changes.open_ones()
    assert kept("compare", "mosslight@1").code == 0


def test_undo_of_something_that_never_was(kept, monkeypatch):
    monkeypatch.setenv("ZINKER_HOME", str(kept.home))
    setup = load_setup()
    with pytest.raises(Refused, match="nothing on this shelf is left to undo"):
        undo(setup)
    with pytest.raises(WrongUsage, match="No change 3"):
        undo(setup, 3)
    kept.spoil()
    import_profile(setup, "mosslight@1", "potting-shed")
    change = kept.path / "shelf/changes/1/change.json"
    change.write_text(change.read_text()[:40])
    assert "is damaged" in kept("undo", "1", "--yes", code=5).err


def test_the_subject_file_may_change_between_a_change_and_its_undo(kept):
    kept.spoil()
    kept("import", "mosslight@1", "--place", "potting-shed", "--yes")
    path = kept.path / "subjects/mosslight.subject.toml"
    path.write_text(path.read_text().replace('id = "panel"', 'id = "other"'))
    done = kept("undo", "--yes", code=1)
    assert "panel, HKEY_CURRENT_USER" in done.out and "has no such part any more" in done.out
    assert b"dusk = 07:30" in kept.ini.read_bytes()


def test_a_shelf_shared_by_machines_keeps_them_apart(kept, monkeypatch):
    """`here` is another place on every machine, and a run on another machine is not known to be dead."""
    monkeypatch.setenv("ZINKER_HOME", str(kept.home))
    kept.spoil()
    before = kept.places()
    setup = load_setup()
    done = import_profile(setup, "mosslight@1", "potting-shed", Wishes(parts=("general",))).change
    path = kept.path / "shelf/changes/1/change.json"

    def written_down(**fields):
        known = json.loads(path.read_text()) | fields
        path.write_bytes(stamped({k: v for k, v in known.items() if k != "sha256"}))

    written_down(place="here", place_machine="elsewhere")
    assert "it was made on elsewhere" in kept("undo", "1", "--yes", code=3).err
    assert "nothing on this shelf is left" in kept("undo", "--yes", code=3).err
    # As if the import were still under way, or had died, on another machine.
    written_down(place=done.place, place_machine=done.place_machine, machine="elsewhere", state="open")
    (kept.path / "shelf/changes/open/1").touch()
    assert "Change 1, begun on elsewhere, has not ended" in kept("list").err
    for arguments in (["export", "mosslight"], ["import", "mosslight@1", "--yes"]):
        refused = kept(*arguments, "--place", "potting-shed", code=3).err
        assert "began change 1 there on elsewhere, and it has not ended" in refused
    told = kept("export", "mosslight", "--place", "glasshouse").err
    assert "If it was cut off, the next export, import or undo there puts that right" in told
    assert "was cut off when everything had been written" in kept("undo", "1", "--yes").err
    assert kept.places() == before

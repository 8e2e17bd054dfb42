"""Schedules: what starts them on each system, what they have due, and what they do while nobody looks."""

import datetime
import os
import plistlib
import shlex
import shutil
import subprocess
import time
from pathlib import Path

import pytest
from conftest import COMMAND, Garden, needs_system
from lxml import etree
from object_stand import S3, sealed, shelved

from zinker.jobs import run_scheduled, unread
from zinker.jobs.schedule.record import Records
from zinker.jobs.schedule.timers import (
    Task,
    cron_line,
    launchd_agent,
    systemd_units,
    windows_task,
    without_line,
)
from zinker.model.errors import WrongUsage
from zinker.model.when import When, when
from zinker.stores.files import FileHome

ROUND = '\n[rounds.evening]\nwhat = ["potting-shed:quillfern", "gate-kiosk:brindlepot"]\n'
# Takes and gives a crontab as the real one does; whose it is does not matter.
CRONTAB = """#!/bin/sh
file=$(dirname "$0")/table
case $1 in
-l) [ -f "$file" ] && exec cat "$file"; echo "no crontab for you" >&2; exit 1 ;;
-) exec cat > "$file" ;;
esac
"""
ODD = '/a b/100%/it\'s "so"/$HOME/back\\slash'


@pytest.fixture
def evening(tmp_path):
    """A garden with a round of files and one of a registry, and a crontab of its own."""
    garden = Garden(tmp_path / "garden")
    with (garden.home / "zinker.toml").open("a") as file:
        file.write(ROUND)
    garden.edit_workstation("gate-kiosk", lambda state: state["registry"].update(denied={}, locked={}))
    programs = tmp_path / "programs"
    programs.mkdir()
    (programs / "crontab").write_text(CRONTAB)
    (programs / "crontab").chmod(0o755)
    garden.env["PATH"] = f"{programs}{os.pathsep}{garden.env['PATH']}"
    garden.table = programs / "table"
    return garden


def at(text):
    return datetime.datetime.fromisoformat(text).astimezone()


@pytest.fixture
def berlin(monkeypatch):
    monkeypatch.setenv("TZ", "Europe/Berlin")
    time.tzset()
    yield
    monkeypatch.undo()
    time.tzset()


@pytest.mark.parametrize(
    ("every", "of_day", "now", "due", "following"),
    [
        ("day", "02:00", "2026-11-27T01:59:59", "2026-11-26T02:00:00+01:00", "2026-11-27T02:00:00+01:00"),
        ("day", "02:00", "2026-11-27T02:00:00", "2026-11-27T02:00:00+01:00", "2026-11-28T02:00:00+01:00"),
        ("monday", "7:30", "2026-11-27T12:00:00", "2026-11-23T07:30:00+01:00", "2026-11-30T07:30:00+01:00"),
        # The clock on the wall counts, also where it was put forward or back in between.
        ("day", "02:00", "2026-10-25T12:00:00", "2026-10-25T02:00:00+02:00", "2026-10-26T02:00:00+01:00"),
        ("day", "12:00", "2026-03-28T13:00:00", "2026-03-28T12:00:00+01:00", "2026-03-29T12:00:00+02:00"),
        ("10 minutes", "", "2026-11-27T12:19:59", "2026-11-27T12:10:00+01:00", "2026-11-27T12:20:00+01:00"),
        ("hour", "", "2026-11-27T12:00:00", "2026-11-27T12:00:00+01:00", "2026-11-27T13:00:00+01:00"),
    ],
)
def test_it_is_due_when_people_would_say_so(berlin, every, of_day, now, due, following):
    wanted = when(every, of_day)
    assert wanted.due(at(now)) == datetime.datetime.fromisoformat(due)
    assert wanted.next(at(now)) == datetime.datetime.fromisoformat(following)


@pytest.mark.parametrize(
    ("every", "of_day"),
    [
        ("day", ""),
        ("day", "25:00"),
        ("never", ""),
        ("0 minutes", ""),
        ("1500 minutes", ""),
        ("hour", "02:00"),
    ],
)
def test_what_never_comes_again_is_refused(every, of_day):
    with pytest.raises(WrongUsage):
        when(every, of_day)


def test_each_system_takes_what_is_written_for_it(tmp_path):
    """Read by others: systemd's own checker, a shell, a reader of property lists, one of XML."""
    for wanted, calendar in (
        (when("day", "02:30"), "*-*-* *:30:00"),
        (when("45 minutes"), "*-*-* *:00/15:00"),
    ):
        odd = tmp_path / ODD.strip("/")
        odd.mkdir(parents=True, exist_ok=True)
        shutil.copy("/bin/echo", odd / "echo")
        task = Task("evening", wanted, (str(odd / "echo"), "--config", ODD, "run"))
        line = cron_line(task)
        assert line.startswith("30 * * * * " if not wanted.minutes else "*/15 * * * * ")
        # What cron(8) gives to the shell: percent signs that are not escaped would be line ends.
        command = line.split(" ", 5)[5].replace("\\%", "\0")
        assert "%" not in command
        done = subprocess.run(["/bin/sh", "-c", command.replace("\0", "%")], capture_output=True, text=True)
        assert done.stdout == f"--config {ODD} run\n"
        table = f"MAILTO=ivy\n{line}\n# zinker: evening\n0 1 * * * other # zinker: evenings"
        assert without_line(table, "evening") == table.replace(f"{line}\n", "")

        agent = plistlib.loads(launchd_agent(task))
        assert agent["ProgramArguments"] == list(task.words) and agent["Label"] == "zinker-evening"
        assert agent.get("StartInterval") == (900 if wanted.minutes else None)
        assert agent.get("StartCalendarInterval") == (None if wanted.minutes else {"Minute": 30})

        xml = etree.fromstring(windows_task(task).encode("utf-16"))
        names = {"t": xml.nsmap[None]}
        assert xml.findtext(".//t:Exec/t:Command", namespaces=names) == task.words[0]
        words = xml.findtext(".//t:Exec/t:Arguments", namespaces=names)
        assert words == subprocess.list2cmdline(task.words[1:])
        assert xml.findtext(".//t:StartWhenAvailable", namespaces=names) == "true"

        units = systemd_units(task)
        assert f"OnCalendar={calendar}\nPersistent=true\n" in units["zinker-evening.timer"]
        folder = tmp_path / ("often" if wanted.minutes else "daily")
        folder.mkdir()
        for name, text in units.items():
            (folder / name).write_text(text)
        program = shutil.which("systemd-analyze")
        needs_system(program, "systemd-analyze")
        for words in (["calendar", calendar], ["verify", "--man=no", *map(str, folder.iterdir())]):
            done = subprocess.run([program, *words], capture_output=True, text=True, check=False)
            assert (done.returncode, done.stderr) == (0, ""), (words, done)


def test_it_is_shown_added_run_listed_and_taken_away(evening):
    evening.table.write_bytes(b"MAILTO=ivy\n# caf\xe9\n5 4 * * * other  # no line end")
    seen = evening("schedule", "add", "evening", "--at", "02:30", "--preview").out
    assert "30 * * * * " in seen and "# zinker: evening" in seen and "preview" in seen
    assert "no terminal" in evening("schedule", "add", "evening", "--at", "02:30", code=3).err
    assert b"zinker" not in evening.table.read_bytes() and not (evening.home / "schedules").exists()
    evening("schedule", "add", "evening", "--at", "02:30", "--yes")
    evening("schedule", "add", "evening", "--every", "10 minutes", "--yes")  # in its place
    lines = evening.table.read_bytes().split(b"\n")
    assert lines[:3] == [b"MAILTO=ivy", b"# caf\xe9", b"5 4 * * * other  # no line end"] and len(lines) == 5
    assert b"secret" not in lines[3]
    (one,) = evening("schedule", "--json").json
    assert (one["when"], one["is_started"], one["trouble"]) == ("every 10 minutes", True, "")

    # As cron has it: nothing in the environment, another folder, no terminal, no bus.
    command = shlex.split(lines[3].decode().split(" ", 5)[5].replace("\\%", "%"), comments=True)
    ran = subprocess.run(
        [*command, "--now"], cwd="/", env={"PATH": "/usr/bin:/bin"}, capture_output=True, text=True
    )
    assert (ran.returncode, ran.stdout) == (0, ""), ran
    kept = {(one["place"], one["subject"]) for one in evening("list", "--json").json}
    assert kept == {("potting-shed", "quillfern"), ("gate-kiosk", "brindlepot")}
    (one,) = evening("schedule", "--json").json
    assert [member["is_new"] for member in one["last"]["members"]] == [True, True]
    log = Path(one["log"]).read_text()
    assert "potting-shed:quillfern  kept as quillfern@1\n" in log

    evening.table.write_bytes(b"\n".join(lines[:3]))
    assert "not there any more" in evening("schedule", code=1).out
    evening("schedule", "add", "evening", "--at", "02:30", "--yes")
    assert evening("schedule", "remove", "evening", "--json").json["round"] == "evening"
    assert evening.table.read_bytes() == b"\n".join(lines[:3]) + b"\n"
    assert evening("schedule", "--json").json == [] and Path(one["log"]).exists()
    assert "No schedule evening" in evening("schedule", "remove", "evening", code=2).err
    assert "Did you mean evening" in evening("schedule", "add", "evenin", "--at", "02:30", code=2).err
    assert "OnCalendar" in evening("schedule", "add", "evening", "--at", "2:30", "--print", "systemd").out


def scheduled(garden, every="day", of_day="02:00", added="2026-11-01T00:00:00+00:00", **more):
    """Note a schedule as `add` would, without a timer."""
    from zinker.jobs.schedule.record import FORMAT, Schedule

    records = Records(garden.home)
    records.keep(Schedule(FORMAT, "evening", when(every, of_day), "cron", added, **more))
    return records


def run(garden, now, **more):
    setup = garden.setup
    more.setdefault("on_battery", lambda: False)
    return run_scheduled(Records(garden.home), "evening", lambda: setup, clock=lambda: at(now), **more)


def test_what_was_missed_put_off_or_failed_is_done_at_the_next_look(evening, monkeypatch):
    records = scheduled(evening)
    # Off for days; then on battery; then with a place that does not answer.
    assert "on battery" in run(evening, "2026-11-27T09:00:00", on_battery=lambda: True).run.why
    assert "did not run: this machine is on battery" in evening("list").err
    away = evening.path / "elsewhere"
    (evening.path / "potting-shed").rename(away)
    first = run(evening, "2026-11-27T10:00:00").run
    assert [one.is_failed for one in first.members] == [True, False] and not first.is_done
    for command, code in (("list", 0), ("places", 1), ("survey", 1)):
        assert "could not keep potting-shed:quillfern: " in evening(command, code=code).err
    assert evening("schedule", code=1).out.count("1 failed") == 1
    away.rename(evening.path / "potting-shed")
    again = run(evening, "2026-11-27T11:00:00").run
    assert again.is_done and {one.version for one in again.members} == {"brindlepot@1", "quillfern@1"}
    lines = records.log_of("evening").read_text().splitlines()
    # What was kept is not captured once more.
    assert sum("gate-kiosk:brindlepot" in line for line in lines) == 1
    assert run(evening, "2026-11-27T12:00:00").next.startswith("2026-11-28T02:00:00")
    assert run(evening, "2026-11-28T02:00:00").run.is_done
    # A clock that was years ahead holds nothing up.
    assert run(evening, "2036-01-01T12:00:00").run.is_done
    assert run(evening, "2026-11-28T12:00:00").run.is_done
    assert "the clock went back" in records.log_of("evening").read_text()
    assert run(evening, "2026-11-28T13:00:00").run is None
    with records.running("evening"):
        assert run(evening, "2026-11-29T03:00:00").is_under_way
    # Nobody has started it for days: that is told, too.
    assert any("has not run since" in one.trouble(at("2026-12-09T12:00:00")) for one in records.all())
    # The stick with the shelf is not there.
    shelf = evening.setup.shelf.storage.folder
    shelf.rename(shelf.with_name("unplugged"))
    gone = run(evening, "2026-11-29T03:00:00").run
    assert not gone.is_done and all(
        "there is none now" in one.why or "not there" in one.why for one in gone.members
    )
    shelf.with_name("unplugged").rename(shelf)
    assert run(evening, "2026-11-29T04:00:00").run.is_done


def test_a_run_that_was_cut_off_is_run_again(evening):
    records = scheduled(evening)
    setup = evening.setup

    def dies(what, done, total):
        raise KeyboardInterrupt

    setup.progress = dies
    with pytest.raises(KeyboardInterrupt):
        run_scheduled(records, "evening", lambda: setup, clock=lambda: at("2026-11-27T09:00:00"))
    assert not records.one("evening").last.is_done
    assert run(evening, "2026-11-27T09:01:00").run.is_done
    (evening.home / "schedules/evening.json").write_text("{")
    assert "cannot be read" in evening("list").err
    assert "Remove it, and add it again" in evening("schedule", code=1).out
    assert "damaged" in evening("schedule", "run", "evening", code=5).err


def test_old_versions_go_afterwards_where_that_was_asked_for(evening):
    with (evening.home / "zinker.toml").open("a") as file:
        file.write("\n[thin]\nnewest = 1\n")
    records = scheduled(evening, thin=True)
    for day in (26, 27):
        evening.edit_workstation(
            "gate-kiosk",
            lambda state, day=day: state["registry"]["keys"][next(iter(state["registry"]["keys"]))].update(
                Day=["sz", str(day)]
            ),
        )
        run(evening, f"2026-11-{day}T03:00:00")
    assert "thinned: 1 version gone" in records.log_of("evening").read_text()


def test_files_are_not_read_again_that_look_as_they_did(evening, monkeypatch):
    read = []
    monkeypatch.setattr(
        FileHome, "read", lambda home, name, real=FileHome.read: read.append(name) or real(home, name)
    )
    clock = time.time_ns
    setup = evening.setup

    def capture():
        read.clear()
        return unread.capture_unread(setup, "potting-shed", "quillfern")

    first = capture()
    assert read and not first.is_known
    # They had been written within the last minute: another change may have left no other time.
    assert capture().is_known and read
    monkeypatch.setattr(time, "time_ns", lambda: clock() + 3_600_000_000_000)
    assert capture().is_known and read
    before = {path: path.read_bytes() for path in setup.shelf.storage.folder.rglob("*") if path.is_file()}
    known = capture()
    assert not read and known.is_known and known.version.reference == first.version.reference
    after = {path: path.read_bytes() for path in setup.shelf.storage.folder.rglob("*") if path.is_file()}
    new = {path.name for path in after.keys() - before.keys()}
    assert new == {f"{first.version.number}.{known.version.said}.json"}  # that it looked, and nothing else
    assert known.version.looked >= first.manifest.captured

    # Whatever happens to one of them, it is read.
    settings = next(path for path in (evening.path / "potting-shed").rglob("*.xml"))
    looks = settings.stat()
    changed = settings.read_bytes().replace(b"1", b"2", 1)
    settings.write_bytes(changed)
    os.utime(settings, ns=(looks.st_atime_ns, looks.st_mtime_ns))  # its time is put back
    second = capture()
    assert read and not second.is_known and second.version.number == first.version.number + 1
    (settings.parent / "templates/another.txt").write_bytes(changed)
    capture()
    assert read
    capture()
    # So it is where the version is gone, or was found to be damaged, or another one came.
    capture()
    assert not read
    setup.shelf.forget(setup.shelf.versions("quillfern")[-1])
    assert not capture().is_known and read


def test_what_is_no_plain_file_is_always_read(evening, monkeypatch):
    monkeypatch.setattr(time, "time_ns", lambda clock=time.time_ns: clock() + 3_600_000_000_000)
    setup = evening.setup
    unread.capture_unread(setup, "gate-kiosk", "brindlepot")
    key = next(iter(evening.registry("gate-kiosk")))
    evening.edit_workstation(
        "gate-kiosk", lambda state: state["registry"]["keys"][key].update(Lately=["sz", "changed"])
    )
    assert not unread.capture_unread(setup, "gate-kiosk", "brindlepot").is_known
    assert not list((evening.home / "looks").glob("*"))


def test_a_secret_is_asked_for_once_and_kept_for_its_owner_alone(evening):
    with (evening.home / "zinker.toml").open("a") as file:
        file.write(
            '\n[places.front-desk]\nkind = "remote-registry"\naddress = "front-desk.example"\nuser = "technician"\n'
            'credential = "own/front-desk"\n\n[rounds.desk]\nwhat = ["front-desk:brindlepot"]\n'
        )
    (evening.home / "own").mkdir()
    words = ("schedule", "add", "desk", "--every", "hour")
    refused = evening(*words, "--yes", code=3, env={"ZINKER_SECRET_FRONT_DESK": "tulip-bulb"}).err
    assert "not kept where it is found when nobody is there" in refused and not evening.table.exists()
    said, code = evening.at_terminal(
        *words, answers=[("Do this?", "y\n"), ("The secret of technician", "tulip-bulb\n")]
    )
    assert code == 0, said
    kept = evening.home / "own/front-desk"
    assert kept.read_text() == "tulip-bulb\n" and kept.stat().st_mode & 0o777 == 0o600
    found = [path for path in evening.home.rglob("*") if path.is_file() and b"tulip" in path.read_bytes()]
    assert found == [kept] and "tulip" not in evening.table.read_text()
    evening(*words, "--yes")  # nobody has to be asked any more
    # Of a sealed shelf, too; what does not open it is not kept.
    toml = evening.home / "zinker.toml"
    toml.write_text(
        f'shelf = "../sealed"\nseal_credential = "own/seal"\n{toml.read_text().split(chr(10), 4)[-1]}'
    )
    sealed(evening)("export", "brindlepot", "--place", "gate-kiosk")
    evening.env["ZINKER_SECRET_SEAL"] = ""
    for given in ("two quiet ferns", "three quiet ferns"):
        answers = [("Do this?", "y\n"), ("The passphrase of the shelf", f"{given}\n")]
        said, code = evening.at_terminal(*words, answers=answers)
        assert (code == 3 and "does not open" in said) == given.startswith("two"), said
    assert evening("list").code == 0 and (evening.home / "own/seal").read_text() == "three quiet ferns\n"


def test_a_log_grows_no_further_than_it_may(evening):
    records = scheduled(evening)
    for _ in range(6):
        records.log("evening", ["x" * 1000 + "\n\x1b[31m"] * 600, at("2026-11-27T03:00:00"))
    logs = list((evening.home / "schedules").glob("evening.log*"))
    assert len(logs) == 5 and all(path.stat().st_size < 600_000 for path in logs)
    assert "\x1b" not in records.log_of("evening").read_text()
    assert When().told == "every day at 00:00"


@pytest.mark.soak
def test_a_real_cron_starts_it_every_minute_onto_sealed_object_storage(evening, tmp_path):
    """In a world of its own: crontabs and the sign of a running cron are nobody else's."""
    program = shutil.which("cron", path=f"{os.environ['PATH']}:/usr/sbin")
    needs_system(program and os.geteuid() == 0, "cron, and the right to begin a mount namespace")
    server = S3(tmp_path)
    shelved(sealed(evening), server)
    toml = evening.home / "zinker.toml"
    toml.write_text(f'shelf_credential = "own/shelf"\nseal_credential = "own/seal"\n{toml.read_text()}')
    (evening.home / "own").mkdir()
    for name in ("shelf", "seal"):
        (evening.home / f"own/{name}").write_text(evening.env.pop(f"ZINKER_SECRET_{name.upper()}"))
        (evening.home / f"own/{name}").chmod(0o600)
    evening.env["PATH"] = os.environ["PATH"]  # the real crontab
    script = f"""
        mount -t tmpfs none /var/spool/cron/crontabs && mount -t tmpfs none /run || exit 9
        chgrp crontab /var/spool/cron/crontabs; chmod 1730 /var/spool/cron/crontabs
        echo '0 0 1 1 * true  # kept' | crontab -
        {COMMAND[0]} schedule add evening --every minute --yes || exit 8
        # Not before that: this cron does not see what comes in the second in which it has read its tables.
        {program} -f >cron.log 2>&1 </dev/null & cron=$!
        trap 'kill -KILL $cron' EXIT
        while ! grep -qs 'brindlepot  kept as' {evening.home}/schedules/evening.log; do sleep 0.5; done
        {COMMAND[0]} schedule remove evening && crontab -l
    """
    done = subprocess.run(
        ["unshare", "-m", "sh", "-c", script],
        cwd=evening.path,
        env=evening.env,
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0 and done.stdout.endswith("0 0 1 1 * true  # kept\n"), done
    assert "* * * * * " in done.stdout
    kept = {(one["place"], one["subject"]): one["reference"] for one in evening("list", "--json").json}
    before = evening.places()
    shutil.rmtree(evening.path / "potting-shed/Users/ivy/AppData/Roaming/quillfern")
    quillfern = kept["potting-shed", "quillfern"]
    evening("import", quillfern, "--place", "potting-shed", "--yes")
    assert evening.places() == before
    server.stop()

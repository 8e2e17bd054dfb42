"""At a place nothing is reached that is not meant, everything stays whose it was, and nothing is left behind."""

import hashlib
import json
import os
import shutil
import signal
import stat
import subprocess
import sys
import tempfile
import zipfile
from pathlib import Path
from types import SimpleNamespace

import pytest
from conftest import Garden
from test_profile import forged
from test_refusals import without_rights

from zinker.disk.tree import Tree
from zinker.disk.windows import is_link
from zinker.formats import ini
from zinker.jobs import Keeping, Wishes, export, import_profile, load_setup, undo
from zinker.jobs.plan import part as planning
from zinker.model.errors import Failed, Refused
from zinker.stores.file_writing import FileWriting
from zinker.stores.files import FileHome

is_root = hasattr(os, "geteuid") and os.geteuid() == 0
only_root = pytest.mark.skipif(not is_root, reason="needs an administrator")
IVY = 12345
KILLING = Path(__file__).parent / "killing"


def words(text):
    return " ".join(text.split())


def given_to(path, owner=IVY):
    """Give a folder and all in it away."""
    for each in (path, *path.rglob("*")):
        os.chown(each, owner, owner, follow_symlinks=False)


def again(garden):
    """Return what brings the place back to what it is now."""
    now = garden.path.with_name("as it was")
    for name in ("potting-shed", "workstations"):
        shutil.copytree(garden.path / name, now / name, symlinks=True)

    def bring(garden):
        for name in ("potting-shed/Users", "workstations"):
            shutil.rmtree(garden.path / name)
            shutil.copytree(now / name, garden.path / name, symlinks=True)

    return bring


def owners(*folders):
    return {each.lstat().st_uid for folder in folders for each in (folder, *folder.rglob("*"))}


@only_root
def test_a_link_to_what_is_somebody_elses_is_neither_read_nor_written(kept):
    secret = kept.path / "potting-shed/etc-shadow"
    secret.write_text("[lamps]\nroot = only\n")
    secret.chmod(0o600)
    given_to(kept.path / "potting-shed/Users")
    kept.ini.unlink()
    kept.ini.symlink_to("/etc-shadow")
    os.chown(kept.ini, IVY, IVY, follow_symlinks=False)
    told = kept("export", "mosslight", "--place", "potting-shed", code=1).out
    assert f"is a link to {secret}, which belongs to somebody else" in words(told)
    assert "/lamps/root" not in kept("show", "mosslight@2", "--json", code=1).out
    told = kept("import", "mosslight@1", "--place", "potting-shed", "--yes", code=1).out
    assert "which belongs to somebody else" in words(told)
    assert secret.read_text() == "[lamps]\nroot = only\n" and kept.ini.is_symlink()
    # The administrator's own links are the system's, wherever they lead within the place.
    os.chown(kept.ini, 0, 0, follow_symlinks=False)
    assert "root" in kept("show", "potting-shed:mosslight", code=None).out


@pytest.mark.skipif(not hasattr(os, "fork"), reason="no fork here")
def test_a_folder_swapped_for_a_link_after_planning_leads_nowhere(tmp_path, monkeypatch):
    garden = Garden(tmp_path / "garden")
    monkeypatch.setenv("ZINKER_HOME", str(garden.home))
    export(load_setup(), "mosslight", place="potting-shed")
    garden.spoil()
    as_spoiled = again(garden)
    outside = garden.path / "potting-shed/outside"
    outside.mkdir()
    (outside / "bench-east.json").write_text('{"mine": true}')
    devices, number = garden.settings / "devices", 0
    before, ends = devices.with_name("away"), set()
    while True:
        number += 1
        child = os.fork()
        if child == 0:
            left = number
            done = []

            def hook(event, arguments, done=done):
                nonlocal left
                if event == "zinker.disk" and "potting-shed" in str(arguments[1]):
                    left -= 1
                    if left == 0:
                        devices.rename(before)
                        devices.symlink_to(outside)
                        done.append(True)

            sys.addaudithook(hook)
            code = 8
            try:
                import_profile(load_setup(), "mosslight@1", "potting-shed", Wishes(parts=("presets",)))
                code = 1
            except (Refused, Failed) as error:
                code = error.exit_code
            finally:
                os._exit(code if done else 0)
        code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        assert os.listdir(outside) == ["bench-east.json"]
        assert (outside / "bench-east.json").read_text() == '{"mine": true}'
        if code == 0:
            break
        ends.add(code)
        devices.unlink()
        before.rename(devices)
        export(load_setup(), "mosslight", place="potting-shed")  # puts right what is open
        assert not load_setup().shelf.changes.open_ones()
        as_spoiled(garden)
    assert number > 3 and ends <= {1, 3, 4}, ends


@only_root
def test_everything_belongs_to_whom_it_belonged(kept):
    """Also links, folders, what has an access control list or attributes; through an import and its undo."""
    shed = kept.path / "potting-shed"
    (kept.data / "artwork/benches/current").symlink_to("north.svg")
    (kept.data / "artwork/empty").mkdir()
    given_to(shed)
    kept("export", "mosslight", "--place", "potting-shed")
    subprocess.run(["setfattr", "-n", "user.note", "-v", "mine", kept.ini], check=True)
    subprocess.run(["setfacl", "-m", "u:54321:r", kept.ini], check=True)
    look = ["getfacl", "-npc", kept.ini]
    list_before = subprocess.run(look, capture_output=True, check=True, text=True).stdout
    kept.spoil()
    given_to(shed)
    (kept.data / "artwork/benches/current").unlink()
    (kept.data / "artwork/empty").rmdir()
    shutil.rmtree(kept.settings / "devices")
    os.link(kept.ini, kept.ini.with_name("other name"))
    shown = words(kept("import", "mosslight@2", "--place", "potting-shed", "--yes").out)
    assert "mosslight.ini has another name (a hard link), under which the old file stays." in shown
    assert owners(shed) == {IVY} and (kept.data / "artwork/benches/current").is_symlink()
    for _ in range(2):
        assert os.getxattr(kept.ini, "user.note") == b"mine"
        assert subprocess.run(look, capture_output=True, check=True, text=True).stdout == list_before
        kept("undo", "--yes", code=None)
    assert owners(shed) == {IVY}


@only_root
def test_a_run_as_administrator_locks_nobody_out(tmp_path):
    garden = Garden(tmp_path / "garden")
    garden.path.parent.chmod(0o755)
    given_to(garden.path)
    garden("export", "mosslight", "--place", "potting-shed")
    garden.spoil()
    given_to(garden.path)
    garden("import", "mosslight@1", "--place", "potting-shed", "--yes")
    garden("undo", "--yes")
    assert owners(garden.home, garden.path / "shelf", garden.path / "potting-shed") == {IVY}


ANOTHER = """
import contextlib, os, sys
os.setuid(65534)
for path in sys.argv[1:]:
    with contextlib.suppress(OSError), open(path, "rb") as file:
        if file.read(1):
            print(path)
"""


@pytest.mark.skipif(os.name != "posix", reason="modes are POSIX's")
def test_what_zinker_keeps_is_its_owners_alone(garden):
    """Whatever the folder and the umask; a shelf that is shared says so."""
    open_to_all = {"preexec_fn": lambda: os.umask(0)}
    here = garden.path / "public"
    here.mkdir()
    for folder in (garden.path, garden.home, here):
        folder.chmod(0o777)
    (garden.home / "zinker.toml").write_text(
        (garden.home / "zinker.toml").read_text().replace("../shelf", "../public/shelf")
    )

    def readable():
        """What another account could read."""
        roots = [here, *(garden.home.glob("[!zs]*"))]
        paths = [path for root in roots for path in (root, *root.rglob("*"))]
        if os.geteuid():
            return [str(p) for p in paths if p.is_file() and p.stat().st_mode & 0o077 and p.stat().st_size]
        for above in (here, *here.parents[:-2]):  # what pytest makes is its own alone
            above.chmod(above.stat().st_mode | 0o055)
        done = subprocess.run(
            [sys.executable, "-c", ANOTHER, *paths], capture_output=True, text=True, check=True
        )
        return done.stdout.split("\n")[:-1]

    public = here / "public.txt"
    public.write_text("for everybody")
    garden("export", "mosslight", "--place", "potting-shed", **open_to_all)
    garden("export", "mosslight", "--place", "potting-shed", "--to", here / "one.zinker", **open_to_all)
    garden("export", "mosslight", "--place", "potting-shed", "--to", here / "folder", **open_to_all)
    garden.spoil()
    report = here / "ticket.txt"
    garden("import", "mosslight", "--place", "potting-shed", "--yes", "--report", report, **open_to_all)
    assert readable() == [str(public)] and report.exists()
    # What an older Zinker has left open is closed, and that is said.
    kept = [here / "shelf/subjects", here / "shelf/objects", here / "shelf/changes"]
    for folder in kept:
        folder.chmod(0o755)
    done = garden("export", "mosslight", "--place", "potting-shed", **open_to_all)
    assert "could be read by others" in done.out + done.err
    assert {stat.S_IMODE(folder.stat().st_mode) for folder in kept} == {0o700}
    shared = f"shared = true\n{(garden.home / 'zinker.toml').read_text()}".replace(
        "public/shelf", "public/all"
    )
    (garden.home / "zinker.toml").write_text(shared)
    garden("export", "mosslight", "--place", "potting-shed", **open_to_all)
    assert stat.S_IMODE((here / "all/subjects/mosslight/1.json").stat().st_mode) == 0o666
    assert {stat.S_IMODE(path.stat().st_mode) for path in (here / "all/objects").rglob("*.zst")} == {0o666}


@pytest.mark.skipif(not hasattr(os, "geteuid"), reason="modes are POSIX's")
def test_a_file_without_the_right_to_write_comes_and_is_undone(kept):
    kept.spoil()
    kept.ini.chmod(0o444)
    kept("import", "mosslight@1", "--place", "potting-shed", "--yes", wrapper=without_rights())
    kept("undo", "--yes", wrapper=without_rights())
    assert b"dusk = 07:30" in kept.ini.read_bytes() and stat.S_IMODE(kept.ini.stat().st_mode) == 0o444


def test_new_folders_are_as_private_as_those_they_are_in(kept):
    kept("import", "mosslight@1", "--place", "glasshouse", "--adopt", "--yes")
    shutil.rmtree(kept.path / "glasshouse/Users/fern/AppData/Local/mosslight")
    above = kept.path / "glasshouse/Users/fern/AppData/Local"
    above.chmod(0o700)
    kept("import", "mosslight@1", "--place", "glasshouse", "--adopt", "--yes")
    assert stat.S_IMODE((above / "mosslight/artwork/benches").stat().st_mode) == 0o700


def test_a_flipped_bit_in_the_record_is_refused(kept):
    kept.spoil()
    kept("import", "mosslight@1", "--place", "potting-shed", "--yes")
    now = kept.places()
    for name in ("documents.json", "change.json"):
        path = kept.path / "shelf/changes/1" / name
        good = path.read_bytes()
        at = good.index(b"19:30") if b"19:30" in good else good.index(b"potting")
        path.write_bytes(good[:at] + bytes([good[at] ^ 1]) + good[at + 1 :])
        refused = kept("undo", "1", "--yes", code=5).err
        assert "does not have the digest that it was written with" in refused and kept.places() == now
        path.write_bytes(good)
    kept("undo", "1", "--yes")


def test_names_that_no_disk_can_hold_are_left_alone_and_hidden_ones_are_shown(kept, tmp_path):
    (kept.data / "artwork/d.zinker-part").mkdir()
    (kept.data / "artwork/d.zinker-part/run.sh").write_text("echo")
    kept("export", "mosslight", "--place", "potting-shed", "--to", "one.zinker")
    assert "d.zinker-part/run.sh" in kept("show", "one.zinker").out
    tool = b"tool"
    content = {"size": len(tool), "sha256": hashlib.sha256(tool).hexdigest()}
    lines = [
        ("a-fine", "", "whole", content),
        ("b-\ud800", "", "whole", content),
        ("c-fine", "", "whole", content),
        ("d-broken", "", "document", content | {"format": "json"}),
        ("e-odd", "", "document", content | {"format": "os"}),
    ]
    name = forged(kept, "artwork", lines, [tool])
    told = kept("import", name, "--place", "glasshouse", "--adopt", "--part", "artwork", "--yes", code=1).out
    assert "its name has half a character in it, which no disk can hold" in words(told)
    assert "d-broken: it cannot be read as JSON" in words(told)
    assert "e-odd: the profile has it in a format that is not known here: os" in words(told)
    assert (kept.path / "glasshouse/Users/fern/AppData/Local/mosslight/artwork/c-fine").exists()
    lines = [("a-large", "", "whole", content | {"size": 1})]
    wrong = kept(
        "import", forged(kept, "artwork", lines, [tool]), "--place", "glasshouse", "--preview", code=5
    ).err
    assert "a-large is said to have 1 bytes, and has 4" in wrong
    kept("export", "mosslight", "--place", "glasshouse")  # the place is free
    kept("import", "one.zinker", "--place", "glasshouse", "--adopt", "--exact", "--yes")


def test_whatever_goes_wrong_leaves_the_place_free_or_names_the_command_that_frees_it(kept, monkeypatch):
    monkeypatch.setenv("ZINKER_HOME", str(kept.home))
    kept.spoil()
    spoiled = kept.places()

    def broken(*arguments):
        raise ArithmeticError("nobody thought of this")

    with monkeypatch.context() as wrong:  # while planning, and while staging
        wrong.setattr(planning, "differences", broken)
        with pytest.raises(ArithmeticError):
            import_profile(load_setup(), "mosslight@1", "potting-shed")
    with monkeypatch.context() as wrong:
        wrong.setattr("zinker.stores.file_writing.FileWriting.stage", broken)
        with pytest.raises(ArithmeticError):
            import_profile(load_setup(), "mosslight@1", "potting-shed")
    assert kept.places() == spoiled and not load_setup().shelf.changes.open_ones()
    commit, calls = FileWriting.commit, []

    def once(*more):  # when all is written, and while taking back
        if not calls:
            calls.append(commit(*more))
        broken()

    with monkeypatch.context() as wrong:
        wrong.setattr(FileWriting, "commit", once)
        with pytest.raises(Failed, match="gives that up"):
            import_profile(load_setup(), "mosslight@1", "potting-shed")
        with pytest.raises(Refused, match=r"nobody thought of this\n.*\nOr `zinker undo \d --as-it-is`"):
            export(load_setup(), "mosslight", place="potting-shed")
    (number,) = (change.number for change in load_setup().shelf.changes.open_ones())
    (kept.path / "shelf/changes" / str(number) / "documents.json").write_text("[]")
    assert "cannot be put right" in kept("export", "mosslight", "--place", "potting-shed", code=3).err
    told = kept("undo", str(number), "--as-it-is")
    assert f"Change {number} is closed, and potting-shed is left as it is." in told.out
    kept("export", "mosslight", "--place", "potting-shed")
    assert "the place was left as it was" in kept("undo", str(number), "--yes", code=3).err


@pytest.mark.soak
@pytest.mark.skipif(not hasattr(os, "fork"), reason="no fork here")
def test_killed_runs_leave_nothing_behind(kept):
    kept.spoil()
    scratch = kept.path / "scratch"
    scratch.mkdir()
    killing = {"PYTHONPATH": str(KILLING), "TMPDIR": str(scratch)}
    left, as_spoiled = set(), again(kept)
    for below, numbers in (("shelf", (1, 4, 8, 12)), ("potting-shed", (1, 3, 5)), ("scratch", (3, 4, 5))):
        for number in numbers:
            dying = {**killing, "KILL_AT": str(number), "KILL_BELOW": str(kept.path / below)}
            kept("import", "mosslight@1", "--place", "potting-shed", "--yes", code=None, env=dying)
            there = ("--from", "potting-shed", "--to", "glasshouse", "--preview")
            done = kept("transfer", "mosslight", *there, code=None, env=dying)
            left |= {one.name for one in scratch.glob("zinker-*") if done.code == -signal.SIGKILL}
            kept("export", "mosslight", "--place", "potting-shed", env={"TMPDIR": str(scratch)})
            found = [*kept.path.rglob("*.zinker-part"), *scratch.glob("zinker-*")]
            assert not found, (below, number)
            as_spoiled(kept)
    assert left  # there was something to sweep


def test_another_disk_mounted_on_a_file_is_named(kept):
    if not is_root or subprocess.run(["unshare", "-m", "true"], check=False).returncode:
        pytest.skip("needs a namespace of its own")
    kept.spoil()
    mount = f'mount --bind {kept.ini} {kept.ini} && exec "$@"'
    wrapper = ["unshare", "-m", "sh", "-c", mount, "sh"]
    refused = kept("import", "mosslight@1", "--place", "potting-shed", "--yes", code=3, wrapper=wrapper)
    assert f"{kept.ini} cannot be written: something is mounted there" in words(refused.err)
    done = kept(
        *("import", "mosslight@1", "--place", "potting-shed", "--yes", "--leave-unwritable"),
        code=1,
        wrapper=wrapper,
    )
    assert "mosslight.ini: it cannot be written" in words(done.out)


def test_a_shelf_that_is_not_there_is_not_made_anew(kept):
    shelf, away = kept.path / "shelf", kept.path / "away"
    assert (
        "A new shelf has been made"
        in Garden(kept.path / "x")("export", "mosslight", "--place", "potting-shed").err
    )
    for empty in (False, True):
        shelf.rename(away)
        if empty:
            shelf.mkdir()
        for arguments in (
            ["list"],
            ["export", "mosslight", "--place", "potting-shed"],
            ["show", "mosslight"],
        ):
            assert f"{shelf} was a shelf, and there is none now" in kept(*arguments, code=3).err
        if empty:
            shelf.rmdir()
        assert not shelf.exists()
        away.rename(shelf)
    toml = kept.home / "zinker.toml"
    toml.write_text(
        toml.read_text().replace('shelf = "../shelf"', f'shelf = "{kept.path}/not-plugged-in/shelf"')
    )
    refused = kept("export", "mosslight", "--place", "potting-shed", code=3).err
    assert (
        "not-plugged-in is not there, in which the shelf" in refused
        and not (kept.path / "not-plugged-in").exists()
    )


@pytest.mark.skipif(not hasattr(os, "mkfifo"), reason="no pipes with names here")
def test_a_pipe_in_place_of_a_file_is_refused_and_not_waited_for(kept):
    pipe = kept.path / "pipe.zinker"
    os.mkfifo(pipe)
    os.mkfifo(kept.path / "pipe.toml")
    os.mkfifo(kept.path / "pipe.reg")
    for arguments in (
        ["show", pipe],
        ["show", "pipe.reg"],
        ["crosswalk", "check", "pipe.toml"],
        ["subjects", "check", "pipe.toml"],
        ["--config", "pipe.toml", "list"],
        ["import", pipe, "--place", "potting-shed", "--yes"],
    ):
        assert "a pipe or a device" in kept(*arguments, code=None).err, arguments
    (kept.home / "zinker.toml").write_text('shelf = "~nobody-of-that-name/x"\n')
    assert "names the home of an account that this machine does not have" in kept("list", code=2).err


def test_a_document_is_read_four_times_and_taken_apart_eight_times_in_an_import(kept, monkeypatch):
    """It has a secret, and one setting differs; an undo takes no more."""
    monkeypatch.setenv("ZINKER_HOME", str(kept.home))
    kept.spoil()
    counts = {"read": 0, "apart": 0}
    read = FileHome.read

    def reading(self, document):
        counts["read"] += document == "mosslight.ini"
        return read(self, document)

    monkeypatch.setattr(FileHome, "read", reading)
    for name in ("read", "edit"):
        own = getattr(ini, name)

        def taking(data, *more, own=own):
            counts["apart"] += 1
            return own(data, *more)

        monkeypatch.setattr(ini, name, taking)
    for job in (
        lambda: import_profile(load_setup(), "mosslight@1", "potting-shed"),
        lambda: undo(load_setup()),
    ):
        counts.update(read=0, apart=0)
        assert job().state == "done"
        assert 0 < counts["read"] <= 4 and 0 < counts["apart"] <= 8, counts


def test_what_is_kept_can_be_read(kept, monkeypatch):
    """A text that is longer than a line may be is carried with its file; one packed too well is stored as it is."""
    from zinker.profiles import writing

    monkeypatch.setenv("ZINKER_HOME", str(kept.home))
    monkeypatch.setattr(writing, "LARGEST_LINE", 1000)
    monkeypatch.setattr(writing, "LARGEST_PACKED", 50_000)
    monkeypatch.setattr(writing, "HIGHEST_RATIO", 50)
    (kept.settings / "devices/bench-east.json").write_text(json.dumps({"a": "x" * 2000}))
    (kept.settings / "devices/bench-west.json").write_text(
        json.dumps({f"k{n}": "y" * 900 for n in range(300)})
    )
    path = kept.path / "kept.zinker"
    done = export(load_setup(), "mosslight", "potting-shed", Keeping(to=path))
    told = [problem.why for problem in done.manifest.problems]
    assert "one of its settings is longer than a profile can have" in told and done.is_complete
    with zipfile.ZipFile(path) as profile:
        presets = profile.getinfo("settings/presets.jsonl")
        assert presets.compress_type == zipfile.ZIP_STORED and presets.file_size > 270_000
    assert "k299" in kept("show", path).out
    monkeypatch.setattr("zinker.profiles.reading.LARGEST_LINE", 10)  # as if it could not be read back
    monkeypatch.setattr(writing.ZipTarget, "put", lambda *more, **also: None)
    with pytest.raises(Refused, match="what was written cannot be read back"):
        export(load_setup(), "mosslight", "potting-shed", Keeping(to=kept.path / "other.zinker"))
    monkeypatch.setattr("zinker.shelf.objects.Sink.write", lambda *more: None)
    with pytest.raises(Refused, match="what was written cannot be read back"):
        export(load_setup(), "mosslight", place="potting-shed")
    assert "mosslight@2" not in kept("list", "mosslight").out and Tree(Path(tempfile.gettempdir()))


def test_a_junction_is_a_link():
    """As Windows' Python tells of one: a folder, with a tag. A file that is kept in a cloud has one, too."""
    folder = {"st_mode": stat.S_IFDIR | 0o777}
    assert is_link(SimpleNamespace(**folder, st_reparse_tag=0xA0000003))
    assert not is_link(SimpleNamespace(**folder, st_reparse_tag=0x9000001A))
    assert not is_link(SimpleNamespace(**folder, st_reparse_tag=0))

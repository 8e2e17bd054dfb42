"""Bad input, full disks, missing rights, other runs: each a clear refusal, and nothing changed."""

import os
import re
import shutil
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from conftest import COMMAND, needs_system

KILLING = os.path.join(os.path.dirname(__file__), "killing")


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["export", "moslight"], "Did you mean mosslight?"),
        (["export", "mosslight", "--place", "pottingshed"], "Did you mean potting-shed?"),
        (["export", "mosslight", "--part", "presents"], "Did you mean presets?"),
        (["export", "mosslight/bench-north", "--place", "potting-shed"], "no instance of that name"),
        (["export", "mosslight", "--place", "potting-shed", "--label", "7"], "a label is not a number"),
        (["show", "mosslight@9"], "no version 9 of mosslight"),
        (["show", "mosslight@never"], "no version never of mosslight"),
        (["show", "mosslight@2001-01-01"], "no version 2001-01-01 of mosslight"),
        (["show", "glasshouse:mosslight@1"], "it was taken at potting-shed"),
        (["show", "a@b@c"], "neither [place:]subject"),
        (["compare", "mosslight@1", "nowhere.zinker"], "does not exist"),
        (["compare", "potting-shed:mosslight"], "needs something to be compared with"),
        (["import", "here:mosslight", "--yes"], "an import takes a kept version"),
        (["import", "mosslight@1", "--part", "nothing", "--yes"], "there is no part of that name"),
        (["undo", "7", "--yes"], "no change of that number"),
        (["show", "brindlepot"], "Nothing of it is kept yet"),
        (["--config", "nowhere.toml", "list"], "nowhere.toml cannot be read: it does not exist"),
        (["frobnicate"], "No such command"),
    ],
)
def test_names_that_do_not_exist(kept, arguments, says):
    before = kept.places()
    done = kept(*arguments, code=None)
    assert done.code in (2, 3) and says in done.err, done
    assert kept.places() == before


def test_a_label_is_given_once(kept):
    again = ("export", "mosslight", "--place", "potting-shed", "--label", "season-start")
    kept(*again)  # nothing has changed, and it is that version's own
    kept.spoil()
    refused = kept(*again, code=3)
    assert "mosslight@1 has the label season-start already" in refused.err and "--move" in refused.err
    assert len(kept("list", "--json").json) == 1
    kept(*again, "--move")
    assert [one.get("label") for one in kept("list", "--json").json] == [None, "season-start"]


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        (
            'store = "registry"',
            'store = "regestry"',
            r"line \d+, key part\.5\.store: 'regestry' is not one of",
        ),
        ("device_bound = true", "device_bind = true", r"key part\.4\.device_bind: there is no such key"),
        ("format = 1\n", 'format = "1"\n', r"line 1, key format"),
        ('id = "mosslight"', "id = 7", r"line 2, key id: it must be str, not int"),
        ("{config}/mosslight/mosslight.ini", "{config}/../x.ini", r"line \d+: the path .* may have neither"),
        ("{config}/mosslight/mosslight.ini", "/etc/passwd", r"must begin with one of"),
        ('id = "presets"', 'id = "general"', r"the part `general` stands there twice"),
        ("[application]", "[application", r"line 5, column \d+: "),
        ('title = "Mosslight greenhouse lighting"\n', "", r"key title: this key is missing"),
        ("Mosslight", "M\xf6sslight", r"is not UTF-8"),
        ("format = 1", "format = " + "[" * 50_000, r"nested too deeply"),
    ],
)
def test_a_malformed_subject_file_names_file_line_and_key(garden, old, new, says):
    path = garden.path / "subjects/mosslight.subject.toml"
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new, 1), encoding="latin-1")
    done = garden("export", "mosslight", "--place", "potting-shed", code=2)
    assert str(path) in done.err and re.search(says, done.err), done.err
    line = re.search(r"line (\d+), key", done.err)
    if line and "missing" not in done.err:
        assert new.split(" ")[0].strip() in path.read_text("latin-1").splitlines()[int(line[1]) - 1]


def test_a_file_that_is_not_what_it_should_be_is_carried_whole(garden):
    broken = b'{"name": "East bench", '
    (garden.settings / "devices/bench-east.json").write_bytes(broken)
    garden.ini.write_bytes(b"\x00\x01\x02 secret")
    done = garden("export", "mosslight", "--place", "potting-shed", code=1)
    assert re.search(
        r"Carried as a whole.*bench-east.json: it cannot be read as JSON: line 1", done.out, re.S
    )
    # A file that may hold a secret and cannot be taken apart is not carried: the secret would go with it.
    assert re.search(r"Not captured:.*mosslight.ini: .* may hold a secret", done.out, re.S)
    (garden.settings / "devices/bench-east.json").write_text("{}")
    done = garden("import", "mosslight@1", "--place", "potting-shed", "--part", "presets", "--yes", code=1)
    assert "the profile has it as an unreadable file only" in done.out
    (garden.settings / "devices/bench-east.json").unlink()
    garden("import", "mosslight@1", "--place", "potting-shed", "--part", "presets", "--yes")
    assert (garden.settings / "devices/bench-east.json").read_bytes() == broken


def test_a_broken_file_is_replaced_and_can_come_back(kept):
    path = kept.settings / "devices/bench-east.json"
    good, broken = path.read_bytes(), b"\x00" * 40
    path.write_bytes(broken)
    shown = kept("import", "mosslight@1", "--place", "potting-shed", "--preview").out
    assert "40 bytes" in shown and "becomes a file that can be read as JSON" in shown
    kept("import", "mosslight@1", "--place", "potting-shed", "--yes")
    assert path.read_bytes() == good
    kept("undo", "--yes")
    assert path.read_bytes() == broken


def without_rights():
    """A wrapper in which even root has to respect file modes."""
    if hasattr(os, "geteuid") and os.geteuid() != 0:
        return []
    needs_system(shutil.which("setpriv"), "setpriv")
    return ["setpriv", "--bounding-set=-dac_override,-dac_read_search,-fowner", "--"]


@pytest.mark.skipif(os.name == "nt", reason="modes are not Windows's")
def test_an_unreadable_file_is_named_and_the_rest_is_taken(kept):
    path = kept.settings / "devices/bench-west.json"
    path.chmod(0)
    done = kept("export", "mosslight", "--place", "potting-shed", code=1, wrapper=without_rights())
    assert "Device presets, bench-west.json: no right to do that there" in done.out
    assert len(kept("show", "mosslight@2", "--json", code=1).json["settings"]) > 40
    one = kept("show", "mosslight@2", "--document", "bench-west.json", code=1).out
    assert "bench-west.json: no right to do that there" in one and "0 settings." in one
    kept("show", "mosslight@2", "--document", "bench-east.json")
    found = kept("compare", "mosslight@1", "--json", code=1, wrapper=without_rights()).json
    assert found["differences"] == [] and found["not_compared"][0]["document"] == "bench-west.json"
    done = kept("import", "mosslight@1", "--place", "potting-shed", "--yes", code=1, wrapper=without_rights())
    assert "the one there cannot be read" in done.out


@pytest.mark.skipif(os.name == "nt", reason="modes are not Windows's")
def test_one_home_of_a_part_may_be_closed_and_another_one_not(garden):
    home = garden.path / "potting-shed/Users/ivy"
    (garden.path / "subjects/sieve.subject.toml").write_text(
        'format = 1\nid = "sieve"\ntitle = "Sieve"\n[[part]]\nid = "meshes"\nstore = "file"\nformat = "whole"\n'
        'path = "{home}/open/**"\n[[part.home]]\nid = "more"\nformat = "whole"\npath = "{home}/closed/**"\n'
    )
    files = [home / "open/a.txt", home / "closed/b.txt"]
    for file in files:
        file.parent.mkdir()
        file.write_text("fine")
    garden("export", "sieve", "--place", "potting-shed")
    for file in files:
        file.write_text("coarse")
    files[1].parent.chmod(0o555)
    words = ("import", "sieve", "--place", "potting-shed", "--yes", "--leave-unwritable")
    done = garden(*words, code=1, wrapper=without_rights())
    assert "more:b.txt" in done.out and "no right to write in" in done.out
    assert [file.read_text() for file in files] == ["fine", "coarse"]


@pytest.mark.skipif(os.name == "nt", reason="modes are not Windows's")
def test_a_read_only_target_is_refused(kept):
    kept.spoil()
    (kept.settings / "devices").chmod(0o555)
    before = kept.places()
    done = kept("import", "mosslight@1", "--place", "potting-shed", "--yes", code=3, wrapper=without_rights())
    assert "bench-east.json cannot be written: no right to write in" in done.err
    assert kept.places() == before
    kept(
        "import",
        "mosslight@1",
        "--place",
        "potting-shed",
        "--without",
        "presets",
        "--yes",
        wrapper=without_rights(),
    )


def in_mounts(garden, script, code):
    """Run a shell script with mounts of its own; `$Z` is the command."""
    can = subprocess.run(["unshare", "-rm", "true"], capture_output=True, check=False).returncode == 0
    needs_system(can, "unshare")
    environment = garden.env | {"Z": str(COMMAND[0]), "PATH": os.environ["PATH"]}
    done = subprocess.run(
        ["unshare", "-rm", "sh", "-ec", script],
        cwd=garden.path,
        env=environment,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == code, done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    return done


@pytest.mark.skipif(sys.platform != "linux", reason="mounts are Linux's")
def test_a_full_disk_is_refused_and_leaves_nothing(kept):
    script = """
        mkdir small; mount -t tmpfs -o size=16k none small; head -c 14000 /dev/zero > small/stuff
        $Z export mosslight --place potting-shed --to small/x.zinker && exit 9
        test "$(ls -A small)" = stuff
    """
    done = in_mounts(kept, script, 0)
    assert "cannot be written: the disk is full" in done.stderr
    kept.spoil()
    before = kept.places()
    target = "potting-shed/Users/ivy/AppData/Local/mosslight/artwork"
    script = f"""
        (cd {target} && tar c .) > saved.tar; mount -t tmpfs -o size=16k none {target}; tar xC {target} < saved.tar
        head -c 300000 /dev/zero > {target}/stuff || true
        find {target} > before; $Z import mosslight@1 --place potting-shed --yes && exit 9
        $Z import mosslight@1 --place potting-shed --despite-space --yes && exit 9
        find {target} | diff before - && rm before saved.tar
        $Z undo && exit 8
        exit 3
    """
    done = in_mounts(kept, script, 3)
    assert re.search(r"artwork\S* has 0 bytes free, and about \d+ are needed.\nMake room", done.stderr)
    assert "the disk is full\nNothing was changed." in done.stderr
    assert kept.places() == before
    assert "nothing on this shelf is left to undo" in done.stderr


@pytest.mark.skipif(sys.platform != "linux", reason="mounts are Linux's")
def test_a_full_or_read_only_shelf_is_refused_before_anything_changes(kept):
    kept.spoil()
    before = kept.places()
    script = """
        mount --bind shelf shelf; mount -o remount,bind,ro shelf
        $Z compare mosslight@1 > /dev/null || test $? = 1
        $Z import mosslight@1 --place potting-shed --yes
    """
    assert "the disk is read-only" in in_mounts(kept, script, 3).stderr
    script = """
        cp -a shelf saved; mount -t tmpfs -o size=256k none shelf; cp -a saved/. shelf; rm -r saved
        head -c 300000 /dev/zero > shelf/stuff || true
        $Z import mosslight@1 --place potting-shed --yes && exit 9
        $Z import mosslight@1 --place potting-shed --despite-space --yes
    """
    done = in_mounts(kept, script, 3)
    assert "shelf has 0 bytes free" in done.stderr and "the disk is full" in done.stderr
    assert kept.places() == before


def test_links_are_not_followed_out_of_a_folder(kept):
    outside = kept.path / "outside"
    outside.mkdir()
    (outside / "house.svg").write_text("not ours")
    shutil.rmtree(kept.data / "artwork")
    (kept.data / "artwork").mkdir()
    (kept.data / "artwork/benches").symlink_to(outside)
    done = kept("import", "mosslight@1", "--place", "potting-shed", "--part", "artwork", "--yes", code=3)
    assert "artwork/benches is a link, and stands in the way" in done.err
    assert os.listdir(outside) == ["house.svg"]


def test_what_is_no_file_is_named_or_left_alone(kept):
    artwork = kept.data / "artwork"
    os.mkfifo(artwork / "pipe")
    for name in ("benches/east.svg", "benches/west.svg"):
        (artwork / name).unlink()
        (artwork / name).mkdir()
    os.mkfifo(artwork / "benches/east.svg/pipe")
    kept("export", "mosslight", "--place", "potting-shed")
    assert "pipe" not in kept("show", "mosslight").out
    done = kept("import", "mosslight@1", "--place", "potting-shed", "--yes", code=1)
    assert "benches/east.svg: the one there cannot be read: it is not a file" in done.out
    assert "benches/west.svg: an empty folder stands there, where the profile has file" in done.out
    assert (artwork / "benches/east.svg").is_dir() and (artwork / "benches/west.svg").is_dir()


def test_a_name_too_long_for_the_target_is_said(kept):
    kept("export", "mosslight@1", "--to", "good.zinker")
    (kept.data / "artwork" / ("x" * 240 + ".svg")).write_text("long")
    kept("export", "mosslight", "--place", "potting-shed", "--part", "artwork")
    from zinker.stores.file_roots import Root
    from zinker.stores.files import FileHome

    home = FileHome(kept.path, (Root(kept.data / "artwork", "**"),))
    assert home.closed("y" * 300).why == "its name is too long for this disk"
    assert home.closed("y/" * 3000 + "z") is not None
    assert home.closed("new/folder/z.svg") is None


@pytest.mark.skipif(sys.platform != "linux", reason="limits are Linux's")
def test_a_path_too_long_for_the_target_is_refused_before_anything_changes(kept):
    deep = Path("deep", *["d" * 200] * ((4040 - len(str(kept.path))) // 201))
    (kept.path / deep).mkdir(parents=True)
    left = 4080 - len(str(kept.path / deep))
    home = "/".join(["h" * (left // 2), "h" * (left // 2)])
    toml = kept.home / "zinker.toml"
    place = f'\n[places.deep]\nkind = "folder"\npath = "../{deep}"\nfolders = {{ home = "{home}" }}\n'
    toml.write_text(toml.read_text() + place)
    done = kept("import", "mosslight@1", "--place", "deep", "--yes", "--without", "panel", code=3)
    assert "its name is too long for this disk" in done.err
    assert not list((kept.path / deep).iterdir())


def test_a_place_whose_folder_cannot_be_listed_is_not_written(kept):
    """What cannot be seen could not be kept before; it is not overwritten unseen."""
    artwork = kept.data / "artwork"
    (artwork / "house.svg").write_text("newer")
    artwork.chmod(0o300)
    done = kept("export", "mosslight", "--place", "potting-shed", code=1, wrapper=without_rights())
    assert "Bench plans: no right to do that there" in done.out
    done = kept("import", "mosslight@1", "--place", "potting-shed", "--yes", code=1, wrapper=without_rights())
    assert "Bench plans, house.svg: the one there cannot be read" in done.out
    artwork.chmod(0o755)
    assert (artwork / "house.svg").read_text() == "newer"


@pytest.mark.soak
def test_a_profile_folder_is_replaced_whole_or_not_at_all(kept):
    kept("export", "mosslight", "--place", "potting-shed", "--to", "plain")
    kept.spoil()
    arguments = ["export", "mosslight", "--place", "potting-shed", "--to", "plain", "--replace"]
    shutil.copytree(kept.path / "plain", kept.path / "pristine")
    refused = 0
    for number in range(1, 14):  # while members are written aside
        hook = {"FAIL_AT": str(number), "KILL_BELOW": "plain", "PYTHONPATH": KILLING}
        done = kept(*arguments, code=None, env=hook)
        assert sorted(os.listdir(kept.path / "plain")) == ["attachments", "profile.json", "settings"]
        if (
            done.code == 3
        ):  # else it failed where that did not matter, such as at making a folder that is there
            assert "cannot be written" in done.err
            kept("compare", "mosslight@1", "./plain")  # still the old one
            refused += 1
        shutil.rmtree(kept.path / "plain")
        shutil.copytree(kept.path / "pristine", kept.path / "plain")
    assert refused > 3
    kept(*arguments)
    kept("compare", "mosslight@1", "./plain", code=1)
    (kept.path / "plain/attachments").rename(kept.path / "elsewhere")
    (kept.path / "plain/attachments").symlink_to(kept.path / "elsewhere")
    assert "is a link" in kept(*arguments, code=3).err


def test_a_settings_file_behind_a_link_stays_behind_it(kept):
    """An absolute link counts from the root of the place; nothing of the technician's own machine is reached."""
    kept.spoil()
    real = kept.path / "potting-shed/Users/ivy/dotfiles/own.ini"
    real.parent.mkdir()
    kept.ini.rename(real)
    kept.ini.symlink_to("/Users/ivy/dotfiles/own.ini")
    shown = kept("import", "mosslight@1", "--place", "potting-shed", "--yes").out
    assert f"mosslight.ini is a link to {real}; that file is written, and the link stays." in " ".join(
        shown.split()
    )
    assert kept.ini.is_symlink() and b"dusk = 19:30" in real.read_bytes()
    kept("undo", "--yes")
    assert kept.ini.is_symlink() and b"dusk = 07:30" in real.read_bytes()
    elsewhere = kept.path / "elsewhere.ini"
    real.rename(elsewhere)
    kept.ini.unlink()
    kept.ini.symlink_to(elsewhere)
    told = kept("import", "mosslight@1", "--place", "potting-shed", "--yes", code=1).out
    assert f"it is a link to {elsewhere}, which is not there" in " ".join(told.split())
    assert b"dusk = 07:30" in elsewhere.read_bytes()


def test_modes_are_kept(kept):
    kept.spoil()
    kept.ini.chmod(0o640)
    kept("import", "mosslight@1", "--place", "potting-shed", "--yes")
    assert kept.ini.stat().st_mode & 0o777 == 0o640


def test_another_major_version_is_refused(kept):
    kept.ini.write_bytes(kept.ini.read_bytes().replace(b"version = 3.2.1", b"version = 4.0"))
    kept.spoil()
    done = kept("import", "mosslight@1", "--place", "potting-shed", "--yes", code=3)
    assert "is 4.0 at potting-shed, and the profile was taken from 3.2.1" in done.err
    kept("import", "mosslight@1", "--place", "potting-shed", "--yes", "--any-version")
    assert b"version = 4.0" in kept.ini.read_bytes()


def test_what_is_needed_must_be_there(kept):
    path = kept.path / "subjects/mosslight.subject.toml"
    need = 'needs = [ { path = "{program}/mosslight/plugins/dusk", says = "The Dusk plug-in" } ]\n'
    path.write_text(path.read_text().replace("compatible =", need + "compatible ="))
    kept.spoil()
    done = kept("import", "mosslight@1", "--place", "potting-shed", "--yes", code=3)
    assert "The Dusk plug-in is missing at potting-shed" in done.err
    (kept.path / "potting-shed/Program Files/mosslight/plugins/dusk").mkdir(parents=True)
    kept("import", "mosslight@1", "--place", "potting-shed", "--yes")


@pytest.mark.soak
def test_runs_at_once_lose_nothing(garden):
    with ThreadPoolExecutor(8) as pool:
        again = ("export", "mosslight", "--place", "potting-shed", "--again")
        runs = list(pool.map(lambda _: garden(*again), range(8)))
    numbers = sorted(int(re.search(r"mosslight@(\d+)", run.out)[1]) for run in runs)
    assert numbers == list(range(1, 9))
    garden.spoil()
    with ThreadPoolExecutor(4) as pool:
        runs = list(
            pool.map(
                lambda _: garden("import", "mosslight@1", "--place", "potting-shed", "--yes", "--json"),
                range(4),
            )
        )
    assert sorted(run.json["state"] for run in runs) == ["alike", "alike", "alike", "done"]
    assert garden("compare", "mosslight@1").code == 0


@pytest.mark.skipif(sys.platform != "linux", reason="processes are named as on Linux")
def test_this_machine_and_what_really_runs_on_it(garden):
    own = garden.path / "own"
    shutil.copytree(garden.settings, own / ".config/mosslight")
    shutil.copytree(garden.data, own / ".local/share/mosslight")
    (garden.path / "mosslight").symlink_to(shutil.which("sleep"))
    running = subprocess.Popen([garden.path / "mosslight", "60"])
    try:
        done = garden("export", "mosslight")
        assert f"is running (process {running.pid})" in done.out and "Control panel" in done.out
        (own / ".config/mosslight/mosslight.ini").write_text("[lamps.north]\ndusk=1\n")
        refused = garden("import", "mosslight@1", "--without", "panel", "--yes", code=3)
        assert f"process {running.pid}" in refused.err
    finally:
        running.kill()
        running.wait()
    left = garden("import", "mosslight@1", "--yes", "--json", code=0).json["left"]
    assert "panel" not in [item["part"] for item in left]  # nothing of it was captured, so nothing is missing
    assert b"dusk=19:30" in (own / ".config/mosslight/mosslight.ini").read_bytes()

"""Checks before an import: each in its own words, each overruled by an option of its own and by no other."""

import json
import re
import subprocess
import sys
import time

import pytest
from conftest import COMMAND
from test_refusals import without_rights

ALL = (
    "while-running",
    "any-version",
    "despite-needs",
    "despite-space",
    "leave-unwritable",
    "adopt",
    "other-user",
    "new-instance",
    "other-device",
)


def run_mosslight(garden, name="potting-shed"):
    process = {"number": 4312, "name": "mosslight.exe"}
    garden.edit_workstation(name, lambda state: state.update(running=[process]))


def subject(garden, old, new):
    path = garden.path / "subjects/mosslight.subject.toml"
    assert old in path.read_text()
    path.write_text(path.read_text().replace(old, new, 1))


def older(garden):
    subject(garden, "same-major", "exact")
    garden.ini.write_bytes(garden.ini.read_bytes().replace(b"version = 3.2.1", b"version = 3.2.0"))


def needy(garden):
    need = '{ path = "{program}/mosslight/dusk", says = "the Dusk plug-in", parts = ["presets", "general"] }'
    subject(garden, 'compatible = "same-major"', f'compatible = "same-major"\nneeds = [{need}]')


def another_user(garden):
    garden.edit_workstation("potting-shed", lambda state: state.update(user="fern"))


def another_machine(garden):
    garden.edit_workstation("potting-shed", lambda state: state.update(machine="SHED-2"))


def another_instance(garden):
    another_machine(garden)
    devices = garden.settings / "devices"
    (devices / "bench-east.json").rename(devices / "bench-far.json")


def another_device(garden):
    subject(
        garden,
        'path = "{config}/mosslight/devices/{instance}.json"',
        'kind = "/serial"\npath = "{config}/mosslight/devices/{instance}.json"',
    )
    preset = garden.settings / "devices/bench-east.json"
    preset.write_text(preset.read_text().replace("20417", "30000"))


def no_space(garden):
    """The file system says that it is full; what is written still has room."""
    code = "import shutil, collections\n"
    code += "shutil.disk_usage = lambda path: collections.namedtuple('U', 'total used free')(9, 9, 0)\n"
    (garden.path / "full").mkdir()
    (garden.path / "full/sitecustomize.py").write_text(code)
    garden.env["PYTHONPATH"] = str(garden.path / "full")


@pytest.mark.parametrize(
    ("prepare", "options", "says"),
    [
        (run_mosslight, ["while-running"], "Mosslight greenhouse lighting is running (process 4312)"),
        (older, ["any-version"], "is 3.2.0 at potting-shed, and the profile was taken from 3.2.1"),
        (needy, ["despite-needs"], "what depends on it: General preferences, Device presets."),
        (no_space, ["despite-space"], "has 0 bytes free, and about"),
        (
            another_machine,
            ["adopt"],
            "The settings are ivy's on POTTING-SHED, and potting-shed is another machine.",
        ),
        (
            another_user,
            ["other-user"],
            "The settings are ivy's, and at potting-shed they would become fern's.",
        ),
        (
            another_instance,
            ["adopt", "new-instance"],
            "Device presets: bench-east is not at potting-shed, which has bench-far, bench-west.",
        ),
        (
            another_device,
            ["other-device"],
            "bench-east at potting-shed is of the kind 30000, and the profile's of the kind 20417.",
        ),
    ],
)
def test_each_check_has_an_option_of_its_own(kept, prepare, options, says):
    kept.spoil()
    prepare(kept)
    before = kept.places("potting-shed")
    arguments = ("import", "mosslight@1", "--place", "potting-shed")
    told = kept(*arguments, "--preview").out
    assert "Would be refused now:" in told
    others = [f"--{name}" for name in ALL if name != options[-1]]
    why = kept(*arguments, "--yes", *others, code=3).err
    assert why.startswith("Not imported: ") and says in why and f"--{options[-1]}" in why
    assert kept.places("potting-shed") == before
    assert len(kept("list", "--json").json) == 1  # not even a fallback
    objections = kept(*arguments, "--preview", "--json").json["objections"]
    assert [objection["option"] for objection in objections] == options
    kept(*arguments, "--yes", *(f"--{name}" for name in options))
    kept("undo", "--yes", "--while-running", "--any-version", "--despite-needs", "--despite-space")
    assert kept.places("potting-shed") == before


def test_all_that_speaks_against_it_is_said_at_once(kept):
    kept.spoil()
    run_mosslight(kept)
    another_machine(kept)
    why = kept("import", "mosslight@1", "--place", "potting-shed", "--yes", code=3).err
    assert why.count("\nAnd: ") == 1 and "--while-running" in why and "--adopt" in why


def test_what_cannot_be_written_is_left_alone_when_that_is_said(kept):
    kept.spoil()
    arguments = ("import", "mosslight@1", "--place", "potting-shed", "--yes")
    (kept.settings / "devices").chmod(0o555)
    try:
        why = kept(*arguments, code=3, wrapper=without_rights()).err
        assert "bench-east.json cannot be written: no right to write in" in why
        done = kept(*arguments, "--leave-unwritable", code=1, wrapper=without_rights())
    finally:
        (kept.settings / "devices").chmod(0o755)
    assert "bench-east.json: it cannot be written: no right" in done.out
    assert "dusk = 19:30" in kept.ini.read_text()
    assert '"level": 7,' in (kept.settings / "devices/bench-east.json").read_text()


def test_it_waits_until_the_application_has_been_closed(kept):
    kept.spoil()
    run_mosslight(kept)
    command = [*COMMAND, "import", "mosslight@1", "--place", "potting-shed", "--wait", "--yes"]
    waiting = subprocess.Popen(
        command, cwd=kept.path, env=kept.env, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    assert "Waiting until mosslight.exe (process 4312) has been closed" in waiting.stderr.readline()
    # What it saves while it closes is what the plan is made from.
    kept.ini.write_bytes(kept.ini.read_bytes().replace(b"units = metric", b"units = saved at the end"))
    time.sleep(0.7)
    assert waiting.poll() is None and "dusk = 07:30" in kept.ini.read_text()
    kept.edit_workstation("potting-shed", lambda state: state.update(running=[]))
    out, _ = waiting.communicate(timeout=60)
    assert waiting.returncode == 0 and re.search(
        r"is saved at the end, becomes metric|is +saved at the end\n +becomes metric", out
    )
    assert "dusk = 19:30" in kept.ini.read_text()


def test_who_took_over_from_whom_is_remembered(kept):
    done = kept("import", "mosslight@1", "--place", "glasshouse", "--adopt", "--yes")
    assert "Taken over from ivy on POTTING-SHED." in done.out
    change = kept("changes", "--json").json[0]
    assert change["adopted_from"] == "ivy on POTTING-SHED" and change["place_machine"] == "GLASSHOUSE"
    assert "taken over from ivy on POTTING-SHED" in kept("changes").out
    # Nothing is left of it that another machine's version would have to be adopted for at home.
    kept.spoil()
    kept("import", "mosslight@1", "--place", "potting-shed", "--yes")
    assert "adopted_from" not in json.dumps(kept("changes", "2", "--json").json["written"])


CRIPPLED = """
import getpass, platform, sys
for name in sys.argv[1].split(","):
    sys.modules[name] = None
def unknown(*_):
    raise OSError(22, "not told here")
platform.node = platform.release = getpass.getuser = unknown
sys.argv = ["zinker", *sys.argv[2:]]
from zinker.cli.main import run
run()
"""


def crippled(garden, *arguments, code=0):
    """Run the command where processes, names, a keyring and what encrypts cannot be had."""
    done = subprocess.run(
        [sys.executable, "-c", CRIPPLED, "psutil,cryptography,keyring,docx,matplotlib", *arguments],
        cwd=garden.path,
        env=garden.env,
        stdin=subprocess.DEVNULL,
        capture_output=True,
        text=True,
    )
    assert done.returncode == code and "Traceback" not in done.stderr, done
    return done


def test_nothing_optional_ends_a_command(garden):
    """Secrets stay as they are at the place then, and what would lose one is refused."""
    crippled(garden, "places")
    crippled(garden, "export", "mosslight", "--place", "potting-shed", "--label", "a")
    garden.spoil()
    spoiled = garden.places()
    told = crippled(garden, "import", "mosslight@a", "--place", "potting-shed", "--yes")
    assert "Secrets stay as they are at potting-shed: what encrypts cannot be loaded" in told.stderr
    crippled(garden, "compare", "mosslight@a")
    crippled(garden, "undo", "--yes")
    assert garden.places() == spoiled
    crippled(garden, "list", "--output", "list.html")
    assert "zinker[documents]" in crippled(garden, "list", "--output", "list.docx", code=3).stderr
    assert "zinker[charts]" in crippled(garden, "history", "mosslight", "--output", "x.png", code=3).stderr
    crippled(garden, "check")
    # A setting goes, and its secret would go with it.
    ini = garden.ini.read_bytes()
    garden.ini.write_bytes(ini.replace(b"token = 7f3d-moss-91aa-peat\r\n", b""))
    crippled(garden, "export", "mosslight", "--place", "potting-shed", "--label", "without")
    garden.ini.write_bytes(ini)
    wanted = ("import", "mosslight@without", "--place", "potting-shed", "--exact", "--yes")
    told = crippled(garden, *wanted, code=3)
    assert "mosslight.ini has a secret that would be lost" in told.stderr and garden.ini.read_bytes() == ini
    (garden.path / "ivy.pem").write_text("-----BEGIN PUBLIC KEY-----")
    sealed = ("--place", "potting-shed", "--with-secrets", "--for", "ivy.pem", "--to", "x.zinker")
    assert (
        "Install the package cryptography" in crippled(garden, "export", "mosslight", *sealed, code=3).stderr
    )


@pytest.mark.parametrize("page", ["cp437", "cp850", "cp1252"])
def test_what_a_console_cannot_show_is_escaped(kept, page):
    text = kept.ini.read_bytes() + "[names]\r\nmoss = Späť \u2728 \U0001fab4\r\n".encode()
    kept.ini.write_bytes(text)
    done = subprocess.run(
        [*COMMAND, "compare", "mosslight"],
        cwd=kept.path,
        env=kept.env | {"PYTHONIOENCODING": page, "PYTHONUTF8": "0"},
        capture_output=True,
    )
    assert done.returncode == 1 and not done.stderr
    told = done.stdout.decode(page)
    assert "Spä\\u0165 \\u2728 \\U0001fab4" in told

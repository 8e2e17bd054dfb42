"""Builds the demo garden in a folder."""

import itertools
import json
import shutil
from pathlib import Path

from zinker.demo.hive_writer import Node, interrupted, write_hive
from zinker.formats.registry_values import to_bytes
from zinker.model.errors import Refused, reason

FILES = Path(__file__).parent / "garden_files"
USUAL = "zinker-garden"


def free_folder() -> Path:
    """Return a folder name that is not taken yet: zinker-garden, zinker-garden-2 and so on."""
    names = itertools.chain([USUAL], (f"{USUAL}-{number}" for number in itertools.count(2)))
    return next(Path(name) for name in names if not Path(name).exists())


def build(folder: Path) -> Path:
    """Build the garden; returns its absolute path. Raises `Refused` where something is in the way."""
    if folder.exists() and not (folder.is_dir() and not any(folder.iterdir())):
        raise Refused("No garden built", f"{folder} is there already", "Name a folder that does not exist.")
    try:
        shutil.copytree(FILES, folder, dirs_exist_ok=True, copy_function=shutil.copyfile)
    except (OSError, shutil.Error) as error:
        why = reason(error) if isinstance(error, OSError) and error.errno else "it cannot be written"
        raise Refused("No garden built", f"{folder}: {why}", "Choose another folder.") from None
    try:
        _old_kiosk(folder / "old-kiosk" / "Users" / "sage")
    except OSError as error:
        raise Refused("No garden built", f"{folder}: {reason(error)}", "Choose another folder.") from None
    for keeper in folder.rglob(".gitkeep"):
        keeper.unlink()
    return folder.absolute()


def _old_kiosk(home: Path) -> None:
    """Write what is left of the old ticket kiosk: its user's hive, and the log with the last changes to it."""
    home.mkdir(parents=True)
    root = Node("ROOT")
    till = root.key(r"Software\Tarn Hollow\Brindlepot")
    till.values.append(("Version", *to_bytes("sz", "7.1")))
    prices = till.key("Prices").values
    prices += [("Adult", *to_bytes("dword", 900)), ("Child", *to_bytes("dword", 400))]
    till.key("Receipt").values += [
        ("Footer", *to_bytes("sz", "Mind the newts on your way out")),
        ("Columns", *to_bytes("dword", 42)),
        ("Drawers", *to_bytes("multi_sz", ["front", "tea room"])),
    ]
    till.key("Season passes")
    before = write_hive(root)
    # The price of a grown-up went up on the last day, and the machine stopped before it was in the hive.
    prices[0] = ("Adult", *to_bytes("dword", 980))
    hive, log = interrupted(before, write_hive(root))
    (home / "NTUSER.DAT").write_bytes(hive)
    (home / "NTUSER.DAT.LOG1").write_bytes(log)


def replace(path: Path, old: str, new: str) -> None:
    """Change a text in a file as an application would on saving; line ends stay as they are."""
    data = path.read_bytes()
    if old.encode() not in data:
        raise ValueError(f"{path} does not hold {old!r}")
    path.write_bytes(data.replace(old.encode(), new.encode()))


def spoil(garden: Path) -> None:
    """Do what a wrong click and a save do to Mosslight on the potting shed's workstation."""
    user = garden / "potting-shed" / "Users" / "ivy" / "AppData"
    general = user / "Roaming" / "mosslight" / "mosslight.ini"
    replace(general, "dusk = 19:30", "dusk = 07:30")
    replace(general, "level = 55", "level = 100")
    replace(general, "mist = F7\r\n", "")
    replace(general, "width = 1280", "width = 640")
    replace(user / "Roaming/mosslight/devices/bench-east.json", '"level": 70', '"level": 7')
    (user / "Local/mosslight/artwork/benches/west.svg").unlink()
    replace(garden / "workstations" / "potting-shed.json", '"drip.wav"', '"siren.wav"')


def spoil_both(garden: Path) -> None:
    """Do what somebody does to the lights, and to a rule of the trial tenant, whose service is not running."""
    lights = garden / "potting-shed/Users/ivy/AppData/Roaming/mosslight/mosslight.ini"
    replace(lights, "dusk = 19:30", "dusk = 05:30")
    path = garden / "tenants" / "tarnhollow-trial.json"
    state = json.loads(path.read_bytes())
    rules = state["collections"]["WorkstationRules"].values()
    next(rule for rule in rules if rule["name"] == "Potting benches")["marks"] = ["cold"]
    path.write_text(json.dumps(state), encoding="utf-8")


def click(garden: Path) -> None:
    """Do what moving a slider does to Mosslight on the glasshouse's workstation; it notes its window, too."""
    general = garden / "glasshouse/Users/fern/AppData/Roaming/mosslight/mosslight.ini"
    replace(general, "dusk = 19:30", "dusk = 20:30")
    replace(general, "width = 1024", "width = 1023")


def close_till(garden: Path) -> None:
    """Close Brindlepot on the simulated gate kiosk."""
    path = garden / "workstations" / "gate-kiosk.json"
    state = json.loads(path.read_bytes())
    state["running"] = []
    path.write_text(json.dumps(state, indent=2), encoding="utf-8")


def set_running(garden: Path, running: bool) -> None:
    """Start or close Mosslight on the simulated potting shed."""
    path = garden / "workstations" / "potting-shed.json"
    names = ('"running": []', '"running": [{"number": 4312, "name": "mosslight.exe"}]')
    replace(path, names[not running], names[running])


# What can happen in a garden: what does it, and what is said of it.
_SCENES = {
    "wrong-click": (spoil, "Somebody has clicked about in Mosslight on potting-shed, and saved."),
    "late-dusk": (click, "Fern has moved a slider in Mosslight on glasshouse, and saved."),
    "till-closed": (close_till, "Brindlepot has been closed on gate-kiosk."),
}


def play(home: Path, scene: str) -> str:
    """Let something happen in the garden that a configuration's folder is in; returns what, in a sentence.

    Raises `Refused` where it is in none, or has happened already.
    """
    garden = home.absolute().parent
    what = "Nothing has happened"
    if not (garden / "potting-shed").is_dir() or not (garden / "workstations").is_dir():
        why = f"{garden} is no garden that `zinker demo` has built"
        raise Refused(what, why, "Set ZINKER_HOME as `zinker demo` says, and run this again.")
    act, told = _SCENES[scene]
    try:
        act(garden)
    except (ValueError, OSError):
        why = "the settings there are not as they were built"
        raise Refused(what, why, "Take them back with `zinker undo`, or build another garden.") from None
    return told

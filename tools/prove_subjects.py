"""Proves shipped subject files on the real applications, under Xvfb; run by hand, outside CI.

    python tools/prove_subjects.py [SUBJECT...] [--write docs/subjects.md]

Each application is started in an empty home, so that it writes its own settings, and closed. One setting is
changed, and the application started and closed again. Then: export, wipe the home, start and close the fresh
application, import, start and close it once more. Proven is what the application itself has in its settings
then. Needs Debian's xvfb, openbox, wmctrl, xdotool and dbus; runs as the user 1000, as some refuse root.
"""

import argparse
import os
import pwd
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

from zinker import formats
from zinker.formats.leaves import Edit
from zinker.model.setting import Leaf, text_of
from zinker.stores.file_roots import dialect_of
from zinker.subjects.catalogue import SHIPPED, load_subject

ZINKER = Path(sys.executable).with_name("zinker")
DISPLAY = ":87"
USER = 1000


@dataclass
class Case:
    """An application: its Debian package, how it is started, and the setting that is changed."""

    package: str
    command: list[str]
    part: str
    file: str  # below the home; may hold a star
    address: str
    value: Leaf
    seconds: float = 8
    agree: bool = False  # whether it asks something first that the return key answers


CASES = {
    "geany": Case(
        "geany",
        ["geany"],
        "preferences",
        ".config/geany/geany.conf",
        "/geany/pref_editor_tab_width",
        Leaf("text", "7"),
    ),
    "hexchat": Case(
        "hexchat",
        ["hexchat"],
        "preferences",
        ".config/hexchat/hexchat.conf",
        "//irc_nick1",
        Leaf("text", "fern-of-tarn-hollow"),
    ),
    "transmission": Case(
        "transmission-gtk",
        ["transmission-gtk"],
        "preferences",
        ".config/transmission/settings.json",
        "/alt-speed-down",
        Leaf("int", 77),
        agree=True,
    ),
    "keepassxc": Case(
        "keepassxc",
        ["keepassxc"],
        "preferences",
        ".config/keepassxc/keepassxc.ini",
        "/Security/ClearClipboardTimeout",
        Leaf("text", "23"),
    ),
    "qbittorrent": Case(
        "qbittorrent",
        ["qbittorrent"],
        "preferences",
        ".config/qBittorrent/qBittorrent.conf",
        "/BitTorrent/Session\\MaxConnections",
        Leaf("text", "321"),
        agree=True,
    ),
    "kate": Case(
        "kate",
        ["kate"],
        "preferences",
        ".config/katerc",
        "/General/Show Full Path in Title",
        Leaf("text", "true"),
    ),
    "okular": Case(
        "okular", ["okular"], "window", ".config/okularrc", "/General/ShowTabBar", Leaf("text", "true")
    ),
    "remmina": Case(
        "remmina",
        ["remmina"],
        "preferences",
        ".config/remmina/remmina.pref",
        "/remmina_pref/scroll_horizontal",
        Leaf("text", "3"),
    ),
    "pidgin": Case(
        "pidgin",
        ["pidgin"],
        "preferences",
        ".purple/prefs.xml",
        '/pref/pref[@name="purple"]/pref[@name="away"]/pref[@name="mins_before_away"]/@value',
        Leaf("text", "9"),
    ),
    "firefox": Case(
        "firefox-esr",
        ["firefox-esr", "--headless"],
        "preferences",
        ".config/mozilla/firefox/*.default-esr/prefs.js",
        "/browser.tabs.warnOnClose",
        Leaf("text", "true"),
        15,
    ),
    "thunderbird": Case(
        "thunderbird",
        ["thunderbird", "--headless"],
        "preferences",
        ".thunderbird/*.default-*/prefs.js",
        "/mail.compose.max_recycled_windows",
        Leaf("text", "3"),
        15,
    ),
    "libreoffice": Case(
        "libreoffice-calc",
        ["soffice", "--calc", "--norestore", "--nologo"],
        "preferences",
        ".config/libreoffice/4/user/registrymodifications.xcu",
        '/oor:items/item[@oor:path="~1org.openoffice.Office.Calc~1Input" and prop~1@oor:name="MoveSelection"]'
        '/prop[@oor:name="MoveSelection"]/value',
        Leaf("text", "false"),
        25,
    ),
    "featherpad": Case(
        "featherpad",
        ["featherpad"],
        "preferences",
        ".config/featherpad/fp.conf",
        "/text/textTabSize",
        Leaf("text", "7"),
    ),
    "speedcrunch": Case(
        "speedcrunch",
        ["speedcrunch"],
        "preferences",
        ".config/SpeedCrunch/SpeedCrunch.ini",
        "/SpeedCrunch/Format\\Precision",
        Leaf("text", "5"),
    ),
    "lxterminal": Case(
        "lxterminal",
        ["lxterminal"],
        "preferences",
        ".config/lxterminal/lxterminal.conf",
        "/general/scrollback",
        Leaf("text", "1234"),
    ),
    "qterminal": Case(
        "qterminal",
        ["qterminal"],
        "preferences",
        ".config/qterminal.org/qterminal.ini",
        "/General/HideTabBarWithOneTab",
        Leaf("text", "true"),
    ),
    "xournalpp": Case(
        "xournalpp",
        ["xournalpp"],
        "preferences",
        ".config/xournalpp/settings.xml",
        '/settings/property[@name="zoomStep"]/@value',
        Leaf("text", "12.00000000"),
    ),
    "homebank": Case(
        "homebank",
        ["homebank"],
        "preferences",
        ".config/homebank/preferences",
        "/General/TxnMemoAcpDays",
        Leaf("text", "100"),
    ),
    "sqlitebrowser": Case(
        "sqlitebrowser",
        ["sqlitebrowser"],
        "preferences",
        ".config/sqlitebrowser/sqlitebrowser.conf",
        "/databrowser/indent_compact",
        Leaf("text", "true"),
    ),
    "kdiff3": Case(
        "kdiff3",
        ["kdiff3"],
        "preferences",
        ".config/kdiff3rc",
        "/KDiff3 Options/AutoAdvanceDelay",
        Leaf("text", "700"),
    ),
    "smplayer": Case(
        "smplayer",
        ["smplayer"],
        "preferences",
        ".config/smplayer/smplayer.ini",
        "/General/seeking1",
        Leaf("text", "17"),
    ),
    "geeqie": Case(
        "geeqie",
        ["geeqie"],
        "preferences",
        ".config/geeqie/geeqierc.xml",
        "/gq/global/@dnd_icon_size",
        Leaf("text", "64"),
    ),
    "cherrytree": Case(
        "cherrytree",
        ["cherrytree"],
        "preferences",
        ".config/cherrytree/config.cfg",
        "/state/nodes_on_node_name_header",
        Leaf("text", "5"),
    ),
    "gwenview": Case(
        "gwenview",
        ["gwenview"],
        "preferences",
        ".config/gwenviewrc",
        "/SideBar/IsVisible BrowseMode",
        Leaf("text", "false"),
        10,
    ),
    "dolphin": Case(
        "dolphin",
        ["dolphin"],
        "preferences",
        ".config/dolphinrc",
        "/General/ShowFullPath",
        Leaf("text", "true"),
        10,
    ),
    "konsole": Case(
        "konsole",
        ["konsole"],
        "preferences",
        ".config/konsolerc",
        "/KonsoleWindow/ShowMenuBarByDefault",
        Leaf("text", "false"),
        10,
    ),
    "quodlibet": Case(
        "quodlibet",
        ["quodlibet"],
        "preferences",
        ".config/quodlibet/config",
        "/player/replaygain_mode",
        Leaf("text", "track"),
    ),
    "desktop-xfce": Case(
        "xfconf",
        ["sh", "-c", "xfconf-query -c xsettings -p /Fern -n -t int -s 1; sleep 3"],
        "settings",
        ".config/xfce4/xfconf/xfce-perchannel-xml/xsettings.xml",
        '/channel/property[@name="Net"]/property[@name="ThemeName"]/@value',
        Leaf("text", "Fern"),
    ),
}


class Home:
    """An empty home folder, and the programs that run in it."""

    def __init__(self, base: Path) -> None:
        self.path, self.own = base / "home", base / "zinker"
        self.env = {"PATH": os.environ["PATH"], "DISPLAY": DISPLAY, "LANG": "C.UTF-8", "HOME": str(self.path)}
        self.wipe()

    def wipe(self) -> None:
        """Leave nothing of the home."""
        shutil.rmtree(self.path, ignore_errors=True)
        self.path.mkdir(parents=True)
        runtime = self.path / ".runtime"
        runtime.mkdir(mode=0o700)
        self.env["XDG_RUNTIME_DIR"] = str(runtime)
        self.give()

    def give(self) -> None:
        """Let everything belong to the user who runs the applications."""
        for path in (self.path, *self.path.rglob("*")):
            os.lchown(path, USER, USER)

    def run(self, case: Case) -> None:
        """Start an application, give it time, close its windows, and see it end."""
        self.give()
        own = [
            "setpriv",
            f"--reuid={USER}",
            f"--regid={USER}",
            "--clear-groups",
            "dbus-run-session",
            "--",
            *case.command,
        ]
        process = subprocess.Popen(
            own,
            env=self.env,
            cwd=self.path,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
        time.sleep(case.seconds / 2)
        if case.agree:
            subprocess.run(["xdotool", "key", "Return"], env=self.env, check=False)
        time.sleep(case.seconds / 2)
        for _ in range(4):
            listed = subprocess.run(
                ["wmctrl", "-l"], env=self.env, capture_output=True, text=True, check=False
            )
            for line in listed.stdout.splitlines():
                subprocess.run(["wmctrl", "-i", "-c", line.split()[0]], env=self.env, check=False)
            time.sleep(2)
            if process.poll() is not None:
                return
        _signal(process.pid, signal.SIGTERM)  # without a window, or with one that only hides
        try:
            process.wait(10)
        except subprocess.TimeoutExpired:
            os.killpg(process.pid, signal.SIGKILL)
            process.wait()

    def zinker(self, *arguments: str) -> subprocess.CompletedProcess[str]:
        """Run the installed command in this home."""
        env = {**self.env, "ZINKER_HOME": str(self.own), "NO_COLOR": "1", "COLUMNS": "100"}
        return subprocess.run([ZINKER, *arguments], env=env, capture_output=True, text=True, check=False)


def _signal(leader: int, number: int) -> None:
    """Signal the application itself: the youngest of its session but the bus."""
    import psutil

    for process in psutil.Process(leader).children(recursive=True):
        if "dbus" not in process.name():
            process.send_signal(number)


def prove(id: str, case: Case, base: Path) -> dict[str, str]:
    """Go through all steps; returns what is to be known about each."""
    subject = load_subject(SHIPPED / f"{id}.subject.toml")
    part = subject.find_part(case.part)
    assert part is not None
    home = Home(base)

    def found() -> tuple[Path | None, Leaf | None]:
        paths = sorted(home.path.glob(case.file), key=lambda path: path.stat().st_mtime)
        if not paths:
            return None, None
        leaves = formats.read(
            part.format or formats.guess(case.file), paths[-1].read_bytes(), dialect_of(part, "")
        )
        return paths[-1], leaves.get(case.address)

    home.run(case)
    path, first = found()
    if path is None:
        return {"result": "it wrote no settings here"}
    data = path.read_bytes()
    format = part.format or formats.guess(path.name)
    path.write_bytes(formats.edit(format, data, [Edit(case.address, case.value)], dialect_of(part, "")))
    home.run(case)
    if found()[1] != case.value:
        return {"result": f"the application itself does not keep the change: {text_of(found()[1])}"}
    exported = home.zinker("export", id)
    if exported.returncode > 1:
        return {"result": f"export: {exported.stderr}"}
    home.wipe()
    home.run(case)
    fresh = found()[1]
    imported = home.zinker("import", id, "--yes", "--any-version")
    home.run(case)
    last = found()[1]
    compared = home.zinker("compare", f"{id}@1")
    count = re.search(r"(\d[\d,]*) settings? (?:differ|is)", compared.stdout)
    total = sum(int(n.replace(",", "")) for n in re.findall(r"([\d,]+) settings?\b", exported.stdout))
    print(exported.stdout, imported.stdout[-600:], imported.stderr, compared.stdout[-1500:], sep="\n")
    return {
        "settings": f"{total:,}",
        "before": text_of(first) or "(not there)",
        "fresh": text_of(fresh) or "(not there)",
        "after": text_of(last),
        "compare": compared.stdout.strip().splitlines()[-1] if compared.stdout.strip() else str(count),
        "result": "proven" if last == case.value != fresh else "NOT proven",
    }


def main() -> None:
    """Prove the subjects named, or all; write the table."""
    parser = argparse.ArgumentParser()
    parser.add_argument("subjects", nargs="*")
    parser.add_argument("--write", type=Path)
    chosen = parser.parse_args()
    screen = subprocess.Popen(
        ["Xvfb", DISPLAY, "-screen", "0", "1280x800x24", "-ac"], stderr=subprocess.DEVNULL
    )
    time.sleep(1)
    manager = subprocess.Popen(["openbox"], env={**os.environ, "DISPLAY": DISPLAY}, stderr=subprocess.DEVNULL)
    rows: dict[str, str] = {}
    try:
        for id in chosen.subjects or list(CASES):
            case = CASES[id]
            with tempfile.TemporaryDirectory(prefix="zinker-proof-") as folder:
                Path(folder).chmod(0o755)
                known = prove(id, case, Path(folder))
            version = subprocess.run(
                ["dpkg-query", "-Wf", "${Version}", case.package], capture_output=True, text=True, check=False
            ).stdout
            print(f"== {id} {version}: {known}", flush=True)
            account = pwd.getpwuid(USER).pw_name
            known = {key: "(the account)" if value == account else value for key, value in known.items()}
            moved = f"{known.get('before', '')} → {text_of(case.value)}"
            cells = [id, f"{case.package} {version}", known.get("settings", ""), f"`{case.address}`", moved]
            cells += [known.get("fresh", ""), known.get("after", ""), known["result"]]
            rows[id] = f"| {' | '.join(cells)} |"
    finally:
        manager.terminate()
        screen.terminate()
    if chosen.write:
        columns = (
            "subject",
            "Debian package",
            "settings",
            "changed",
            "from → to",
            "fresh",
            "after import",
            "",
        )
        head = f"| {' | '.join(columns)} |\n|{'---|' * len(columns)}\n"
        text = chosen.write.read_text(encoding="utf-8")
        table = re.compile(r"<!-- proven -->.*?<!-- end -->", re.S)
        # What was not tried now stands as it was.
        found = table.search(text)
        before = re.findall(r"^\| ([a-z0-9-]+) \| .*\|$", found[0], re.M) if found else []
        known = {id: line for id in before for line in re.findall(rf"^\| {id} \| .*$", text, re.M)}
        lines = "\n".join((known | rows).values())
        written = table.sub(lambda _: f"<!-- proven -->\n{head}{lines}\n<!-- end -->", text)
        chosen.write.write_text(written, encoding="utf-8")


if __name__ == "__main__":
    main()

"""Pictures of the main commands on the demo garden, each a terminal window of 1280 x 800 under Xvfb, cropped.

Needs the Debian packages xvfb, xterm, xdotool, imagemagick and fonts-dejavu-core, for the desktop's settings
database dbus, dconf-service, dconf-cli and libglib2.0-bin, and for pages chromium, libreoffice-writer-nogui and
poppler-utils.
"""

import contextlib
import datetime
import os
import random
import shlex
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import msgspec
from playwright.sync_api import sync_playwright

from zinker.demo.garden import build, close_till, replace, set_running, spoil
from zinker.demo.story import SECRET, serving
from zinker.shelf.record import checked, stamped
from zinker.shelf.versions import Record

COMMAND = Path(sys.executable).with_name("zinker")


DESK_SCHEMA = """<schemalist><schema id="example.tarnhollow.desk.panel" path="/garden/desk/panel/">
  <key name="size" type="u"><default>32</default></key>
  <key name="position" type="s"><default>'top'</default></key>
  <key name="items" type="as"><default>['clock', 'weather']</default></key>
</schema></schemalist>"""


def desk(garden: Path) -> str:
    """Prepare a desktop of layers; returns the variables that lead programs to it, for a shell."""
    folder = garden / "desk"
    (folder / "site.d/locks").mkdir(parents=True)
    (folder / "run").mkdir(mode=0o700)
    (folder / "site.d/00").write_text("[garden/desk/panel]\nsize=uint32 40\nposition='bottom'\n")
    (folder / "site.d/locks/00").write_text("/garden/desk/panel/position\n")
    (folder / "profile").write_text(f"user-db:user\nfile-db:{folder}/site\n")
    (folder / "garden.gschema.xml").write_text(DESK_SCHEMA)
    subprocess.run(["dconf", "compile", folder / "site", folder / "site.d"], check=True)
    subprocess.run(["glib-compile-schemas", folder], check=True)
    return (
        f"XDG_CONFIG_HOME={folder}/config XDG_RUNTIME_DIR={folder}/run DCONF_PROFILE={folder}/profile "
        f"GSETTINGS_SCHEMA_DIR={folder}"
    )


class Screen:
    """A virtual screen, and terminals on it that run one command each in the garden."""

    def __init__(self, garden: Path, folder: Path) -> None:
        self._garden, self._folder = garden, folder
        read, write = os.pipe()
        command = ["Xvfb", "-displayfd", str(write), "-screen", "0", "1280x800x24", "-nolisten", "tcp"]
        self._server = subprocess.Popen(command, pass_fds=[write], stderr=subprocess.DEVNULL)
        os.close(write)
        with os.fdopen(read) as answer:
            display = f":{answer.readline().strip()}"
        own = {key: value for key, value in os.environ.items() if key not in ("NO_COLOR", "COLUMNS")}
        self._env = {
            **own,
            "DISPLAY": display,
            "ZINKER_HOME": str(garden / "zinker-home"),
            "ZINKER_SECRET_TRIAL": SECRET,
            "LC_ALL": "C.UTF-8",
            "TERM": "xterm-256color",
            "PAGER": "cat",
        }

    def shot(self, name: str, *commands: str, typed: str = "") -> None:
        """Run commands in a terminal and take its picture; after the keys that are `typed`, if they ask."""
        done = self._garden / "shot-done"
        done.unlink(missing_ok=True)
        script = []
        for command in commands:
            told = f"printf '\\033[1m$ %s\\033[0m\\n' {shlex.quote(command)}"
            script += [*([told] if not command.startswith("env ") else []), command, "echo"]
        hide = "printf '\\033[?25l'" if not typed else ":"
        body = "\n".join([hide, *script, f"touch {done}", "sleep 60"])
        looks = shlex.split("-tn xterm-256color -bw 0 -b 4 -fs 10 -geometry 158x46+0+0 -bg white -fg black")
        path = f"{COMMAND.parent}:{os.environ['PATH']}"
        terminal = subprocess.Popen(
            ["xterm", "-fa", "DejaVu Sans Mono", *looks, "-e", "sh", "-c", body],
            cwd=self._garden,
            env={**self._env, "PATH": path},
        )
        try:
            for _ in range(300 if not typed else 20):
                if done.exists():
                    break
                time.sleep(0.1)
            if typed:
                keys = ["xdotool", "key", "--delay", "100", *typed.split()]
                subprocess.run(keys, env=self._env, check=True)
                time.sleep(1.5)
            time.sleep(0.5)
            picture = self._folder / f"{name}.png"
            shoot = ["import", "-window", "root", "-depth", "8", str(picture)]
            subprocess.run(shoot, env=self._env, check=True)
            # Only what there is to see: beyond the terminal lies the bare screen.
            cropped = ["-crop", "1272x800+0+0", "-trim", "-bordercolor", "white", "-border", "10", "+repage"]
            subprocess.run(["convert", str(picture), *cropped, str(picture)], check=True)
        finally:
            terminal.kill()
            terminal.wait()
            done.unlink(missing_ok=True)
        print(picture)

    def unseen(self, *arguments: str, ends: int = 0) -> None:
        """Run the command without a picture."""
        run = [str(COMMAND), *arguments]
        done = subprocess.run(run, cwd=self._garden, env=self._env, stdout=subprocess.DEVNULL)
        if done.returncode != ends:
            raise SystemExit(f"{arguments} ended with {done.returncode}")

    def close(self) -> None:
        """Switch the screen off."""
        self._server.terminate()
        self._server.wait()


def _move(screen: Screen) -> None:
    some = "--crosswalk move.crosswalk.toml --adopt --address '*lamps*' --address /general"
    screen.shot(
        "new-machine",
        "zinker crosswalk new potting-shed glasshouse --subject mosslight --to move.crosswalk.toml",
        "sed -n '6,9p' move.crosswalk.toml",
        f"zinker import stick/*.zinker --place glasshouse {some} --yes",
    )


def _tenants(screen: Screen, garden: Path) -> None:
    with serving(garden):
        screen.unseen("export", "garden-tenant", "--place", "trial", "--label", "agreed")
        screen.shot(
            "tenants",
            f"export ZINKER_SECRET_TRIAL='{SECRET}' ZINKER_SECRET_TARNHOLLOW='{SECRET}'",
            "zinker compare garden-tenant@agreed tarnhollow:garden-tenant --part house-rules --part programs",
            "zinker import garden-tenant@agreed --place tarnhollow --adopt --part house-rules --preview",
        )


def _choose(screen: Screen, garden: Path) -> None:
    screen.unseen("export", "mosslight", "--place", "potting-shed", "--label", "as-found")
    general = garden / "potting-shed/Users/ivy/AppData/Roaming/mosslight/mosslight.ini"
    replace(general, "dusk = 07:30", "dusk = 22:00")
    replace(general, "level = 80", "level = 70")
    screen.shot(
        "choose",
        "zinker import mosslight@season-start --place potting-shed --choose",
        typed="Down Down Down space Down Down Down Down space Up Up Up",
    )


def _pages(screen: Screen, garden: Path, folder: Path) -> None:
    """Take pictures of a page in a browser, of a document, and of a history."""
    compared = ("compare", "mosslight@season-start", "mosslight@as-found")
    screen.unseen(*compared, "--output", "as-found.html", ends=1)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=["--no-sandbox"])
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto((garden / "as-found.html").as_uri())
        page.screenshot(path=folder / "page.png")
        browser.close()
    print(folder / "page.png")
    screen.unseen("document", "mosslight@season-start", "--output", "mosslight.docx")
    own = f"-env:UserInstallation={(garden / 'office').as_uri()}"
    office = ["soffice", own, "--headless", "--convert-to", "pdf", "mosslight.docx"]
    subprocess.run(office, cwd=garden, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    subprocess.run(
        ["pdftoppm", "-r", "75", "-png", "-l", "2", "mosslight.pdf", "sheet"], cwd=garden, check=True
    )
    sheets = sorted(map(str, garden.glob("sheet-*.png")))
    looks = ["-tile", "2x1", "-geometry", "+6+6", "-background", "#9aa5b1"]
    subprocess.run(["montage", *sheets, *looks, str(folder / "document.png")], check=True)
    print(folder / "document.png")
    _season(screen, garden)
    (folder / "history.png").unlink(missing_ok=True)
    screen.unseen("history", "mosslight", "--output", str(folder / "history.png"))
    print(folder / "history.png")


def _season(screen: Screen, garden: Path) -> None:
    """Keep Mosslight of two places once a week, as if over a season in which people changed this and that."""
    shutil.rmtree(garden / "shelf/subjects/mosslight")
    dice = random.Random(4)
    homes = [("potting-shed", "ivy"), ("glasshouse", "fern")]
    for week in range(26):
        for place, user in homes:
            ini = garden / place / f"Users/{user}/AppData/Roaming/mosslight/mosslight.ini"
            for number in range(dice.choice((0, 0, 0, 1, 2, 5)) if week else 3):
                ini.write_bytes(ini.read_bytes() + b"[bench%d]\r\nlevel = %d\r\n" % (week * 9 + number, week))
            lines = ini.read_bytes().splitlines(keepends=True)
            for _ in range(dice.choice((0, 1, 2, 4))):
                at = dice.randrange(len(lines))
                if lines[at].startswith(b"level = "):
                    lines[at] = b"level = %d\r\n" % dice.randrange(100)
            if week in (9, 17):
                lines = lines[:-6]
            ini.write_bytes(b"".join(lines))
            named = ("--label", "winter-plan") if week == 17 and place == "glasshouse" else ()
            screen.unseen("export", "mosslight", "--place", place, "--part", "general", "--again", *named)
    folder = garden / "shelf/subjects/mosslight"
    first = datetime.datetime(2026, 5, 4, 18, tzinfo=datetime.UTC)
    for number in range(1, 26 * len(homes) + 1):
        record = checked((folder / f"{number}.json").read_bytes(), Record)
        day = first + datetime.timedelta(weeks=(number - 1) // 2, hours=number % 2)
        about = msgspec.structs.replace(record.profile, captured=day.isoformat())
        (folder / f"{number}.json").write_bytes(stamped(msgspec.structs.replace(record, profile=about)))
    (folder / "index.json").unlink(missing_ok=True)


def _spot(screen: Screen, garden: Path) -> None:
    ini = "glasshouse/Users/fern/AppData/Roaming/mosslight/mosslight.ini"
    (garden / "click.sh").write_text(
        f"sleep 1.5; sed -i 's/units = metric/units = feet/' {ini}\n"
        f"sleep 2; sed -i 's/units = feet/units = ells/; 0,/dusk = .*/s//dusk = 21:00/' {ini}\n"
    )
    screen.shot(
        "spot",
        "sh click.sh & zinker spot mosslight --place glasshouse --still 2.5 --for 2.5 --label late-dusk",
    )


@contextlib.contextmanager
def _home() -> Iterator[Path]:
    """Yield a folder for the garden with a name that a picture can show, and remove it afterwards."""
    for home in (Path("/home/ivy"), Path.home() / "ivy"):
        with contextlib.suppress(OSError):
            home.mkdir()
            try:
                yield home
            finally:
                shutil.rmtree(home)
            return
    raise SystemExit("neither /home/ivy nor ~/ivy can be made for the pictures")


def main() -> None:
    """Take all pictures, in the order of the work."""
    folder = Path(sys.argv[1]).absolute()
    folder.mkdir(parents=True, exist_ok=True)
    with _home() as home:
        garden = build(home / "garden")
        screen = Screen(garden, folder)
        try:
            screen.shot("help", "zinker --help")
            screen.shot(
                "subjects",
                "zinker places",
                "zinker subjects show mosslight --place potting-shed",
            )
            screen.shot(
                "export",
                "zinker export mosslight --place potting-shed --label season-start",
                "zinker export brindlepot --place gate-kiosk",
            )
            spoil(garden)
            screen.shot("compare", "zinker compare mosslight")
            screen.shot("preview", "zinker import mosslight@season-start --place potting-shed --preview")
            set_running(garden, True)
            screen.shot(
                "refusal",
                "zinker import mosslight@season-start --place potting-shed --yes",
                "zinker import mosslight@season-start --place potting-shed --while-running < /dev/null | tail -1",
                "zinker export moslight",
                "zinker show mosslight@winter",
                "zinker copy mosslight@1 --to whole.zinker > /dev/null; head -c 2000 whole.zinker > half.zinker",
                "zinker import half.zinker",
            )
            set_running(garden, False)
            screen.shot(
                "import",
                "zinker import mosslight@season-start --place potting-shed --part general --yes",
                "zinker undo --yes",
                "zinker undo 1 --yes",
            )
            screen.unseen("export", "mosslight@season-start", "--to", "stick")
            _move(screen)
            screen.shot(
                "secrets",
                "zinker show potting-shed:mosslight --secrets",
                "export ZINKER_PASSPHRASE='a quiet heron by the pond'",
                "zinker export mosslight --place potting-shed --part general --with-secrets --to sealed.zinker",
                "zinker import sealed.zinker --place glasshouse --with-secrets --adopt --yes",
                "sed -n 's/^token *=.*/token = (it is there)/p' glasshouse/Users/*/AppData/Roaming/mosslight/*.ini",
            )
            close_till(garden)
            screen.shot(
                "registry",
                "zinker export brindlepot --place old-kiosk --label last-day   # the disk of a dead machine",
                "zinker import brindlepot@last-day --place gate-kiosk --adopt --yes",
                "zinker export brindlepot@last-day --to till.reg; iconv -f utf-16 till.reg | head -9",
            )
            (garden / "desk.sh").write_text(
                "dconf write /garden/desk/panel/size 'uint32 64'\n"
                "dconf write /garden/desk/background/picture \"'ferns.png'\"\n"
                "for command in 'show here:garden-desk' 'reset garden-desk --yes' 'show here:garden-desk'\n"
                "do printf '\\033[1m$ zinker %s\\033[0m\\n' \"$command\"; zinker $command; echo\ndone\n"
            )
            screen.shot("desktop", f"env {desk(garden)} dbus-run-session -- sh desk.sh 2>/dev/null")
            for number in (1, 2):
                ini = garden / "potting-shed/Users/ivy/AppData/Roaming/mosslight/mosslight.ini"
                ini.write_bytes(ini.read_bytes() + b"[notes]\r\nseen = %d\r\n" % number)
                screen.unseen("export", "mosslight", "--place", "potting-shed")
            screen.shot(
                "list",
                "zinker list mosslight",
                "zinker copy --to stick/shelf | tail -2",
                "zinker thin mosslight --newest 1 --preview",
                "find shelf/objects -size -2 | head -1 | xargs truncate -s -9   # a bad sector",
                "zinker check --from stick/shelf",
            )
            _choose(screen, garden)
            _spot(screen, garden)
            _tenants(screen, garden)
            screen.shot(
                "changes",
                "zinker changes --place glasshouse",
                "zinker changes 3",
                "zinker history mosslight --find dusk --place potting-shed",
            )
            _pages(screen, garden, folder)
        finally:
            screen.close()


if __name__ == "__main__":
    main()

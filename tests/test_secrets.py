"""Secrets: in no profile, no report, no message, and never lost."""

import json
import re
import zipfile

import pytest

SUBJECT = """
format = 1
id = "fernpost"
title = "Fernpost"

[[part]]
id = "accounts"
store = "file"
path = "{config}/fernpost/accounts.json"
secret = ["/*/key", "/tokens/*", "/vault"]

[[part]]
id = "mail"
store = "file"
path = "{config}/fernpost/mail.ini"
secret = ["/server/password"]

[[part]]
id = "door"
store = "registry"
path = 'HKEY_CURRENT_USER\\Software\\Tarn Hollow\\Fernpost'
secret = ["/Code"]
"""
SECRETS = [
    "k-mild-otter",
    "t-one-heron",
    "t-two-heron",
    "v-deep-newt",
    "p-sly-moth",
    "p-second-moth",
    "4711-gate",
]
BRANCH = r"HKEY_CURRENT_USER\Software\Tarn Hollow\Fernpost"


@pytest.fixture
def fernpost(garden):
    (garden.path / "subjects/fernpost.subject.toml").write_text(SUBJECT)
    folder = garden.path / "potting-shed/Users/ivy/AppData/Roaming/fernpost"
    folder.mkdir()
    accounts = {
        "ivy": {"key": SECRETS[0], "name": "Ivy"},
        "tokens": SECRETS[1:3],
        "vault": {"inner": {"x": SECRETS[3]}},
    }
    (folder / "accounts.json").write_text(json.dumps(accounts, indent=2))
    (folder / "mail.ini").write_text(
        f"[server]\nhost=a.example\npassword = {SECRETS[4]}\npassword={SECRETS[5]}\n"
    )
    keys = {BRANCH: {"Code": ["sz", SECRETS[6]], "Door": ["dword", 1]}}
    garden.edit_workstation("potting-shed", lambda s: s["registry"]["keys"].update(keys))
    garden.folder = folder
    return garden


def everything_zinker_keeps(garden):
    """All bytes below the shelf and Zinker's own folder, unpacked."""
    for root in ("shelf", "zinker-home"):
        for path in (garden.path / root).rglob("*"):
            if path.suffix == ".zinker":
                with zipfile.ZipFile(path) as profile:
                    yield from (profile.read(name) for name in profile.namelist())
            elif path.is_file():
                yield path.read_bytes()


def test_no_secret_is_anywhere_but_where_it_was(fernpost):
    said = [fernpost("export", "fernpost", "--place", "potting-shed")]
    said.append(fernpost("show", "potting-shed:fernpost", "--json"))
    said.append(fernpost("show", "fernpost"))
    (fernpost.folder / "mail.ini").write_text(
        f"[server]\nhost=b.example\npassword = {SECRETS[4]}\npassword=new-moth\n"
    )
    said.append(fernpost("compare", "fernpost", code=1))
    said.append(fernpost("import", "fernpost", "--place", "potting-shed", "--yes", "--json"))
    said.append(fernpost("undo", "--yes", "--json"))
    said.append(fernpost("import", "fernpost", "--place", "glasshouse", "--yes"))
    for secret in [*SECRETS, "new-moth"]:
        assert not any(secret in run.out + run.err for run in said), secret
        assert not any(secret.encode() in content for content in everything_zinker_keeps(fernpost)), secret
    shown = {s["address"]: s for s in said[1].json["settings"]}
    withheld = {address for address, setting in shown.items() if setting["type"] == "withheld"}
    assert withheld == {
        "/ivy/key",
        "/tokens",
        "/vault/inner/x",
        "/server/password",
        "/server/password/2",
        "/Code",
    }


def test_compare_tells_that_a_secret_changed_but_not_what_it_is(fernpost):
    fernpost("export", "fernpost", "--place", "potting-shed")
    fernpost("compare", "fernpost")
    path = fernpost.folder / "accounts.json"
    path.write_text(path.read_text().replace("k-mild-otter", "k-wild-otter"))
    out = fernpost("compare", "fernpost", code=1).out
    assert re.search(r"changed +/ivy/key +was withheld, now withheld", out) and "otter" not in out
    # With another key the fingerprints mean nothing, and that is said.
    (fernpost.home / "fingerprint-key").unlink()
    found = fernpost("compare", "fernpost", "--json", code=1).json
    assert found["differences"] == [] and len(found["not_compared"]) == 6
    assert (fernpost.home / "fingerprint-key").stat().st_mode & 0o077 == 0


def test_an_import_keeps_the_secrets_the_place_has(fernpost):
    fernpost("export", "fernpost", "--place", "potting-shed")
    changed = f"[server]\nhost=b.example\npassword = {SECRETS[4]}\npassword=newer-moth\n"
    (fernpost.folder / "mail.ini").write_text(changed)
    fernpost("import", "fernpost", "--place", "potting-shed", "--yes")
    assert (fernpost.folder / "mail.ini").read_text() == changed.replace("b.example", "a.example")
    fernpost("undo", "--yes")
    assert (fernpost.folder / "mail.ini").read_text() == changed


def test_undo_does_not_throw_away_a_secret_that_was_entered_since(fernpost):
    fernpost("export", "fernpost", "--place", "potting-shed")
    fernpost("import", "fernpost", "--place", "glasshouse", "--yes", "--without", "door")
    new = fernpost.path / "glasshouse/Users/fern/AppData/Roaming/fernpost"
    assert json.loads((new / "accounts.json").read_text())["ivy"] == {"key": "", "name": "Ivy"}
    entered = (new / "mail.ini").read_text().replace("password = \n", "password = entered-by-hand\n")
    (new / "mail.ini").write_text(entered)
    done = fernpost("undo", "--yes", code=1)
    assert "it holds a secret by now, which removing it would lose" in done.out
    assert (new / "mail.ini").read_text() == entered and not (new / "accounts.json").exists()

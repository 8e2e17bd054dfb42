"""A sealed shelf: nobody reads it without a key, whatever is changed there is found, and keys can be changed."""

import base64
import io
import json
import random
import re
import shutil
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from conftest import Garden
from hypothesis import given
from hypothesis import strategies as st
from object_stand import PHRASE, S3, Between, sealed, shelved
from test_shared import AT

from zinker.shelf.cipher import PIECE, Cipher, opened
from zinker.shelf.storage import FolderStorage, Forged

KEY = bytes(range(32))
KILLING = Path(__file__).parent / "killing"


@pytest.fixture
def garden(tmp_path):
    return sealed(Garden(tmp_path / "garden"))


def everything(garden):
    return {path: path.read_bytes() for path in (garden.path / "shelf").rglob("*") if path.is_file()}


def unseal(folder, phrase, target):
    """Write all of a sealed shelf in the clear, by what docs/shelf.md says, with another library."""
    from Crypto.Cipher import AES
    from Crypto.Hash import SHA256, SHA512
    from Crypto.Protocol.KDF import HKDF, PBKDF2

    def bits(text):
        return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))

    token = json.loads(json.loads((folder / "seal/1.json").read_text())["sealed"])
    header = token["header"]
    assert header["alg"] == "PBES2-HS512+A256KW" and json.loads(bits(token["protected"])) == {
        "enc": "A256GCM"
    }
    salt = header["alg"].encode() + b"\0" + bits(header["p2s"])
    wrapping = PBKDF2(phrase, salt, 32, header["p2c"], hmac_hash_module=SHA512)
    content = AES.new(wrapping, AES.MODE_KW).unseal(bits(token["encrypted_key"]))
    gcm = AES.new(content, AES.MODE_GCM, nonce=bits(token["iv"])).update(token["protected"].encode())
    key = gcm.decrypt_and_verify(bits(token["ciphertext"]), bits(token["tag"]))
    names = HKDF(key, 64, b"", SHA256, context=b"zinker names")

    def walk(there, plain):
        for path in sorted(there.iterdir()):
            name = path.name
            if plain or name not in ("objects", "subjects", "changes"):
                if not plain and name in ("seal", "writing", ".lock"):
                    continue
                data = bytes.fromhex(name)
                siv = AES.new(names, AES.MODE_SIV).update(plain.encode())
                name = siv.decrypt_and_verify(data[16:], data[:16]).decode()
            whole = f"{plain}/{name}" if plain else name
            if path.is_dir():
                (target / whole).mkdir(parents=True)
                walk(path, whole)
                continue
            data = path.read_bytes()
            assert data[:16] == b"zinker sealed 1\n"
            own = HKDF(key, 32, data[16:32], SHA256, context=b"zinker file " + whole.encode())
            pieces = [data[at : at + PIECE + 16] for at in range(32, len(data), PIECE + 16)]
            with (target / whole).open("wb") as file:
                for number, piece in enumerate(pieces):
                    nonce = number.to_bytes(11, "big") + bytes([number == len(pieces) - 1])
                    cipher = AES.new(own, AES.MODE_GCM, nonce=nonce)
                    file.write(cipher.decrypt_and_verify(piece[:-16], piece[-16:]))

    target.mkdir()
    walk(folder, "")


def test_nothing_of_it_is_readable_without_the_key_and_all_of_it_is_with_one(garden, tmp_path):
    garden("export", "mosslight", *AT, "--label", "season-start", "--note", "before the frost")
    large = garden.data / "artwork/benches/large.bin"
    large.write_bytes(random.Random(3).randbytes(3 * PIECE))
    garden.spoil()
    garden("import", "mosslight@1", *AT, "--yes")
    garden("undo", "--yes")
    garden("export", "mosslight", *AT, "--label", "as-found")
    shown = garden("list", "--json").json
    assert [one.get("label") for one in shown] == ["season-start", "before change 1", "as-found"] or shown
    unseal(garden.path / "shelf", PHRASE["ZINKER_SECRET_SEAL"], tmp_path / "plain")
    digests = [path.name.partition(".")[0] for path in (tmp_path / "plain/objects").rglob("*.zst")]
    words = [
        "mosslight",
        "season-start",
        "before the frost",
        "ivy",
        "POTTING",
        "dusk",
        "F7",
        "sha256",
        *digests,
    ]
    for path, data in everything(garden).items():
        told = str(path.relative_to(garden.path / "shelf")).encode() + b"\n" + data
        # What says how it is opened has a digest of its own.
        assert not [w for w in words if w.encode() in told and (len(w) > 3 and path.parent.name != "seal")], (
            path
        )
    # What another library has opened is the shelf.
    own = sealed(Garden(tmp_path / "other"), "")
    shutil.copytree(tmp_path / "plain", own.path / "shelf")
    assert own("list", "--json").json == shown and len(digests) > 10
    assert own("check").code == 0
    changes = garden("changes", "--json").json
    assert own("changes", "--json").json == changes and len(changes) == 2
    # A stranger is told so, and nothing is written.
    before = everything(garden)
    sealed(garden, "")
    assert "is sealed\n" in garden("list", code=3).err
    assert "is sealed\n" in garden("export", "mosslight", *AT, code=3).err
    wrong = sealed(garden)("list", code=3, env={"ZINKER_SECRET_SEAL": "three quiet fern"}).err
    assert "the passphrase does not open" in wrong
    assert "not in ZINKER_SECRET_SEAL" in garden("list", code=3, env={"ZINKER_SECRET_SEAL": ""}).err
    assert everything(garden) == before
    assert garden("seal", code=3, env={"ZINKER_SECRET_SEAL": ""}).out.count("passphrase") >= 1


@given(
    st.lists(
        st.text(st.characters(exclude_characters="/", exclude_categories=["Cs"]), min_size=1), min_size=1
    )
)
def test_names_come_back_and_belong_to_their_folder(parts):
    cipher, name = Cipher(KEY), "/".join(parts)
    there = cipher.name(name).split("/")
    plain = [cipher.plain("/".join(parts[:at]), own) for at, own in enumerate(there)]
    assert plain == parts and cipher.name(name) == "/".join(there)
    with pytest.raises(Forged):
        cipher.plain("subjects/elsewhere", there[-1] if len(parts) > 1 else "objects")


@pytest.mark.parametrize("size", [0, 1, PIECE - 1, PIECE, PIECE + 1, 3 * PIECE])
def test_whatever_is_changed_in_a_file_is_found(size):
    dice, cipher = random.Random(size), Cipher(KEY)
    data = dice.randbytes(size)
    there = cipher.encrypted("objects/ab/x", data)
    assert opened(cipher, "objects/ab/x", io.BytesIO(there)).read() == data
    piece = PIECE + 16
    changed = [
        bytes(there[:at]) + bytes([there[at] ^ 1 << dice.randrange(8)]) + there[at + 1 :]
        for at in {*range(48), *dice.sample(range(len(there)), min(40, len(there))), len(there) - 1}
    ]
    cut = [there[:at] for at in {0, 15, 31, 32, len(there) - 1, *range(32, len(there), piece)}]
    swapped = (
        there[:32] + there[32 + piece : 32 + 2 * piece] + there[32 : 32 + piece] + there[32 + 2 * piece :]
    )
    others = [swapped] if size > 2 * PIECE else []
    for bad in [*changed, *cut, *others, there + b"\0", there + there[32:]]:
        if bad != there:
            with pytest.raises(Forged):
                opened(cipher, "objects/ab/x", io.BytesIO(bad)).read()
    for name, key in (("objects/ab/y", KEY), ("objects/ab/x", KEY[::-1])):
        with pytest.raises(Forged):
            opened(Cipher(key), name, io.BytesIO(there)).read()


@pytest.mark.soak
def test_two_keys_open_it_so_that_one_can_be_changed(garden):
    told = garden("export", "mosslight", *AT, "--label", "x").err
    assert "A new sealed shelf has been made" in told
    added = garden("seal", "add", "--key-file", "own/garden.key")
    assert "key 2 opens the shelf now" in added.out and "Keep it elsewhere, too" in added.err
    again = garden("seal", "add", "--key-file", "own/garden.key", code=3).err
    assert "it opens the shelf already, as key 2" in again
    file = garden.path / "own/garden.key"
    assert file.stat().st_mode & 0o077 == 0 and str(garden.path / "shelf") in file.read_text()
    sealed(garden, "../own/garden.key")
    del garden.env["ZINKER_SECRET_SEAL"]
    keys = garden("seal", "--json").json["keys"]
    assert [(one["kind"], one["in_use"]) for one in keys] == [("passphrase", False), ("key file", True)]
    refused = garden("seal", "remove", "1", code=3)
    assert "--yes was not given" in refused.err and "passphrase" in refused.out
    assert "zinker.toml" not in garden("seal", "remove", "1", "--yes").out
    assert "it is the last one" in garden("seal", "remove", "2", "--yes", code=3).err
    assert "there is no key 7" in garden("seal", "remove", "7", "--yes", code=2).err
    assert garden("show", "mosslight@x", "--find", "dusk").out
    sealed(garden)
    assert "the passphrase does not open" in garden("list", code=3).err
    # Typed in again from paper, by somebody who writes small and takes a zero for an O.
    letters = re.search("zinker-key (.*)\n", file.read_text())[1]
    paper = letters.lower().replace("-", " ").replace("o", "0")
    file.unlink()
    sealed(garden, "../own/typed.key")
    assert "typed.key is not there" in garden("list", code=3).err
    typed = garden.path / "own/typed.key"
    typed.write_text(f"zinker-key {paper}\n")
    assert "chmod 600" in garden("list", code=3).err
    typed.chmod(0o600)
    assert "mosslight" in garden("list").out
    typed.write_text(f"zinker-key {paper[:-1]}{'a' if paper[-1] != 'a' else 'b'}\n")
    assert "one of them is mistyped" in garden("list", code=3).err
    # One more passphrase; a short one is refused.
    typed.write_text(f"zinker-key {paper}\n")
    short = garden("seal", "add", code=3, env={"ZINKER_SECRET_NEW_SEAL": "fern"}).err
    assert "soon guessed" in short
    assert "no terminal to ask" in garden("seal", "add", code=2).err
    garden("seal", "add", env={"ZINKER_SECRET_NEW_SEAL": "four louder ferns"})
    sealed(garden)
    other = {"ZINKER_SECRET_SEAL": "four louder ferns"}
    assert "mosslight" in garden("list", env=other).out
    assert "name another one there" in garden("seal", "remove", "3", "--yes", env=other).out
    assert "does not open" in garden("list", code=3, env=other).err


def test_a_passphrase_is_asked_for_at_a_terminal(garden):
    refused = sealed(garden, "pasphrase")("export", "mosslight", *AT, code=2).err
    assert "neither passphrase nor a path" in refused and not (garden.home / "pasphrase").exists()
    sealed(garden)
    garden.env["ZINKER_SECRET_SEAL"] = ""
    new = [("New passphrase", "three quiet ferns\n"), ("Repeat", "three quiet ferns\n")]
    out, code = garden.at_terminal("export", "mosslight", *AT, answers=new)
    assert code == 0 and "Kept as mosslight@1" in out
    out, code = garden.at_terminal("list", answers=[("Passphrase", "three quiet ferns\n")])
    assert code == 0 and "@1" in out
    assert garden("list", env=PHRASE).code == 0


def test_a_shelf_in_the_clear_is_never_taken_for_a_sealed_one(garden):
    """Whoever has the storage could put one there, and read what is kept from then on."""
    sealed(garden, "")("export", "mosslight", *AT)
    before = everything(garden)
    refused = sealed(garden)("export", "brindlepot", "--place", "gate-kiosk", code=3).err
    assert "is a shelf that is not sealed" in refused and "copy --from" in refused
    assert everything(garden) == before
    # By way of a new one it becomes one, and back.
    toml = garden.home / "zinker.toml"
    toml.write_text(toml.read_text().replace('"../shelf"', '"../sealed"'))
    garden("copy", "--from", "shelf")
    assert garden("list", "--json").json and (garden.path / "sealed/seal/1.json").exists()
    sealed(garden, "")
    toml.write_text(toml.read_text().replace('"../sealed"', '"../shelf"'))
    garden("copy", "--to", "other", "--sealed")
    assert (garden.path / "other/seal/1.json").exists() and not list((garden.path / "other").glob("*.json"))
    # Without its keys it is no new one.
    shutil.rmtree(garden.path / "other/seal")
    (garden.home / "shelves.json").unlink()
    toml.write_text(
        sealed(garden).home.joinpath("zinker.toml").read_text().replace('"../shelf"', '"../other"')
    )
    assert (
        "are gone, and what is there does not open without" in garden("export", "mosslight", *AT, code=5).err
    )
    assert "only a shelf is sealed" in garden("copy", "mosslight", "--sealed", "--to", "a.zinker", code=2).err


@pytest.fixture(params=["folder", "s3"])
def two(request, garden, tmp_path):
    """A sealed shelf with a plain copy; and what reads, writes and lists its files."""
    server = None
    if request.param == "s3":
        server = S3(tmp_path)
        shelved(garden, server)
        from test_object_storage import storage

        there = storage(server)
    else:
        there = FolderStorage(garden.path / "shelf")
    garden("export", "mosslight", *AT, "--label", "season-start")
    garden("export", "brindlepot", "--place", "gate-kiosk", code=1)
    garden.spoil()
    garden("export", "mosslight", *AT, "--note", "as found")
    garden("label", "mosslight@2", "spoilt")
    garden("copy", "--to", "copy")
    yield garden, there
    if server is not None:
        server.stop()


def listed(garden):
    """Return what is told of the versions, but for what they take."""
    return [{**one, "stored": 0} for one in garden("list", "--json").json]


def files(there, folder=""):
    for name in sorted(there.names(folder)):
        path = f"{folder}/{name}" if folder else name
        if path in ("lock", "writing", ".lock"):
            continue
        inside = list(files(there, path))
        yield from inside or [path]


@pytest.mark.soak
def test_a_flipped_bit_in_any_file_is_found_and_mended_from_another_shelf(two):
    garden, there = two
    assert garden("check").code == 0
    dice, shown = random.Random(5), listed(garden)

    def flip(name):
        data = bytearray(there.open(name).read())
        data[dice.randrange(len(data))] ^= 1 << dice.randrange(8)
        there.put(name, bytes(data))

    names = list(files(there))
    kept = [name for name in names if "/" in name and not name.startswith("seal/")]
    (page,) = set(names) - set(kept) - {"seal/1.json", "seal/1.copy.json"}
    assert len(kept) > 20
    for name in kept:
        flip(name)
    found = garden("check", "--json", code=5).json
    objects = [name for name in kept if name.startswith("objects/")]
    told = {one["what"] for one in found["damages"]}
    assert len(told) == len(objects) + len(shown) and told >= {one["reference"] for one in shown}
    mended = garden("check", "--from", "copy", "--json").json
    assert len(mended["damages"]) == len(objects) + len(shown)
    assert garden("check").code == 0 and listed(garden) == shown
    for name in (page, "seal/1.json", "seal/1.copy.json"):
        flip(name)
        assert listed(garden) == shown
        assert len(garden("check", "--json").json["damages"]) == 1
        assert not garden("check", "--json").json["damages"]
    flip(page)
    assert "`zinker check` writes it anew" in garden("export", "mosslight", *AT, code=5).err
    for name in ("seal/1.json", "seal/1.copy.json"):
        flip(name)
    assert "none of the keys" in garden("list", code=5).err


def test_it_costs_two_requests_a_command(garden, tmp_path):
    server = S3(tmp_path)
    between = Between(server)
    shelved(garden, server, between.port)
    counts = {}
    for seal in ("", "passphrase"):
        sealed(garden, seal)
        toml = garden.home / "zinker.toml"
        toml.write_text(re.sub(r"garden/shelf\w*", f"garden/shelf{seal}", toml.read_text()))
        garden("export", "mosslight", *AT)
        between.count = 0
        garden("export", "brindlepot", "--place", "gate-kiosk", code=1)
        garden("list")
        counts[seal] = between.count
    assert counts["passphrase"] <= counts[""] + 4, counts
    between.stop()
    server.stop()


@pytest.mark.soak
def test_many_that_make_it_at_once_or_are_cut_off_make_one(tmp_path):
    def another(name, phrase):
        own = sealed(Garden(tmp_path / name))
        toml = own.home / "zinker.toml"
        toml.write_text(re.sub("^shelf = .*", f'shelf = "{tmp_path}/shelf"', toml.read_text(), flags=re.M))
        own.env["ZINKER_SECRET_SEAL"] = phrase
        return own

    gardens = [another(f"g{n}", "three quiet ferns" if n else "four louder ferns") for n in range(4)]
    with ThreadPoolExecutor(4) as pool:
        ends = list(pool.map(lambda one: one("export", "mosslight", *AT, code=None).code, gardens))
    assert ends in ([0, 3, 3, 3], [3, 0, 0, 0]), ends  # those with the other passphrase are told
    winner = gardens[0 if ends[0] == 0 else 1]
    assert winner("check").code == 0 and len(winner("list", "--json").json) == ends.count(0)
    for number in range(1, 14):
        shutil.rmtree(tmp_path / "shelf")
        own = another(f"k{number}", "three quiet ferns")
        kill = {"KILL_AT": str(number), "KILL_BELOW": "shelf", "PYTHONPATH": str(KILLING)}
        assert own("export", "mosslight", *AT, code=None, env=kill).code == -9
        own("export", "mosslight", *AT)
        assert own("check").code == 0 and own("seal", "--json").json["opened_by"] == 1

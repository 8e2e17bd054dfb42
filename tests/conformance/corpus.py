"""Files of settings as they are used: what Debian packages install."""

import zipfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from itertools import islice
from pathlib import Path

from conformance.fetched import debian, prepare_debian
from conformance.suites import KEYFILE, Case

from zinker.formats.dialect import PLAIN, Dialect

_RUST = """
anyhow bitflags cfg-if chrono clap crossbeam-channel csv either env-logger flate2 futures hashbrown hyper indexmap
itertools itoa lazy-static libc log memchr nom num-traits once-cell proc-macro2 quote rand rayon regex ryu semver
serde serde-json sha2 smallvec syn tempfile thiserror time tokio toml toml-edit unicode-width url uuid walkdir
"""
_OTHERS = """
ansible cinnamon-common desktop-base fail2ban fontconfig-config geany-common gnustep-base-common jedit khelpcenter
kwin-data libgtksourceview-5-common libtomcat10-java mate-themes neutron-common nova-common osinfo-db qtcreator-data
systemd systemsettings xfce4-settings xscreensaver-data-extra
"""
PACKAGES = (*_OTHERS.split(), *(f"librust-{name}-dev" for name in _RUST.split()))
# As configparser has it by default, but for keys that come again or have no value.
_CONFIGPARSER = ("=", ":"), ("#", ";"), (), True, True, False, "\0"
_CONTINUED = Dialect(delimiter="=:", continued="indent")
_KEYFILES = (".desktop", ".directory", ".theme", ".service", ".socket", ".target", ".timer", ".mount")
_MOST = 100_000  # bytes
FORMATS = ("ini", "json", "properties", "toml", "xml", "yaml")


def corpus(format: str) -> Iterator[Case]:
    """Yield the files of a format, at most a thousand."""
    return islice((case for case in _corpus() if case.format == format), 1000)


def _corpus() -> Iterator[Case]:
    prepare_debian()
    with ThreadPoolExecutor(4) as pool:
        folders = list(pool.map(debian, PACKAGES))
    for package, folder in zip(PACKAGES, folders, strict=True):
        seen = set()
        for path in sorted(folder.rglob("*")):
            if not path.is_file() or path.is_symlink():
                continue
            found = [(path.name, path.read_bytes)] if path.suffix != ".jar" else _packed(path)
            for name, read in found:
                if (
                    Path(name).suffix in _SUFFIXES
                    and (data := read())
                    and len(data) <= _MOST
                    and data not in seen
                ):
                    seen.add(data)
                    format, judge, dialect = _told(package, name, data)
                    yield Case(f"{package}: {name}", format, judge, data, None, dialect)


_SUFFIXES = frozenset(_KEYFILES + tuple(f".{end}" for end in FORMATS)) | {
    ".yml", ".lang", ".plist", ".cfg", ".conf"
}  # fmt: skip


def _packed(path: Path):
    archive = zipfile.ZipFile(path)
    names = [name for name in archive.namelist() if name.endswith(".properties")]
    return [(name, lambda name=name: archive.read(name)) for name in names]


def _told(package: str, name: str, data: bytes):
    suffix = Path(name).suffix
    if suffix in _KEYFILES:
        return "ini", "keyfile", KEYFILE
    if data.lstrip()[:5] in (b"<?xml", b"<!DOC"):
        return ("plist", "plist", PLAIN) if suffix == ".plist" else ("xml", "xml", PLAIN)
    if suffix in (".ini", ".cfg", ".conf"):
        is_python = package in ("fail2ban", "ansible")
        return ("ini", _CONFIGPARSER, _CONTINUED) if is_python else ("ini", "ini", PLAIN)
    format = {".yml": "yaml", ".lang": "xml"}.get(suffix, suffix[1:])
    return format, {"json": "jsonc"}.get(format, format), PLAIN

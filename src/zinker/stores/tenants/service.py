"""Where a tenant's service is, how it is signed in to, and within which limits it is waited for."""

from typing import Literal, NamedTuple
from urllib.parse import urlsplit

import msgspec

from zinker.stores.reading import StoreError

# Hosts that are this machine itself: what goes there goes over no line.
LOOPBACK = ("127.0.0.1", "::1", "localhost")
_PORTS = {"https": 443, "http": 80}
# What people are shown of a text that a service has sent: so many lines, so many letters.
_LINES, _LETTERS = 3, 300


class Limits(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """How much of a service's time and answers is taken.

    `answer` is the size of an answer when it is unpacked, in MB; `seconds` what one answer may take, from asking
    to its last byte; `wait` the seconds that one request waits altogether because the service asks for patience;
    `pages` the most that a list may have.
    """

    answer: int = 64
    seconds: int = 120
    wait: int = 600
    pages: int = 10_000


class People(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """A collection of the service itself that has its groups, or its users."""

    path: str
    id: str = "id"
    name: str = "name"


class Directory(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """Who has the groups and the users: SCIM at `address`, or collections of the service itself."""

    address: str = ""
    groups: People | None = None
    users: People | None = None


class Service(msgspec.Struct, frozen=True, kw_only=True):
    """One tenant's service, as `zinker.toml` has it.

    `root` is where its collections are; `issuer` who gives out tokens, "" where the service is to say so;
    `hosts` are further ones that may be told secrets. `older` tells that only an address was given, as earlier
    versions wanted it.
    """

    place: str
    root: str
    issuer: str = ""
    directory: Directory = Directory()
    hosts: tuple[str, ...] = ()
    client_id: str = "zinker"
    sign_in: Literal["secret", "key", "device"] = "secret"
    scopes: tuple[str, ...] = ()
    resource: str = ""
    audience: str = ""
    concurrency: int = 8
    limits: Limits = Limits()

    def origins(self) -> frozenset[str]:
        """Return the hosts, each with its port, that may be told secrets and tokens."""
        named = (f"https://{host}" for host in self.hosts)
        urls = (self.root, self.issuer, self.directory.address, *named)
        return frozenset(origin(url) for url in urls if url)


class TenantError(StoreError):
    """The service refused something, or cannot be reached; `status` is that of its answer, 0 without one."""

    def __init__(self, why: str, status: int = 0, then: str = "") -> None:
        super().__init__("Not done in the tenant", why, then)
        self.status = status


class Unsure(TenantError):
    """Something was sent and no answer came: it may have been done."""


class Key(NamedTuple):
    """What tells an item of a collection: as a URL has it between the brackets, and as JSON has it."""

    literal: str
    value: object


def origin(url: str) -> str:
    """Return scheme, host and port of a URL; "" for one that has none, or is none."""
    try:
        split = urlsplit(url)
        port = split.port or _PORTS.get(split.scheme, 0)
    except ValueError:
        return ""
    return f"{split.scheme}://{split.hostname}:{port}" if split.hostname and port else ""


def is_open(url: str) -> bool:
    """Tell whether what is sent to a URL could be read on the way."""
    split = urlsplit(url)
    return split.scheme != "https" and not (split.scheme == "http" and split.hostname in LOOPBACK)


def shown(text: object) -> str:
    """Return what a service has sent, fit to be shown: a few lines, in one, without anything that steers."""
    lines = [" ".join(line.split()) for line in str(text).splitlines() if line.strip()]
    line = " · ".join(lines[:_LINES])
    plain = "".join(
        letter if letter.isprintable() else ascii(letter)[1:-1] for letter in line[: _LETTERS + 1]
    )
    return f"{plain[:_LETTERS]}…" if len(lines) > _LINES or len(plain) > _LETTERS else plain

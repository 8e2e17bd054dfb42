"""What the two tenants of the garden hold: made up, the same every time."""

import hashlib
from typing import Any

Policy = dict[str, Any]

TENANTS = ("tarnhollow-trial", "tarnhollow")
# The collections, in no order that means anything, and what each policy of them is.
COLLECTIONS = (
    "WorkstationRules",
    "HouseRules",
    "Programs",
    "QuietHours",
    "StartingSets",
    "Errands",
)
# Never given back, whatever is asked.
WRITE_ONLY = {"Programs": ("chestKey",), "Errands": ("doorCode",)}
# Made by the service, and not to be written.
SERVER_MADE = ("id", "planted", "tended", "tendedBy", "turn", "fixed")
# Of these a list has names only.
ONE_BY_ONE = ("StartingSets",)
REFERENCES = {"Programs": ("comesAfter", "leansOn"), "HouseRules": ("tellAlso",)}
_GROUPS = {
    "tarnhollow-trial": ("Trial gardeners", "Trial kiosks", "Everybody"),
    "tarnhollow": ("Gardeners", "Kiosks", "Office", "Everybody"),
}
_ENTRIES = 350
_CLIENT = {"client_id": "zinker", "client_secret": "a heron by the pond", "expires": "2099-01-01"}
_STALE = {"client_id": "stale", "client_secret": "an old reed", "expires": "2026-01-01"}


def tenant(name: str, policies: int = 0) -> dict[str, Any]:
    """Return the state of a tenant; with `policies`, that many workstation rules instead of its own few."""
    groups = [{"id": _id(name, "group", group), "displayName": group} for group in _GROUPS[name]]
    state: dict[str, Any] = {
        "tenant": name,
        "clients": [_CLIENT, _STALE],
        "groups": groups,
        "users": [
            {"id": _id(name, "user", user), "userName": f"{user}@tarnhollow.example"}
            for user in ("ivy", "fern")
        ],
        "collections": {collection: {} for collection in COLLECTIONS},
        "tokens": {},
        "granted": [],
        "next": 1,
    }
    if policies:
        for number in range(policies):
            _add(state, "WorkstationRules", _workstation(f"Bench {number:05}", number % 90))
        return state
    for make in (_workstations, _quiet_hours, _starting_sets, _errands):
        make(state)
    if name == "tarnhollow-trial":
        _trial(state)
    else:
        _live(state)
    return state


def _id(*words: str) -> str:
    """Return an id as a service makes them: it looks random, and is the same every time."""
    digest = hashlib.sha256("/".join(words).encode()).hexdigest()
    return f"{digest[:8]}-{digest[8:12]}-{digest[12:16]}-{digest[16:20]}-{digest[20:32]}"


def _add(state: dict[str, Any], collection: str, policy: Policy, built_in: bool = False) -> str:
    made = {
        "id": _id(state["tenant"], collection, policy["name"]),
        "planted": "2026-03-02T08:00:00Z",
        "tended": "2026-09-14T16:20:00Z",
        "tendedBy": "fern@tarnhollow.example",
        "turn": 1,
        "fixed": built_in,
    }
    state["collections"][collection][made["id"]] = made | policy
    return str(made["id"])


def _entry(topic: str, label: str, value: Any) -> dict[str, Any]:
    return {"topic": topic, "label": label, "value": value}


def _workstation(name: str, minutes: int) -> Policy:
    return {
        "name": name,
        "description": f"For the machines at {name.lower()}",
        "system": "windows",
        "marks": ["glass", "warm"],
        "entries": [
            _entry("screen.lockAfter", "Minutes until the screen locks", minutes),
            _entry("disk.encrypt", "Encrypt the disk", True),
            _entry("store.address", "Address of the store", "https://store.trial.tarnhollow.example/"),
        ],
        "forWhom": [],
    }


def _group(state: dict[str, Any], *names: str) -> list[dict[str, str]]:
    known = {group["displayName"]: group["id"] for group in state["groups"]}
    return [{"people": known[name], "how": "with"} for name in names if name in known]


def _workstations(state: dict[str, Any]) -> None:
    policy = _workstation("Greenhouse desks", 10)
    policy["forWhom"] = _group(state, "Trial gardeners", "Gardeners")
    _add(state, "WorkstationRules", policy)
    _add(state, "WorkstationRules", _workstation("Service defaults", 15), built_in=True)


def _quiet_hours(state: dict[str, Any]) -> None:
    for name, days in (("First ring", 0), ("Last ring", 14)):
        hours = {"from": "22:00", "until": "04:00", "days": ["monday", "thursday"]}
        _add(state, "QuietHours", {"name": name, "waitDays": days, "hours": hours, "forWhom": []})


def _starting_sets(state: dict[str, Any]) -> None:
    entries = [
        _entry(f"start.{number:03}", f"Entry {number} of the set", number % 7) for number in range(_ENTRIES)
    ]
    policy = {"name": "Garden set", "entries": entries, "forWhom": _group(state, "Everybody")}
    _add(state, "StartingSets", policy)


def _errands(state: dict[str, Any]) -> None:
    policy = {
        "name": "Water the logs",
        "steps": "#!/bin/sh\nlogger drip\n",
        "doneBy": "gardener",
        "doorCode": "a secret of the well",
        "keeper": state["users"][0]["id"],
        "forWhom": [],
    }
    _add(state, "Errands", policy)


def _rules(state: dict[str, Any], name: str, notify: str = "") -> str:
    terms = [
        _entry("password.length", "Letters of a password", 12),
        _entry("firewall.on", "Firewall is on", True),
    ]
    policy: Policy = {"name": name, "terms": terms, "tellAlso": notify or None, "forWhom": []}
    return _add(state, "HouseRules", policy)


def _program(state: dict[str, Any], name: str, requires: str, depends: list[str]) -> str:
    policy = {
        "name": name,
        "version": "3.2.1",
        "fetch": f"install {name.lower()} --from store.trial.tarnhollow.example",
        "chestKey": "moss-0001",
        "comesAfter": requires,
        "leansOn": depends,
        "forWhom": _group(state, "Trial kiosks"),
    }
    return _add(state, "Programs", policy)


def _trial(state: dict[str, Any]) -> None:
    rules = _rules(state, "Kiosk rules", _rules(state, "Notice"))
    runtime = _program(state, "Moss runtime", rules, [])
    _program(state, "Brindlepot", rules, [runtime])
    _add(state, "WorkstationRules", _workstation("Potting benches", 5))


def _live(state: dict[str, Any]) -> None:
    rules = _rules(state, "Kiosk rules")
    state["collections"]["HouseRules"][rules]["terms"][0]["value"] = 10
    _add(state, "WorkstationRules", _workstation("Office desks", 20))


def _metadata() -> str:
    """Return what the service says of its types (CSDL XML 4.01), as far as types are fixed: they are open."""
    computed = '<Annotation Term="Org.OData.Core.V1.Computed" Bool="true"/>'
    made = "".join(
        f'<Property Name="{name}" Type="{kind}" Nullable="false">{computed}</Property>'
        for name, kind in (
            ("id", "Edm.String"),
            ("planted", "Edm.DateTimeOffset"),
            ("tended", "Edm.DateTimeOffset"),
            ("tendedBy", "Edm.String"),
            ("turn", "Edm.Int32"),
            ("fixed", "Edm.Boolean"),
        )
    )
    types = "".join(
        f'<EntityType Name="{name}Policy" OpenType="true"><Key><PropertyRef Name="id"/></Key>{made}'
        '<Property Name="name" Type="Edm.String" Nullable="false"/></EntityType>'
        for name in COLLECTIONS
    )
    sets = "".join(f'<EntitySet Name="{name}" EntityType="Garden.{name}Policy"/>' for name in COLLECTIONS)
    return (
        '<?xml version="1.0" encoding="utf-8"?>'
        '<edmx:Edmx Version="4.01" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices>'
        f'<Schema Namespace="Garden" xmlns="http://docs.oasis-open.org/odata/ns/edm">{types}'
        f'<EntityContainer Name="Tenant">{sets}</EntityContainer></Schema></edmx:DataServices></edmx:Edmx>'
    )


METADATA = _metadata()

"""What the two tenants of the garden hold: made up, the same every time."""

import hashlib
from typing import Any

Policy = dict[str, Any]

TENANTS = ("tarnhollow-trial", "tarnhollow")
# The collections, in no order that means anything, and what each policy of them is.
COLLECTIONS = (
    "DeviceConfigurations",
    "ComplianceRules",
    "Applications",
    "UpdateSchedules",
    "Baselines",
    "Scripts",
)
# Never given back, whatever is asked.
WRITE_ONLY = {"Applications": ("licenceKey",), "Scripts": ("runAsSecret",)}
# Made by the service, and not to be written.
SERVER_MADE = ("id", "created", "modified", "revision", "builtIn")
REFERENCES = {"Applications": ("requires", "dependsOn"), "ComplianceRules": ("notify",)}
_GROUPS = {
    "tarnhollow-trial": ("Trial gardeners", "Trial kiosks", "Everybody"),
    "tarnhollow": ("Gardeners", "Kiosks", "Office", "Everybody"),
}
_BASELINE = 350
_CLIENT = {"client_id": "zinker", "client_secret": "a heron by the pond", "expires": "2099-01-01"}
_STALE = {"client_id": "stale", "client_secret": "an old reed", "expires": "2026-01-01"}


def tenant(name: str, policies: int = 0) -> dict[str, Any]:
    """Return the state of a tenant; with `policies`, that many device configurations instead of its own few."""
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
        "next": 1,
    }
    if policies:
        for number in range(policies):
            _add(state, "DeviceConfigurations", _configuration(f"Bench {number:05}", number % 90))
        return state
    for make in (_configurations, _schedules, _baselines, _scripts):
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
        "created": "2026-03-02T08:00:00Z",
        "modified": "2026-09-14T16:20:00Z",
        "revision": 1,
        "builtIn": built_in,
    }
    state["collections"][collection][made["id"]] = made | policy
    return str(made["id"])


def _setting(definition: str, title: str, value: Any) -> dict[str, Any]:
    return {"definition": definition, "title": title, "value": value}


def _configuration(name: str, minutes: int) -> Policy:
    return {
        "name": name,
        "description": f"For the machines at {name.lower()}",
        "platform": "windows",
        "tags": ["glass", "warm"],
        "settings": [
            _setting("screen.lockAfter", "Minutes until the screen locks", minutes),
            _setting("disk.encrypt", "Encrypt the disk", True),
            _setting("store.address", "Address of the store", "https://store.trial.tarnhollow.example/"),
        ],
        "assignments": [],
    }


def _group(state: dict[str, Any], *names: str) -> list[dict[str, str]]:
    known = {group["displayName"]: group["id"] for group in state["groups"]}
    return [{"group": known[name], "intent": "include"} for name in names if name in known]


def _configurations(state: dict[str, Any]) -> None:
    policy = _configuration("Greenhouse desks", 10)
    policy["assignments"] = _group(state, "Trial gardeners", "Gardeners")
    _add(state, "DeviceConfigurations", policy)
    _add(state, "DeviceConfigurations", _configuration("Service defaults", 15), built_in=True)


def _schedules(state: dict[str, Any]) -> None:
    for name, days in (("First ring", 0), ("Last ring", 14)):
        window = {"start": "22:00", "end": "04:00", "days": ["monday", "thursday"]}
        _add(state, "UpdateSchedules", {"name": name, "deferDays": days, "window": window, "assignments": []})


def _baselines(state: dict[str, Any]) -> None:
    settings = [
        _setting(f"baseline.{number:03}", f"Rule {number} of the baseline", number % 7)
        for number in range(_BASELINE)
    ]
    policy = {"name": "Garden baseline", "settings": settings, "assignments": _group(state, "Everybody")}
    _add(state, "Baselines", policy)


def _scripts(state: dict[str, Any]) -> None:
    policy = {
        "name": "Water the logs",
        "content": "#!/bin/sh\nlogger drip\n",
        "runAs": "gardener",
        "runAsSecret": "a secret of the well",
        "owner": state["users"][0]["id"],
        "assignments": [],
    }
    _add(state, "Scripts", policy)


def _rules(state: dict[str, Any], name: str, notify: str = "") -> str:
    rules = [
        _setting("password.length", "Letters of a password", 12),
        _setting("firewall.on", "Firewall is on", True),
    ]
    policy: Policy = {"name": name, "rules": rules, "notify": notify or None, "assignments": []}
    return _add(state, "ComplianceRules", policy)


def _application(state: dict[str, Any], name: str, requires: str, depends: list[str]) -> str:
    policy = {
        "name": name,
        "version": "3.2.1",
        "command": f"install {name.lower()} --from store.trial.tarnhollow.example",
        "licenceKey": "moss-0001",
        "requires": requires,
        "dependsOn": depends,
        "assignments": _group(state, "Trial kiosks"),
    }
    return _add(state, "Applications", policy)


def _trial(state: dict[str, Any]) -> None:
    rules = _rules(state, "Kiosk rules", _rules(state, "Notice"))
    runtime = _application(state, "Moss runtime", rules, [])
    _application(state, "Brindlepot", rules, [runtime])
    _add(state, "DeviceConfigurations", _configuration("Potting benches", 5))


def _live(state: dict[str, Any]) -> None:
    rules = _rules(state, "Kiosk rules")
    state["collections"]["ComplianceRules"][rules]["rules"][0]["value"] = 10
    _add(state, "DeviceConfigurations", _configuration("Office desks", 20))

"""A tenant service for the demo and the tests: policies behind open standards, on a state that stands on the disk.

OAuth 2.0 (RFC 6749, 8628, metadata of RFC 8414 and 9728), OData 4.01 JSON with its metadata, SCIM 2.0 (RFC 7644),
problem details (RFC 9457). It is strict: what a standard asks for and a request has not, is refused. On request it
is slow, throttles, fails, cuts connections, lets tokens expire, lacks rights, or changes while it is read:
`faults.json` in its folder says what.

    <tenant>.json   the state of a tenant
    faults.json     what goes wrong, see `Faults`
    log.jsonl       one line for every request: method, path, status
"""

import asyncio
import base64
import datetime
import json
import random
import re
import secrets
import time
from pathlib import Path
from typing import Any
from urllib.parse import unquote_plus

import msgspec
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from zinker.demo.tenant_data import (
    COLLECTIONS,
    METADATA,
    ONE_BY_ONE,
    REFERENCES,
    SERVER_MADE,
    TENANTS,
    WRITE_ONLY,
    tenant,
)
from zinker.disk.files import write_file
from zinker.model.plain_json import decode

_PAGE, _LARGEST_PAGE = 50, 500
_DEVICE = "urn:ietf:params:oauth:grant-type:device_code"
_FAULTS_HOLD = 0.02  # seconds
_KEY = re.compile(r"(?P<collection>\w+)(?:\((?P<id>[^()]+)\))?")
_OPTIONS = ("$select", "$filter", "$skiptoken")


class Faults(msgspec.Struct):
    """What goes wrong: shares of all answers between 0 and 1, times in seconds."""

    delay: float = 0.0
    throttled: float = 0.0
    retry_after: int = 1
    failed: float = 0.0
    cut: float = 0.0
    lost: float = 0.0  # 500, after the work has been done
    stray: str = ""  # a host and port that the addresses of next pages have
    token_seconds: float = 3600.0
    denied: list[str] = []
    # The first policy of this collection changes whenever it or its collection has been read.
    restless: str = ""
    rounds: int = 5  # what that policy is after its last change
    consent: bool = True
    concurrent: int = 0  # how many requests at a time are answered; 0 for any number
    storm_every: int = 0  # after so many answers everything is refused for `retry_after` seconds; 0 for never


class Service:
    """The tenants of a folder."""

    def __init__(self, folder: Path, policies: int = 0) -> None:
        self._folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        self._states: dict[str, dict[str, Any]] = {}
        for name in TENANTS:
            path = folder / f"{name}.json"
            if not path.exists():
                write_file(path, json.dumps(tenant(name, policies), indent=1).encode())
            self._states[name] = {"granted": [], **json.loads(path.read_bytes())}
        self._dice = random.Random(7)  # noqa: S311 - it only decides what goes wrong
        self._busy = self._answered = 0
        self._storm_ends = self._faults_until = 0.0
        self._known = Faults()
        self._log = (folder / "log.jsonl").open("a", buffering=1)
        self._devices: dict[str, dict[str, Any]] = {}

    def app(self) -> Starlette:
        """Return the service as an ASGI application."""
        metadata = "/.well-known/oauth-authorization-server/{tenant}"
        return Starlette(
            routes=[
                Route(metadata, self._metadata),
                Route("/.well-known/oauth-protected-resource/{tenant}/api", self._resource),
                Route("/{tenant}/oauth/token", self._token, methods=["POST"]),
                Route("/{tenant}/oauth/device", self._device, methods=["POST"]),
                Route("/{tenant}/oauth/allow", self._allow),
                Route("/{tenant}/scim/v2/{kind}", self._scim),
                Route("/{tenant}/api/{path:path}", self._api, methods=["GET", "POST", "PATCH", "DELETE"]),
            ]
        )

    def _faults(self) -> Faults:
        """Return what goes wrong, as its file says; looked for at most every so often."""
        now = time.monotonic()
        if now >= self._faults_until:
            self._faults_until = now + _FAULTS_HOLD
            try:
                self._known = decode((self._folder / "faults.json").read_bytes(), Faults)
            except (OSError, ValueError):
                self._known = Faults()
        return self._known

    async def _metadata(self, request: Request) -> Response:
        base = f"{request.url.scheme}://{request.url.netloc}/{request.path_params['tenant']}"
        if request.path_params["tenant"] not in self._states:
            return _problem(404, "There is no such tenant")
        return JSONResponse(
            {
                "issuer": base,
                "token_endpoint": f"{base}/oauth/token",
                "device_authorization_endpoint": f"{base}/oauth/device",
                "token_endpoint_auth_methods_supported": ["client_secret_basic"],
                "grant_types_supported": ["client_credentials", "refresh_token", _DEVICE],
            }
        )

    async def _resource(self, request: Request) -> Response:
        base = f"{request.url.scheme}://{request.url.netloc}/{request.path_params['tenant']}"
        if request.path_params["tenant"] not in self._states:
            return _problem(404, "There is no such tenant")
        return JSONResponse({"resource": f"{base}/api", "authorization_servers": [base]})

    async def _token(self, request: Request) -> Response:
        state = self._states[request.path_params["tenant"]]
        given = (await request.form()).multi_items()
        form = {key: str(value) for key, value in given}
        if len(form) != len(given):  # RFC 6749, section 3.2
            return _oauth_error("invalid_request", "something was given twice")
        kind = form.get("grant_type", "")
        if kind == _DEVICE:
            return self._device_token(form)
        if kind == "refresh_token":
            if form.get("refresh_token", "") not in state["granted"]:
                return _oauth_error("invalid_grant", "the grant is not known, or not any more")
            state["granted"].remove(form["refresh_token"])
            return self._issue(state, refresh=True)
        if kind != "client_credentials":
            return _oauth_error("unsupported_grant_type", "this grant is not offered")
        id, secret = _basic(request.headers.get("Authorization", ""))
        client = next((c for c in state["clients"] if c["client_id"] == id), None)
        if client is None or not secrets.compare_digest(client["client_secret"].encode(), secret.encode()):
            return _oauth_error("invalid_client", "the client or its secret is not known", 401)
        if client["expires"] < datetime.date.today().isoformat():
            return _oauth_error("invalid_client", f"the secret expired on {client['expires']}", 401)
        if not self._faults().consent:
            return _oauth_error("unauthorized_client", "an administrator has not consented yet")
        return self._issue(state)

    def _issue(self, state: dict[str, Any], refresh: bool = False) -> Response:
        seconds = self._faults().token_seconds
        token = secrets.token_urlsafe(16)
        state["tokens"][token] = time.time() + seconds
        more = {}
        if refresh:
            more["refresh_token"] = secrets.token_urlsafe(16)
            state["granted"].append(more["refresh_token"])
        return JSONResponse(
            {"access_token": token, "token_type": "Bearer", "expires_in": max(1, int(seconds)), **more}
        )

    async def _device(self, request: Request) -> Response:
        name = request.path_params["tenant"]
        given = (await request.form()).multi_items()
        if [value for key, value in given if key == "client_id"] != ["zinker"]:
            return _oauth_error("invalid_client", "the client is not known, or was given twice", 401)
        code, user_code = secrets.token_urlsafe(12), f"{self._dice.randrange(10**6):06}"
        self._devices[code] = {"user_code": user_code, "allowed": None, "tenant": name}
        base = f"{request.url.scheme}://{request.url.netloc}/{name}/oauth/allow"
        return JSONResponse(
            {
                "device_code": code,
                "user_code": user_code,
                "verification_uri": base,
                "expires_in": 300,
                "interval": 1,
            }
        )

    async def _allow(self, request: Request) -> Response:
        """Stand for the page on which a person enters the code: `?code=...`, with `&deny=1` to refuse."""
        code = request.query_params.get("code", "")
        for device in self._devices.values():
            if device["user_code"] == code:
                device["allowed"] = "deny" not in request.query_params
                return JSONResponse({"allowed": device["allowed"]})
        return _problem(404, "There is no such code")

    def _device_token(self, form: dict[str, str]) -> Response:
        device = self._devices.get(form.get("device_code", ""))
        if device is None:
            return _oauth_error("expired_token", "the code has expired")
        if device["allowed"] is None:
            return _oauth_error("authorization_pending", "the code has not been entered yet")
        if not device["allowed"]:
            return _oauth_error("access_denied", "the person has refused")
        return self._issue(self._states[device["tenant"]], refresh=True)

    async def _scim(self, request: Request) -> Response:
        state, refused = await self._admitted(request)
        if refused is not None or state is None:
            return self._logged(request, refused or _problem(404, "There is no such tenant"))
        kind = request.path_params["kind"].lower()
        found = state.get(kind, []) if kind in ("groups", "users") else []
        start = max(1, int(request.query_params.get("startIndex", 1)))
        count = int(request.query_params.get("count", 100))
        page = found[start - 1 : start - 1 + count]
        schema = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
        answer = {"schemas": [schema], "totalResults": len(found), "startIndex": start, "Resources": page}
        return self._logged(request, JSONResponse(answer, media_type="application/scim+json"))

    async def _api(self, request: Request) -> Response:
        asked = time.monotonic()
        state, refused = await self._admitted(request)
        if refused is not None or state is None:
            return self._logged(request, refused or _problem(404, "There is no such tenant"))
        faults = self._faults()
        self._busy += 1
        try:
            if faults.concurrent and self._busy > faults.concurrent:
                return self._logged(request, _throttled(faults))
            # What answering takes is part of the delay.
            answer = await self._answer(request, state, faults)
            await asyncio.sleep(asked + faults.delay - time.monotonic())
        finally:
            self._busy -= 1
        # The answer gets lost after the work has been done: what a client must be ready for.
        if self._dice.random() < faults.lost:
            answer = _problem(500, "Something went wrong")
        self._logged(request, answer)
        if self._dice.random() < faults.cut:
            return StreamingResponse(_broken(), media_type="application/json")
        return answer

    async def _admitted(self, request: Request) -> tuple[dict[str, Any] | None, Response | None]:
        """Return the tenant's state, or why the request is not answered."""
        faults = self._faults()
        state = self._states.get(request.path_params["tenant"])
        if state is None:
            return None, None
        token = request.headers.get("Authorization", "").removeprefix("Bearer ")
        if state["tokens"].get(token, 0) < time.time():
            return state, _problem(401, "The token is not valid, or not any more")
        if self._dice.random() < faults.throttled or self._is_stormy(faults):
            return state, _throttled(faults)
        if self._dice.random() < faults.failed:
            return state, _problem(503, "The service is tired")
        return state, None

    def _is_stormy(self, faults: Faults) -> bool:
        """Count an answer, unless this is the time to give none."""
        now = time.monotonic()
        if now < self._storm_ends:
            return True
        self._answered += 1
        if faults.storm_every and self._answered % faults.storm_every == 0:
            self._storm_ends = now + faults.retry_after
            self._log.write(json.dumps({"storm": faults.retry_after}) + "\n")
        return False

    async def _answer(self, request: Request, state: dict[str, Any], faults: Faults) -> Response:
        if request.path_params["path"] == "$metadata":
            return Response(METADATA, media_type="application/xml", headers={"OData-Version": "4.01"})
        if refused := _unfit(request):
            return refused
        found = _KEY.fullmatch(request.path_params["path"])
        if not found or found["collection"] not in COLLECTIONS:
            return _problem(404, f"There is no {request.path_params['path']}")
        collection = found["collection"]
        if collection in faults.denied:
            return _problem(403, f"The account may not read {collection}")
        policies = state["collections"][collection]
        id = _text(found["id"]) if found["id"] else None
        if id == "":
            return _problem(400, f"{found['id']} is no key of {collection}: it is a text")
        if request.method == "GET":
            return self._get(request, state, collection, id, faults)
        if request.method == "POST":
            return self._create(state, collection, await request.json())
        policy = policies.get(id)
        if policy is None:
            return _problem(404, "There is no such policy")
        if request.headers.get("If-Match", "*") not in ("*", _etag(policy)):
            return _problem(412, "The policy has changed since it was read")
        if "If-Match" not in request.headers:
            return _problem(428, "A policy is changed as it was read only: If-Match is missing")
        if policy["fixed"]:
            return _problem(403, "A built-in policy cannot be changed")
        if request.method == "DELETE":
            return self._delete(state, collection, policy)
        return self._update(state, collection, policy, await request.json())

    def _get(
        self, request: Request, state: dict[str, Any], collection: str, id: str | None, faults: Faults
    ) -> Response:
        policies = state["collections"][collection]
        if id is not None:
            if id not in policies:
                return _problem(404, "There is no such policy")
            data = msgspec.json.encode(_shown(collection, policies[id]))
            headers = {"ETag": _etag(policies[id])}
            self._disturb(policies, collection, faults, id)
            return Response(data, media_type="application/json", headers=headers)
        found = list(policies.values())
        if filter := request.query_params.get("$filter", ""):
            name = _text(filter.removeprefix("name eq "))
            if not name:
                return _problem(400, f"What is looked for is not understood: {filter}")
            found = [policy for policy in found if policy["name"] == name]
        start = int(request.query_params.get("$skiptoken", 0))
        asked = re.search(r"maxpagesize=(\d+)", request.headers.get("Prefer", ""))
        size = min(int(asked[1]), _LARGEST_PAGE) if asked else _PAGE
        page = [_shown(collection, policy) for policy in found[start : start + size]]
        select = request.query_params.get("$select", "")
        if not select and collection in ONE_BY_ONE:
            select = "id,name"  # a list has no more of them
        if select:
            names = {*select.split(","), "@odata.etag"}
            page = [{key: value for key, value in policy.items() if key in names} for policy in page]
        answer: dict[str, Any] = {"@odata.context": f"$metadata#{collection}", "value": page}
        if start + size < len(found):
            more = request.url.include_query_params(**{"$skiptoken": str(start + size)})
            answer["@odata.nextLink"] = str(more.replace(netloc=faults.stray) if faults.stray else more)
        else:
            self._disturb(policies, collection, faults)
        return JSONResponse(answer)

    def _disturb(self, policies: dict[str, Any], collection: str, faults: Faults, id: str = "") -> None:
        """Change the policy that does not rest, if it has just been read: alone, or with all others."""
        policy = next(iter(policies.values()), None)
        if faults.restless != collection or policy is None or policy["turn"] >= faults.rounds:
            return
        if id in ("", policy["id"]):
            policy["description"] = f"changed while it was read, {policy['turn']} times"
            _touch(policy)

    def _create(self, state: dict[str, Any], collection: str, given: dict[str, Any]) -> Response:
        name = given.get("name")
        if not isinstance(name, str) or not name:
            return _problem(400, "A policy needs a name")
        if refused := _forbidden(given):
            return refused
        if unknown := self._unknown(state, collection, given):
            return _problem(400, f"There is no policy or group {unknown}")
        state["next"] += 1
        id = secrets.token_hex(8)
        now = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")
        made = {"id": id, "planted": now, "tended": now, "tendedBy": "zinker", "turn": 1, "fixed": False}
        own = {"forWhom": [], **given}
        state["collections"][collection][id] = made | own
        self._save(state)
        policy = state["collections"][collection][id]
        return JSONResponse(_shown(collection, policy), 201, headers={"ETag": _etag(policy)})

    def _update(
        self, state: dict[str, Any], collection: str, policy: dict[str, Any], given: dict[str, Any]
    ) -> Response:
        if unknown := self._unknown(state, collection, given):
            return _problem(400, f"There is no policy or group {unknown}")
        if refused := _forbidden(given):
            return refused
        for key, value in given.items():
            # A complex value is changed property by property (Protocol, section 11.4.3).
            old = policy.get(key)
            is_complex = isinstance(value, dict) and isinstance(old, dict)
            policy[key] = {k: v for k, v in (old | value).items() if v is not None} if is_complex else value
        _touch(policy)
        policy["tendedBy"] = "zinker"
        self._save(state)
        return JSONResponse(_shown(collection, policy), headers={"ETag": _etag(policy)})

    def _delete(self, state: dict[str, Any], collection: str, policy: dict[str, Any]) -> Response:
        for other, names in REFERENCES.items():
            for one in state["collections"][other].values():
                if any(policy["id"] in _listed(one.get(name)) for name in names):
                    return _problem(409, f"{one['name']} refers to it")
        del state["collections"][collection][policy["id"]]
        self._save(state)
        return Response(status_code=204)

    def _unknown(self, state: dict[str, Any], collection: str, given: dict[str, Any]) -> str:
        known = {id for policies in state["collections"].values() for id in policies}
        groups = {group["id"] for group in state["groups"]}
        for name in REFERENCES.get(collection, ()):
            for id in _listed(given.get(name)):
                if id not in known:
                    return str(id)
        wanted = [one.get("people") for one in given.get("forWhom") or []]
        return next((str(id) for id in wanted if id not in groups), "")

    def _save(self, state: dict[str, Any]) -> None:
        path = self._folder / f"{state['tenant']}.json"
        new = path.with_suffix(
            ".new"
        )  # without a flush: it is a stand-in, and this stands for a large database
        new.write_bytes(msgspec.json.encode(state))
        new.replace(path)

    def _logged(self, request: Request, answer: Response) -> Response:
        line = {"method": request.method, "path": request.url.path, "status": answer.status_code}
        self._log.write(json.dumps(line) + "\n")
        return answer


def _basic(header: str) -> tuple[str, str]:
    """Return who signs in, and the secret (RFC 6749, section 2.3.1); empty where nobody does."""
    try:
        pair = base64.b64decode(header.removeprefix("Basic "), validate=True).decode()
    except ValueError:
        return "", ""
    id, _, secret = pair.partition(":")
    return unquote_plus(id), unquote_plus(secret)


def _text(literal: str) -> str:
    """Return the text that a URL has between single quotes, of which one inside is doubled; "" for what is none."""
    is_text = re.fullmatch("'(?:[^']|'')+'", literal)
    return literal[1:-1].replace("''", "'") if is_text else ""


def _unfit(request: Request) -> Response | None:
    """Refuse what a strict service does: options and forms that it does not have."""
    unknown = next((name for name in request.query_params if name[:1] == "$" and name not in _OPTIONS), "")
    if unknown:
        return _problem(501, f"{unknown} is not offered here")
    kind = request.headers.get("Content-Type", "").partition(";")[0].strip()
    if request.method in ("POST", "PATCH") and kind != "application/json":
        return _problem(415, f"What is sent has to be JSON, not {kind or 'nothing'}")
    if request.headers.get("OData-MaxVersion", "4.01") not in ("4.0", "4.01"):
        return _problem(400, "Only versions 4.0 and 4.01 are spoken here")
    return None


def _forbidden(given: dict[str, Any]) -> Response | None:
    name = next((name for name in given if name in SERVER_MADE or name.startswith("@")), "")
    return _problem(400, f"{name} is made by the service") if name else None


def _listed(value: Any) -> list[Any]:
    return value if isinstance(value, list) else [value] if value else []


def _touch(policy: dict[str, Any]) -> None:
    policy["turn"] += 1
    policy["tended"] = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")


def _etag(policy: dict[str, Any]) -> str:
    return f'W/"{policy["id"]}-{policy["turn"]}"'


def _shown(collection: str, policy: dict[str, Any]) -> dict[str, Any]:
    return {"@odata.etag": _etag(policy), **policy, **dict.fromkeys(WRITE_ONLY.get(collection, ()))}


def _problem(status: int, detail: str) -> Response:
    answer = {"type": "about:blank", "title": "Not done", "status": status, "detail": detail}
    return JSONResponse(answer, status, media_type="application/problem+json")


def _throttled(faults: Faults) -> Response:
    answer = _problem(429, "Too many requests")
    answer.headers["Retry-After"] = str(faults.retry_after)
    return answer


def _oauth_error(error: str, description: str, status: int = 400) -> Response:
    return JSONResponse({"error": error, "error_description": description}, status)


async def _broken() -> Any:
    yield b'{"value": ['
    raise ConnectionResetError


def serve(folder: Path, port: int, policies: int = 0) -> None:
    """Serve the tenants of a folder on this machine until it is interrupted."""
    import uvicorn

    service = Service(folder, policies)
    uvicorn.run(service.app(), host="127.0.0.1", port=port, log_level="critical", access_log=False)

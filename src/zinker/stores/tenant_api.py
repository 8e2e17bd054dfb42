"""Talking to a tenant service over open standards: OAuth 2.0, OData 4.01 JSON, SCIM 2.0, RFC 9110 and 9457.

Requests run side by side, as many as allowed. What can be waited for is: Retry-After, tired services, tokens that
expire, connections that are cut. What cannot is a `TenantError`, in the service's own words where it has some.
"""

import contextlib
import datetime
import email.utils
import json
import math
import random
import threading
import time
import warnings
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, Literal, TypeVar
from urllib.parse import quote, urljoin, urlsplit

import httpx
import msgspec

from zinker.stores.pacing import Pace
from zinker.stores.reading import StoreError

T = TypeVar("T")

_TRIES = 12  # of a request that failed for a reason that may pass
_THROTTLED = 200  # times that a service may ask for patience
_LONGEST = 2.0  # seconds between two tries
_TIMEOUT, _CONNECT = 60.0, 10.0
_SPARE = 3  # threads
_HEADERS = {"Accept": "application/json", "Accept-Encoding": "gzip, deflate", "User-Agent": "zinker"}
_PAGE = 1000  # items asked for at a time (OData 4.01, section 8.2.8.5); the service decides
_DEVICE = "urn:ietf:params:oauth:grant-type:device_code"
# What the errors of RFC 6749 and RFC 8628 mean for a technician.
_OAUTH = {
    "invalid_client": "the service does not know the account or its secret",
    "unauthorized_client": "the account is not allowed to sign in this way: an administrator has to consent first",
    "consent_required": "an administrator has to consent first",
    "access_denied": "the person at the other device has refused",
    "expired_token": "the code was not entered in time",
    "invalid_scope": "the account may not have what was asked for",
}


class TenantError(StoreError):
    """The service refused something, or cannot be reached; `status` is that of its answer, 0 without one."""

    def __init__(self, why: str, status: int = 0) -> None:
        super().__init__("Not done in the tenant", why)
        self.status = status


class Unsure(TenantError):
    """Something was sent and no answer came: it may have been done."""


class TenantApi:
    """A connection to one tenant."""

    def __init__(
        self,
        address: str,
        client_id: str,
        secret: Callable[[], str] | None,
        concurrency: int,
        notify: Callable[[str], None],
    ) -> None:
        self._address = address.rstrip("/")
        self._client_id, self._secret, self._notify = client_id, secret, notify
        self._certificates = httpx.create_ssl_context()
        # One for each request under way: in one for all, they would wait for each other.
        self._idle: list[httpx.Client] = []
        # More than may be under way: while some take answers apart, others ask.
        self._pool = ThreadPoolExecutor(concurrency + _SPARE)
        self._lock = threading.Lock()
        self._token: dict[str, Any] = {}
        self._pace = Pace(concurrency)

    def sign_in(self) -> None:
        """Sign in, if that has not been done; raises `TenantError` with the reason where it cannot be."""
        self._valid_token()

    def reach(self) -> None:
        """Find out whether there is a tenant at the address; raises `TenantError`."""
        self._metadata()

    def submit(self, job: Callable[[], T]) -> "Future[T]":
        """Run something side by side with others."""
        return self._pool.submit(job)

    def items(
        self, collection: str, select: tuple[str, ...] = (), name: tuple[str, str] | None = None
    ) -> Iterator[dict[str, Any]]:
        """Yield the items of a collection, page by page; those alone whose property `name[0]` is `name[1]`."""
        query = []
        if select:
            query.append("$select=" + quote(",".join(select)))
        if name:
            text = name[1].replace("'", "''")
            query.append("$filter=" + quote(f"{name[0]} eq '{text}'"))
        url: str | None = f"{self._address}/api/{collection}" + ("?" + "&".join(query) if query else "")
        while url:
            page = self._json(self.request("GET", url, prefer=f"maxpagesize={_PAGE}"))
            values = page.get("value")
            if not isinstance(values, list):
                raise TenantError(f"{collection} is no collection of OData")
            yield from values
            following = page.get("@odata.nextLink") or page.get("@nextLink")
            url = self._next(collection, url, following) if following else None

    def _next(self, collection: str, url: str, following: object) -> str:
        """Return the address of the next page, which has to be the same service's; raises `TenantError`."""
        found = urljoin(url, str(following))
        if urlsplit(found)[:2] != urlsplit(self._address)[:2] or found == url:
            raise TenantError(
                f"the next page of {collection} would be at {found[:200]}, which is not followed"
            )
        return found

    def item(self, collection: str, id: str) -> dict[str, Any]:
        """Return one item; raises `TenantError`."""
        return self._json(self.request("GET", self._url(collection, id)))

    def create(self, collection: str, item: dict[str, Any]) -> dict[str, Any]:
        """Create an item; raises `Unsure` where it may have been created."""
        return self._json(self.request("POST", self._url(collection), item))

    def update(self, collection: str, id: str, changed: dict[str, Any], etag: str) -> None:
        """Change properties of an item, if it is the one of that ETag."""
        self.request("PATCH", self._url(collection, id), changed, etag)

    def delete(self, collection: str, id: str, etag: str) -> None:
        """Delete an item, if it is the one of that ETag."""
        self.request("DELETE", self._url(collection, id), None, etag)

    def people(self, kind: Literal["Groups", "Users"]) -> Iterator[tuple[str, str]]:
        """Yield id and name of every group or user (SCIM, RFC 7643, section 4; RFC 7644, section 3.4.2)."""
        start, name = 1, "displayName" if kind == "Groups" else "userName"
        while True:
            url = f"{self._address}/scim/v2/{kind}?startIndex={start}&count=100"
            page = self._json(self.request("GET", url))
            found = page.get("Resources", [])
            yield from ((str(one["id"]), str(one[name])) for one in found)
            start += len(found)
            if not found or start > page.get("totalResults", 0):
                return

    def request(
        self, method: str, url: str, body: Any = None, etag: str = "", prefer: str = ""
    ) -> httpx.Response:
        """Send a request, and again where that makes sense; raises `TenantError`."""
        failed = throttled = 0
        while True:
            token = self._valid_token()
            headers = {"Authorization": f"Bearer {token}", **_HEADERS}
            if etag:
                headers["If-Match"] = etag
            if prefer:
                headers["Prefer"] = prefer
            # Made directly: what the client would add to each of thousands of requests is not needed.
            request = httpx.Request(method, url, headers=headers, json=body)
            try:
                with self._pace, self._client() as client:
                    answer = client.send(request)
            except httpx.TransportError as error:
                failed += 1
                if method == "POST":
                    raise Unsure(f"the connection was cut: {_plain(error)}") from None
                if failed > _TRIES:
                    raise TenantError(_unreachable(url, error)) from None
                self._pause(failed)
                continue
            if answer.status_code == 401 and failed < _TRIES:
                failed += 1
                self._forget(token)
            elif (
                answer.status_code in (429, 503)
                and "Retry-After" in answer.headers
                and throttled < _THROTTLED
            ):
                throttled += 1
                self._pace.hold(_seconds(answer.headers["Retry-After"]))
            elif answer.status_code in (500, 502, 503, 504) and failed < _TRIES:
                failed += 1
                self._pause(failed)
                if method == "POST":
                    raise Unsure(_told(answer), answer.status_code)
            elif answer.is_success:
                self._pace.answered()
                return answer
            else:
                raise TenantError(_told(answer), answer.status_code)

    def close(self) -> None:
        """Let go of the connection."""
        self._pool.shutdown(cancel_futures=True)
        for client in self._idle:
            client.close()

    @contextlib.contextmanager
    def _client(self) -> Iterator[httpx.Client]:
        timeout = httpx.Timeout(_TIMEOUT, connect=_CONNECT)
        try:
            client = self._idle.pop()
        except IndexError:
            client = httpx.Client(timeout=timeout, verify=self._certificates)
        try:
            yield client
        finally:
            self._idle.append(client)

    def _url(self, collection: str, id: str = "") -> str:
        key = f"('{quote(id, safe='')}')" if id else ""
        return f"{self._address}/api/{collection}{key}"

    def _json(self, answer: httpx.Response) -> dict[str, Any]:
        try:
            found = msgspec.json.decode(answer.content)
        except (msgspec.DecodeError, UnicodeDecodeError):
            try:  # the standard library reads half a character, too
                found = json.loads(answer.content, parse_float=_finite, parse_constant=_finite)
            except (ValueError, RecursionError):
                raise TenantError(f"{answer.url} answered with what is no JSON", answer.status_code) from None
        except RecursionError:
            raise TenantError(f"{answer.url} answered with what is nested too deeply") from None
        if not isinstance(found, dict):
            raise TenantError(f"{answer.url} answered with what is no object", answer.status_code)
        return found

    def _pause(self, failed: int) -> None:
        time.sleep(min(_LONGEST, 0.05 * 2**failed) * random.uniform(0.5, 1))  # noqa: S311 - only to spread tries

    def _forget(self, token: str) -> None:
        with self._lock:
            if self._token.get("access_token") == token:
                self._token = {key: value for key, value in self._token.items() if key == "refresh_token"}

    def _valid_token(self) -> str:
        with self._lock:
            if "access_token" not in self._token:
                self._token = self._sign_in()
            return str(self._token["access_token"])

    def _sign_in(self) -> dict[str, Any]:
        """Get a token: by refreshing, with the account's secret, or by a person at another device."""
        with warnings.catch_warnings(record=True):  # of what the library will rest on later
            from authlib.integrations.base_client import OAuthError
            from authlib.integrations.httpx_client import OAuth2Client

        metadata = self._metadata()
        secret = self._secret() if self._secret else None
        method = "client_secret_post" if secret else "none"
        client = OAuth2Client(self._client_id, secret, token_endpoint_auth_method=method, timeout=_TIMEOUT)
        url = metadata["token_endpoint"]
        for attempt in range(1, _TRIES + 1):
            try:
                if "refresh_token" in self._token:
                    return dict(client.refresh_token(url, refresh_token=self._token["refresh_token"]))
                if secret:
                    return dict(client.fetch_token(url, grant_type="client_credentials"))
                return self._by_device(client, metadata)
            except OAuthError as error:
                if "refresh_token" in self._token:
                    self._token = {}
                    continue
                why = _OAUTH.get(str(error.error), f"the service refused to let {self._client_id} in")
                told = f" ({error.description})" if error.description else ""
                raise TenantError(why + told, 401) from None
            except httpx.TransportError as error:
                if attempt == _TRIES:
                    raise TenantError(_unreachable(url, error)) from None
                self._pause(attempt)
        raise TenantError(f"the service refused to let {self._client_id} in", 401)

    def _metadata(self) -> dict[str, Any]:
        """Return where the service gives out tokens (RFC 8414, section 3.1)."""
        split = urlsplit(self._address)
        url = f"{split.scheme}://{split.netloc}/.well-known/oauth-authorization-server{split.path}"
        for attempt in range(1, _TRIES + 1):
            try:
                with self._client() as client:
                    answer = client.get(url)
                break
            except (httpx.TransportError, httpx.UnsupportedProtocol, httpx.InvalidURL) as error:
                if attempt == 3 or isinstance(error, httpx.ConnectError | httpx.UnsupportedProtocol):
                    raise TenantError(_unreachable(self._address, error)) from None
                self._pause(attempt)
        if not answer.is_success:
            raise TenantError(
                f"{self._address} is not the address of a tenant: {_told(answer)}", answer.status_code
            )
        found = self._json(answer)
        ends = [str(found.get(name, "")) for name in ("token_endpoint", "device_authorization_endpoint")]
        if not ends[0]:
            raise TenantError(f"{self._address} does not say where it gives out tokens")
        if any(end.startswith("http:") and urlsplit(end)[:2] != split[:2] for end in ends):
            raise TenantError(f"{self._address} would have secrets sent in clear, to {ends[0]}")
        return found

    def _by_device(self, client: Any, metadata: dict[str, Any]) -> dict[str, Any]:
        """Let a person sign in at another device (RFC 8628)."""
        from authlib.integrations.base_client import OAuthError

        if "device_authorization_endpoint" not in metadata:
            raise TenantError("the service has no sign-in at another device, and there is no secret")
        given = {"client_id": self._client_id}
        with self._client() as http:
            asked = self._json(http.post(metadata["device_authorization_endpoint"], data=given))
        self._notify(f"To sign in, open {asked['verification_uri']} and enter {asked['user_code']}.")
        interval = float(asked.get("interval", 5))
        ends = time.monotonic() + float(asked.get("expires_in", 300))
        while time.monotonic() < ends:
            time.sleep(interval)
            try:
                code = asked["device_code"]
                return dict(
                    client.fetch_token(
                        metadata["token_endpoint"],
                        grant_type=_DEVICE,
                        device_code=code,
                        client_id=self._client_id,
                    )
                )
            except OAuthError as error:
                if error.error == "slow_down":
                    interval += 5
                elif error.error != "authorization_pending":
                    raise
        raise TenantError("the code was not entered in time")


def _finite(text: str) -> float:
    """Return a number; raises `ValueError` for what JSON has no word for."""
    value = float(text)
    if not math.isfinite(value):
        raise ValueError(text)
    return value


def _told(answer: httpx.Response) -> str:
    """Return what a service says about an error (RFC 9457), or what its status means."""
    try:
        told = answer.json()
        said = told.get("detail") or told.get("title") or told.get("error", {}).get("message")
    except (ValueError, AttributeError):
        said = None
    status = f"{answer.status_code} {answer.reason_phrase}".strip()
    return f"{said} ({status})" if said else status


def _unreachable(url: str, error: Exception) -> str:
    host = urlsplit(url).netloc or url
    if "CERTIFICATE" in str(error).upper():
        return f"{host} has a certificate that does not hold: {_plain(error)}"
    return f"{host} cannot be reached: {_plain(error)}"


def _plain(error: Exception) -> str:
    return str(error).removeprefix("[Errno ").rpartition("] ")[2] or type(error).__name__


def _seconds(text: str) -> float:
    """Return how long to wait (RFC 9110, section 10.2.3): seconds, or until a point in time."""
    if text.strip().isdecimal():
        return float(text)
    try:
        then = email.utils.parsedate_to_datetime(text)
    except ValueError:
        return 1.0
    return max(0.0, (then - datetime.datetime.now(datetime.UTC)).total_seconds())

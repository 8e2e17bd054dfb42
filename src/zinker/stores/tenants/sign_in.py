"""Signing in to a tenant: OAuth 2.0 (RFC 6749) with the metadata of RFC 8414, found also by RFC 9728.

An account of a program signs in with its secret (section 2.3.1) or its private key (RFC 7523), a person at another
device (RFC 8628). What is asked for: scopes, a resource (RFC 8707), an audience.
"""

import base64
import json
import re
import secrets
import threading
import time
from collections.abc import Callable
from typing import Any, NamedTuple
from urllib.parse import quote_plus, urlencode, urlsplit

import msgspec

from zinker.stores.credentials import Credential, Grant
from zinker.stores.tenants.connection import Answer, Connection
from zinker.stores.tenants.service import Directory, Service, TenantError, origin, shown

_DEVICE = "urn:ietf:params:oauth:grant-type:device_code"
_ASSERTION = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"
_LASTS = 120  # seconds that an assertion is good for
# What the errors of RFC 6749 and RFC 8628 mean for a technician.
_OAUTH = {
    "invalid_client": "the service does not know the account or its secret",
    "unauthorized_client": "the account is not allowed to sign in this way: an administrator has to consent first",
    "consent_required": "an administrator has to consent first",
    "access_denied": "the person at the other device has refused",
    "expired_token": "the code was not entered in time",
    "invalid_scope": "the account may not have what was asked for",
    "invalid_target": "the service gives out no tokens for what `resource` or `audience` names",
}
# The algorithms of signatures (RFC 7518), by the kind of key; the first that the service knows is taken.
_ALGORITHMS = {
    ("RSA", ""): ("PS256", "RS256"),
    ("EC", "P-256"): ("ES256",),
    ("EC", "P-384"): ("ES384",),
    ("EC", "P-521"): ("ES512",),
    ("OKP", "Ed25519"): ("EdDSA", "Ed25519"),
}


class Server(NamedTuple):
    """Who gives out tokens, by its own metadata (RFC 8414, section 2)."""

    issuer: str
    token: str
    device: str
    methods: tuple[str, ...]
    algorithms: tuple[str, ...]


class OAuthError(TenantError):
    """The service gives no token; `error` is its word for the reason."""

    def __init__(self, error: str, why: str, status: int) -> None:
        super().__init__(why, status)
        self.error = error


class SignIn:
    """Gets tokens for one tenant, and gets new ones when they run out."""

    def __init__(
        self,
        service: Service,
        connection: Connection,
        credential: Credential,
        notify: Callable[[str], None],
        is_attended: Callable[[], bool],
    ) -> None:
        self.service = service
        self._connection, self._credential = connection, credential
        self._notify, self._is_attended = notify, is_attended
        self._server: Server | None = None
        self._token = ""
        self._refresh = ""
        self._lock = threading.RLock()

    def server(self) -> Server:
        """Find out who gives out tokens; raises `TenantError`."""
        with self._lock:
            if self._server is None:
                self._server = self._found()
            return self._server

    def token(self) -> str:
        """Return a token, signing in where there is none; raises `TenantError` and `Refused`."""
        with self._lock:
            if not self._token:
                self._token = self._new_token(self.server())
            return self._token

    def forget(self, token: str) -> None:
        """Forget a token that the service does not take any more."""
        with self._lock:
            if self._token == token:
                self._token = ""

    # Who gives out tokens.

    def _found(self) -> Server:
        service = self.service
        if service.issuer:
            return self._metadata(service.issuer)
        issuer = self._named_by_the_service(service.root)
        if issuer:
            if not self._connection.is_told(issuer):
                raise TenantError(
                    f"the service says that {shown(issuer)} gives out its tokens, which zinker.toml does not name",
                    then=f'If that is right, add issuer = "{shown(issuer)}" to its entry.',
                )
            return self._metadata(issuer)
        older = service.root.rstrip("/")
        try:
            server = self._metadata(older)
        except TenantError as error:
            if error.status != 404:
                raise
            raise TenantError(
                f"{service.root} does not say who gives out its tokens: {error.why}",
                error.status,
                'Add issuer = "https://..." to its entry in zinker.toml.',
            ) from None
        self._as_earlier_versions_had_it(older)
        return server

    def _as_earlier_versions_had_it(self, address: str) -> None:
        """Go by the address alone, as earlier versions did, and print what is to be written now."""
        root, directory = f"{address}/api", f"{address}/scim/v2"
        self.service = msgspec.structs.replace(
            self.service, root=root, issuer=address, directory=Directory(address=directory)
        )
        self._notify(
            f"The entry of {self.service.place} in zinker.toml is of an earlier version. It is understood; "
            f'write it so:\naddress = "{root}"\nissuer = "{address}"\ndirectory = "{directory}"'
        )

    def _named_by_the_service(self, root: str) -> str:
        """Return who gives out tokens for a service by its own word (RFC 9728, sections 3 and 5), or ""."""
        split = urlsplit(root)
        path = split.path.rstrip("/")
        answer = self._get(f"{split.scheme}://{split.netloc}/.well-known/oauth-protected-resource{path}")
        if not answer.is_success:
            try:
                challenge = self._get(root).headers.get("WWW-Authenticate", "")
            except TenantError as error:
                if not error.status:
                    raise
                return ""
            named = re.search(r'resource_metadata\s*=\s*"([^"]+)"', challenge)
            if not named or origin(named[1]) != origin(root):
                return ""
            answer = self._get(named[1])
            if not answer.is_success:
                return ""
        try:
            found = answer.json()
        except TenantError:
            return ""  # a page for people, at every address
        resource, issuers = str(found.get("resource", "")), found.get("authorization_servers")
        if resource.rstrip("/") != root.rstrip("/"):
            raise TenantError(f"{answer.url} is about another service, {shown(resource)}")
        known = [one for one in issuers if isinstance(one, str)] if isinstance(issuers, list) else []
        if len(known) > 1:
            told = ", ".join(map(shown, known[:5]))
            raise TenantError(f"several give out tokens: {told}", then="Name one as `issuer` in zinker.toml.")
        return known[0] if known else ""

    def _metadata(self, issuer: str) -> Server:
        """Return what an issuer says of itself (RFC 8414, section 3, or as OpenID has it); it must be the same."""
        split = urlsplit(issuer)
        path = split.path.rstrip("/")
        base = f"{split.scheme}://{split.netloc}"
        urls = (
            f"{base}/.well-known/oauth-authorization-server{path}",
            f"{base}{path}/.well-known/openid-configuration",
        )
        for url in urls:
            answer = self._get(url)
            if answer.is_success:
                break
        else:
            why = f"{issuer} is not the address of a tenant, or does not say where it gives out tokens"
            raise TenantError(f"{why}: {answer.told()}", answer.status)
        found = answer.json()
        if found.get("issuer") != issuer:
            raise TenantError(
                f"{url} is of another issuer, {shown(found.get('issuer', ''))}, so no secret is sent there",
                then=f'If it is the right one, write issuer = "{shown(found.get("issuer", ""))}" in zinker.toml.',
            )
        ends = [str(found.get(name) or "") for name in ("token_endpoint", "device_authorization_endpoint")]
        if not ends[0]:
            raise TenantError(f"{issuer} does not say where it gives out tokens")
        for end in filter(None, ends):
            self._connection.check(end, f"what {issuer} gives out tokens at")
        methods = _texts(found.get("token_endpoint_auth_methods_supported"))
        algorithms = _texts(found.get("token_endpoint_auth_signing_alg_values_supported"))
        # The default of RFC 8414.
        return Server(issuer, ends[0], ends[1], methods or ("client_secret_basic",), algorithms)

    def _get(self, url: str) -> Answer:
        """Ask for something that is for everybody, and so is not secret; raises `TenantError`."""
        return self._connection.send("GET", url, lambda: {"Accept": "application/json"})

    # Getting a token.

    def _new_token(self, server: Server) -> str:
        """Return a token: by refreshing, with the account's own credential, or by a person at another device."""
        is_by_person = self.service.sign_in == "device"
        if not is_by_person:
            return self._taken(
                server, self._ask(server, {"grant_type": "client_credentials", **self._wanted()})
            )
        tried: set[str] = set()
        while refresh := self._refresh_token(server, tried):
            tried.add(refresh)
            try:
                form = {"grant_type": "refresh_token", "refresh_token": refresh, **self._wanted()}
                return self._taken(server, self._ask(server, form))
            except OAuthError as error:
                if error.error not in ("invalid_grant", "expired_token"):
                    raise
        kept = self._granted(server)
        why = (
            f"the grant that a person gave on {kept.since} has run out"
            if kept
            else "nobody has signed in yet"
        )
        if self._credential.is_kept and not self._is_attended():
            then = f"Run `zinker places` at a terminal, and sign in to {self.service.place} there."
            raise TenantError(why, 401, then)
        if kept:
            self._notify(f"{self.service.place}: {why}.")
        return self._taken(server, self._by_device(server))

    def _refresh_token(self, server: Server, tried: set[str]) -> str:
        """Return a refresh token that has not been tried, or ""; another run may have kept a newer one."""
        kept = self._granted(server)
        known = (self._refresh, kept.refresh_token if kept else "")
        return next((token for token in known if token and token not in tried), "")

    def _granted(self, server: Server) -> Grant | None:
        """Return what a person has granted to this account at this issuer, if that is kept."""
        kept = self._credential.grant()
        is_ours = kept is not None and (kept.issuer, kept.client_id) == (
            server.issuer,
            self.service.client_id,
        )
        return kept if is_ours else None

    def _taken(self, server: Server, told: dict[str, Any]) -> str:
        """Take what a service has given out; raises `TenantError` where that is no token for us."""
        token, kind = told.get("access_token"), told.get("token_type")
        if not isinstance(token, str) or not re.fullmatch(r"[A-Za-z0-9\-._~+/]+=*", token):
            raise TenantError(f"{server.token} gave out what is no token")
        if not isinstance(kind, str) or kind.lower() != "bearer":
            raise TenantError(f"{server.token} gave out a token of the kind {shown(kind)}, not Bearer")
        refresh = told.get("refresh_token")
        if isinstance(refresh, str) and refresh and refresh != self._refresh:
            self._refresh = refresh
            self._credential.keep(refresh, server.issuer)
        return token

    def _wanted(self) -> dict[str, str]:
        service = self.service
        found = {
            "scope": " ".join(service.scopes),
            "resource": service.resource,
            "audience": service.audience,
        }
        return {name: value for name, value in found.items() if value}

    def _ask(self, server: Server, form: dict[str, str]) -> dict[str, Any]:
        """Ask for a token; raises `OAuthError` with the service's reason where it gives none."""
        headers, more = self._who(server)
        return self._post(server.token, {**form, **more}, headers)

    def _post(self, url: str, form: dict[str, str], headers: dict[str, str]) -> dict[str, Any]:
        sent = {"Accept": "application/json", "Content-Type": "application/x-www-form-urlencoded", **headers}
        answer = self._connection.send("POST", url, lambda: sent, urlencode(form).encode())
        try:
            told = answer.json()
        except TenantError:
            if answer.is_success:
                raise
            raise TenantError(f"{url} gives out no token now: {answer.told()}", answer.status) from None
        if answer.is_success:
            return told
        error = str(told.get("error", ""))
        if not error or answer.status >= 500:
            raise TenantError(f"{url} gives out no token now: {answer.told()}", answer.status)
        why = _OAUTH.get(error, f"the service refused to let {self.service.client_id} in")
        description = shown(told.get("error_description") or ("" if error in _OAUTH else error))
        raise OAuthError(error, f"{why} ({description})" if description else why, 401)

    def _who(self, server: Server) -> tuple[dict[str, str], dict[str, str]]:
        """Return the headers and the form with which the account proves itself, in a way that the service takes."""
        id = self.service.client_id
        if self.service.sign_in == "device":
            return {}, {"client_id": id}
        known = server.methods
        if self.service.sign_in == "key":
            if "private_key_jwt" not in known:
                raise TenantError(f"{server.issuer} takes no keys, only {', '.join(map(shown, known))}")
            form = {"client_assertion_type": _ASSERTION, "client_assertion": self._assertion(server)}
            return {}, {"client_id": id, **form}
        secret = self._credential.secret()
        if "client_secret_basic" in known:
            pair = f"{quote_plus(id)}:{quote_plus(secret)}"
            return {"Authorization": f"Basic {base64.b64encode(pair.encode()).decode()}"}, {}
        if "client_secret_post" in known:
            return {}, {"client_id": id, "client_secret": secret}
        raise TenantError(f"{server.issuer} takes no secrets, only {', '.join(map(shown, known))}")

    def _assertion(self, server: Server) -> str:
        """Return a signed statement of who we are (RFC 7523, section 3), for the issuer and nobody else."""
        try:
            from jwcrypto import jwk, jwt
            from jwcrypto.common import JWException
        except ImportError as error:
            raise TenantError(f"what signs cannot be loaded on this machine: {error}") from None
        text = self._credential.secret()
        told = self._credential.told
        try:
            is_json = text.startswith("{")
            key = jwk.JWK(**json.loads(text)) if is_json else jwk.JWK.from_pem(text.encode())
        except (ValueError, TypeError, JWException):
            raise TenantError(f"what is in {told} is no private key, in PEM or as JWK") from None
        if not key.has_private:
            raise TenantError(f"what is in {told} is no private key, but a public one")
        fit = _ALGORITHMS.get((str(key["kty"]), str(key.get("crv", ""))), ())
        chosen = next((name for name in fit if not server.algorithms or name in server.algorithms), "")
        if not chosen:
            raise TenantError(f"{server.issuer} takes no keys of the kind that is in {told}")
        now = int(time.time())
        claims = {
            "iss": self.service.client_id,
            "sub": self.service.client_id,
            "aud": server.issuer,
            "iat": now,
            "exp": now + _LASTS,
            "jti": secrets.token_urlsafe(24),
        }
        # A key in PEM has no name of its own, and the service may have given it any.
        named = {"kid": key["kid"]} if is_json and key.get("kid") else {}
        header = {"alg": chosen, "typ": "JWT", **named}
        made = jwt.JWT(header=header, claims=claims, algs=[chosen])
        made.make_signed_token(key)
        return str(made.serialize())

    def _by_device(self, server: Server) -> dict[str, Any]:
        """Let a person sign in at another device (RFC 8628)."""
        if not server.device:
            raise TenantError(
                f"{server.issuer} has no sign-in at another device", then="Use a secret or a key."
            )
        asked = self._post(server.device, {"client_id": self.service.client_id, **self._wanted()}, {})
        texts = [asked.get(name) for name in ("device_code", "user_code", "verification_uri")]
        if not all(isinstance(text, str) and text for text in texts):
            raise TenantError(f"{server.device} gave out no code")
        code, user_code, page = map(str, texts)
        self._notify(f"To sign in to {self.service.place}, open {shown(page)} and enter {shown(user_code)}.")
        interval = max(0.2, _number(asked.get("interval"), 5))
        ends = time.monotonic() + _number(asked.get("expires_in"), 300)
        form = {"grant_type": _DEVICE, "device_code": code, "client_id": self.service.client_id}
        while time.monotonic() < ends:
            time.sleep(interval)
            try:
                return self._post(server.token, form, {})
            except OAuthError as error:
                if error.error == "slow_down":
                    interval += 5
                elif error.error != "authorization_pending":
                    raise
        raise TenantError(_OAUTH["expired_token"])


def _texts(value: object) -> tuple[str, ...]:
    return tuple(one for one in value if isinstance(one, str)) if isinstance(value, list) else ()


def _number(value: object, usual: float) -> float:
    """Return seconds that a service names, within what makes sense."""
    is_number = isinstance(value, int | float) and not isinstance(value, bool)
    return min(max(0.0, float(str(value))), 3600.0) if is_number else usual

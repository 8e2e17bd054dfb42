"""A tenant's collections and items, as OData 4.01 has them; 4.0 is understood.

Sections named here are those of its Protocol, URL Conventions and JSON Format.
"""

import re
from collections.abc import Callable, Iterable, Iterator
from typing import Any
from urllib.parse import quote

from zinker.formats.walk import Digits, exact
from zinker.model.errors import DocumentError
from zinker.model.policy import Link, PolicyShape
from zinker.stores.tenants import csdl
from zinker.stores.tenants.connection import Answer, Connection, joined
from zinker.stores.tenants.policies import ETAG, TYPE, Made, Raw, dumped
from zinker.stores.tenants.service import Directory, Key, TenantError, origin, shown
from zinker.stores.tenants.sign_in import SignIn

# Told of an item that is none: what is wrong with it, and which of the list it is.
Odd = Callable[[str, int], None]

_PAGE = 500  # items asked for at a time (section 8.2.8.5 of the protocol); the service decides
_IDLE_PAGES = 100  # that bring nothing new, in a row
_KEY_TRIES = 4  # with tokens that may have run out while the service was waited for
_IEEE = "application/json;IEEE754Compatible=true"
_NUMBER = re.compile(r"-?[0-9]+(\.[0-9]+)?([eE][-+]?[0-9]+)?")
_GUID = re.compile(r"[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}")
# Types whose values stand in a URL without quotes.
_BARE = re.compile(
    r"Edm\.(Guid|S?Byte|Int(16|32|64)|Decimal|Single|Double|Boolean|Date|DateTimeOffset|TimeOfDay)"
)


class Api:
    """The collections of one tenant."""

    def __init__(self, connection: Connection, sign_in: SignIn) -> None:
        self.connection, self._sign_in = connection, sign_in
        self._model: csdl.Model | None = None
        self._has_looked = False
        self._is_ieee = False  # numbers beyond JavaScript's come, and go, as texts
        self._accept = "application/json"

    @property
    def root(self) -> str:
        """Where the collections are; known once it is known who gives out tokens."""
        return self._sign_in.service.root.rstrip("/")

    @property
    def directory(self) -> Directory:
        """Who has the groups and the users."""
        return self._sign_in.service.directory

    def reach(self) -> None:
        """Find out whether there is a service that lets people in; raises `TenantError`."""
        self._sign_in.server()

    def sign_in(self) -> None:
        """Sign in, if that has not been done; raises `TenantError` with the reason where it cannot be."""
        self._sign_in.token()

    def model(self) -> csdl.Model:
        """Return what the service says of its types; nothing is known where it does not."""
        if not self._has_looked:
            self.sign_in()
            self._model = self._metadata()
            self._has_looked = True
            if self._model is not None:
                self._accept = _IEEE
        return self._model or csdl.Model()

    def _metadata(self) -> csdl.Model | None:
        accept = {"Accept": "application/xml, application/json;q=0.9"}
        try:
            answer = self.request("GET", f"{self.root}/$metadata", headers=accept)
            return csdl.read(answer.content)
        except (TenantError, DocumentError) as error:
            if isinstance(error, TenantError) and not error.status:
                raise
            return None  # subject files say what is needed, then

    # Items, and what tells them.

    def key_names(self, path: str, shape: PolicyShape) -> tuple[str, ...]:
        """Return the properties that tell the items of a collection."""
        return shape.ids or self.model().key(self.model().type_of(path)) or ("id",)

    def made(self, path: str, shape: PolicyShape) -> Made:
        """Return what the service makes: as the subject file has it, and by its metadata."""
        known = self.model().properties(self.model().type_of(path)).values()
        key = self.key_names(path, shape)
        rest = (*shape.made, *(one.name for one in known if one.is_made and one.name not in key))
        return Made(key, tuple(dict.fromkeys(rest)))

    def key_of(self, path: str, shape: PolicyShape, item: Raw) -> Key | None:
        """Return what tells an item of a collection; None for one that lacks it."""
        names = self.key_names(path, shape)
        values = [item.get(name) for name in names]
        if not all(isinstance(value, str | int) and value != "" for value in values):
            return None
        known = self.model().properties(self.model().type_of(path))
        types = [shape.types.get(name) or (known[name].type if name in known else "") for name in names]
        literals = [_literal(value, type) for value, type in zip(values, types, strict=True)]
        if len(names) == 1:
            return Key(literals[0], values[0])
        pairs = zip(names, literals, strict=True)
        return Key(",".join(f"{name}={literal}" for name, literal in pairs), tuple(values))

    def url(self, path: str, literal: str = "") -> str:
        """Return the URL of a collection, or of an item of it."""
        return f"{self.root}/{quote(path, safe='/')}{bracketed(literal) if literal else ''}"

    def items(
        self, path: str, shape: PolicyShape, odd: Odd, select: bool = False, name: str = ""
    ) -> Iterator[Raw]:
        """Yield the items of a collection, page by page, each once; raises `TenantError`.

        With `select`, only what tells them; with `name`, those that people call so, where the service can look for
        that. `odd` is told of what is no item.
        """
        query = []
        if select:
            wanted = (*self.key_names(path, shape), shape.name)
            query.append("$select=" + quote(",".join(dict.fromkeys(wanted)), safe=","))
        elif not shape.comes_in_parts and (expanded := _expanded(shape)):
            query.append("$expand=" + quote(expanded, safe=_SAFE))
        if name:
            query.append("$filter=" + quote(f"{shape.name} eq {_literal(name, 'Edm.String')}", safe="'"))
        url = self.url(path) + ("?" + "&".join(query) if query else "")
        seen: set[str] = set()
        idle = 0
        for number, page in self.pages(path, url):
            before = len(seen)
            for place, item in enumerate(page, number):
                if not isinstance(item, dict):
                    odd("it is no object", place)
                    continue
                raw = self._taken(path, item)
                key = self.key_of(path, shape, raw)
                if key is None:
                    odd(f"it has no {' and '.join(self.key_names(path, shape))}", place)
                elif key.literal not in seen:  # a list that changes meanwhile has some twice
                    seen.add(key.literal)
                    is_part = select or shape.comes_in_parts
                    yield raw if is_part else self.completed(path, self.url(path, key.literal), raw, shape)
            idle = idle + 1 if len(seen) == before else 0
            if idle > _IDLE_PAGES:
                raise TenantError(f"the list of {path} goes on and on, and brings nothing new")

    def pages(self, what: str, url: str) -> Iterator[tuple[int, list[Any]]]:
        """Yield the pages of a list, each with the number of its first item; raises `TenantError`."""
        most = self._sign_in.service.limits.pages
        asked: set[str] = set()
        count = 0
        while url:
            asked.add(url)
            if len(asked) > most:
                raise TenantError(
                    f"{what} has more than the {most:,} pages that its entry in zinker.toml allows"
                )
            prefer = f"maxpagesize={_PAGE}, odata.maxpagesize={_PAGE}"
            answer = self.request("GET", url, headers={"Prefer": prefer})
            page = answer.json()
            values = page.get("value")
            if not isinstance(values, list):
                raise TenantError(f"{what} is no collection of OData: it answers without `value`")
            yield count + 1, values
            count += len(values)
            url = self._next(what, url, page, "", asked)

    def _next(self, what: str, url: str, page: Raw, of: str, asked: Iterable[str] = ()) -> str:
        """Return the URL of the next page, or ""; it has to be the same service's. Raises `TenantError`."""
        link = page.get(f"{of}@odata.nextLink") or page.get(f"{of}@nextLink")
        if not link:
            return ""
        # Relative ones count from the context, where there is one (JSON Format 4.01, section 4.5.1).
        context = page.get("@odata.context") or page.get("@context") or ""
        found = joined(joined(url, str(context)), str(link))
        if origin(found) != origin(self.root):
            raise TenantError(f"the next page of {what} would be at {shown(found)}, which is not followed")
        if found in asked:
            raise TenantError(f"the pages of {what} go in a circle: {shown(found)} comes twice")
        return found

    def item(self, path: str, literal: str, shape: PolicyShape) -> Raw:
        """Return one item with what belongs to it; raises `TenantError`."""
        expanded = _expanded(shape)
        query = "?$expand=" + quote(expanded, safe=_SAFE) if expanded else ""
        url = self.url(path, literal)
        raw = self._taken(path, *self._single(self.request("GET", url + query)))
        return self.completed(path, url, raw, shape)

    def completed(self, path: str, url: str, raw: Raw, shape: PolicyShape) -> Raw:
        """Return an item with what has to be asked for by itself, and the rest of what came in part."""
        for name, link in shape.links.items():
            if link.read == "apart":
                raw[name] = [
                    item for _, page in self.pages(f"{path}/{name}", f"{url}/{name}") for item in page
                ]
            more = self._next(f"{path}/{name}", url, raw, name)
            if more:
                pages = self.pages(f"{path}/{name}", more)
                raw[name] = [*(raw.get(name) or []), *(item for _, page in pages for item in page)]
            if link.write == "ref":
                raw[name] = self._referred(link, raw.get(name))
        return raw

    def _referred(self, link: Link, found: Any) -> Any:
        """Return what tells the items that references lead to, in place of the items."""
        if isinstance(found, dict):
            key = self.key_of(link.to, PolicyShape(id=link.id), found)
            return key.value if key else None
        known = (self._referred(link, one) for one in found) if isinstance(found, list) else ()
        return [value for value in known if value is not None]

    def _single(self, answer: Answer) -> tuple[Raw, str]:
        return answer.json(), answer.headers.get("ETag", "")

    def _taken(self, path: str, item: Raw, etag: str = "") -> Raw:
        """Return an item with numbers as such, its ETag by one name, and its type where it has one of its own."""
        raw = self._typed(item, self.model().type_of(path), to_service=False) if self._is_ieee else dict(item)
        tag = raw.get(ETAG) or raw.pop("@etag", None) or etag
        if isinstance(tag, str) and tag:
            raw[ETAG] = tag
        return raw

    def _typed(self, value: Any, type: str, to_service: bool, depth: int = 0) -> Any:
        """Return a value with numbers beyond JavaScript's as the service has them, or as everybody else has."""
        if isinstance(value, list):
            return [self._typed(item, type, to_service, depth + 1) for item in value]
        if isinstance(value, dict):
            own = str(value.get(TYPE) or value.get("@type") or "").removeprefix("#") or type
            model = self.model()
            types = {name: one.type for name, one in model.properties(own).items()}
            types |= {name: one.type for name, one in model.navigations(own).items()}
            return {
                name: self._typed(item, types[name], to_service, depth + 1) if name in types else item
                for name, item in value.items()
            }
        if not csdl.is_exact(type):
            return value
        if to_service:
            return (
                str(value)
                if isinstance(value, int | float | Digits) and not isinstance(value, bool)
                else value
            )
        if isinstance(value, str) and _NUMBER.fullmatch(value):
            return int(value) if value.lstrip("-").isdecimal() else exact(value)
        return value

    # Changes.

    def create(self, path: str, shape: PolicyShape, item: Raw) -> Raw | None:
        """Create an item; returns it as the service has it, None where it does not say.

        Raises `Unsure` where it may have been created.
        """
        return self._made(path, shape, self._change("POST", self.url(path), item, self.model().type_of(path)))

    def _made(self, path: str, shape: PolicyShape, answer: Answer) -> Raw | None:
        if answer.status != 202 and answer.content.strip():
            try:
                raw = self._taken(path, *self._single(answer))
                if self.key_of(path, shape, raw) is not None:
                    return raw
            except TenantError:
                pass  # it was created all the same, and is looked for
        where = answer.headers.get("Location") or answer.headers.get("OData-EntityId")
        if where and answer.status != 202:
            found = joined(answer.url, where)
            if origin(found) == origin(self.root):
                return self._taken(path, *self._single(self.request("GET", found)))
        return None

    def update(self, path: str, literal: str, changed: Raw, etag: str) -> None:
        """Change properties of an item, if it is the one of that ETag."""
        self._change("PATCH", self.url(path, literal), changed, self.model().type_of(path), etag)

    def delete(self, path: str, literal: str, etag: str) -> None:
        """Delete an item, if it is the one of that ETag."""
        self._change("DELETE", self.url(path, literal), None, "", etag)

    def post(self, url: str, body: Raw) -> None:
        """Create what belongs to an item, or have an action carried out."""
        self._change("POST", url, body, "")

    def change(self, method: str, url: str, body: Raw | None = None) -> None:
        """Change what belongs to an item."""
        self._change(method, url, body, "")

    def _change(self, method: str, url: str, body: Raw | None, type: str, etag: str = "") -> Answer:
        headers = {"Prefer": "return=representation"} if method in ("POST", "PATCH") else {}
        if etag:
            headers["If-Match"] = etag
        sent = self._typed(body, type, to_service=True) if self._is_ieee and body is not None else body
        return self.request(method, url, sent, headers, is_safe=method != "POST")

    def request(
        self,
        method: str,
        url: str,
        body: Raw | None = None,
        headers: dict[str, str] | None = None,
        is_safe: bool = True,
    ) -> Answer:
        """Send a request; raises `TenantError` for any answer that is no success, `Unsure` as `Connection.send`."""
        for _ in range(_KEY_TRIES):
            token = self._sign_in.token()
            given = {
                "Accept": self._accept,
                "OData-MaxVersion": "4.01",
                "Authorization": f"Bearer {token}",
                **(headers or {}),
            }
            data = b""
            if body is not None:
                data = dumped(body)
                given |= {
                    "Content-Type": _IEEE if self._is_ieee else "application/json",
                    "OData-Version": "4.0",
                }
            answer = self.connection.send(method, url, lambda given=given: given, data, is_safe)  # type: ignore[misc]
            if answer.status == 401:
                self._sign_in.forget(token)
                continue
            if answer.status == 406 and self._accept == _IEEE:
                self._accept = "application/json"
                return self.request(method, url, body, headers, is_safe)
            break
        if not answer.is_success:
            raise TenantError(answer.told(), answer.status)
        kind = answer.headers.get("Content-Type", "").lower().replace(" ", "")
        if self._accept == _IEEE and "ieee754compatible=true" in kind:
            self._is_ieee = True
        return answer


_KEY_SAFE, _SAFE = "'=,", "'=,()$;./"


def bracketed(literal: str) -> str:
    """Return a key as it stands behind the name of a collection."""
    return f"({quote(literal, safe=_KEY_SAFE)})"


def _literal(value: object, type: str) -> str:
    """Return a value as a URL has it (URL Conventions, section 4.3.1): texts in quotes, others without."""
    if isinstance(value, bool):
        return "true" if value else "false"
    text = str(value)
    if isinstance(value, int) or (type == "Edm.Guid" and _GUID.fullmatch(text)):
        return text
    if _BARE.fullmatch(type) and re.fullmatch(r"[A-Za-z0-9.:+\-]+", text):
        return text
    quoted = "'" + text.replace("'", "''") + "'"
    if type in ("Edm.Duration", "Edm.Binary"):
        return type.removeprefix("Edm.").lower() + quoted
    return quoted if type in ("", "Edm.String") or type.startswith("Edm.") else f"{type}{quoted}"


def _expanded(shape: PolicyShape) -> str:
    return ",".join(name for name, link in shape.links.items() if link.read == "expand")

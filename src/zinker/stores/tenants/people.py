"""Groups and users of a tenant, from SCIM (RFC 7643, section 4; RFC 7644, section 3.4.2) or from a collection."""

from collections.abc import Iterable, Iterator
from typing import Any, Literal, NamedTuple

from zinker.model.errors import NotWritable
from zinker.model.policy import PolicyShape
from zinker.stores.tenants.odata import Api
from zinker.stores.tenants.policies import gone
from zinker.stores.tenants.service import Directory, People, TenantError

Sort = Literal["Groups", "Users"]
_COUNT = 100  # asked for at a time
_GUID = 36  # characters
_NAMES = {"Groups": "displayName", "Users": "userName"}


class Somebody(NamedTuple):
    """A group or a user: what the service calls it by, and what people do."""

    id: object
    name: str


class Known:
    """The groups or the users of a tenant, by id, by name, and by both."""

    def __init__(self, found: Iterable[Somebody]) -> None:
        self.by_name: dict[str, list[Somebody]] = {}
        self._by_any: dict[str, Somebody] = {}
        for one in found:
            self.by_name.setdefault(one.name, []).append(one)
            self._by_any[alike(one.id)] = self._by_any[_with_id(one)] = one

    def name_of(self, id: Any) -> Any:
        """Return what people call somebody, with the id where others are called so, too; the id of a stranger."""
        one = self._by_any.get(alike(id))
        if one is None:
            return id
        return one.name if len(self.by_name[one.name]) == 1 else _with_id(one)

    def id_of(self, what: str, name: Any) -> Any:
        """Return the id of a group or a user (`what`); raises `NotWritable` if there is none, or more than one."""
        found = self.by_name.get(str(name), ())
        if len(found) > 1:
            ids = ", ".join(map(_with_id, found[:5]))
            why = f"there are {len(found)} {what}s called {name} there; a crosswalk can say which: {ids}"
            raise NotWritable("", why)
        one = found[0] if found else self._by_any.get(alike(name))
        if one is None:
            raise gone("", what, str(name))
        return one.id


def alike(id: Any) -> str:
    """Return an id so that the same ones are alike: a GUID's letters have no case."""
    text = str(id)
    return text.lower() if len(text) == _GUID else text


def _with_id(one: Somebody) -> str:
    return f"{one.name} [{one.id}]"


def people(api: Api, directory: Directory, sort: Sort) -> Iterator[Somebody]:
    """Yield all groups or all users; what is none is passed over. Raises `TenantError`."""
    named = directory.groups if sort == "Groups" else directory.users
    if named is not None:
        yield from _from_collection(api, named)
    elif directory.address:
        yield from _from_scim(api, directory.address.rstrip("/"), sort)
    else:
        what = "its groups" if sort == "Groups" else "its users"
        raise TenantError(f"zinker.toml does not say who has {what}: `directory` is missing in its entry")


def _from_collection(api: Api, named: People) -> Iterator[Somebody]:
    shape = PolicyShape(name=named.name, id=named.id)
    for item in api.items(named.path, shape, lambda why, number: None, select=True):
        yield Somebody(item[named.id], str(item.get(named.name) or item[named.id]))


def _from_scim(api: Api, address: str, sort: Sort) -> Iterator[Somebody]:
    seen: set[str] = set()
    start = 1
    while True:
        url = f"{address}/{sort}?startIndex={start}&count={_COUNT}"
        answer = api.request("GET", url, headers={"Accept": "application/scim+json, application/json;q=0.9"})
        page = answer.json()
        found = page.get("Resources") or []
        if not isinstance(found, list):
            raise TenantError(f"{url} answered with what is no list of SCIM")
        before = len(seen)
        for one in found:
            id = one.get("id") if isinstance(one, dict) else None
            if not isinstance(id, str | int) or str(id) in seen:
                continue
            seen.add(str(id))
            name = one.get(_NAMES[sort])
            yield Somebody(id, name if isinstance(name, str) and name else str(id))
        total = page.get("totalResults")
        start += len(found)
        # A service that counts wrongly, or gives the same page again, has no more to say.
        if not found or len(seen) == before or not isinstance(total, int) or start > total:
            return

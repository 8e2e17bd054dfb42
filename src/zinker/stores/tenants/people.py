"""Groups and users of a tenant, from SCIM (RFC 7643, section 4; RFC 7644, section 3.4.2) or from a collection."""

from collections.abc import Iterator
from typing import Literal, NamedTuple

from zinker.model.policy import PolicyShape
from zinker.stores.tenants.odata import Api
from zinker.stores.tenants.service import Directory, People, TenantError

Sort = Literal["Groups", "Users"]
_COUNT = 100  # asked for at a time
_NAMES = {"Groups": "displayName", "Users": "userName"}


class Somebody(NamedTuple):
    """A group or a user: what the service calls it by, and what people do."""

    id: object
    name: str


def people(api: Api, directory: Directory, sort: Sort) -> list[Somebody]:
    """Return all groups or all users; what is none is passed over. Raises `TenantError`."""
    named = directory.groups if sort == "Groups" else directory.users
    if named is not None:
        return list(_from_collection(api, named))
    if directory.address:
        return list(_from_scim(api, directory.address.rstrip("/"), sort))
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

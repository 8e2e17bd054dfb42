"""A part's home in a tenant: the policies of one collection, each a document named by what people call it."""

import hashlib
import io
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial

from zinker.formats import Reader
from zinker.model.address import pointer, tokens
from zinker.model.errors import NotWritable
from zinker.model.file_state import FileState
from zinker.model.plan import DocumentChange
from zinker.model.policy import SERVER
from zinker.stores.home import Candidates, Home, NoHome, Offers, PartShape, Writing
from zinker.stores.reading import Content, Reading, Trouble
from zinker.stores.tenants.policies import FORMAT, ids_at
from zinker.stores.tenants.service import TenantError
from zinker.stores.tenants.tenant import Collection, Tenant
from zinker.stores.tenants.writing import PolicyWriting

_RESTLESS = "it changed again and again while the others were read, and is as it was read last"
_NOT_THERE = (404, 410)


class TenantHome(Home):
    """The policies of one collection."""

    def __init__(self, tenant: Tenant, collection: Collection) -> None:
        self.tenant, self.collection = tenant, collection

    def documents(self) -> list[str]:
        """Return the names of the policies, sorted; raises `TenantError`."""
        collection = self.collection
        if not collection.is_started:
            self.tenant.start([collection])
        collection.is_started = False
        if not collection.is_listed:  # what could not be listed says so
            self.tenant.read_listed(collection)
        self.tenant.settle(collection)
        return sorted([*collection.keys, *collection.odd])

    def begin(self, homes: Sequence[Home], progress: Callable[[str, int, int], None]) -> Sequence[Home]:
        """Begin to read the policies of all collections of the tenant; raises `TenantError`."""
        self.tenant.progress = progress
        mine = [home for home in homes if isinstance(home, TenantHome) and home.tenant is self.tenant]
        self.tenant.start([home.collection for home in mine])
        return mine

    def finish(self) -> None:
        """Forget what was noted for going on: the export has got through."""
        self.tenant.finished()

    def expect(self, documents: Iterable[str]) -> None:
        """Begin to read some policies side by side, as they are now."""
        collection = self.collection
        self.tenant.listed(collection)
        for key in filter(None, map(collection.keys.get, documents)):
            collection.waiting[key.literal] = self.tenant.api.connection.submit(
                partial(self.tenant.now, collection, key)
            )

    def where(self) -> list[str]:
        """Return the collection, for people."""
        return [self.collection.path]

    def has(self, document: str) -> bool:
        """Tell whether there is a policy of that name; raises `TenantError`."""
        collection = self.collection
        self.tenant.listed(collection)
        removed = collection.removed.get(document)
        if removed is not None and document not in collection.keys:
            try:
                self.tenant.now(collection, removed)
            except TenantError as error:
                if error.status not in _NOT_THERE:
                    raise
                return False
            return True
        return document in collection.keys

    def unfit(self, document: str) -> str:
        """Say why there can be no policy of that name, or ""."""
        return "" if document.strip() else "a policy needs a name"

    def format_of(self, document: str) -> str:
        """Return the one format that policies have."""
        return FORMAT

    def read(self, document: str) -> Reading:
        """Read one policy; what cannot be read is said in the reading."""
        collection, tenant = self.collection, self.tenant
        if document in collection.odd:
            return Reading(document, "", troubles=(Trouble("", collection.odd[document]),))
        try:
            tenant.listed(collection)
            literal, raw = tenant.raw(collection, document)
            data, leaves = tenant.document(collection, literal, raw)
        except TenantError as error:
            return Reading(document, "", troubles=(Trouble("", error.why),))
        for address in collection.nulled.get(literal, ()):
            # A property that the service declares is null when it is gone.
            if (left := leaves.get(address)) is not None and left.type == "null":
                del leaves[address]
        told = (_RESTLESS if literal in collection.restless else "", tenant.unnamed(collection.shape))
        troubles = tuple(Trouble("", why) for why in told if why)
        content = _content(data)
        file = FileState(FORMAT, content.size, content.sha256)
        return Reading(document, FORMAT, leaves, content, troubles, file)

    def refusal(self, document: str, address: str) -> str:
        """Say why something cannot be written, or ""."""
        collection = self.collection
        if address.startswith(f"{SERVER}/"):
            return "the service makes it"
        for name, link in collection.shape.links.items():
            if link.write == "never" and f"{address}/".startswith(f"{pointer(name)}/"):
                return "the service does not have it changed"
        key = collection.keys.get(document)
        raw = collection.raws.get(key.literal, {}) if key else {}
        if collection.shape.built_in and raw.get(collection.shape.built_in):
            return "it is built in, and cannot be changed"
        for patterns, id_of in (
            (collection.shape.groups, self.tenant.group_id),
            (collection.shape.users, self.tenant.user_id),
        ):
            for pattern, name in _keyed_by(patterns, address, collection.shape.keys):
                if name in map(str, ids_at(raw, tokens(pattern))):
                    continue  # it has no name, and is there all the same
                try:
                    id_of(name)
                except NotWritable as error:
                    return error.why
        return ""

    def notes(self, change: DocumentChange) -> list[str]:
        """Say that a policy without an ETag is written unguarded."""
        if self.collection.is_guarded or change.document not in self.collection.keys:
            return []
        named = self.collection.title or self.collection.path
        return [
            f"{named} are written unguarded, since the service lists them without ETags: each policy is looked at "
            "again right before it is written."
        ]

    def beside(self, document: str, machine: str, place: str) -> Iterator[str]:
        """Yield names that say which tenant a policy is from."""
        numbers = ("", *(f"-{count}" for count in range(2, 1000)))
        yield from (f"{document} (from {place}{number})" for number in numbers)

    def writing(self) -> Writing:
        """Begin to write a change: policy by policy, each as a whole."""
        return PolicyWriting(self.tenant, self.collection)


def open_home(place: Offers, part: PartShape, candidates: Candidates, reader: Reader) -> TenantHome:
    """Return the policies of a part; raises `NoHome`."""
    tenant = place.tenant()
    if tenant is None:
        raise NoHome(f"{place.told} is no tenant")
    collection = tenant.collection(part.homes[0].first, part.policy)
    collection.title = part.name
    return TenantHome(tenant, collection)


def _keyed_by(patterns: Iterable[str], address: str, keys: dict[str, str]) -> Iterator[tuple[str, str]]:
    """Yield patterns with the name that an address has where they tell the items of a list apart."""
    own = tokens(address)
    for pattern in patterns:
        above, wild, last = pattern.rpartition("/*/")
        at = len(tokens(above))
        if wild and keys.get(above) == last and own[:at] == tokens(above) and len(own) > at:
            yield pattern, own[at]


def _content(data: bytes) -> Content:
    return Content(len(data), hashlib.sha256(data).hexdigest(), lambda: io.BytesIO(data), data[:65536], True)

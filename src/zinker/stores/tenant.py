"""Policies of a tenant, collection by collection; a policy is a document, named by what people call it."""

import contextlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, wait
from dataclasses import dataclass, field
from functools import partial
from typing import Any, Literal

from zinker.formats import Reader
from zinker.formats.leaves import Edit, Leaves
from zinker.model.address import tokens
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.file_state import FileState
from zinker.model.plan import DocumentChange
from zinker.model.policy import PolicyShape
from zinker.model.setting import Leaf
from zinker.stores.home import Candidates, Home, New, NoHome, Offers, PartShape, Refusals, Writing
from zinker.stores.policies import FORMAT, SERVER, Raw, edited, from_document, gone, leaves_of, to_document
from zinker.stores.reading import Content, Reading, Trouble
from zinker.stores.tenant_api import TenantApi, TenantError, Unsure
from zinker.stores.unfinished import Fetched, Unfinished

_ETAG = "@odata.etag"
_TOO_DEEP = "it is nested too deeply"
_ROUNDS = 3  # of looking whether anything has changed while the rest was read
_RESTLESS = "it changed again and again while the others were read, and is as it was read last"
_BEFORE = "it has changed since the plan was made, so it was left alone"


@dataclass
class Collection:
    """What is known of the policies of a collection: ids and ETags by name, and what has been read of them."""

    path: str
    shape: PolicyShape
    title: str = ""
    ids: dict[str, str] = field(default_factory=dict)
    etags: dict[str, str] = field(default_factory=dict)
    raws: dict[str, Raw] = field(default_factory=dict)
    waiting: dict[str, "Future[Raw]"] = field(default_factory=dict)
    # Documents and settings made of what has been read while the rest is on its way, by id.
    ready: dict[str, tuple[Raw, bytes, Leaves]] = field(default_factory=dict)
    restless: frozenset[str] = frozenset()  # ids of those that changed whenever they were read
    is_listed: bool = False
    is_started: bool = False


class Tenant:
    """One tenant, and what has been read of it; also by an export that is unfinished."""

    def __init__(self, api: TenantApi, unfinished: Unfinished) -> None:
        self.api = api
        self.collections: dict[str, Collection] = {}
        # Told what is read, how many policies of it there are by now, and how many there will be.
        self.progress: Callable[[str, int, int], None] = lambda what, done, total: None
        self._people: dict[str, dict[str, str]] = {}  # names by id, of groups and of users
        self._unfinished = unfinished

    def collection(self, path: str, shape: PolicyShape) -> Collection:
        """Return what is known of a collection."""
        known = self.collections.get(path)
        if known is None or known.shape != shape:
            self.collections[path] = Collection(path, shape)
        return self.collections[path]

    def listed(
        self, collection: Collection, anew: bool = False, each: Callable[[Raw], None] = lambda item: None
    ) -> Collection:
        """List a collection, if that has not been done or is wanted anew; raises `TenantError`.

        `each` is called with every item as soon as it is known.
        """
        if collection.is_listed and not anew:
            return collection
        shape = collection.shape
        found: list[Raw] = []
        for item in self.api.items(collection.path, (shape.id, shape.name)):
            each(item)
            found.append(item)
        collection.ids, collection.etags = {}, {}
        for item in sorted(
            found, key=lambda item: (str(item.get(shape.name, "")), str(item.get(shape.id, "")))
        ):
            name = _document(str(item.get(shape.name) or item[shape.id]), collection.ids)
            collection.ids[name] = str(item[shape.id])
            collection.etags[collection.ids[name]] = str(item.get(_ETAG, ""))
        collection.is_listed = True
        return collection

    def start(self, collections: Iterable[Collection]) -> None:
        """List some collections, and begin to read all their policies side by side.

        What cannot be listed says so when it is its turn. Raises `TenantError` where the tenant does not let us in.
        """
        self.api.sign_in()
        collections = list(collections)
        self._unfinished.load()
        self._people = {}
        for one in collections:
            one.is_listed, one.is_started = False, True
            one.waiting.clear()
            one.ready.clear()
            one.restless = frozenset()
        listing = [
            self.api.submit(partial(self.listed, one, True, partial(self._fetch_listed, one)))
            for one in collections
        ]
        wait(listing)

    def _fetch_listed(self, collection: Collection, item: Raw) -> None:
        self._fetch(collection, str(item[collection.shape.id]), str(item.get(_ETAG, "")))

    def _fetch(self, collection: Collection, id: str, etag: str) -> None:
        """Begin to read a policy, unless an export that was cut off has read that very one."""
        kept = self._unfinished.find(collection.path, id, etag)
        if kept is not None:
            done: Future[Raw] = Future()
            done.set_result(kept)
            collection.waiting[id] = done
        else:
            collection.waiting[id] = self.api.submit(partial(self._item, collection, id))

    def _item(self, collection: Collection, id: str) -> Raw:
        raw = self.api.item(collection.path, id)
        self._unfinished.note(Fetched(collection.path, id, str(raw.get(_ETAG, "")), raw))
        return raw

    def settle(self, collection: Collection) -> None:
        """Wait until all policies of a collection are read, and read again what has changed in between."""
        for _ in range(_ROUNDS):
            for number, (id, future) in enumerate(collection.waiting.items()):
                self.progress(collection.title or collection.path, number, len(collection.waiting))
                if future.exception() is None:
                    self._make_ready(collection, id, future.result())
            before = dict(collection.etags)
            self.listed(collection, anew=True)
            changed = [id for id, etag in collection.etags.items() if etag != _etag(collection, id)]
            collection.waiting = {id: f for id, f in collection.waiting.items() if id in collection.etags}
            if not changed and before.keys() == collection.etags.keys():
                return
            for id in changed:
                self._fetch(collection, id, collection.etags[id])
        collection.restless = frozenset(changed)

    def _make_ready(self, collection: Collection, id: str, raw: Raw) -> None:
        collection.raws[id] = raw
        with contextlib.suppress(TenantError):  # it is told when it is this policy's turn
            if collection.ready.get(id, (None,))[0] is not raw:
                collection.ready[id] = raw, *self._taken_apart(collection, raw)

    def document(self, collection: Collection, raw: Raw) -> tuple[bytes, Leaves]:
        """Return a policy as a document, and its settings; raises `TenantError`."""
        known, data, leaves = collection.ready.pop(str(raw.get(collection.shape.id)), (None, b"", {}))
        return (data, leaves) if known is raw else self._taken_apart(collection, raw)

    def _taken_apart(self, collection: Collection, raw: Raw) -> tuple[bytes, Leaves]:
        try:
            data = to_document(raw, collection.shape, self)
            return data, leaves_of(raw, data, collection.shape)
        except (DocumentError, RecursionError) as error:
            why = str(error) if isinstance(error, DocumentError) else _TOO_DEEP
            raise TenantError(f"what the service says of it cannot be read: {why}") from None

    def raw(self, collection: Collection, name: str) -> Raw:
        """Return a policy: as it was just read with its collection, else as it is now; raises `TenantError`."""
        id = collection.ids.get(name)
        if id is None:
            raise TenantError("there is no policy of that name", 404)
        future = collection.waiting.pop(id, None)
        raw = future.result() if future is not None else self.api.item(collection.path, id)
        collection.raws[id], collection.etags[id] = raw, str(raw.get(_ETAG, ""))
        return raw

    # What stands for policies and groups in documents.

    def names(self, kind: Literal["Groups", "Users"]) -> dict[str, str]:
        """Return the names of groups or of users by id; raises `TenantError`."""
        if kind not in self._people:
            self._people[kind] = dict(self.api.people(kind))
        return self._people[kind]

    def group(self, id: str) -> str:
        """Return the name of a group, or its id if there is none."""
        return self.names("Groups").get(id, id)

    def user(self, id: str) -> str:
        """Return the name of a user, or the id if there is none."""
        return self.names("Users").get(id, id)

    def group_id(self, name: str) -> str:
        """Return the id of a group; raises `NotWritable` if there is none."""
        return self._id("Groups", "group", name)

    def user_id(self, name: str) -> str:
        """Return the id of a user; raises `NotWritable` if there is none."""
        return self._id("Users", "user", name)

    def _id(self, kind: Literal["Groups", "Users"], what: str, name: str) -> str:
        found = next((id for id, known in self.names(kind).items() if name in (known, id)), None)
        if found is None:
            raise gone("", what, name)
        return found

    def policy(self, path: str, id: str) -> str:
        """Return the name of a policy of a collection, or its id if there is none."""
        return next((name for name, known in self._ids(path).items() if known == id), id)

    def policy_id(self, path: str, name: str) -> str:
        """Return the id of a policy of a collection; raises `NotWritable` if there is none."""
        ids = self._ids(path)
        if name not in ids:
            raise gone("", f"policy in {path} called", name)
        return ids[name]

    def _ids(self, path: str) -> dict[str, str]:
        if path not in self.collections:
            self.collections[path] = Collection(path, PolicyShape())
        return self.listed(self.collections[path]).ids

    def finished(self) -> None:
        """Forget what was noted for going on: the export has got through."""
        self._unfinished.forget()


def _etag(collection: Collection, id: str) -> str:
    future = collection.waiting.get(id)
    if future is None or future.exception() is not None:
        return collection.etags.get(id, "") if future is not None else "-"
    return str(future.result().get(_ETAG, ""))


def _document(name: str, taken: dict[str, Any]) -> str:
    """Return what a policy is called: twins are numbered."""
    names = (name if number == 1 else f"{name} ({number})" for number in range(1, len(taken) + 2))
    return next(one for one in names if one not in taken)


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
        self.tenant.listed(collection)  # what could not be listed says so
        self.tenant.settle(collection)
        return sorted(collection.ids)

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
        collection = self.tenant.listed(self.collection)
        for id in filter(None, map(collection.ids.get, documents)):
            collection.waiting[id] = self.tenant.api.submit(
                partial(self.tenant.api.item, collection.path, id)
            )

    def where(self) -> list[str]:
        """Return the collection, for people."""
        return [self.collection.path]

    def has(self, document: str) -> bool:
        """Tell whether there is a policy of that name; raises `TenantError`."""
        return document in self.tenant.listed(self.collection).ids

    def unfit(self, document: str) -> str:
        """Say why there can be no policy of that name, or ""."""
        return "" if document.strip() else "a policy needs a name"

    def format_of(self, document: str) -> str:
        """Return the one format that policies have."""
        return FORMAT

    def read(self, document: str) -> Reading:
        """Read one policy; what cannot be read is said in the reading."""
        try:
            self.tenant.listed(self.collection)
            raw = self.tenant.raw(self.collection, document)
            data, leaves = self.tenant.document(self.collection, raw)
        except TenantError as error:
            return Reading(document, "", troubles=(Trouble("", error.why),))
        restless = self.collection.ids.get(document) in self.collection.restless
        troubles = (Trouble("", _RESTLESS),) if restless else ()
        content = _content(data)
        file = FileState(FORMAT, content.size, content.sha256)
        return Reading(document, FORMAT, leaves, content, troubles, file)

    def refusal(self, document: str, address: str) -> str:
        """Say why something cannot be written, or ""."""
        collection = self.collection
        if address.startswith(f"{SERVER}/"):
            return "the service makes it"
        raw = collection.raws.get(collection.ids.get(document, ""), {})
        if collection.shape.built_in and raw.get(collection.shape.built_in):
            return "it is built in, and cannot be changed"
        for patterns, id_of in (
            (collection.shape.groups, self.tenant.group_id),
            (collection.shape.users, self.tenant.user_id),
        ):
            for name in _keyed_by(patterns, address):
                try:
                    id_of(name)
                except NotWritable as error:
                    return error.why
        return ""

    def beside(self, document: str, machine: str, place: str) -> Iterator[str]:
        """Yield names that say which tenant a policy is from."""
        numbers = ("", *(f"-{count}" for count in range(2, 1000)))
        yield from (f"{document} (from {place}{number})" for number in numbers)

    def writing(self) -> Writing:
        """Begin to write a change: policy by policy, each as a whole."""
        return _PolicyWriting(self)

    def write(self, change: DocumentChange, new: New) -> list[NotWritable]:
        """Create, change or delete a policy, as a whole; returns what was refused, for each of its settings."""
        steps = list(new.steps())
        try:
            return self._write(change, [Edit(step.address, step.after) for step in steps])
        except (TenantError, NotWritable) as error:
            return [NotWritable(step.address, error.why) for step in steps] or [NotWritable("", error.why)]

    def _write(self, change: DocumentChange, edits: list[Edit]) -> list[NotWritable]:
        collection, tenant, document = self.collection, self.tenant, change.document
        id = tenant.listed(collection).ids.get(document)
        current = collection.raws.get(id, {}) if id else {}
        etag = collection.etags.get(id, "") if id else ""
        if change.action == "remove":
            if id is not None:
                self._guarded(lambda: tenant.api.delete(collection.path, id, etag))
                del collection.ids[document]
            return []
        if id is None and change.action != "create":
            raise NotWritable("", "there is no such policy, and a new one comes as a whole")
        data = to_document(current, collection.shape, tenant) if current else b""
        done, left = _tried(data, edits)
        properties = from_document(done, current, collection.shape, tenant)
        properties |= _secrets(edits, collection.shape)
        if id is None:
            self._create(document, {collection.shape.name: document, **properties})
        else:
            before = from_document(data, current, collection.shape, tenant)
            changed = {key: value for key, value in properties.items() if before.get(key, ...) != value}
            changed |= dict.fromkeys(before.keys() - properties.keys())
            if changed:
                self._update(id, changed, etag)
        return left

    def _create(self, document: str, policy: Raw) -> None:
        """Create a policy once, also where its answer gets lost: it is looked for before it is tried again."""
        collection, api = self.collection, self.tenant.api
        for _ in range(12):
            try:
                made = api.create(collection.path, policy)
                break
            except Unsure:
                found = list(api.items(collection.path, name=(collection.shape.name, document)))
                if found:
                    made = found[0]
                    break
        else:
            raise TenantError("its connection was cut again and again")
        id = str(made[collection.shape.id])
        collection.ids[document], collection.etags[id] = id, str(made.get(_ETAG, ""))
        collection.raws[id] = made

    def _update(self, id: str, changed: Raw, etag: str) -> None:
        try:
            self.tenant.api.update(self.collection.path, id, changed, etag)
            now = self.tenant.api.item(self.collection.path, id)
            self.collection.raws[id], self.collection.etags[id] = now, str(now.get(_ETAG, ""))
        except TenantError as error:
            if error.status != 412:
                raise
            # An answer that got lost may have been to this very change.
            now = self.tenant.api.item(self.collection.path, id)
            hidden = self.collection.shape.write_only
            if any(now.get(key) != value for key, value in changed.items() if key not in hidden):
                raise TenantError(_BEFORE, 412) from None

    def _guarded(self, job: Callable[[], None]) -> None:
        try:
            job()
        except TenantError as error:
            if error.status == 412:
                raise TenantError(_BEFORE, 412) from None
            if error.status != 404:  # it is gone already, which is what was wanted
                raise


class _PolicyWriting(Writing):
    """A change to the policies of a collection; those that know nothing of each other are written side by side."""

    def __init__(self, home: TenantHome) -> None:
        self._home = home
        self._new: dict[tuple[str, str], New] = {}

    def stage(self, change: DocumentChange, new: New) -> None:
        """Remember what is to be written; one policy may come in two pieces."""
        self._new[change.document, change.action] = new

    def commit(self, changes: Sequence[DocumentChange]) -> Refusals:
        """Write policies side by side; returns what was refused."""
        api, write = self._home.tenant.api, self._home.write
        running = [
            (change, api.submit(partial(write, change, self._new[change.document, change.action])))
            for change in changes
        ]
        try:
            return [(change, refused) for change, future in running for refused in future.result()]
        finally:  # also when interrupted: nothing is under way when it is taken back
            for _, future in running:
                future.cancel()
            wait([future for _, future in running])


def open_home(place: Offers, part: PartShape, candidates: Candidates, reader: Reader) -> TenantHome:
    """Return the policies of a part; raises `NoHome`."""
    tenant = place.tenant()
    if tenant is None:
        raise NoHome(f"{place.told} is no tenant")
    collection = tenant.collection(part.homes[0].first, part.policy)
    collection.title = part.name
    return TenantHome(tenant, collection)


def _keyed_by(patterns: Iterable[str], address: str) -> Iterator[str]:
    """Yield the name in an address that stands where patterns have what tells the items of a list apart."""
    own = tokens(address)
    for pattern in patterns:
        *above, _ = tokens(pattern)
        at = above.index("*") if "*" in above else -1
        if at >= 0 and own[:at] == tuple(above[:at]) and len(own) > at:
            yield own[at]


def _tried(data: bytes, edits: list[Edit]) -> tuple[bytes, list[NotWritable]]:
    """Make the edits that can be made; returns the document and what could not."""
    left: list[NotWritable] = []
    edits = [edit for edit in edits if edit.leaf is None or edit.leaf.type != "withheld"]
    while True:
        try:
            return edited(data, edits), left
        except NotWritable as error:
            kept = [edit for edit in edits if edit.address != error.address]
            if len(kept) == len(edits):
                raise
            left.append(error)
            edits = kept


def _secrets(edits: list[Edit], shape: PolicyShape) -> Raw:
    """Return write-only secrets that are given in clear, as an unsealed profile has them."""
    given: dict[str, Leaf] = {edit.address: edit.leaf for edit in edits if edit.leaf is not None}
    names = (name for name in shape.write_only if f"/{name}" in given)
    return {name: given[f"/{name}"].value for name in names if isinstance(given[f"/{name}"].value, str)}


def _content(data: bytes) -> Content:
    import hashlib
    import io

    return Content(len(data), hashlib.sha256(data).hexdigest(), lambda: io.BytesIO(data), data[:65536], True)

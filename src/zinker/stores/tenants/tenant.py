"""Policies of a tenant, collection by collection; a policy is a document, named by what people call it."""

import contextlib
import hashlib
import io
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, wait
from dataclasses import dataclass, field
from functools import partial
from typing import Any

from zinker.formats import Reader
from zinker.formats.leaves import Leaves
from zinker.model.address import pointer, tokens
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.file_state import FileState
from zinker.model.plan import DocumentChange
from zinker.model.policy import PolicyShape
from zinker.stores.home import Candidates, Home, NoHome, Offers, PartShape, Writing
from zinker.stores.reading import Content, Reading, Trouble
from zinker.stores.tenants.odata import Api
from zinker.stores.tenants.people import Somebody, Sort, people
from zinker.stores.tenants.policies import (
    ETAG,
    FORMAT,
    SERVER,
    Made,
    Raw,
    gone,
    ids_at,
    leaves_of,
    to_document,
)
from zinker.stores.tenants.service import Key, TenantError
from zinker.stores.tenants.unfinished import Unfinished
from zinker.stores.tenants.writing import PolicyWriting

_TOO_DEEP = "it is nested too deeply"
_ROUNDS = 3  # of looking whether anything has changed while the rest was read
_RESTLESS = "it changed again and again while the others were read, and is as it was read last"
_NOT_THERE = (404, 410)
_GUID = 36  # characters


class Known:
    """The groups or the users of a tenant, by id, by name, and by both."""

    def __init__(self, found: Sequence[Somebody]) -> None:
        self.by_id = {_alike(one.id): one.name for one in found}
        self.by_name: dict[str, list[Somebody]] = {}
        for one in found:
            self.by_name.setdefault(one.name, []).append(one)
        self.by_any = {_alike(one.id): one for one in found} | {
            _with_id(one.name, one.id): one for one in found
        }


@dataclass
class Collection:
    """What is known of the policies of a collection: what tells them by name, and what has been read of them."""

    path: str
    shape: PolicyShape
    title: str = ""
    made: Made = Made((), ())
    keys: dict[str, Key] = field(default_factory=dict)
    # By what a URL has between the brackets.
    etags: dict[str, str] = field(default_factory=dict)
    raws: dict[str, Raw] = field(default_factory=dict)
    waiting: dict[str, "Future[Raw]"] = field(default_factory=dict)
    # Documents and settings made of what has been read while the rest is on its way.
    ready: dict[str, tuple[Raw, bytes, Leaves]] = field(default_factory=dict)
    restless: frozenset[str] = frozenset()  # those that changed whenever they were read
    odd: dict[str, str] = field(
        default_factory=dict
    )  # what is no policy, and why, by the name it is given here
    removed: dict[str, Key] = field(default_factory=dict)  # by this run
    nulled: dict[str, set[str]] = field(default_factory=dict)  # addresses that were taken out by this run
    names: dict[str, str] = field(default_factory=dict)  # by what references have, as `_alike` has it
    # Its lists give ETags: by those, a service minds whether a policy is as it was. One that comes in the header of
    # an answer may be of whatever stands between.
    is_guarded: bool = False
    is_listed: bool = False
    is_started: bool = False

    def came(self, name: str, key: Key) -> None:
        """Take note of a policy that has been created."""
        self.keys[name] = key
        self.names[_alike(key.value)] = name

    def went(self, name: str) -> None:
        """Take note of a policy that has been deleted."""
        self.removed[name] = key = self.keys.pop(name)
        self.names.pop(_alike(key.value), None)


class Tenant:
    """One tenant, and what has been read of it; also by an export that is unfinished."""

    def __init__(self, api: Api, unfinished: Unfinished) -> None:
        self.api = api
        self.collections: dict[str, Collection] = {}
        # Told what is read, how many policies of it there are by now, and how many there will be.
        self.progress: Callable[[str, int, int], None] = lambda what, done, total: None
        self._people: dict[Sort, Known | TenantError] = {}
        self._unfinished = unfinished

    def collection(self, path: str, shape: PolicyShape) -> Collection:
        """Return what is known of a collection."""
        known = self.collections.get(path)
        if known is None or known.shape != shape:
            self.collections[path] = Collection(path, shape)
        return self.collections[path]

    def listed(
        self, collection: Collection, anew: bool = False, is_whole: bool = False
    ) -> list[tuple[Key, Raw]]:
        """List a collection, if that has not been done or is wanted anew; raises `TenantError`.

        Returns the items that the list has, each as a whole with `is_whole`, where the service lists them so.
        """
        if collection.is_listed and not anew:
            return []
        return self._taken(collection, list(self._each(collection, is_whole)))

    def _each(self, collection: Collection, is_whole: bool) -> Iterator[tuple[Key, Raw]]:
        path, shape = collection.path, collection.shape
        collection.made = self.api.made(path, shape)
        collection.odd = {}

        def odd(why: str, number: int) -> None:
            collection.odd[f"(number {number} of the list)"] = f"the service lists what is no policy: {why}"

        for item in self.api.items(path, shape, odd, select=not is_whole):
            key = self.api.key_of(path, shape, item)
            if key is not None:
                yield key, item

    def _taken(self, collection: Collection, found: list[tuple[Key, Raw]]) -> list[tuple[Key, Raw]]:
        name = collection.shape.name
        collection.keys, collection.etags = {}, {}
        for key, item in sorted(found, key=lambda one: (str(one[1].get(name) or ""), one[0].literal)):
            own = item.get(name)
            called = str(own) if isinstance(own, str | int) and own != "" else _told(key)
            collection.keys[_document(called, collection.keys)] = key
            collection.etags[key.literal] = str(item.get(ETAG, ""))
        collection.is_guarded = any(collection.etags.values())
        collection.names = {_alike(key.value): name for name, key in collection.keys.items()}
        collection.is_listed = True
        return found

    def start(self, collections: Iterable[Collection]) -> None:
        """List some collections, and begin to read all their policies side by side.

        What cannot be listed says so when it is its turn. Raises `TenantError` where the tenant does not let us in.
        """
        self.api.sign_in()
        self.api.model()
        collections = list(collections)
        self._unfinished.load()
        self._people = {}
        for one in collections:
            one.is_listed, one.is_started = False, True
            one.waiting.clear()
            one.ready.clear()
            one.restless = frozenset()
        wait([self.api.connection.submit(partial(self._read_listed, one)) for one in collections])

    def _read_listed(self, collection: Collection) -> None:
        """List a collection; what a list does not hold whole is asked for while the list still comes in."""
        found = []
        for key, item in self._each(collection, not collection.shape.one_by_one):
            found.append((key, item))
            if collection.shape.one_by_one:
                self._fetch(collection, key, str(item.get(ETAG, "")))
            else:
                collection.waiting[key.literal] = _done(item)
        self._taken(collection, found)

    def _fetch(self, collection: Collection, key: Key, etag: str) -> None:
        """Begin to read a policy, unless an export that was cut off has read that very one."""
        kept = self._unfinished.find(collection.path, key.literal, etag)
        collection.waiting[key.literal] = (
            _done(kept)
            if kept is not None
            else self.api.connection.submit(partial(self._item, collection, key))
        )

    def _item(self, collection: Collection, key: Key) -> Raw:
        raw = self.api.item(collection.path, key.literal, collection.shape)
        self._unfinished.note(collection.path, key.literal, str(raw.get(ETAG, "")), raw)
        return raw

    def settle(self, collection: Collection) -> None:
        """Wait until all policies of a collection are read, and read again what has changed in between."""
        for _ in range(_ROUNDS):
            for number, (literal, future) in enumerate(collection.waiting.items()):
                self.progress(collection.title or collection.path, number, len(collection.waiting))
                if future.exception() is None:
                    self._make_ready(collection, literal, future.result())
            before = dict(collection.etags)
            # Without ETags, only the policies themselves tell, and only where a list holds them whole.
            is_whole = not collection.is_guarded and not collection.shape.one_by_one
            again = {key.literal: (key, raw) for key, raw in self.listed(collection, True, is_whole)}
            changed = [
                literal
                for literal, (_, raw) in again.items()
                if _has_changed(collection, literal, raw if is_whole else None)
            ]
            collection.waiting = {literal: f for literal, f in collection.waiting.items() if literal in again}
            if not changed and before.keys() == collection.etags.keys():
                return
            for literal in changed:
                key, raw = again[literal]
                if is_whole:
                    collection.waiting[literal] = _done(raw)
                else:
                    self._fetch(collection, key, collection.etags[literal])
        collection.restless = frozenset(changed)

    def _make_ready(self, collection: Collection, literal: str, raw: Raw) -> None:
        collection.raws[literal] = raw
        with contextlib.suppress(TenantError):  # it is told when it is this policy's turn
            if collection.ready.get(literal, (None,))[0] is not raw:
                collection.ready[literal] = raw, *self._taken_apart(collection, raw)

    def document(self, collection: Collection, literal: str, raw: Raw) -> tuple[bytes, Leaves]:
        """Return a policy as a document, and its settings; raises `TenantError`."""
        known, data, leaves = collection.ready.pop(literal, (None, b"", {}))
        return (data, leaves) if known is raw else self._taken_apart(collection, raw)

    def _taken_apart(self, collection: Collection, raw: Raw) -> tuple[bytes, Leaves]:
        try:
            data = to_document(raw, collection.shape, collection.made, self)
            return data, leaves_of(raw, data, collection.shape, collection.made)
        except (DocumentError, RecursionError) as error:
            why = str(error) if isinstance(error, DocumentError) else _TOO_DEEP
            raise TenantError(f"what the service says of it cannot be read: {why}") from None

    def raw(self, collection: Collection, name: str) -> tuple[str, Raw]:
        """Return a policy: as it was just read with its collection, else as it is now; raises `TenantError`."""
        key = collection.keys.get(name)
        if key is None:
            raise TenantError("there is no policy of that name", 404)
        future = collection.waiting.pop(key.literal, None)
        raw = future.result() if future is not None else self.now(collection, key)
        collection.raws[key.literal], collection.etags[key.literal] = raw, str(raw.get(ETAG, ""))
        return key.literal, raw

    def now(self, collection: Collection, key: Key) -> Raw:
        """Return a policy as it is now; raises `TenantError`."""
        return self.api.item(collection.path, key.literal, collection.shape)

    # What stands for policies and groups in documents.

    def people(self, sort: Sort) -> "Known":
        """Return the groups or the users; raises `TenantError`."""
        found = self._people.get(sort)
        if found is None:
            try:
                found = Known(people(self.api, self.api.directory, sort))
            except TenantError as error:
                found = error
            self._people[sort] = found
        if isinstance(found, TenantError):
            raise found
        return found

    def unnamed(self, shape: PolicyShape) -> str:
        """Say why groups or users have no names in documents, or ""."""
        sorts: tuple[tuple[Sort, tuple[str, ...]], ...] = (("Groups", shape.groups), ("Users", shape.users))
        for sort, patterns in sorts:
            found = self._people.get(sort) if patterns else None
            if isinstance(found, TenantError):
                return f"{sort.lower()} are told by their ids, since their names cannot be read: {found.why}"
        return ""

    def group(self, id: Any) -> Any:
        """Return the name of a group, or its id if there is none."""
        return self._name("Groups", id)

    def user(self, id: Any) -> Any:
        """Return the name of a user, or the id if there is none."""
        return self._name("Users", id)

    def _name(self, sort: Sort, id: Any) -> Any:
        try:
            known = self.people(sort)
        except TenantError:
            return id
        name = known.by_id.get(_alike(id))
        if name is None:
            return id
        return name if len(known.by_name[name]) == 1 else _with_id(name, id)

    def group_id(self, name: Any) -> Any:
        """Return the id of a group; raises `NotWritable` if there is none, or more than one."""
        return self._id("Groups", "group", name)

    def user_id(self, name: Any) -> Any:
        """Return the id of a user; raises `NotWritable` if there is none, or more than one."""
        return self._id("Users", "user", name)

    def _id(self, sort: Sort, what: str, name: Any) -> Any:
        try:
            known = self.people(sort)
        except TenantError as error:
            raise NotWritable("", f"the {what}s there cannot be read: {error.why}") from None
        found = known.by_name.get(str(name), ())
        if len(found) > 1:
            ids = ", ".join(_with_id(one.name, one.id) for one in found[:5])
            why = f"there are {len(found)} {what}s called {name} there; a crosswalk can say which: {ids}"
            raise NotWritable("", why)
        one = found[0] if found else known.by_any.get(_alike(name))
        if one is None:
            raise gone("", what, str(name))
        return one.id

    def policy(self, path: str, id: Any) -> Any:
        """Return the name of a policy of a collection, or its id if there is none."""
        self._keys(path)
        return self.collections[path].names.get(_alike(id), id)

    def policy_id(self, path: str, name: Any) -> Any:
        """Return the id of a policy of a collection; raises `NotWritable` if there is none."""
        key = self._keys(path).get(str(name))
        if key is None:
            raise gone("", f"policy in {path} called", str(name))
        if isinstance(key.value, tuple):
            raise NotWritable("", f"a policy in {path} is told by more than one property")
        return key.value

    def _keys(self, path: str) -> dict[str, Key]:
        if path not in self.collections:
            self.collections[path] = Collection(path, PolicyShape())
        collection = self.collections[path]
        self.listed(collection)
        return collection.keys

    def finished(self) -> None:
        """Forget what was noted for going on: the export has got through."""
        self._unfinished.forget()


def _done(raw: Raw) -> "Future[Raw]":
    done: Future[Raw] = Future()
    done.set_result(raw)
    return done


def _has_changed(collection: Collection, literal: str, now: Raw | None) -> bool:
    """Tell whether a policy is another one than was read: by itself as it is `now`, or by the ETag a list gives."""
    future = collection.waiting.get(literal)
    if future is None:
        return True
    if future.exception() is not None:
        return False
    raw, etag = future.result(), collection.etags.get(literal, "")
    try:
        return raw != now if now is not None else bool(etag) and etag != raw.get(ETAG, "")
    except RecursionError:
        return True


def _alike(id: Any) -> str:
    """Return an id so that the same ones are alike: a GUID's letters have no case."""
    text = str(id)
    return text.lower() if len(text) == _GUID else text


def _with_id(name: str, id: Any) -> str:
    return f"{name} [{id}]"


def _told(key: Key) -> str:
    return ", ".join(map(str, key.value)) if isinstance(key.value, tuple) else str(key.value)


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
        if not collection.is_listed:  # what could not be listed says so
            self.tenant._read_listed(collection)
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
            for pattern, name in _keyed_by(patterns, address):
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


def _keyed_by(patterns: Iterable[str], address: str) -> Iterator[tuple[str, str]]:
    """Yield patterns with the name that an address has where they tell the items of a list apart."""
    own = tokens(address)
    for pattern in patterns:
        *above, _ = tokens(pattern)
        at = above.index("*") if "*" in above else -1
        if at >= 0 and own[:at] == tuple(above[:at]) and len(own) > at:
            yield pattern, own[at]


def _content(data: bytes) -> Content:
    return Content(len(data), hashlib.sha256(data).hexdigest(), lambda: io.BytesIO(data), data[:65536], True)

"""What is known of a tenant: its collections, the policies that have been read, and what ids stand for."""

import contextlib
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, wait
from dataclasses import dataclass, field
from functools import partial
from typing import Any

from zinker.formats.leaves import Leaves
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.policy import PolicyShape
from zinker.stores.tenants.odata import Api
from zinker.stores.tenants.people import Known, Sort, alike, people
from zinker.stores.tenants.policies import (
    ETAG,
    Made,
    Raw,
    gone,
    leaves_of,
    to_document,
)
from zinker.stores.tenants.service import Key, TenantError
from zinker.stores.tenants.unfinished import Unfinished

_TOO_DEEP = "it is nested too deeply"
_ROUNDS = 3  # of looking whether anything has changed while the rest was read


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
    names: dict[str, str] = field(default_factory=dict)  # by what references have, as `alike` has it
    # Its lists give ETags: by those, a service minds whether a policy is as it was. One that comes in the header of
    # an answer may be of whatever stands between.
    is_guarded: bool = False
    is_listed: bool = False
    is_started: bool = False

    def came(self, name: str, key: Key) -> None:
        """Take note of a policy that has been created."""
        self.keys[name] = key
        self.names[alike(key.value)] = name

    def went(self, name: str) -> None:
        """Take note of a policy that has been deleted."""
        self.removed[name] = key = self.keys.pop(name)
        self.names.pop(alike(key.value), None)


class Tenant:
    """One tenant, and what has been read of it; also by an export that is unfinished."""

    def __init__(self, api: Api, unfinished: Unfinished) -> None:
        self.api = api
        self.collections: dict[str, Collection] = {}
        # Told what is read, how many policies of it there are by now, and how many there will be.
        self.progress: Callable[[str, int, int], None] = lambda what, done, total: None
        self._people: dict[Sort, Known | TenantError] = {}
        self._unlisted: dict[str, TenantError] = {}  # collections that others refer to, by path
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
        collection.names = {alike(key.value): name for name, key in collection.keys.items()}
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
        self._people, self._unlisted = {}, {}
        for one in collections:
            one.is_listed, one.is_started = False, True
            one.waiting.clear()
            one.ready.clear()
            one.restless = frozenset()
        wait([self.api.connection.submit(partial(self.read_listed, one)) for one in collections])

    def read_listed(self, collection: Collection) -> None:
        """List a collection; what a list does not hold whole is asked for while the list still comes in."""
        found = []
        for key, item in self._each(collection, not collection.shape.comes_in_parts):
            found.append((key, item))
            if collection.shape.comes_in_parts:
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
        raw = self.now(collection, key)
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
            is_whole = not collection.is_guarded and not collection.shape.comes_in_parts
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
        raw = self.api.item(collection.path, key.literal, collection.shape)
        if self.api.key_of(collection.path, collection.shape, raw) is None:
            raise TenantError("the service answers with what is no policy", 404)
        return raw

    # What stands for policies and groups in documents.

    def people(self, sort: Sort) -> Known:
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
        """Say why groups, users or other policies have no names in documents, or ""."""
        sorts: tuple[tuple[Sort, tuple[str, ...]], ...] = (("Groups", shape.groups), ("Users", shape.users))
        for sort, patterns in sorts:
            found = self._people.get(sort) if patterns else None
            if isinstance(found, TenantError):
                return f"{sort.lower()} are told by their ids, since their names cannot be read: {found.why}"
        for path in shape.references.values():
            if (error := self._unlisted.get(path)) is not None:
                return f"{path} are told by their ids, since their names cannot be read: {error.why}"
        return ""

    def group(self, id: Any) -> Any:
        """Return the name of a group, or its id if there is none."""
        return self._name("Groups", id)

    def user(self, id: Any) -> Any:
        """Return the name of a user, or the id if there is none."""
        return self._name("Users", id)

    def _name(self, sort: Sort, id: Any) -> Any:
        try:
            return self.people(sort).name_of(id)
        except TenantError:
            return id

    def group_id(self, name: Any) -> Any:
        """Return the id of a group; raises `NotWritable` if there is none, or more than one."""
        return self._id("Groups", "group", name)

    def user_id(self, name: Any) -> Any:
        """Return the id of a user; raises `NotWritable` if there is none, or more than one."""
        return self._id("Users", "user", name)

    def _id(self, sort: Sort, what: str, name: Any) -> Any:
        try:
            return self.people(sort).id_of(what, name)
        except TenantError as error:
            raise NotWritable("", f"the {what}s there cannot be read: {error.why}") from None

    def policy(self, path: str, id: Any) -> Any:
        """Return the name of a policy of a collection, or its id if there is none."""
        try:
            self._keys(path)
        except TenantError:
            return id
        return self.collections[path].names.get(alike(id), id)

    def policy_id(self, path: str, name: Any) -> Any:
        """Return the id of a policy of a collection; raises `NotWritable` if there is none."""
        try:
            key = self._keys(path).get(str(name))
        except TenantError as error:
            raise NotWritable("", f"the policies of {path} there cannot be read: {error.why}") from None
        if key is None:
            raise gone("", f"policy in {path} called", str(name))
        if isinstance(key.value, tuple):
            raise NotWritable("", f"a policy in {path} is told by more than one property")
        return key.value

    def _keys(self, path: str) -> dict[str, Key]:
        if path not in self.collections:
            self.collections[path] = Collection(path, PolicyShape())
        collection = self.collections[path]
        if path in self._unlisted:
            raise self._unlisted[path]
        try:
            self.listed(collection)
        except TenantError as error:
            self._unlisted[path] = error
            raise
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


def _told(key: Key) -> str:
    return ", ".join(map(str, key.value)) if isinstance(key.value, tuple) else str(key.value)


def _document(name: str, taken: dict[str, Any]) -> str:
    """Return what a policy is called: twins are numbered."""
    names = (name if number == 1 else f"{name} ({number})" for number in range(1, len(taken) + 2))
    return next(one for one in names if one not in taken)

"""Creating, changing and deleting policies, once each, and only where they are as the plan saw them."""

import contextlib
import json
from collections.abc import Collection as Many
from collections.abc import Sequence
from concurrent.futures import wait
from functools import partial
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from zinker.formats.leaves import Edit
from zinker.formats.walk import exact
from zinker.model.address import pointer
from zinker.model.errors import NotWritable
from zinker.model.plan import DocumentChange
from zinker.model.policy import Link, PolicyShape
from zinker.model.setting import Leaf
from zinker.stores.home import New, Refusals, Writing
from zinker.stores.tenants.odata import bracketed
from zinker.stores.tenants.policies import ETAG, TYPE, Raw, edited, from_document, merging, to_document
from zinker.stores.tenants.service import Key, TenantError, Unsure

if TYPE_CHECKING:
    from zinker.stores.tenants.tenant import Collection, Tenant

_BEFORE = "it has changed since the plan was made, so it was left alone"
_TRIES = 12  # of creating what may have been created
_REFUSED = 3  # times that a service answers so with a reason of its own


class PolicyWriting(Writing):
    """A change to the policies of a collection; those that know nothing of each other are written side by side."""

    def __init__(self, tenant: "Tenant", collection: "Collection") -> None:
        self._tenant, self._collection = tenant, collection
        self._api = tenant.api
        self._new: dict[tuple[str, str], New] = {}

    def stage(self, change: DocumentChange, new: New) -> None:
        """Remember what is to be written; one policy may come in two pieces."""
        self._new[change.document, change.action] = new

    def commit(self, changes: Sequence[DocumentChange]) -> Refusals:
        """Write policies side by side; returns what was refused."""
        running = [(change, self._api.connection.submit(partial(self._write, change))) for change in changes]
        try:
            return [(change, refused) for change, future in running for refused in future.result()]
        except BaseException:  # also an interrupt: nothing is under way when it is taken back
            self._api.connection.give_up()
            raise
        finally:
            for _, future in running:
                future.cancel()
            wait([future for _, future in running])

    def _write(self, change: DocumentChange) -> list[NotWritable]:
        """Write a policy; returns what was refused, for each of its settings."""
        steps = list(self._new[change.document, change.action].steps())
        edits = [Edit(step.address, step.after) for step in steps]
        key = self._collection.keys.get(change.document)
        try:
            if change.action == "remove":
                return self._remove(change.document, key)
            if key is None and change.action != "create":
                raise NotWritable("", "there is no such policy, and a new one comes as a whole")
            return self._put(change.document, key, edits)
        except (TenantError, NotWritable) as error:
            return [NotWritable(step.address, error.why) for step in steps] or [NotWritable("", error.why)]

    def _put(self, document: str, key: Key | None, edits: list[Edit]) -> list[NotWritable]:
        collection, tenant = self._collection, self._tenant
        shape = collection.shape
        current = collection.raws.get(key.literal, {}) if key else {}
        data = to_document(current, shape, collection.made, tenant) if current else b""
        done, left = _tried(data, edits)
        wanted = from_document(done, current, shape, tenant) | _secrets(edits, shape)
        before = from_document(data, current, shape, tenant) if data else {}
        out = {name for name, link in shape.links.items() if link.write != "with"}
        linked = [
            n for n in out if shape.links[n].write != "never" and not _is_same(before.get(n), wanted.get(n))
        ]
        own = {name: value for name, value in wanted.items() if name not in out}
        if key is None:
            key = self._create(document, {shape.name: document, **own})
        else:
            changed, refused = self._changed(before, own, before.keys() - wanted.keys() - out, edits)
            left += refused
            collection.nulled[key.literal] = {edit.address for edit in edits if edit.leaf is None}
            if changed and TYPE in current:
                changed[TYPE] = current[TYPE]
            if changed or linked:
                self._check(key, is_guarded=bool(changed))
            if changed:
                self._update(key, changed)
        for name in sorted(linked):
            try:
                self._link(key, name, shape.links[name], before.get(name), wanted.get(name))
            except (TenantError, NotWritable) as error:
                left += _refused(name, error.why, edits)
        return left

    def _changed(
        self, before: Raw, wanted: Raw, gone: Many[str], edits: list[Edit]
    ) -> tuple[Raw, list[NotWritable]]:
        """Return what of the properties is to be sent, and what cannot be taken out."""
        changed = {
            name: merging(before.get(name), value)
            for name, value in wanted.items()
            if name not in before or not _is_same(before[name], value)
        }
        left: list[NotWritable] = []
        for name in sorted(gone):
            try:
                changed[name] = self._without(name)
            except NotWritable as error:
                left += _refused(name, error.why, edits)
        return changed, left

    def _without(self, name: str) -> Any:
        """Return what a property is when it is taken out: nothing, or its default where it must be something."""
        model = self._api.model()
        known = model.properties(model.type_of(self._collection.path)).get(name)
        if known is None or known.is_nullable:
            return [] if known is not None and known.is_list else None
        if not known.default:
            raise NotWritable("", "it cannot be taken out: the service wants a value there")
        try:
            return json.loads(known.default)
        except ValueError:
            return known.default

    def _check(self, key: Key, is_guarded: bool) -> None:
        """Look again at a policy that nothing guards while it is written; raises `TenantError`."""
        collection, tenant = self._collection, self._tenant
        if is_guarded and collection.is_guarded:
            return
        now, seen = tenant.now(collection, key), collection.raws.get(key.literal, {})
        texts = (to_document(raw, collection.shape, collection.made, tenant) for raw in (now, seen))
        # What was seen may be of a list, in which some services have less of a policy.
        if not _holds(*(json.loads(text, parse_float=exact) for text in texts)):
            raise TenantError(_BEFORE, 412)
        collection.etags[key.literal] = str(now.get(ETAG, ""))

    def _create(self, document: str, policy: Raw) -> Key:
        """Create a policy once, also where its answer gets lost: it is looked for before it is tried again."""
        collection, api = self._collection, self._api
        refused = 0
        made: Raw | None = None
        for _ in range(_TRIES):
            try:
                made = api.create(collection.path, collection.shape, policy) or self._later(document)
                break
            except Unsure as error:
                made = self._found(document)
                if made is not None:
                    break
                refused += error.status == 500
                if refused == _REFUSED:
                    raise TenantError(error.why, error.status) from None
        if made is None:
            raise TenantError("its connection was cut again and again")
        key = api.key_of(collection.path, collection.shape, made)
        if key is None:
            raise TenantError("the service has made it, and does not say what tells it")
        collection.came(document, key)
        collection.raws[key.literal] = made
        # It is there; whether it can be read is found out when it is read back.
        with contextlib.suppress(TenantError):
            self._look(key)
        return key

    def _later(self, document: str) -> Raw:
        """Return a policy that the service has taken, and makes when it comes to it; raises `TenantError`."""
        for number in range(_TRIES):
            if (found := self._found(document)) is not None:
                return found
            self._api.connection.pause(number)
        raise TenantError("the service has taken it, and does not have it")

    def _found(self, document: str) -> Raw | None:
        """Return the policy of a name; where the service cannot look for it, all are looked through."""
        collection = self._collection
        path, shape = collection.path, collection.shape
        for name in (document, ""):
            try:
                items = self._api.items(path, shape, lambda why, number: None, select=not name, name=name)
                return next((item for item in items if str(item.get(shape.name)) == document), None)
            except TenantError as error:
                if not name or error.status not in (400, 404, 405, 501):
                    raise
        return None

    def _update(self, key: Key, changed: Raw) -> None:
        collection, etag = self._collection, self._collection.etags.get(key.literal, "")
        try:
            self._api.update(collection.path, key.literal, changed, etag)
            self._look(key)
        except TenantError as error:
            if error.status != 412:
                raise
            # An answer that got lost may have been to this very change.
            now = self._tenant.now(collection, key)
            hidden = collection.shape.write_only
            if any(
                not _is_same(now.get(name), value) for name, value in changed.items() if name not in hidden
            ):
                raise TenantError(_BEFORE, 412) from None

    def _look(self, key: Key) -> None:
        """Take note of a policy as it is now: another piece may be written to it."""
        now = self._tenant.now(self._collection, key)
        self._collection.raws[key.literal] = now
        self._collection.etags[key.literal] = str(now.get(ETAG, ""))

    def _remove(self, document: str, key: Key | None) -> list[NotWritable]:
        if key is None:
            return []
        collection = self._collection
        self._check(key, is_guarded=True)
        try:
            self._api.delete(collection.path, key.literal, collection.etags.get(key.literal, ""))
        except TenantError as error:
            if error.status == 412:
                raise TenantError(_BEFORE, 412) from None
            if error.status not in (404, 410):  # it is gone already, which is what was wanted
                raise
        collection.went(document)
        return []

    # What belongs to a policy, and is not written with it (Protocol, sections 11.4.6 and 11.5.5).

    def _link(self, key: Key, name: str, link: Link, old: Any, new: Any) -> None:
        url = self._api.url(self._collection.path, key.literal)
        if link.write == "action":
            self._api.post(f"{url}/{link.action}", {link.parameter or name: new})
        elif link.write == "items":
            self._change_items(f"{url}/{name}", name, old or [], new or [], key)
        elif isinstance(new, list) or isinstance(old, list):
            gone, come = _apart(old or [], new or []), _apart(new or [], old or [])
            for one in come:
                self._api.change("POST", f"{url}/{name}/$ref", {"@odata.id": self._url_of(link, one)})
            for one in gone:
                whose = quote(self._url_of(link, one), safe=":/(),='")
                self._api.change("DELETE", f"{url}/{name}/$ref?$id={whose}")
        elif new is None:
            self._api.change("DELETE", f"{url}/{name}/$ref")
        else:
            self._api.change("PUT", f"{url}/{name}/$ref", {"@odata.id": self._url_of(link, new)})

    def _url_of(self, link: Link, value: Any) -> str:
        names = self._api.key_names(link.to, PolicyShape(id=link.id))
        key = self._api.key_of(link.to, PolicyShape(id=link.id), {names[0]: value})
        return self._api.url(link.to, key.literal if key else str(value))

    def _change_items(self, url: str, name: str, old: list[Raw], new: list[Raw], key: Key) -> None:
        """Create, change and delete the items of a contained collection, each as a whole."""
        current = self._collection.raws[key.literal].get(name) or []
        inside = f"{self._collection.path}/{name}"
        shape = PolicyShape(id=self._collection.shape.links[name].id)
        for one in old:
            if not any(_is_same(one, other) for other in new):
                item: Raw = next(
                    (item for item in current if _is_same(one, {k: item.get(k) for k in one})), {}
                )
                mine = self._api.key_of(inside, shape, item)
                if mine is None:
                    raise NotWritable("", f"what tells the items of {name} is not known")
                self._api.change("DELETE", f"{url}{bracketed(mine.literal)}")
        for one in new:
            if not any(_is_same(one, other) for other in old):
                self._api.post(url, one)


def _refused(name: str, why: str, edits: list[Edit]) -> list[NotWritable]:
    """Return a refusal for each setting of a property."""
    mine = (edit.address for edit in edits if f"{edit.address}/".startswith(f"{pointer(name)}/"))
    return [NotWritable(address, why) for address in mine]


def _apart(some: list[Any], others: list[Any]) -> list[Any]:
    return [one for one in some if one not in others]


def _is_same(one: Any, other: Any) -> bool:
    """Tell whether two values are the same as JSON: true is not 1."""
    if isinstance(one, dict) and isinstance(other, dict):
        return one.keys() == other.keys() and all(_is_same(value, other[name]) for name, value in one.items())
    if isinstance(one, list) and isinstance(other, list):
        return len(one) == len(other) and all(map(_is_same, one, other))
    return isinstance(one, bool) == isinstance(other, bool) and one == other


def _holds(now: Any, changed: Any) -> bool:
    """Tell whether a value has what is asked for; of a complex one that may be some properties."""
    if isinstance(now, dict) and isinstance(changed, dict):
        return all(_holds(now.get(name), value) for name, value in changed.items())
    return _is_same(now, changed)


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

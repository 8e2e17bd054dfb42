"""What a subject file says about the policies of a collection; the code knows nothing else about them."""

from typing import Annotated, Final, Literal

import msgspec

# Where a document has what the service makes; never compared, never written.
SERVER: Final = "/@server"
Address = Annotated[str, msgspec.Meta(pattern="^/", description="An address; `*` stands for any one token.")]


# What a service calls settings, by address; by the part and the document that they are in.
Titles = dict[tuple[str, str], dict[str, str]]


class LastChange(msgspec.Struct, frozen=True):
    """Who changed a policy last, and when, as the service says it; either may be ""."""

    by: str = ""
    at: str = ""


class Link(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A navigation property that belongs to a policy, such as for whom it counts.

    `read` tells how it comes: with the policy (`$expand`), or asked for by itself. `write` tells how it is changed:
    `with` the policy (PATCH), by references to items of the collection `to` (`ref`), item by item (`items`), by a
    bound `action` whose `parameter` takes all of it, or not at all (`never`). `id` is the key of the items that a
    reference leads to, where the service has no metadata.
    """

    read: Literal["expand", "apart"] = "expand"
    write: Literal["with", "ref", "items", "action", "never"] = "with"
    to: str = ""
    id: str = ""
    action: str = ""
    parameter: str = ""


class PolicyShape(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How the policies of one collection are made.

    `name` is the property that people call them by, `id` the one, or those, that the service does: without it, what
    its metadata has as the key, else `id`. `types` has the types of properties where a service has no metadata.
    `server` names what the service makes, or has its addresses; `built_in` is the property that is true for what
    cannot be changed, `write_only` are secrets that are never given back.

    `references` has the addresses of ids of other policies, each with its collection, `groups` those of ids of
    groups, `users` those of users; `keys` lists whose items are told apart by a property of theirs and have no
    order, `titles` the property that has the title of such an item; `unordered` lists whose order means nothing;
    `for_whom` the addresses that say for whom a policy counts. `links` are navigation properties that belong to a
    policy; `one_by_one` tells that a list does not hold its policies whole; `changed_by` and `changed_at` are the
    properties that say who changed a policy last, and when.
    """

    name: str = "name"
    id: str | tuple[str, ...] = ""
    types: dict[str, str] = {}
    one_by_one: bool = False
    built_in: str = ""
    server: tuple[str, ...] = ()
    write_only: tuple[str, ...] = ()
    references: dict[Address, str] = {}
    groups: tuple[Address, ...] = ()
    users: tuple[Address, ...] = ()
    keys: dict[Address, str] = {}
    titles: dict[Address, str] = {}
    unordered: tuple[Address, ...] = ()
    for_whom: tuple[Address, ...] = ()
    links: dict[str, Link] = {}
    changed_by: str = ""
    changed_at: str = ""

    @property
    def ids(self) -> tuple[str, ...]:
        """The properties that tell a policy, as the subject file has them; () where the metadata is to say."""
        return (self.id,) if isinstance(self.id, str) and self.id else tuple(self.id)

    @property
    def comes_in_parts(self) -> bool:
        """Whether each policy has to be asked for, since a list does not hold all of it."""
        return self.one_by_one or any(link.read == "apart" for link in self.links.values())

    @property
    def made(self) -> tuple[str, ...]:
        """The properties that the service makes, by name, besides the key."""
        named = (self.built_in, self.changed_by, self.changed_at, *self.server)
        return tuple(dict.fromkeys(name for name in named if name and not name.startswith("/")))

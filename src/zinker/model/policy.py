"""What a subject file says about the policies of a collection; the code knows nothing else about them."""

from typing import Annotated

import msgspec

Address = Annotated[str, msgspec.Meta(pattern="^/", description="An address; `*` stands for any one token.")]


# What a service calls settings, by address; by the part and the document that they are in.
Titles = dict[tuple[str, str], dict[str, str]]


class PolicyShape(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How the policies of one collection are made.

    `name` is the property that people call them by, `id` the one that the service does. `server` names what the
    service makes, `built_in` the property that is true for what cannot be changed, `write_only` secrets that are
    never given back. `references` has the addresses of ids of other policies, each with its collection, `groups`
    those of ids of groups, `users` those of users; `keys` lists whose items are told apart by a property of theirs
    and have no order, `titles` the property that has the title of such an item; `unordered` lists whose order means
    nothing; `for_whom` the addresses that say for whom a policy counts.
    """

    name: str = "name"
    id: str = "id"
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

"""What a service's metadata says for a subject file: its collections, names, references, what it makes."""

import re
from typing import NamedTuple

from zinker.model.policy import Link, PolicyShape
from zinker.stores.tenants.csdl import Model, Navigation, Property

_NAMES = ("name", "displayname", "title", "label", "subject")
_BY = re.compile(r"(chang|modif|updat|edit|touch|tend).*by$", re.I)
_AT = re.compile(r"(chang|modif|updat|edit|touch|tend)", re.I)


class Described(NamedTuple):
    """A collection, and what its metadata tells about its policies; `choices` are those of enumerations."""

    path: str
    shape: PolicyShape
    choices: dict[str, tuple[str, ...]]


def described(model: Model) -> list[Described]:
    """Return all collections that a service has, in the order of its metadata."""
    return [_described(model, name) for name in model.sets]


def _described(model: Model, path: str) -> Described:
    type = model.type_of(path)
    known = model.properties(type)
    key = model.key(type)
    made = tuple(one.name for one in known.values() if one.is_made and one.name not in key)
    by = next((name for name in made if _BY.search(name)), "")
    dated = (name for name in made if known[name].type == "Edm.DateTimeOffset")
    at = next((name for name in dated if _AT.search(name)), "")
    references: dict[str, str] = {}
    links: dict[str, Link] = {}
    for one in model.navigations(type).values():
        to = _leads_to(model, path, one)
        own = next((here for here, _ in one.constraint if here in known), "")
        if one.is_contained:
            links[one.name] = Link(write="items")
        elif own and to:
            references[f"/{own}"] = to
        elif to:
            links[one.name] = Link(write="ref", to=to)
            references[f"/{one.name}"] = to
    shape = PolicyShape(
        name=_name(known, key),
        id=key[0] if len(key) == 1 else key,
        server=tuple(name for name in made if name not in (by, at)),
        references=references,
        links=links,
        changed_by=by,
        changed_at=at,
    )
    choices = {
        one.name: model.enumerations[model.named(one.type)]
        for one in known.values()
        if _is_choice(model, one)
    }
    return Described(path, shape, choices)


def _is_choice(model: Model, one: Property) -> bool:
    return model.named(one.type) in model.enumerations


def _leads_to(model: Model, path: str, one: Navigation) -> str:
    """Return the collection that a navigation property leads to, or ""."""
    bound = model.bindings.get((path, one.name), "").rpartition("/")[2]
    of_type = [name for name, type in model.sets.items() if model.named(type) == model.named(one.type)]
    return bound or (of_type[0] if len(of_type) == 1 else "")


def _name(known: dict[str, Property], key: tuple[str, ...]) -> str:
    """Return the property that people call a policy by, as far as names tell."""
    texts = [one.name for one in known.values() if one.type == "Edm.String" and not one.is_list]
    usual = [name for wanted in _NAMES for name in texts if name.lower() == wanted]
    others = [name for name in texts if not known[name].is_made and name not in key]
    given = [name for name in key if len(key) == 1 and name in texts and not known[name].is_made]
    return next(iter([*usual, *given, *others, *key]), "name")

"""What an OData service says of its own types: CSDL 4.01 as XML and as JSON, as far as policies need it.

Taken are entity sets with their types, keys, properties, defaults and enumerations, what the service computes (the
vocabulary Core: Computed, Immutable, Permissions), navigation with what is contained, and where it leads.
"""

import json
from collections.abc import Iterator
from typing import Any, NamedTuple
from xml.etree import ElementTree

from zinker.model.errors import DocumentError

_DEEP = 50  # types that are made of, or derived from, each other
_EXACT = ("Edm.Int64", "Edm.Decimal")


class Property(NamedTuple):
    """A property of a type: `type` as CSDL has it, `Collection(...)` taken off."""

    name: str
    type: str
    is_list: bool = False
    is_nullable: bool = True
    default: str = ""
    is_made: bool = False  # by the service: it cannot be written


class Navigation(NamedTuple):
    """A property that leads to other entities; `constraint` is the property here that has the other's key."""

    name: str
    type: str
    is_list: bool = False
    is_contained: bool = False
    constraint: tuple[tuple[str, str], ...] = ()


class Kind(NamedTuple):
    """An entity type or a complex type, without what it has from its base."""

    base: str
    key: tuple[str, ...]
    properties: dict[str, Property]
    navigations: dict[str, Navigation]
    is_abstract: bool = False


class Model:
    """The types of a service, by qualified name, and its entity sets."""

    def __init__(self) -> None:
        self.kinds: dict[str, Kind] = {}
        self.enumerations: dict[str, tuple[str, ...]] = {}
        self.sets: dict[str, str] = {}
        self.bindings: dict[tuple[str, str], str] = {}  # entity set and path, the set that this leads to
        self.aliases: dict[str, str] = {}
        # What was asked before: it is asked for every policy.
        self._types: dict[str, str] = {}
        self._properties: dict[str, dict[str, Property]] = {}

    def named(self, name: str) -> str:
        """Return a type's name with its namespace in place of an alias."""
        space, _, last = name.rpartition(".")
        return f"{self.aliases.get(space, space)}.{last}" if space else name

    def line(self, name: str) -> Iterator[Kind]:
        """Yield a type and those that it is derived from."""
        for _ in range(_DEEP):
            kind = self.kinds.get(self.named(name))
            if kind is None:
                return
            yield kind
            name = kind.base

    def key(self, name: str) -> tuple[str, ...]:
        """Return the properties that are the key of an entity type, or () where it is not known."""
        return next((kind.key for kind in self.line(name) if kind.key), ())

    def properties(self, name: str) -> dict[str, Property]:
        """Return the properties of a type, its bases' first."""
        if name in self._properties:
            return self._properties[name]
        found: dict[str, Property] = {}
        for kind in reversed(list(self.line(name))):
            found |= kind.properties
        if found:  # a policy may say of itself that it is of any type
            self._properties[name] = found
        return found

    def navigations(self, name: str) -> dict[str, Navigation]:
        """Return the navigation properties of a type, its bases' first."""
        found: dict[str, Navigation] = {}
        for kind in reversed(list(self.line(name))):
            found |= kind.navigations
        return found

    def type_of(self, path: str) -> str:
        """Return the type of the entities in a collection, or "" where it is not known."""
        if path not in self._types:
            self._types[path] = self._type_of(path)
        return self._types[path]

    def _type_of(self, path: str) -> str:
        first, *rest = path.split("/")
        name = self.sets.get(first, "")
        for step in rest:
            leads = self.navigations(name).get(step)
            name = leads.type if leads else ""
        return self.named(name) if name else ""


def is_exact(type: str) -> bool:
    """Tell whether numbers of a type go beyond what JavaScript holds (JSON Format 4.01, section 3.2)."""
    return type in _EXACT


def read(data: bytes) -> Model:
    """Read the metadata of a service, XML or JSON; raises `DocumentError`."""
    model = Model()
    try:
        if data.lstrip(b"\xef\xbb\xbf \t\r\n")[:1] == b"{":
            _read_json(model, json.loads(data))
        else:
            if b"<!DOCTYPE" in data or b"<!ENTITY" in data:
                raise DocumentError("it has a document type of its own")
            _read_xml(model, ElementTree.fromstring(data))  # noqa: S314 - without entities there is nothing to blow up
    except (ValueError, RecursionError, ElementTree.ParseError, AttributeError, TypeError) as error:
        raise DocumentError(f"it is no metadata of OData: {error}") from None
    return model


# XML (CSDL XML 4.01).


def _read_xml(model: Model, root: ElementTree.Element) -> None:
    for schema in _children(root, "Schema", deep=True):
        space = schema.get("Namespace", "")
        if schema.get("Alias"):
            model.aliases[schema.get("Alias", "")] = space
    for schema in _children(root, "Schema", deep=True):
        space = schema.get("Namespace", "")
        for tag in ("EntityType", "ComplexType"):
            for one in _children(schema, tag):
                model.kinds[f"{space}.{one.get('Name', '')}"] = _kind_of(one)
        for one in _children(schema, "EnumType"):
            members = tuple(member.get("Name", "") for member in _children(one, "Member"))
            model.enumerations[f"{space}.{one.get('Name', '')}"] = members
        for container in _children(schema, "EntityContainer"):
            for tag, attribute in (("EntitySet", "EntityType"), ("Singleton", "Type")):
                for one in _children(container, tag):
                    name = one.get("Name", "")
                    if tag == "EntitySet":
                        model.sets[name] = one.get(attribute, "")
                    for binding in _children(one, "NavigationPropertyBinding"):
                        model.bindings[name, binding.get("Path", "")] = binding.get("Target", "")
    for schema in _children(root, "Schema", deep=True):
        for group in _children(schema, "Annotations"):
            target, _, name = group.get("Target", "").partition("/")
            kind = model.kinds.get(model.named(target))
            if kind is not None and name in kind.properties and _is_made_xml(group):
                kind.properties[name] = kind.properties[name]._replace(is_made=True)


def _kind_of(one: ElementTree.Element) -> Kind:
    key = tuple(
        ref.get("Name", "") for group in _children(one, "Key") for ref in _children(group, "PropertyRef")
    )
    properties, navigations = {}, {}
    for item in _children(one, "Property"):
        type, is_list = _type_of(item.get("Type", "Edm.String"))
        name = item.get("Name", "")
        is_nullable = item.get("Nullable", "true") != "false"
        default = item.get("DefaultValue", "")
        properties[name] = Property(name, type, is_list, is_nullable, default, _is_made_xml(item))
    for item in _children(one, "NavigationProperty"):
        type, is_list = _type_of(item.get("Type", ""))
        name = item.get("Name", "")
        pairs = _children(item, "ReferentialConstraint")
        constraint = tuple((pair.get("Property", ""), pair.get("ReferencedProperty", "")) for pair in pairs)
        is_contained = item.get("ContainsTarget") == "true"
        navigations[name] = Navigation(name, type, is_list, is_contained, constraint)
    return Kind(one.get("BaseType", ""), key, properties, navigations, one.get("Abstract") == "true")


def _is_made_xml(holder: ElementTree.Element) -> bool:
    for note in _children(holder, "Annotation"):
        term = note.get("Term", "").rpartition(".")[2]
        said = note.get("Bool") or next((one.text or "" for one in _children(note, "Bool")), "")
        if term in ("Computed", "Immutable") and said != "false":
            return term == "Computed"
        given = note.get("EnumMember") or next((one.text or "" for one in _children(note, "EnumMember")), "")
        if term == "Permissions" and given.strip().endswith(("/Read", "/None")):
            return True
    return False


def _children(holder: ElementTree.Element, name: str, deep: bool = False) -> Iterator[ElementTree.Element]:
    found = holder.iter() if deep else iter(holder)
    yield from (one for one in found if isinstance(one.tag, str) and one.tag.rpartition("}")[2] == name)


# JSON (CSDL JSON 4.01).


def _read_json(model: Model, data: dict[str, Any]) -> None:
    schemas = {
        space: schema for space, schema in data.items() if isinstance(schema, dict) and space[:1] != "$"
    }
    for space, schema in schemas.items():
        if isinstance(schema.get("$Alias"), str):
            model.aliases[schema["$Alias"]] = space
    for space, schema in schemas.items():
        for name, one in schema.items():
            if not isinstance(one, dict) or name[:1] == "$":
                continue
            kind = one.get("$Kind")
            if kind in ("EntityType", "ComplexType"):
                model.kinds[f"{space}.{name}"] = _kind_of_json(one)
            elif kind == "EnumType":
                members = tuple(name for name in one if name[:1] not in "$@" and "@" not in name)
                model.enumerations[f"{space}.{name}"] = members
            elif kind == "EntityContainer":
                _container_json(model, one)
        for target, notes in (schema.get("$Annotations") or {}).items():
            owner, _, name = target.partition("/")
            found = model.kinds.get(model.named(owner))
            if found is not None and name in found.properties and _is_made_json(notes):
                found.properties[name] = found.properties[name]._replace(is_made=True)


def _container_json(model: Model, container: dict[str, Any]) -> None:
    for name, one in container.items():
        if not isinstance(one, dict) or "$Type" not in one:
            continue
        if one.get("$Collection"):
            model.sets[name] = one["$Type"]
        for path, target in (one.get("$NavigationPropertyBinding") or {}).items():
            model.bindings[name, path] = target


def _kind_of_json(one: dict[str, Any]) -> Kind:
    key = tuple(name for name in one.get("$Key") or () if isinstance(name, str))
    properties, navigations = {}, {}
    for name, item in one.items():
        if not isinstance(item, dict) or name[:1] == "$" or "@" in name:
            continue
        type, is_list = str(item.get("$Type", "Edm.String")), bool(item.get("$Collection"))
        if item.get("$Kind") == "NavigationProperty":
            given = item.get("$ReferentialConstraint") or {}
            pairs = tuple((here, there) for here, there in given.items() if "@" not in here)
            navigations[name] = Navigation(name, type, is_list, bool(item.get("$ContainsTarget")), pairs)
        else:
            default = str(item.get("$DefaultValue", ""))
            is_nullable = bool(item.get("$Nullable"))
            properties[name] = Property(name, type, is_list, is_nullable, default, _is_made_json(item))
    return Kind(str(one.get("$BaseType", "")), key, properties, navigations, bool(one.get("$Abstract")))


def _is_made_json(item: dict[str, Any]) -> bool:
    notes = {name.rpartition(".")[2]: value for name, value in item.items() if name[:1] == "@"}
    permissions = str(notes.get("Permissions", ""))
    return notes.get("Computed") is True or permissions in ("Read", "None")


def _type_of(text: str) -> tuple[str, bool]:
    is_list = text.startswith("Collection(")
    return (text[len("Collection(") : -1], True) if is_list else (text, False)

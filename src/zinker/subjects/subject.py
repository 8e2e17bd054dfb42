"""A subject, as its subject file describes it (docs/subject.schema.json is made from these classes)."""

from typing import Annotated, Any, Literal

import msgspec

FORMAT = 1

Id = Annotated[
    str,
    msgspec.Meta(
        pattern="^[a-z0-9][a-z0-9-]*$", max_length=64, description="Small letters, digits and hyphens."
    ),
]
Pointer = Annotated[str, msgspec.Meta(pattern="^/", description="An address: a JSON Pointer (RFC 6901).")]
Store = Literal["file", "registry", "desktop-db", "tenant"]
Compatible = Literal["any", "same-major", "same-minor", "exact"]


class Strict(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A table in which an unknown key is a mistake, not something to skip."""


class VersionAt(Strict, frozen=True):
    """Where the application writes its own version."""

    part: Id
    address: Pointer


class Need(Strict, frozen=True):
    """Something that must be at a place before the settings make sense there."""

    path: str
    says: str


class Application(Strict, frozen=True):
    """The application that the settings belong to."""

    processes: tuple[str, ...] = ()
    version: VersionAt | None = None
    compatible: Compatible = "any"
    needs: tuple[Need, ...] = ()


class Part(Strict, frozen=True):
    """One part: its kind of home, and the path or key of it."""

    id: Id
    store: Store
    path: str
    title: str = ""
    format: Literal["", "ini", "json", "whole"] = ""
    device_bound: bool = False
    volatile: tuple[Pointer, ...] = ()
    secret: tuple[Pointer, ...] = ()
    titles: dict[str, str] = {}

    @property
    def name(self) -> str:
        """What people call the part."""
        return self.title or self.id.replace("-", " ").capitalize()


class Subject(Strict, frozen=True):
    """A subject file."""

    format: Literal[1]
    id: Id
    title: str
    part: Annotated[tuple[Part, ...], msgspec.Meta(min_length=1)]
    application: Application = Application()

    def find_part(self, id: str) -> Part | None:
        """Return the part of that name, if there is one."""
        return next((part for part in self.part if part.id == id), None)


def schema() -> dict[str, Any]:
    """Return the JSON Schema (2020-12) of subject files."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Zinker subject file",
        **msgspec.json.schema(Subject),
    }

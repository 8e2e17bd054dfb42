"""The layout of a profile, the same in a file and in a folder."""

import re

from zinker.model.plain_json import encode, schema_of
from zinker.model.profile import Manifest

SUFFIX = ".zinker"
MANIFEST = "profile.json"
SEALED = "secrets.jwe"
_MEMBER = re.compile(
    r"profile\.json|secrets\.jwe|settings/[a-z0-9][a-z0-9-]{0,63}\.jsonl|attachments/[0-9a-f]{64}", re.ASCII
)

# Attachments larger than this are stored as they are, so that no honest profile looks like a bomb.
LARGEST_PACKED = 64 * 1024 * 1024
# What deflate reaches on settings, no two of which have the same address, is below 100 : 1.
HIGHEST_RATIO = 200
LARGEST_MANIFEST = 64 * 1024 * 1024
LARGEST_SEALED = 64 * 1024 * 1024
LARGEST_LINE = 64 * 1024 * 1024


def is_member(name: str) -> bool:
    """Tell whether a profile can have a member of this name."""
    return bool(_MEMBER.fullmatch(name))


def settings_member(part: str) -> str:
    """Return the member that holds the settings of a part."""
    return f"settings/{part}.jsonl"


def attachment_member(sha256: str) -> str:
    """Return the member that holds a whole file."""
    return f"attachments/{sha256}"


def encode_manifest(manifest: Manifest) -> bytes:
    """Return `profile.json`: indented, for people and version control."""
    return encode(manifest, indent=2)


def schema() -> dict[str, object]:
    """Return the JSON Schema (2020-12) of `profile.json`."""
    return schema_of(Manifest, "Zinker profile: profile.json")

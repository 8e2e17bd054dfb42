"""The desktop's settings database as a text, as its own tool dumps and loads it: a key file of GLib.

    [desktop/panel]
    size=uint32 40

A group is a path below the one that was dumped; values are GVariant text with annotations. Which path that was,
the file does not say; one that Zinker has written does, in its first line.
"""

import re
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from zinker.formats.gvariant import text_of
from zinker.formats.gvariant_text import parse_variant
from zinker.formats.text import lines as lines_of
from zinker.model.errors import DocumentError
from zinker.model.setting import WITHHELD, Leaf

_BELOW = re.compile(r"#\s*below (/(?:[^/]+/)*)\s*")
_TYPE = "gvariant:"
_SPACES = " \t\r\n"  # others are part of a text


class Dump(NamedTuple):
    """What a dump holds: values by group and key, what could not be read, by line, and the path that was dumped."""

    values: dict[tuple[str, str], Leaf]
    mistakes: list[tuple[int, str]]
    below: str = ""


def read_dump(data: bytes) -> Dump:
    """Read a dump; raises `DocumentError` for anything else. Of a key that stands there twice, the last counts."""
    try:
        lines = lines_of(data.decode("utf-8-sig"))
    except UnicodeDecodeError:
        raise DocumentError("it is not UTF-8") from None
    dump = Dump({}, [])
    group: str | None = None
    for number, line in enumerate(lines, 1):
        plain = line.strip(_SPACES)
        said = _BELOW.fullmatch(plain)
        if said and group is None:
            dump = dump._replace(below=said[1])
        if not plain or plain.startswith("#"):
            continue
        if plain.startswith("["):
            if not plain.endswith("]"):
                raise DocumentError(f"line {number}: a group has no end")
            group = plain[1:-1].strip("/")
            continue
        key, equals, value = plain.partition("=")
        if group is None or not equals:
            raise DocumentError(f"line {number}: it is neither a group nor a key with a value")
        try:
            variant = parse_variant(value.strip(_SPACES))
        except DocumentError as error:
            dump.mistakes.append((number, str(error)))
            continue
        dump.values[group, key.strip(_SPACES)] = Leaf(f"{_TYPE}{variant.signature}", text_of(variant))
    return dump


def write_dump_text(values: Iterable[tuple[str, Leaf]]) -> Iterator[bytes]:
    """Write values by their whole paths, in order; raises `DocumentError` for what no dump holds."""
    yield b"# below /\n"
    open_group = None
    by_group = sorted(
        (path.rpartition("/")[0].strip("/"), path.rpartition("/")[2], leaf) for path, leaf in values
    )
    for group, key, leaf in by_group:
        if group != open_group:
            open_group = group
            yield f"\n[{group or '/'}]\n".encode()
        if leaf.type == WITHHELD:
            yield f"# {key} is a secret, withheld\n".encode()
            continue
        text = text_of(parse_variant(str(leaf.value), leaf.type.removeprefix(_TYPE)), annotate=True)
        yield f"{key}={text}\n".encode()


def fits_dump(path: str) -> bool:
    """Tell whether a key file can have such a path."""
    group, _, key = path.rpartition("/")
    return (
        bool(key)
        and key == key.strip(_SPACES)
        and not set("=#[\n\r") & set(key[:1] + key)
        and "]" not in group
    )

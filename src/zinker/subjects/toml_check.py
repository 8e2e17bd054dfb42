"""Checks a TOML file against a struct; what is wrong is said with file, line and key."""

import re
import tomllib
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from zinker.model.errors import WrongUsage, reason

T = TypeVar("T")

_HEADER = re.compile(r"\s*(\[\[?)\s*([^\[\]]+?)\s*\]\]?\s*(?:#.*)?$")
_KEY = re.compile(r"""\s*("[^"]*"|'[^']*'|[A-Za-z0-9_-]+)\s*(?:\.[^=]*)?=""")


def load(path: Path, kind: type[T], what: str) -> T:
    """Read a TOML file into a struct.

    Raises `WrongUsage`, with `what` as its head, for a file that cannot be read, is not TOML, or has an
    unknown, missing or wrong key.
    """
    try:
        text = path.read_bytes().decode("utf-8-sig")
        data = tomllib.loads(text)
        return msgspec.convert(data, kind)
    except OSError as error:
        raise WrongUsage(what, f"{path} cannot be read: {reason(error)}") from None
    except UnicodeDecodeError as error:
        why = f"{path} is not UTF-8: byte {error.start}"
        raise WrongUsage(what, why, "Save the file as UTF-8.") from None
    except tomllib.TOMLDecodeError as error:
        raise WrongUsage(what, f"{path}: {_syntax(str(error))}", "Correct that line.") from None
    except RecursionError:
        raise WrongUsage(what, f"{path} is nested too deeply", "Correct that file.") from None
    except msgspec.ValidationError as error:
        message, keys = _taken_apart(str(error))
        keys = _named(data, keys, kind)
        key = ".".join(str(key) if isinstance(key, str) else f"{key + 1}" for key in keys)
        place = f"{path}, line {line_of(text, keys)}"
        why = f"{place}, key {key}: {message}" if key else f"{place}: {message}"
        raise WrongUsage(what, why, "Correct that line.") from None


def _syntax(message: str) -> str:
    found = re.fullmatch(r"(.*) \(at (?:line (\d+), column (\d+)|end of document)\)", message)
    if not found:
        return message
    where = f"line {found[2]}, column {found[3]}" if found[2] else "the last line"
    return f"{where}: {found[1][0].lower()}{found[1][1:]}"


def _taken_apart(message: str) -> tuple[str, list[str | int]]:
    """Split msgspec's message into words for people and the keys that lead to the mistake."""
    text, _, path = message.partition(" - at `")
    keys: list[str | int] = [
        int(number) if number.isdecimal() else number or name
        for name, number in re.findall(r"\.([^.\[\]`]+)|\[(\d+|\.\.\.)\]", path)
    ]
    named = re.search(r"(?:unknown|required) field `([^`]+)`", text)
    if named:
        keys.append(named[1])
        text = "there is no such key" if "unknown" in text else "this key is missing"
    for pattern, words in (
        (r"Expected `(\w+)`, got `(\w+)`", r"it must be \1, not \2"),
        (r"Invalid enum value (.+)", r"\1 is not one of the values it can have"),
        (r"Expected `str` matching regex '?(.+?)'?$", r"it must look like \1"),
        (r"Expected `array` of length >= 1", "at least one is needed"),
    ):
        text = re.sub(pattern, words, text)
    return text, keys


def _named(data: dict[str, Any], keys: list[str | int], kind: type[Any]) -> list[str | int]:
    """Put a name where msgspec says `...`, for some entry of a table whose names are free."""
    if "..." not in keys or not isinstance(data.get(str(keys[0])), dict):
        return keys
    for name, entry in data[str(keys[0])].items():
        try:
            msgspec.convert({**data, str(keys[0]): {name: entry}}, kind)
        except msgspec.ValidationError:
            return [name if key == "..." else key for key in keys]
    return keys


def line_of(text: str, keys: list[str | int]) -> int:
    """Return the line, from 1, of the key that `keys` lead to; of its table where the key is not there."""
    best, best_depth = 1, -1
    current: list[str | int] = []
    counts: dict[str, int] = {}
    for number, line in enumerate(text.splitlines(), 1):
        header, key = _HEADER.match(line), _KEY.match(line)
        if header:
            current = _table(header[2], header[1] == "[[", counts)
            found = current
        elif key:
            found = [*current, key[1].strip("\"'")]
        else:
            continue
        if len(found) > best_depth and keys[: len(found)] == found:
            best, best_depth = number, len(found)
    return best


def _table(header: str, is_array: bool, counts: dict[str, int]) -> list[str | int]:
    names = [name.strip().strip("\"'") for name in header.split(".")]
    path: list[str | int] = []
    for depth, name in enumerate(names):
        path.append(name)
        joined = ".".join(names[: depth + 1])
        if is_array and depth == len(names) - 1:
            counts[joined] = counts.get(joined, -1) + 1
        if joined in counts:
            path.append(counts[joined])
    return path

"""Checks a TOML file against a struct; what is wrong is said with file, line and key."""

import re
import tomllib
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from zinker.disk.files import nearest_path, read_regular
from zinker.model.errors import WrongUsage, reason
from zinker.model.plain_json import fitted

T = TypeVar("T")

# What stands in for a key that is missing or wrong while the rest is checked.
STAND_IN = "stand-in-of-zinker"
_STAND_INS: tuple[Any, ...] = (None, STAND_IN, f"/{STAND_IN}", "file", 1, [], {})
_MOST_MISTAKES = 100

_HEADER = r"\s*(\[\[?)\s*([^\[\]]+?)\s*\]\]?\s*(?:#.*)?$"
_KEY = r"""\s*("[^"]*"|'[^']*'|[A-Za-z0-9_-]+)\s*(?:\.[^=]*)?="""


def load(path: Path, kind: type[T], what: str) -> T:
    """Read a TOML file into a struct.

    Raises `WrongUsage`, with `what` as its head, for a file that cannot be read, is not TOML, or has an
    unknown, missing or wrong key.
    """
    text, data = _read(path, what)
    try:
        return fitted(data, kind)
    except msgspec.ValidationError as error:
        line, message = _explained(error, text, data, kind)
        raise WrongUsage(what, f"{path}, line {line}{message}", "Correct that line.") from None


def check(path: Path, kind: type[T], what: str) -> tuple[T | None, list[tuple[int, str]]]:
    """Read a TOML file into a struct, and return it with every mistake: its line, and what is wrong.

    Wrong keys are left out, and something stands in for missing ones, so that the rest can be checked.
    Raises `WrongUsage` for a file that cannot be read or is not TOML.
    """
    text, data = _read(path, what)
    found: list[tuple[int, str]] = []
    taken_out: list[list[str | int]] = []
    while len(found) < _MOST_MISTAKES:
        try:
            return fitted(data, kind), found
        except msgspec.ValidationError as error:
            line, message = _explained(error, text, data, kind)
            keys = _taken_apart(str(error))[1]
            if keys not in taken_out:  # what was wrong there has been said
                found.append((line, message.removeprefix(", ").removeprefix(": ")))
            taken_out.append(keys)
            if not _put_right(data, error, kind):
                break
    return None, found


def _read(path: Path, what: str) -> tuple[str, dict[str, Any]]:
    try:
        text = read_regular(path).decode("utf-8-sig")
        return text, tomllib.loads(text)
    except OSError as error:
        raise WrongUsage(
            what, f"{path} cannot be read: {reason(error)}", nearest_path(path).strip()
        ) from None
    except UnicodeDecodeError as error:
        why = f"{path} is not UTF-8: byte {error.start}"
        raise WrongUsage(what, why, "Save the file as UTF-8.") from None
    except tomllib.TOMLDecodeError as error:
        raise WrongUsage(what, f"{path}: {_syntax(str(error))}", "Correct that line.") from None
    except RecursionError:
        raise WrongUsage(what, f"{path} is nested too deeply", "Correct that file.") from None


def _explained(
    error: msgspec.ValidationError, text: str, data: dict[str, Any], kind: type[Any]
) -> tuple[int, str]:
    message, keys = _taken_apart(str(error))
    keys = _named(data, keys, kind)
    key = ".".join(str(key) if isinstance(key, str) else f"{key + 1}" for key in keys)
    return line_of(text, keys), f", key {key}: {message}" if key else f": {message}"


def _put_right(data: dict[str, Any], error: msgspec.ValidationError, kind: type[Any]) -> bool:
    """Take what is wrong out of the data, or put something in for it; tells whether that helped."""
    _, keys = _taken_apart(str(error))
    keys = _named(data, keys, kind)
    holder: Any = data
    for key in keys[:-1]:
        try:
            holder = holder[key]
        except (KeyError, IndexError, TypeError):
            return False
    if not keys or not isinstance(holder, dict | list):
        return False
    for stand_in in _STAND_INS:
        if stand_in is None:
            if isinstance(holder, dict):
                holder.pop(keys[-1], None)
            else:
                del holder[int(keys[-1])]
        elif isinstance(holder, list):
            return True  # an item that was taken out is nothing to put something in for
        else:
            holder[keys[-1]] = stand_in
        try:
            fitted(data, kind)
            return True
        except msgspec.ValidationError as other:
            if _taken_apart(str(other))[1] != keys:
                return True
    return False


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
        (r"Expected `([^`]+)`, got `(\w+)`", r"it must be one of \1, not \2"),
        (r"it must be array, not", "it must be a list, not"),
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
            fitted({**data, str(keys[0]): {name: entry}}, kind)
        except msgspec.ValidationError:
            return [name if key == "..." else key for key in keys]
    return keys


def line_of(text: str, keys: list[str | int]) -> int:
    """Return the line, from 1, of the key that `keys` lead to; of its table where the key is not there."""
    best, best_depth = 1, -1
    current: list[str | int] = []
    counts: dict[str, int] = {}
    for number, line in enumerate(text.splitlines(), 1):
        header, key = re.match(_HEADER, line), re.match(_KEY, line)
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

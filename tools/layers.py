"""Checks that imports run downward: between the layers, between the floors of `jobs`, and nowhere in a circle.

    python tools/layers.py src/zinker

Imports inside functions count, too; those for type checking alone do not.
"""

import ast
import sys
from collections.abc import Iterator
from pathlib import Path

# From the lowest up. What stands on one line may not import from each other.
LAYERS = (
    ("model",),
    ("disk",),
    ("formats",),
    ("stores",),
    ("places", "subjects"),
    ("profiles",),
    ("shelf",),
    ("jobs",),
    ("reports",),
    ("demo",),
    ("cli",),
)
# The floors inside `jobs`, from the lowest up; a folder by its name, use cases and what they stand on by file.
JOBS = (
    ("progress", "side_by_side"),
    ("secrets",),
    ("unlocking",),
    ("shelves",),
    ("setup", "references"),
    ("session",),
    ("capture",),
    ("translate",),
    ("plan",),
    ("apply",),
    ("place_lock", "text_reader"),
    ("registration", "dumps"),
    ("texts",),
    ("scouting", "listing", "finding"),
    ("sources", "describing", "rebuilding", "authors", "naming", "together"),
    ("comparing", "exporting", "importing", "looking", "proposing", "spotting", "undoing"),
    ("documenting", "period", "retracing"),
    ("surveying",),
    ("labelling", "beginning", "sealing", "thinning", "verifying", "copying", "unread", "completing"),
    ("resetting", "transferring"),
    ("rounds",),
    ("round_changes",),
    ("schedule",),
    ("scheduled", "scheduling"),
)


def modules(source: Path) -> dict[str, Path]:
    """Return the files of a package by the names of their modules, without the package's own."""
    found = {}
    for path in source.rglob("*.py"):
        parts = path.relative_to(source).with_suffix("").parts
        found[".".join(parts[:-1] if parts[-1] == "__init__" else parts)] = path
    return found


def imports(path: Path, known: dict[str, Path]) -> Iterator[str]:
    """Yield the modules of the package that a file imports."""
    tree = ast.parse(path.read_text(encoding="utf-8"))
    for node in _nodes(tree):
        if isinstance(node, ast.Import):
            names = [alias.name for alias in node.names]
        elif isinstance(node, ast.ImportFrom) and node.module:
            names = [f"{node.module}.{alias.name}" for alias in node.names]
        else:
            continue
        for name in names:
            _, is_own, module = name.partition("zinker.")
            while is_own and module and module not in known:
                module = module.rpartition(".")[0]
            if is_own and module:
                yield module


def _nodes(node: ast.AST) -> Iterator[ast.AST]:
    for child in ast.iter_child_nodes(node):
        if isinstance(child, ast.If) and "TYPE_CHECKING" in ast.dump(child.test):
            continue
        yield child
        yield from _nodes(child)


def mistakes(source: Path) -> list[str]:
    """Return every import that runs upward or sideways, and every circle."""
    known = modules(source)
    found = {name: set(imports(path, known)) - {name} for name, path in known.items()}
    wrong = []
    for name, used in sorted(found.items()):
        for other in sorted(used):
            why = _upward(name, other, LAYERS, 0) or _upward(name, other, JOBS, 1)
            wrong += [f"{name} imports {other}: {why}"] if why else []
    return wrong + [f"a circle: {' -> '.join(circle)}" for circle in circles(found)]


def _upward(name: str, other: str, floors: tuple[tuple[str, ...], ...], depth: int) -> str:
    """Say why one module may not import another, by the names at a depth of their paths, or ""."""
    own, its = name.split("."), other.split(".")
    if depth and (own[:depth] != ["jobs"] or its[:depth] != ["jobs"]):
        return ""
    if len(own) <= depth or len(its) <= depth or own[depth] == its[depth]:
        return ""  # what a folder says of itself, or one folder
    heights = {word: height for height, words in enumerate(floors) for word in words}
    if own[depth] not in heights or its[depth] not in heights:
        return "" if depth == 0 else f"{own[depth]} or {its[depth]} has no floor"
    if heights[its[depth]] < heights[own[depth]]:
        return ""
    return f"{its[depth]} is not below {own[depth]}"


def circles(found: dict[str, set[str]]) -> Iterator[list[str]]:
    """Yield the circles in which modules import each other, each once."""
    done: set[str] = set()
    for first in sorted(found):
        path: dict[str, Iterator[str]] = {first: iter(sorted(found[first]))}
        while path:
            name = next(reversed(path))
            other = next(path[name], None)
            if other is None:
                done.add(name)
                del path[name]
            elif other in path:
                names = list(path)
                yield [*names[names.index(other) :], other]
            elif other not in done and other in found:
                path[other] = iter(sorted(found[other]))


if __name__ == "__main__":
    told = mistakes(Path(sys.argv[1]))
    print("\n".join(told) or "Imports run downward.")
    sys.exit(bool(told))

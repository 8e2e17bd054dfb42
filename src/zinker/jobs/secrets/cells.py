"""Secrets in the cells of a preference database that are no settings: found, and cut out of the profile's copy."""

import contextlib
import sqlite3
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

from zinker.formats.dialect import PLAIN, Dialect
from zinker.formats.sqlite import ROW_NUMBERS, name_of, opened, plain_header, quoted, shape_of
from zinker.model.errors import NotWritable

# Columns that have the names of settings, and their values.
_NAMES = frozenset({"key", "name", "id", "setting", "option", "property", "parameter", "attribute"})
_VALUES = frozenset({"value", "val", "data", "content", "string", "text"})
_TELLING = 6  # bytes of a value that are not by chance in a file


def without_cells(
    data: bytes, dialect: Dialect, rule_of: Callable[[str, object], str], is_cut: bool = False
) -> tuple[bytes, str]:
    """Return the database without the cells for which there is a rule, and the first rule, or "" for none.

    The settings that the dialect names are left out of this. A cell becomes NULL, or empty where it has to be
    something; then, or if something else `is_cut`, the file is written anew, so that nothing is left between its
    pages. Raises `DocumentError`, and `NotWritable` with the rule where a cell cannot be cut out.
    """
    first = ""
    with opened(data) as database:
        found = list(_cells(database, dialect, rule_of))
        for cell in found:
            first = first or f"{cell.table}.{cell.column}: {cell.rule}"
            if cell.row is None or not _emptied(database, cell):
                raise NotWritable("", f"{cell.table}.{cell.column}: {cell.rule}")
        if not first and not is_cut:
            return data, ""
        database.commit()
        database.execute("VACUUM")
        left = next(_cells(database, dialect, rule_of), None)
        written = plain_header(database.serialize())
    # An index for searching, or a column that is computed, may hold the same once more.
    left = left or next((cell for cell in found if _bytes_of(cell.value) in written), None)
    if left is not None:
        raise NotWritable("", f"{left.table}.{left.column}: {left.rule}")
    return written, first


def cell_with_rule(data: bytes, rule_of: Callable[[str, object], str]) -> str:
    """Say of the first cell for which there is a rule where it is, and the rule; "" for none.

    Raises `DocumentError`.
    """
    with opened(data) as database:
        found = next(_cells(database, PLAIN, rule_of), None)
    return f"{found.table}.{found.column}: {found.rule}" if found else ""


class _Cell(NamedTuple):
    """A cell for which there is a rule; the row is None where SQLite numbers none."""

    table: str
    column: str
    is_needed: bool
    row: tuple[str, int] | None
    value: Any
    rule: str


def _cells(
    database: sqlite3.Connection, dialect: Dialect, rule_of: Callable[[str, object], str]
) -> Iterator[_Cell]:
    tables = "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'"
    for (table,) in database.execute(tables).fetchall():
        described = [one for one in dialect.tables if one.table == table]
        settings = {column for one in described for column in shape_of(database, one).settings}
        columns = database.execute(f"PRAGMA table_xinfo({quoted(table)})").fetchall()
        names = {str(column[1]).lower() for column in columns}
        number = next((name for name in ROW_NUMBERS if name not in names), "")
        for _, column, _, is_needed, _, _, hidden in columns:
            if column in settings:
                continue
            # A table of settings that is not described has their names in another column.
            named = next((n for n in names & _NAMES if column.lower() in _VALUES), "")
            for row, name, value in _column(database, table, column, number, named):
                rule = rule_of(column, value) or (rule_of(name_of(name), value) if named else "")
                if rule:
                    at = None if row is None or hidden else (number, row)
                    yield _Cell(table, column, bool(is_needed), at, value, rule)


def _column(
    database: sqlite3.Connection, table: str, column: str, number: str, named: str
) -> Iterator[tuple[int | None, Any, Any]]:
    """Yield the numbers of rows, None where there are none, with what names a value, and the value."""
    source = f"{quoted(named) if named else 'NULL'}, {quoted(column)} FROM {quoted(table)}"
    try:
        yield from database.execute(f"SELECT {number or 'NULL'}, {source}").fetchall()  # noqa: S608
    except sqlite3.OperationalError:
        with contextlib.suppress(sqlite3.OperationalError):  # of a kind that this SQLite does not have
            yield from database.execute(f"SELECT NULL, {source}").fetchall()  # noqa: S608


def _emptied(database: sqlite3.Connection, cell: _Cell) -> bool:
    """Make a cell NULL, or empty where it has to be something; tells whether the database takes that."""
    assert cell.row is not None  # noqa: S101 - asked before
    name, number = cell.row
    nothing = type(cell.value)() if cell.is_needed else None
    statement = f"UPDATE {quoted(cell.table)} SET {quoted(cell.column)} = ? WHERE {name} = ?"  # noqa: S608
    try:
        database.execute(statement, (nothing, number))
    except sqlite3.Error:
        return False
    return True


def _bytes_of(value: Any) -> bytes:
    """Return how a value stands in a file that holds texts in UTF-8; what no file holds for what is no text."""
    if isinstance(value, str) and len(value) >= _TELLING:
        return value.encode("utf-8", "surrogateescape")
    return value if isinstance(value, bytes) and len(value) >= _TELLING else b"\0no such bytes\0"

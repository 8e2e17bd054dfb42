"""Tables of a SQLite preference database (format 3): `/table/key` for every row, as the dialect names them.

The bytes are those of the database file with everything committed in it, see zinker.stores.databases. Other
tables, and other columns of a row, are carried with the file and are never touched.
"""

import base64
import contextlib
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from typing import Any, NamedTuple

from zinker.formats.dialect import PLAIN, Dialect, Table
from zinker.formats.leaves import Edit, Leaves
from zinker.model.address import pointer, tokens
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.setting import Leaf, plain_int

# Columns that have the names of settings, and their values.
_NAMES = frozenset({"key", "name", "id", "setting", "option", "property", "parameter", "attribute"})
_VALUES = frozenset({"value", "val", "data", "content", "string", "text"})
_TELLING = 6  # bytes of a value that are not by chance in a file
# Places in the header (SQLite file format, section 1.3) that count changes, or say who wrote last and how.
_VOLATILE = ((18, b"\x01\x01"), (24, bytes(4)), (40, b"\0\0\0\x01"), (92, bytes(8)))


def read(data: bytes, dialect: Dialect = PLAIN) -> Leaves:
    """Return the settings in the tables that the dialect names; raises `DocumentError`."""
    found: Leaves = {}
    with _opened(data) as database:
        for table in dialect.tables:
            columns = ", ".join(map(_quoted, (*table.key, table.value)))
            # Columns and tables are quoted as names; SQLite has no parameters for those.
            query = f"SELECT {columns} FROM {_quoted(table.table)}"  # noqa: S608
            for *key, value in database.execute(query):
                address = pointer(table.table, *map(_name, key))
                if address in found:
                    raise DocumentError(f"the table {table.table} has the key {_name(key[-1])[:40]!a} twice")
                found[address] = _leaf(value)
    return found


def edit(data: bytes, edits: Sequence[Edit], dialect: Dialect = PLAIN) -> bytes:
    """Return the database with the edits made; raises `NotWritable` where it refuses one."""
    with _opened(data) as database:
        for change in edits:
            name, *key = tokens(change.address)
            table = next((t for t in dialect.tables if t.table == name and len(t.key) == len(key)), None)
            if table is None:
                raise NotWritable(change.address, "the subject names no such table of settings")
            try:
                _make(database, table, key, change)
            except sqlite3.Error as error:
                raise NotWritable(change.address, f"the database refuses it: {error}") from None
        database.commit()
        return plain_header(database.serialize())


def without_cells(
    data: bytes, dialect: Dialect, rule_of: Callable[[str, object], str], is_cut: bool = False
) -> tuple[bytes, str]:
    """Return the database without the cells for which there is a rule, and the first rule, or "" for none.

    The settings that the dialect names are left out of this. A cell becomes NULL, or empty where it has to be
    something; then, or if something else `is_cut`, the file is written anew, so that nothing is left between its
    pages. Raises `DocumentError`, and `NotWritable` with the rule where a cell cannot be cut out.
    """
    first = ""
    with _opened(data) as database:
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
    with _opened(data) as database:
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
        settings = {one.value for one in dialect.tables if one.table == table}
        columns = database.execute(f"PRAGMA table_xinfo({_quoted(table)})").fetchall()
        names = {str(column[1]).lower() for column in columns}
        number = next((name for name in ("rowid", "_rowid_", "oid") if name not in names), "")
        for _, column, _, is_needed, _, _, hidden in columns:
            if column in settings:
                continue
            # A table of settings that is not described has their names in another column.
            named = next((n for n in names & _NAMES if column.lower() in _VALUES), "")
            for row, name, value in _column(database, table, column, number, named):
                rule = rule_of(column, value) or (rule_of(_name(name), value) if named else "")
                if rule:
                    at = None if row is None or hidden else (number, row)
                    yield _Cell(table, column, bool(is_needed), at, value, rule)


def _column(
    database: sqlite3.Connection, table: str, column: str, number: str, named: str
) -> Iterator[tuple[int | None, Any, Any]]:
    """Yield the numbers of rows, None where there are none, with what names a value, and the value."""
    source = f"{_quoted(named) if named else 'NULL'}, {_quoted(column)} FROM {_quoted(table)}"
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
    statement = f"UPDATE {_quoted(cell.table)} SET {_quoted(cell.column)} = ? WHERE {name} = ?"  # noqa: S608
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


def plain_header(data: bytes) -> bytes:
    """Return a database file without what tells only when and by whom it was written."""
    header = bytearray(data[:100])
    for at, value in _VOLATILE:
        header[at : at + len(value)] = value
    return bytes(header) + data[100:]


@contextlib.contextmanager
def _opened(data: bytes) -> Iterator[sqlite3.Connection]:
    """Open a database in memory; raises `DocumentError` for one that is damaged or no database."""
    database = sqlite3.connect(":memory:")
    database.text_factory = _text
    try:
        if len(data) < 100 or not data.startswith(b"SQLite format 3\0"):
            raise DocumentError("it is no SQLite database")
        database.deserialize(plain_header(data))
        # A hostile schema must not run functions, and a damaged one must not be believed.
        database.execute("PRAGMA trusted_schema = OFF")
        database.execute("PRAGMA cell_size_check = ON")
        database.execute(
            "PRAGMA temp_store = MEMORY"
        )  # no copy of it on a disk, also while it is written anew
        database.execute("PRAGMA secure_delete = ON")  # what is cut out is not to stay between the pages
        wrong = database.execute("PRAGMA quick_check(1)").fetchone()[0]
        if wrong != "ok":
            raise DocumentError(f"the database is damaged: {wrong}")
        yield database
    except sqlite3.Error as error:
        raise DocumentError(f"SQLite: {error}") from None
    finally:
        database.close()


def _text(data: bytes) -> str:
    return data.decode("utf-8", "surrogateescape")


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _name(key: Any) -> str:
    if isinstance(key, bytes):
        return base64.b64encode(key).decode("ascii")
    return "" if key is None else str(key)


def _leaf(value: Any) -> Leaf:
    if value is None:
        return Leaf("null", None)
    if isinstance(value, bytes):
        return Leaf("bytes", base64.b64encode(value).decode("ascii"))
    if isinstance(value, int):
        return Leaf("int", plain_int(value))
    if isinstance(value, float):
        return Leaf("float", value if abs(value) != float("inf") else repr(value))
    return Leaf("text", value)


def _native(leaf: Leaf, address: str) -> Any:
    kind, value = leaf.type, leaf.value
    if kind == "bytes":
        return base64.b64decode(value)
    if kind in ("int", "float"):
        return int(value) if kind == "int" else float(value)
    if kind == "null":
        return None
    if kind == "text":
        return value
    raise NotWritable(address, f"a database table holds no {kind}")


def _make(database: sqlite3.Connection, table: Table, key: list[str], change: Edit) -> None:
    # Keys are compared as text, as addresses are; keys that are numbers or blobs are found all the same.
    name = _quoted(table.table)
    rows = database.execute(f"SELECT rowid, {', '.join(map(_quoted, table.key))} FROM {name}")  # noqa: S608
    row = next((number for number, *found in rows if [_name(part) for part in found] == key), None)
    if change.leaf is None:
        if row is None:
            raise NotWritable(change.address, "it is not there")
        database.execute(f"DELETE FROM {name} WHERE rowid = ?", (row,))  # noqa: S608
    elif row is None:
        columns = ", ".join(map(_quoted, (*table.key, table.value)))
        marks = ", ".join("?" * (len(key) + 1))
        values = (*key, _native(change.leaf, change.address))
        database.execute(f"INSERT INTO {name} ({columns}) VALUES ({marks})", values)  # noqa: S608
    else:
        value = _native(change.leaf, change.address)
        statement = f"UPDATE {name} SET {_quoted(table.value)} = ? WHERE rowid = ?"  # noqa: S608
        database.execute(statement, (value, row))

"""Tables of a SQLite preference database (format 3): `/table/key` for the value of every row, `/table/key/column`
for what its other columns have, as the dialect names them.

A column without anything (NULL) is no setting, nor is one that only numbers the rows, or that is computed. A row
with nothing but its key is an empty `object`. Text that is not UTF-8 has the type `text:raw`, its bytes in Base64.
The bytes are those of the database file with everything committed in it, see zinker.stores.databases. Other tables
are carried with the file and are never touched.
"""

import base64
import contextlib
import re
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from zinker.formats.dialect import PLAIN, Dialect, Table
from zinker.formats.leaves import Edit, Leaves
from zinker.model.address import pointer, tokens
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.setting import Leaf, plain_int

_INTEGER = re.compile(r"0|-?[1-9][0-9]{0,17}").fullmatch
_ROW = Leaf("object", {})
ROW_NUMBERS = ("rowid", "_rowid_", "oid")
# Places in the header (SQLite file format, section 1.3) that count changes, or say who wrote last and how.
_VOLATILE = ((18, b"\x01\x01"), (24, bytes(4)), (40, b"\0\0\0\x01"), (92, bytes(8)))


def read(data: bytes, dialect: Dialect = PLAIN) -> Leaves:
    """Return the settings in the tables that the dialect names; raises `DocumentError`."""
    found: Leaves = {}
    with opened(data) as database:
        for table in dialect.tables:
            shape = shape_of(database, table)
            for key, row in _rows(database, table, (*table.key, *shape.settings)):
                address = pointer(table.table, *key)
                if address in found or f"{address}/" in found:
                    raise DocumentError(f"the table {table.table} has the key {key[-1][:40]!a} twice")
                values = zip(shape.settings, row[len(key) :], strict=True)
                leaves = {
                    column: _leaf(value)
                    for column, value in values
                    if value is not None or column == table.value
                }
                for column, leaf in leaves.items():
                    found[address if column == table.value else address + pointer(column)] = leaf
                if not leaves:
                    found[address] = _ROW
    return found


def edit(data: bytes, edits: Sequence[Edit], dialect: Dialect = PLAIN) -> bytes:
    """Return the database with the edits made; raises `NotWritable` where it refuses one."""
    rows: dict[Table, dict[tuple[str, ...], dict[str, Edit]]] = {}
    for change in edits:
        name, *path = tokens(change.address)
        more = [(one, len(path) - len(one.key)) for one in dialect.tables if one.table == name]
        table, depth = next(((one, depth) for one, depth in more if depth in (0, 1)), (None, 0))
        if table is None:
            raise NotWritable(change.address, "the subject names no such table of settings")
        key = tuple(path[: len(table.key)])
        rows.setdefault(table, {}).setdefault(key, {})[path[-1] if depth else table.value] = change
    with opened(data) as database:
        for table, changes in rows.items():
            _Writing(database, table).make(changes)
        database.commit()
        return plain_header(database.serialize())


class Shape(NamedTuple):
    """What a table has: the columns that are settings, that of the value first, and those that find a row again."""

    settings: tuple[str, ...]
    identity: tuple[str, ...]
    needed: frozenset[str]  # columns that cannot be without a value
    key_types: tuple[str, ...]  # as the table declares them


def shape_of(database: sqlite3.Connection, table: Table) -> Shape:
    """Return what a table has; raises `DocumentError` where it lacks what the subject names."""
    columns = database.execute(f"PRAGMA table_xinfo({quoted(table.table)})").fetchall()
    if not columns:
        raise DocumentError(f"no such table: {table.table}")
    names = [str(column[1]) for column in columns]
    missing = [name for name in (*table.key, table.value) if name and name not in names]
    if missing:
        raise DocumentError(f"the table {table.table} has no column {missing[0]}")
    primary = [str(name) for _, name, _, _, _, place, _ in columns if place]
    number = next((one for one in ROW_NUMBERS if one not in map(str.lower, names)), "")
    try:
        database.execute(f"SELECT {number or 'NULL'} FROM {quoted(table.table)} LIMIT 0")  # noqa: S608
    except sqlite3.OperationalError:
        number = ""  # a table without them has a primary key
    # A column that is the number of its row is the database's own business, as is one that is computed.
    is_number = [c[5] and len(primary) == 1 and str(c[2]).upper() == "INTEGER" for c in columns]
    hidden = {
        n for n, c, numbers in zip(names, columns, is_number, strict=True) if c[6] or (numbers and number)
    }
    others = [n for n in names if n not in hidden and n not in (*table.key, table.value)]
    settings = (table.value, *others) if table.value else tuple(others)
    needed = frozenset(name for name, column in zip(names, columns, strict=True) if column[3])
    declared = {str(name): str(kind).upper() for _, name, kind, *_ in columns}
    key_types = tuple(declared[name] for name in table.key)
    return Shape(settings, (number,) if number else tuple(primary), needed, key_types)


def _rows(
    database: sqlite3.Connection, table: Table, columns: Sequence[str]
) -> Iterator[tuple[tuple[str, ...], tuple[Any, ...]]]:
    """Yield the key of every row, as an address has it, and its columns, of which those of the key are first."""
    # Columns and tables are quoted as names; SQLite has no parameters for those.
    query = f"SELECT {', '.join(map(quoted, columns))} FROM {quoted(table.table)}"  # noqa: S608
    for row in database.execute(query):
        yield tuple(map(name_of, row[: len(table.key)])), row


class _Writing:
    """Makes the edits of one table, row by row; a row all of whose settings go, goes."""

    def __init__(self, database: sqlite3.Connection, table: Table) -> None:
        self._database, self._table, self._shape = database, table, shape_of(database, table)
        self._name = quoted(table.table)
        found_by = [name if name in ROW_NUMBERS else quoted(name) for name in self._shape.identity]
        self._where = " AND ".join(f"{name} IS ?" for name in found_by)
        self._columns = ", ".join([*map(quoted, (*table.key, *self._shape.settings)), *found_by])

    def make(self, rows: Mapping[tuple[str, ...], dict[str, Edit]]) -> None:
        """Make edits, given by row and column; raises `NotWritable`."""
        size = len(self._table.key)
        there = {}
        # Keys are compared as text, as addresses are; keys that are numbers or blobs are found all the same.
        for row in self._database.execute(f"SELECT {self._columns} FROM {self._name}"):  # noqa: S608
            key = tuple(map(name_of, row[:size]))
            if key in rows:
                there[key] = row[size:]
        for key, changes in rows.items():
            address = next(iter(changes.values())).address
            unknown = changes.keys() - {*self._shape.settings, ""}
            if unknown:
                raise NotWritable(
                    address, f"the table {self._table.table} has no column {min(unknown)} for it"
                )
            try:
                if key in there:
                    self._change(there[key], changes, address)
                else:
                    self._add(key, changes, address)
            except (sqlite3.Error, UnicodeError, OverflowError) as error:
                raise NotWritable(address, f"the database refuses it: {error}") from None

    def _add(self, key: tuple[str, ...], changes: dict[str, Edit], address: str) -> None:
        if all(change.leaf is None for change in changes.values()):
            raise NotWritable(address, "it is not there")
        # All columns are given, as what they are by default is not what was asked for.
        values = {
            name: _native(change.leaf, change.address) if change and change.leaf else None
            for name in self._shape.settings
            if (change := changes.get(name)) or name not in self._shape.needed
        }
        columns = ", ".join(map(quoted, (*self._table.key, *values)))
        marks = ", ".join(["?"] * len(key) + [_mark(value) for value in values.values()])
        statement = f"INSERT INTO {self._name} ({columns}) VALUES ({marks})"  # noqa: S608
        names = map(_key, key, self._shape.key_types)
        self._database.execute(statement, (*names, *map(_bound, values.values())))

    def _change(self, row: tuple[Any, ...], changes: dict[str, Edit], address: str) -> None:
        found_by, value = row[len(self._shape.settings) :], self._table.value
        left = {n for n, one in zip(self._shape.settings, row, strict=False) if one is not None or n == value}
        for name, change in changes.items():
            left = left - {name} if change.leaf is None else left | {name}
        whole = changes.get(value)  # the row's own address
        if whole is not None and whole.leaf is None and left:
            raise NotWritable(whole.address, "its row has other columns, which would go with it")
        if not left - {""} and (value or whole is None or whole.leaf is None):
            self._database.execute(f"DELETE FROM {self._name} WHERE {self._where}", found_by)  # noqa: S608
            return
        for name, change in changes.items():
            if name:
                new = None if change.leaf is None else _native(change.leaf, change.address)
                statement = f"UPDATE {self._name} SET {quoted(name)} = {_mark(new)} WHERE {self._where}"  # noqa: S608
                self._database.execute(statement, (_bound(new), *found_by))


def _mark(value: Any) -> str:
    return "CAST(? AS TEXT)" if isinstance(value, _Raw) else "?"


def _bound(value: Any) -> Any:
    return value.data if isinstance(value, _Raw) else value


def plain_header(data: bytes) -> bytes:
    """Return a database file without what tells only when and by whom it was written."""
    header = bytearray(data[:100])
    for at, value in _VOLATILE:
        header[at : at + len(value)] = value
    return bytes(header) + data[100:]


@contextlib.contextmanager
def opened(data: bytes) -> Iterator[sqlite3.Connection]:
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
        # No copy of it on a disk, also while it is written anew; what is cut out is not to stay between the pages.
        database.execute("PRAGMA temp_store = MEMORY")
        database.execute("PRAGMA secure_delete = ON")
        wrong = database.execute("PRAGMA quick_check(1)").fetchone()[0]
        if wrong != "ok":
            raise DocumentError(f"the database is damaged: {wrong}")
        yield database
    except (sqlite3.Error, UnicodeError) as error:  # also of a message that quotes what is no text
        raise DocumentError(f"SQLite: {error}") from None
    finally:
        database.close()


class _Raw(NamedTuple):
    """Text of a database that is not UTF-8."""

    data: bytes


def _text(data: bytes) -> str | _Raw:
    try:
        return data.decode()
    except UnicodeDecodeError:
        return _Raw(data)


def quoted(name: str) -> str:
    """Return a name as SQL has it."""
    return '"' + name.replace('"', '""') + '"'


def name_of(key: Any) -> str:
    """Return a key as an address has it."""
    if isinstance(key, bytes | _Raw):
        return base64.b64encode(_bound(key)).decode("ascii")
    return "" if key is None else str(key)


def _key(name: str, declared: str) -> Any:
    """Return a name of a row as its column has it: SQLite makes numbers of texts where it declares some."""
    if "BLOB" in declared:
        with contextlib.suppress(ValueError):
            return base64.b64decode(name, validate=True)
    return int(name) if not declared and _INTEGER(name) else name


def _leaf(value: Any) -> Leaf:
    if value is None:
        return Leaf("null", None)
    if isinstance(value, bytes | _Raw):
        kind = "bytes" if isinstance(value, bytes) else "text:raw"
        return Leaf(kind, base64.b64encode(_bound(value)).decode("ascii"))
    if isinstance(value, int):
        return Leaf("int", plain_int(value))
    if isinstance(value, float):
        return Leaf("float", value if abs(value) != float("inf") else repr(value))
    return Leaf("text", value)


def _native(leaf: Leaf, address: str) -> Any:
    kind, value = leaf.type, leaf.value
    if kind in ("bytes", "text:raw"):
        data = base64.b64decode(value)
        return data if kind == "bytes" else _Raw(data)
    if kind in ("int", "float"):
        return int(value) if kind == "int" else float(value)
    if kind == "null":
        return None
    if kind == "text":
        return value
    raise NotWritable(address, f"a database table holds no {kind}")

"""The forms for programs and spreadsheets: JSON (RFC 8259), JSON lines, and CSV (RFC 4180), all in UTF-8."""

import csv as _csv
import io
import re
from collections.abc import Iterator
from typing import Any

import msgspec

from zinker.model.plain_json import encode
from zinker.model.setting import WITHHELD
from zinker.reports.page import Made
from zinker.reports.report import Report
from zinker.reports.words import visible

# What a spreadsheet takes for a formula by its first character, also in the full width of some keyboards.
_FORMULA = re.compile("[\\s'\"]*[=+\\-@\uff1d\uff0b\uff0d\uff20]|[\\t\\r\\n]")
_NUMBER = re.compile(r"[+-]?\d+(?:[.,]\d+)?(?:[eE][+-]?\d+)?", re.ASCII)
# What is fine between quotes; other control characters are for no cell.
_SPACE = re.compile(r"([\t\r\n]+)")
_MARK = b"\xef\xbb\xbf"  # tells the spreadsheets that ask for it that this is UTF-8


def json(report: Report, made: Made) -> Iterator[bytes]:
    """Yield everything as one value, exact, indented."""
    yield encode(report.data(), indent=2)


def jsonl(report: Report, made: Made) -> Iterator[bytes]:
    """Yield one thing a line, exact."""
    for row in report.rows():
        yield encode(row) + b"\n"


def csv(report: Report, made: Made) -> Iterator[bytes]:
    """Yield one thing a row, under the names of all columns that any row has.

    A cell that a spreadsheet would take for a formula gets an apostrophe before it.
    """
    rows = [_flat(row) for row in report.rows()]
    names = list(dict.fromkeys(name for row in rows for name in row))
    if "what" in names:
        order = (*_WHERE, *_VALUES)
        names.sort(key=lambda name: order.index(name) if name in order else len(order))
    yield _MARK
    yield _line(names)
    for row in rows:
        yield _line([_cell(row.get(name)) for name in names])


# The columns of what is about settings; what else there is comes behind them.
_WHERE = ("what", "subject", "place", "part", "document", "title", "address")
_VALUES = ("before_type", "before", "after_type", "after", "note")


def _line(cells: list[str]) -> bytes:
    line = io.StringIO()
    _csv.writer(line, quoting=_csv.QUOTE_ALL, lineterminator="\r\n").writerow(cells)
    return line.getvalue().encode()


def _flat(row: dict[str, Any]) -> dict[str, Any]:
    """Return a row without objects in it: a value with its type is two columns."""
    flat: dict[str, Any] = {}
    for name, value in msgspec.to_builtins(row).items():
        if isinstance(value, dict) and value.keys() == {"type", "value"}:
            flat[f"{name}_type"] = value["type"]
            flat[name] = WITHHELD if value["type"] == WITHHELD else value["value"]
        else:
            flat[name] = value
    return flat


def _cell(value: Any) -> str:
    r"""Return a value as the text of a cell, which no spreadsheet takes for anything else.

    >>> _cell("=1+1"), _cell("-5"), _cell(None), _cell(True)
    ("'=1+1", '-5', '', 'true')
    """
    if value is None or value == "":
        return ""
    if not isinstance(value, str):
        return encode(value).decode()
    text = "".join(piece if piece.isspace() else visible(piece) for piece in _SPACE.split(value))
    return f"'{text}" if _FORMULA.match(text) and not _NUMBER.fullmatch(text) else text

"""A report: what came of a job, as a page for people and as data for programs."""

from collections.abc import Callable, Iterable
from typing import Any

import msgspec

from zinker.reports.page import Page


class Report(msgspec.Struct, frozen=True):
    """What every form is drawn from. The `data` are for JSON; `rows` are for what has one thing a line.

    A row is a flat record whose values are plain, or an object of `type` and `value`; `what` tells what it is.
    """

    page: Page
    data: Callable[[], Any]
    rows: Callable[[], Iterable[dict[str, Any]]]

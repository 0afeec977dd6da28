"""How many rows a table has, at a cost that does not grow with them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ultravect.core.contracts.write_plan import COUNTED_ROWS
from ultravect.core.dialects.base import Dialect

BY_STATEMENTS = "by the database, in the statements that wrote them"


def count_of_few(dialect: Dialect, table: str) -> str:
    """A question whose answer ``known_count`` understands: it looks at no more than ``COUNTED_ROWS`` rows, and one."""
    rows = dialect.first_rows(f"SELECT 1 AS a FROM {table}", COUNTED_ROWS + 1)
    return f"SELECT count(*) FROM ({rows}) few"


def known_count(row: Sequence[Any]) -> int | None:
    """The rows of the table; None where they are more."""
    count = int(row[0])
    return count if count <= COUNTED_ROWS else None

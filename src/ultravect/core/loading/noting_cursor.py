"""A cursor of psycopg that notes what it runs: see ``contracts/statements.py``."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import psycopg
from psycopg import Copy

from ultravect.core.contracts.statements import noted


class NotingCursor(psycopg.Cursor[Any]):
    """Of COPY, the time includes what was sent or read meanwhile."""

    def execute(self, query: Any, params: Any = None, **options: Any) -> NotingCursor:
        with noted(query) as statement:
            super().execute(query, params, **options)
            statement.rows = self.rowcount
        return self

    @contextmanager
    def copy(self, statement: Any, params: Any = None, **options: Any) -> Iterator[Copy]:
        with noted(statement) as ran:
            with super().copy(statement, params, **options) as copying:
                yield copying
            ran.rows = self.rowcount

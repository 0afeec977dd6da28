"""What answers of databases become."""

from __future__ import annotations

from collections.abc import Iterable

from ultravect.core.contracts.catalogue import LiveColumn
from ultravect.core.contracts.target import Database
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.errors import UltravectError

_COUNT_SECONDS = 300.0


def answer_columns(dialect: Dialect, described: Iterable[tuple[str, str]]) -> list[LiveColumn]:
    """The columns of a query's answer, from their names and native types."""
    return [
        LiveColumn(name, native, native.lower(), dialect.to_canonical(native), True, False)
        for name, native in described
    ]


def table_gone(connection: str, name: TableName) -> UltravectError:
    return UltravectError(
        "table-missing",
        f"connection {connection}: the table {name} is gone since the run was planned",
        hint="run again",
        connection=connection,
        table=str(name),
    )


def count_rows(database: Database, name: TableName) -> int:
    """The rows of a table, by a question."""
    return int(database.ask(f"SELECT count(*) FROM {database.dialect.table(name)}", 1, _COUNT_SECONDS).rows[0][0])

"""Questions to databases: what is asked of a statement that may only read, and what its answer becomes. How it is run then decides that it
cannot write either."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from ultravect.core.contracts.catalogue import LiveColumn
from ultravect.core.contracts.target import Database
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.statements import NotReadable, Statement, statements
from ultravect.core.errors import UltravectError

_COUNT_SECONDS = 300.0


def require_question(connection: str, dialect: Dialect, sql: str, words: Collection[str]) -> Statement:
    """The one statement of ``sql``; UltravectError unless it begins with one of the words that read, and could stand inside
    another one."""
    try:
        found = statements(sql, dialect.lexical)
    except NotReadable as error:
        raise _refused(connection, str(error)) from None
    if len(found) > 1:
        raise _refused(connection, f"holds {len(found)} statements, and only one statement can be asked at a time")
    statement = found[0] if found else Statement((), "")
    if statement.is_executable:
        raise _refused(connection, "has a comment that the database carries out")
    if statement.first not in words:
        named = sorted(words)
        raise UltravectError(
            "not-a-question",
            f"only a statement that reads can be asked: {', '.join(named[:-1])} or {named[-1]}",
            hint="write to the target with a job",
            connection=connection,
        )
    if not statement.balanced:
        raise _refused(connection, "has parentheses that do not match")
    return statement


def _refused(connection: str, why: str) -> UltravectError:
    return UltravectError(
        "question-refused",
        f"connection {connection}: the question {why}",
        hint="ask one statement that reads, as the database's own SQL writes it",
        connection=connection,
    )


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

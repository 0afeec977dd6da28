"""Questions: statements of which nothing stays, whatever they are, since their transaction is undone.

SQL Server has no transactions that only read, and takes statements one after the other without a mark between them. So a question is
read as tokens first: each of the words with which a statement that writes, or ends the transaction, begins is reserved, and can be no
name unless it stands in brackets.
"""

from __future__ import annotations

from collections.abc import Sequence

from ultravect.core.dialects.base import Dialect
from ultravect.core.dialects.statements import Statement
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.sqlserver.session import Session
from ultravect.core.loading.questions import require_question

_READING = frozenset(["SELECT", "WITH"])
_WRITING = frozenset(
    [
        "ALTER", "BACKUP", "BEGIN", "BULK", "CHECKPOINT", "COMMIT", "CREATE", "DBCC", "DECLARE", "DELETE", "DENY", "DROP", "DUMP",
        "EXEC", "EXECUTE", "GOTO", "GRANT", "IF", "INSERT", "INTO", "KILL", "LOAD", "MERGE", "OPENDATASOURCE", "OPENQUERY",
        "OPENROWSET", "PRINT", "RAISERROR", "RECONFIGURE", "RESTORE", "RETURN", "REVERT", "REVOKE", "ROLLBACK", "SAVE", "SET",
        "SETUSER", "SHUTDOWN", "TRUNCATE", "UPDATE", "UPDATETEXT", "USE", "WAITFOR", "WHILE", "WRITETEXT",
    ]
)  # fmt: skip


def require_reading(connection: str, dialect: Dialect, sql: str) -> Statement:
    """The one statement of ``sql``, which has none of the words that write."""
    question = require_question(connection, dialect, sql, _READING)
    if found := sorted(_WRITING & {*question.words}):
        raise UltravectError(
            "question-refused",
            f"connection {connection}: {found[0]} has no place in a question, which may only read",
            hint="if it is a name, write it in brackets",
            connection=connection,
        )
    return question


def described(session: Session, dialect: Dialect, query: str) -> Sequence[tuple[str, str]]:
    """Names and types of a query's columns; it is not carried out."""
    cursor = session.execute(f"EXEC sys.sp_describe_first_result_set @tsql = {dialect.literal(query)}")
    places = {column[0]: place for place, column in enumerate(cursor.description)}
    rows = [row for row in cursor.fetchall() if not row[places["is_hidden"]]]
    return [(row[places["name"]] or "", row[places["system_type_name"]] or "") for row in rows]

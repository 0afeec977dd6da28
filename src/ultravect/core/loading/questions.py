"""What all databases ask of a statement that may only read. How it is run then decides that it cannot write either."""

from __future__ import annotations

from collections.abc import Collection

from ultravect.core.dialects.base import Dialect
from ultravect.core.dialects.statements import NotReadable, Statement, statements
from ultravect.core.errors import UltravectError


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

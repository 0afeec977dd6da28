"""Questions: which statements are some, and how they are answered without anything being written."""

from __future__ import annotations

from psycopg.errors import NotSupportedError, error_from_result
from psycopg.pq import DiagnosticField, ExecStatus
from psycopg.rows import tuple_row

from ultravect.core.contracts.catalogue import Answer
from ultravect.core.dialects.statements import Statement
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.postgresql import catalogue
from ultravect.core.kinds.postgresql.catalogue import Session

# COPY … TO and DO can write even where a transaction is read-only
BY_CURSOR = frozenset(["SELECT", "WITH", "VALUES", "TABLE"])
READING = BY_CURSOR | {"SHOW", "EXPLAIN"}


def explained_word(question: Statement) -> str:
    """The first word of the statement whose plan is asked for."""
    depth = 0
    for token in question.tokens[1:]:
        if token.kind == "mark" and token.text in "()":
            depth += 1 if token.text == "(" else -1
        elif token.kind == "word" and token.text in BY_CURSOR:
            return token.text
        elif not depth and not (token.kind == "word" and token.text in ("ANALYZE", "VERBOSE")):
            break
    return ""


def answered(session: Session, connection: str, question: Statement, limit: int, seconds: float) -> Answer:
    """The first rows of a question's answer; psycopg.Error, or UltravectError where it would write."""
    session.read_only = True
    session.execute("SELECT set_config('statement_timeout', %s, true)", (str(int(seconds * 1000)),))
    query = question.text.encode()
    columns, natives = described(session, connection, query)
    if question.first == "EXPLAIN" and explained_word(question) not in BY_CURSOR:
        raise UltravectError(
            "not-a-question",
            f"connection {connection}: only the plan of a statement that reads can be asked for",
            hint="EXPLAIN a SELECT, WITH, VALUES or TABLE",
            connection=connection,
        )
    if question.first in BY_CURSOR:
        # only a select that changes nothing can be declared as a cursor, whatever its text says
        _declare(session, connection, b"DECLARE ultravect_question NO SCROLL CURSOR FOR " + query)
        query = f"FETCH {limit + 1} FROM ultravect_question".encode()
    rows = [list(row) for row in session.cursor(row_factory=tuple_row).execute(query).fetchmany(limit + 1)]
    return Answer(columns, rows[:limit], len(rows) > limit, natives)


def _declare(session: Session, connection: str, command: bytes) -> None:
    # by the extended protocol, which takes one statement and no more
    result = session.pgconn.exec_params(command, None)
    if result.status == ExecStatus.FATAL_ERROR:
        error = error_from_result(result)
        if isinstance(error, NotSupportedError):
            raise UltravectError(
                "read-only",
                f"connection {connection}: the question would write: {error.diag.message_primary}",
                hint="questions may only read",
                connection=connection,
            )
        raise error


def described(session: Session, connection: str, query: bytes) -> tuple[list[str], list[str]]:
    """Names and native types of the answer's columns; preparing also makes sure that it is one statement."""
    pgconn = session.pgconn
    prepared = pgconn.prepare(b"", query)
    if prepared.status == ExecStatus.FATAL_ERROR:
        message = (prepared.error_field(DiagnosticField.MESSAGE_PRIMARY) or b"").decode("utf-8", "replace")
        if "multiple commands" in message:
            message = "only one statement can be asked at a time"
        raise UltravectError(
            "question-refused",
            f"connection {connection}: the database does not take the question: {message}",
            hint="check table and column names with `ultravect look`",
            connection=connection,
        )
    fields = pgconn.describe_prepared(b"")
    numbers = range(fields.nfields)
    kinds = [(fields.ftype(index), fields.fmod(index)) for index in numbers]
    return [(fields.fname(index) or b"").decode() for index in numbers], catalogue.type_names(session, kinds)

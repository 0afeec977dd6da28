"""Reading by a session of DuckDB: answers to questions, and the rows of a select."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence

import duckdb
import pyarrow as pa

from ultravect.core.contracts.catalogue import Answer
from ultravect.core.errors import UltravectError
from ultravect.core.types.arrow import plain_array
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.stored import bounded, stored_values

_BLOCK_ROWS = 50_000
_QUESTIONS = (duckdb.StatementType.SELECT, duckdb.StatementType.EXPLAIN)


def answered(
    session: duckdb.DuckDBPyConnection, connection: str, question: str, limit: int, seconds: float
) -> Answer:
    """See ``Source.ask``; UltravectError where the question is more than one, or none that reads."""
    statements = session.extract_statements(question)
    if len(statements) != 1 or statements[0].type not in _QUESTIONS:
        raise UltravectError(
            "question-refused",
            f"connection {connection}: only one statement can be asked at a time",
            hint="ask one after the other",
            connection=connection,
        )
    watch = threading.Timer(seconds, session.interrupt)
    watch.start()
    try:
        cursor = session.execute(statements[0])
        rows = [list(row) for row in cursor.fetchmany(limit + 1)]
    finally:
        watch.cancel()
    described = cursor.description or ()
    return Answer(
        [item[0] for item in described], rows[:limit], len(rows) > limit, [str(item[1]) for item in described]
    )


def read_rows(
    session: duckdb.DuckDBPyConnection, statement: str, types: Sequence[CanonicalType]
) -> Iterator[pa.Table]:
    """See ``Source.read``."""
    names = [str(position) for position in range(len(types))]
    for batch in session.sql(statement).to_arrow_reader(_BLOCK_ROWS):
        columns = [bounded(plain_array(column)) for column in batch.columns]
        yield pa.table(
            [
                stored_values(column, kind) if pa.types.is_string(column.type) else column
                for column, kind in zip(columns, types, strict=True)
            ],
            names=names,
        )

"""Finds the staged rows that the server refuses, on the server itself: a range of rows that is refused is halved without a word over the network.

Which rows constraints would refuse is guessed first, by one query: those candidates are tried one by one after all others, and the database
decides. A guess need not be right.
"""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import replace

import psycopg

from ultravect.core.contracts.write_session import Isolated
from ultravect.core.dialects.merge import ROW, MergeStatements
from ultravect.core.kinds.postgresql.catalogue import Session

_CHUNK = 1024
_WITH_CHECK = psycopg.errors.WithCheckOptionViolation
_WITHIN = f"s.{ROW} >= $1 AND s.{ROW} < $2"
_AT_ONCE = 64
_CHUNKS = """
SELECT sum(p.uv_updated), sum(p.uv_inserted)
FROM unnest(%s::bigint[], %s::bigint[]) AS r (first, last), LATERAL pg_temp.ultravect_chunk(r.first, r.last) AS p
"""
# a block with an exception is a transaction below that of the load
_FUNCTION = """
CREATE OR REPLACE FUNCTION pg_temp.ultravect_chunk(uv_first bigint, uv_last bigint, OUT uv_updated bigint, OUT uv_inserted bigint)
LANGUAGE plpgsql AS {quote}
#variable_conflict use_column
DECLARE uv_message text; uv_detail text; uv_middle bigint; uv_low record; uv_high record;
BEGIN
  BEGIN
    uv_updated := 0;
    {update}
    {insert};
    GET DIAGNOSTICS uv_inserted = ROW_COUNT;
    INSERT INTO pg_temp.ultravect_written VALUES (uv_first);
    RETURN;
  EXCEPTION WHEN integrity_constraint_violation OR data_exception OR raise_exception OR with_check_option_violation THEN
    GET STACKED DIAGNOSTICS uv_message = MESSAGE_TEXT, uv_detail = PG_EXCEPTION_DETAIL;
  END;
  IF uv_last - uv_first <= 1 THEN
    INSERT INTO ultravect_refused VALUES (uv_first, uv_message, rtrim(uv_detail, '.'));
    uv_updated := 0; uv_inserted := 0;
    RETURN;
  END IF;
  uv_middle := (uv_first + uv_last) / 2;
  SELECT * INTO uv_low FROM pg_temp.ultravect_chunk(uv_first, uv_middle);
  SELECT * INTO uv_high FROM pg_temp.ultravect_chunk(uv_middle, uv_last);
  uv_updated := uv_low.uv_updated + uv_high.uv_updated;
  uv_inserted := uv_low.uv_inserted + uv_high.uv_inserted;
END
{quote}
"""


def write_in_chunks(
    session: Session, merge: MergeStatements, rows: int, tolerated: int, *, upsert: bool
) -> tuple[Isolated, Sequence[str]]:
    """See ``isolate``; also the numbers of the transactions, below that of the load, which wrote the chunks.

    Rows that constraints are likely to refuse are tried alone, after all others at once.
    """
    # a row that is written in each of them has their numbers
    session.execute(b"CREATE TEMPORARY TABLE ultravect_written (part bigint) ON COMMIT DROP")
    session.execute(
        b"CREATE TEMPORARY TABLE ultravect_refused (row bigint, message text, detail text) ON COMMIT DROP"
    )
    candidates = _set_apart(session, merge, upsert=upsert)
    done = _whole(session, merge, upsert=upsert)
    if done is None:
        # without an index each part would be looked for among all rows
        session.execute(f"CREATE INDEX ON {merge.staged} ({ROW})".encode())
        done = Isolated()
        ranges = [(first, min(first + _CHUNK, rows)) for first in range(0, rows, _CHUNK)]
        _try(session, merge, ranges, tolerated, done, upsert=upsert)
    if candidates:
        alone = session.execute(f"SELECT {ROW} FROM {_CANDIDATES} ORDER BY {ROW}".encode()).fetchall()
        apart = replace(merge, staged=_CANDIDATES)
        _try(session, apart, [(row, row + 1) for (row,) in alone], tolerated, done, upsert=upsert)
        _put_back(session, merge)
    done.refused = [
        (int(row), f"{message} ({detail})" if detail else str(message))
        for row, message, detail in session.execute(
            f"SELECT row, message, detail FROM ultravect_refused ORDER BY row LIMIT {int(tolerated) + 1}".encode()
        )
    ]
    numbers = session.execute(b"SELECT DISTINCT xmin::text FROM ultravect_written").fetchall()
    # the next load of the transaction makes its own
    session.execute(f"DROP TABLE IF EXISTS ultravect_written, ultravect_refused, pg_temp.{_CANDIDATES}".encode())
    return done, [str(number) for (number,) in numbers]


def _whole(session: Session, merge: MergeStatements, *, upsert: bool) -> Isolated | None:
    """All rows in one attempt; None where one is refused."""
    update = merge.update() if upsert else None
    insert = merge.insert() if upsert else merge.insert_all()
    try:
        with session.transaction():
            session.execute(b"INSERT INTO ultravect_written VALUES (0)")
            updated = session.execute(update.encode()).rowcount if update else 0
            return Isolated(inserted=session.execute(insert.encode()).rowcount, updated=updated)
    except (psycopg.IntegrityError, psycopg.DataError, psycopg.errors.RaiseException, _WITH_CHECK):
        return None


def _try(
    session: Session,
    merge: MergeStatements,
    ranges: Sequence[tuple[int, int]],
    tolerated: int,
    done: Isolated,
    *,
    upsert: bool,
) -> None:
    """Writes the rows of each range, halved where they are refused, until more are than are tolerated."""
    update = merge.update(_WITHIN) if upsert else None
    insert = merge.insert(within=_WITHIN) if upsert else merge.insert_all(_WITHIN)
    counted = f"{update}; GET DIAGNOSTICS uv_updated = ROW_COUNT;" if update else ""
    # names in the statements may have any characters, but not this
    quote = f"$uv_{secrets.token_hex(8)}$"
    session.execute(_FUNCTION.format(quote=quote, update=counted, insert=insert).encode())
    for start in range(0, len(ranges), _AT_ONCE):
        some = ranges[start : start + _AT_ONCE]
        shown = session.execute(_CHUNKS, ([first for first, _ in some], [last for _, last in some])).fetchone()
        updated, inserted = shown or (0, 0)
        done.updated += int(updated or 0)
        done.inserted += int(inserted or 0)
        refused = session.execute(b"SELECT count(*) FROM ultravect_refused").fetchone()
        if refused and refused[0] > tolerated:
            break


_CHECKS = """
SELECT pg_get_expr(conbin, conrelid), ARRAY(SELECT attname::text FROM pg_attribute WHERE attrelid = conrelid AND attnum = ANY (conkey))
FROM pg_constraint WHERE conrelid = to_regclass(%s) AND contype = 'c'
"""
_UNIQUE = """
SELECT ARRAY(SELECT quote_ident(a.attname) FROM unnest(i.indkey::int2[]) k JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k),
       ARRAY(SELECT a.attname::text FROM unnest(i.indkey::int2[]) k JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k)
FROM pg_index i WHERE i.indrelid = to_regclass(%s) AND i.indisunique AND i.indpred IS NULL AND i.indexprs IS NULL
"""
_FOREIGN = """
SELECT confrelid::regclass::text,
       ARRAY(SELECT quote_ident(a.attname) FROM unnest(conkey) WITH ORDINALITY k(n, o)
             JOIN pg_attribute a ON a.attrelid = conrelid AND a.attnum = k.n ORDER BY o),
       ARRAY(SELECT quote_ident(a.attname) FROM unnest(confkey) WITH ORDINALITY k(n, o)
             JOIN pg_attribute a ON a.attrelid = confrelid AND a.attnum = k.n ORDER BY o),
       ARRAY(SELECT attname::text FROM pg_attribute WHERE attrelid = conrelid AND attnum = ANY (conkey))
FROM pg_constraint WHERE conrelid = to_regclass(%s) AND contype = 'f'
"""
_CANDIDATES = "ultravect_candidate"


def _conditions(session: Session, merge: MergeStatements, *, upsert: bool) -> Sequence[str]:
    """Of a staged row ``s``: each true where a constraint would refuse it. Only those about columns that rows bring."""
    table = (merge.table,)
    found = [
        f"NOT coalesce(({expression}), true)"
        for expression, columns in session.execute(_CHECKS, table)
        if set(columns) <= set(merge.columns)
    ]
    for quoted, columns in session.execute(_UNIQUE, table):
        # of an upsert, rows with known keys are updates
        if not set(columns) <= set(merge.columns) or (upsert and set(columns) <= set(merge.keys)):
            continue
        same = " AND ".join(f"t.{name} = s.{name}" for name in quoted)
        if not upsert:
            found.append(f"EXISTS (SELECT 1 FROM {merge.table} t WHERE {same})")
        named = ", ".join(quoted)
        whole = " AND ".join(f"{name} IS NOT NULL" for name in quoted)
        again = f"row_number() OVER (PARTITION BY {named} ORDER BY {ROW}) AS place"
        found.append(
            f"s.{ROW} IN (SELECT {ROW} FROM (SELECT {ROW}, {again} FROM {merge.staged} WHERE {whole}) n WHERE place > 1)"
        )
    for referenced, own, theirs, columns in session.execute(_FOREIGN, table):
        if set(columns) <= set(merge.columns):
            same = " AND ".join(f"r.{other} = s.{name}" for name, other in zip(own, theirs, strict=True))
            whole = " AND ".join(f"s.{name} IS NOT NULL" for name in own)
            found.append(f"({whole} AND NOT EXISTS (SELECT 1 FROM {referenced} r WHERE {same}))")
    return found


def _set_apart(session: Session, merge: MergeStatements, *, upsert: bool) -> int:
    """Moves the rows under suspicion into the temporary table ``_CANDIDATES``; how many."""
    session.execute(f"CREATE TEMPORARY TABLE {_CANDIDATES} (LIKE {merge.staged}) ON COMMIT DROP".encode())
    conditions = _conditions(session, merge, upsert=upsert)
    if not conditions:
        return 0
    move = (
        f"WITH moved AS (DELETE FROM {merge.staged} s WHERE {' OR '.join(conditions)} RETURNING s.*) "
        f"INSERT INTO {_CANDIDATES} SELECT * FROM moved"
    )
    try:
        with session.transaction():
            return session.execute(move.encode()).rowcount
    except psycopg.Error:
        return 0  # a condition itself can fail on some row: then no row is a candidate


def _put_back(session: Session, merge: MergeStatements) -> None:
    session.execute(f"INSERT INTO {merge.staged} SELECT * FROM {_CANDIDATES}".encode())

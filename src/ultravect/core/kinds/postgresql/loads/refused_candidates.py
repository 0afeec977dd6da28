"""Guesses which staged rows a table's constraints would refuse, by one query instead of one attempt after the other.

A guess need not be right: rows under suspicion are tried one by one after all others, and the database decides.
"""

from __future__ import annotations

from collections.abc import Sequence

import psycopg

from ultravect.core.dialects.merge import ROW, Merge
from ultravect.core.kinds.postgresql.catalogue import Session

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
CANDIDATES = "ultravect_candidate"


def _conditions(session: Session, merge: Merge, *, upsert: bool) -> Sequence[str]:
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


def set_apart(session: Session, merge: Merge, *, upsert: bool) -> int:
    """Moves the rows under suspicion into the temporary table ``CANDIDATES``; how many."""
    session.execute(f"CREATE TEMPORARY TABLE {CANDIDATES} (LIKE {merge.staged}) ON COMMIT DROP".encode())
    conditions = _conditions(session, merge, upsert=upsert)
    if not conditions:
        return 0
    move = (
        f"WITH moved AS (DELETE FROM {merge.staged} s WHERE {' OR '.join(conditions)} RETURNING s.*) "
        f"INSERT INTO {CANDIDATES} SELECT * FROM moved"
    )
    try:
        with session.transaction():
            return session.execute(move.encode()).rowcount
    except psycopg.Error:
        return 0  # a condition itself can fail on some row: then no row is a candidate


def put_back(session: Session, merge: Merge) -> None:
    session.execute(f"INSERT INTO {merge.staged} SELECT * FROM {CANDIDATES}".encode())

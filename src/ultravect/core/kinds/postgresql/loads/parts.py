"""Writes staged rows in parts on the server itself, where a part that is refused is halved without a word over the network."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import replace

import psycopg

from ultravect.core.dialects.merge import ROW, Merge
from ultravect.core.kinds.postgresql.catalogue import Session
from ultravect.core.kinds.postgresql.loads.refused_candidates import CANDIDATES, put_back, set_apart
from ultravect.core.loading.steps.isolation import CHUNK, Isolated

_WITH_CHECK = psycopg.errors.WithCheckOptionViolation
_WITHIN = f"s.{ROW} >= $1 AND s.{ROW} < $2"
_AT_ONCE = 64
_PARTS = """
SELECT sum(p.uv_updated), sum(p.uv_inserted)
FROM unnest(%s::bigint[], %s::bigint[]) AS r (first, last), LATERAL pg_temp.ultravect_part(r.first, r.last) AS p
"""
# a block with an exception is a transaction below that of the load
_FUNCTION = """
CREATE OR REPLACE FUNCTION pg_temp.ultravect_part(uv_first bigint, uv_last bigint, OUT uv_updated bigint, OUT uv_inserted bigint)
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
  SELECT * INTO uv_low FROM pg_temp.ultravect_part(uv_first, uv_middle);
  SELECT * INTO uv_high FROM pg_temp.ultravect_part(uv_middle, uv_last);
  uv_updated := uv_low.uv_updated + uv_high.uv_updated;
  uv_inserted := uv_low.uv_inserted + uv_high.uv_inserted;
END
{quote}
"""


def write_in_parts(
    session: Session, merge: Merge, rows: int, tolerated: int, *, upsert: bool
) -> tuple[Isolated, Sequence[str]]:
    """See ``isolate``; also the numbers of the transactions, below that of the load, which wrote the parts.

    Rows that constraints are likely to refuse are tried alone, after all others at once.
    """
    # a row that is written in each of them has their numbers
    session.execute(b"CREATE TEMPORARY TABLE ultravect_written (part bigint) ON COMMIT DROP")
    session.execute(
        b"CREATE TEMPORARY TABLE ultravect_refused (row bigint, message text, detail text) ON COMMIT DROP"
    )
    candidates = set_apart(session, merge, upsert=upsert)
    done = _whole(session, merge, upsert=upsert)
    if done is None:
        # without an index each part would be looked for among all rows
        session.execute(f"CREATE INDEX ON {merge.staged} ({ROW})".encode())
        done = Isolated()
        ranges = [(first, min(first + CHUNK, rows)) for first in range(0, rows, CHUNK)]
        _try(session, merge, ranges, tolerated, done, upsert=upsert)
    if candidates:
        alone = session.execute(f"SELECT {ROW} FROM {CANDIDATES} ORDER BY {ROW}".encode()).fetchall()
        apart = replace(merge, staged=CANDIDATES)
        _try(session, apart, [(row, row + 1) for (row,) in alone], tolerated, done, upsert=upsert)
        put_back(session, merge)
    done.refused = [
        (int(row), f"{message} ({detail})" if detail else str(message))
        for row, message, detail in session.execute(
            f"SELECT row, message, detail FROM ultravect_refused ORDER BY row LIMIT {int(tolerated) + 1}".encode()
        )
    ]
    numbers = session.execute(b"SELECT DISTINCT xmin::text FROM ultravect_written").fetchall()
    return done, [str(number) for (number,) in numbers]


def _whole(session: Session, merge: Merge, *, upsert: bool) -> Isolated | None:
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
    merge: Merge,
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
        shown = session.execute(_PARTS, ([first for first, _ in some], [last for _, last in some])).fetchone()
        updated, inserted = shown or (0, 0)
        done.updated += int(updated or 0)
        done.inserted += int(inserted or 0)
        refused = session.execute(b"SELECT count(*) FROM ultravect_refused").fetchone()
        if refused and refused[0] > tolerated:
            break

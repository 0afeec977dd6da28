"""Writes staged rows in parts on the server itself, where a part that is refused is halved without a word over the network."""

from __future__ import annotations

import secrets

from ultravect.core.databases.isolate import CHUNK, Isolated
from ultravect.core.databases.postgresql.catalogue import Session
from ultravect.core.dialects.merge import ROW, Merge

_WITHIN = f"s.{ROW} >= $1 AND s.{ROW} < $2"
# a block with an exception is a transaction below that of the load
_FUNCTION = """
CREATE FUNCTION pg_temp.ultravect_part(uv_first bigint, uv_last bigint, OUT uv_updated bigint, OUT uv_inserted bigint)
LANGUAGE plpgsql AS {quote}
#variable_conflict use_column
DECLARE uv_message text; uv_detail text; uv_middle bigint; uv_low record; uv_high record;
BEGIN
  BEGIN
    uv_updated := 0;
    {update}
    {insert};
    GET DIAGNOSTICS uv_inserted = ROW_COUNT;
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


def write_in_parts(session: Session, merge: Merge, rows: int, tolerated: int, *, upsert: bool) -> Isolated:
    """See ``isolate``."""
    update = merge.update(_WITHIN) if upsert else None
    insert = merge.insert(within=_WITHIN) if upsert else merge.insert_all(_WITHIN)
    counted = f"{update}; GET DIAGNOSTICS uv_updated = ROW_COUNT;" if update else ""
    # names in the statements may have any characters, but not this
    quote = f"$uv_{secrets.token_hex(8)}$"
    session.execute(
        b"CREATE TEMPORARY TABLE ultravect_refused (row bigint, message text, detail text) ON COMMIT DROP"
    )
    session.execute(_FUNCTION.format(quote=quote, update=counted, insert=insert).encode())
    done = Isolated()
    for first in range(0, rows, CHUNK):
        last = min(first + CHUNK, rows)
        told = session.execute(
            f"SELECT uv_updated, uv_inserted FROM pg_temp.ultravect_part({first}, {last})".encode()
        ).fetchone()
        updated, inserted = told or (0, 0)
        done.updated += int(updated)
        done.inserted += int(inserted)
        refused = session.execute(b"SELECT count(*) FROM ultravect_refused").fetchone()
        if refused and refused[0] > tolerated:
            break
    done.refused = [
        (int(row), f"{message} ({detail})" if detail else str(message))
        for row, message, detail in session.execute(
            f"SELECT row, message, detail FROM ultravect_refused ORDER BY row LIMIT {int(tolerated) + 1}".encode()
        )
    ]
    return done

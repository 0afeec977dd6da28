"""Locks of a table: tried for a moment first, since anyone who wants a strong lock makes others wait after it."""

from __future__ import annotations

import psycopg

from ultravect.core.kinds.postgresql.catalogue import Session

# shorter than the second after which a server looks for deadlocks
_MOMENT = "300ms"
_END_OTHERS = """
SELECT pg_terminate_backend(pid) FROM pg_stat_activity
WHERE usename = current_user AND pid <> pg_backend_pid()
  AND pid IN (
    SELECT l.pid FROM pg_locks l JOIN pg_database d ON d.oid = l.database
    WHERE d.datname = current_database() AND l.relation = to_regclass(%s))
"""


def try_lock(session: Session, table: str, mode: str) -> bool:
    """Locks ``table``, as it is written in SQL, until the transaction ends; False if that cannot be had at once."""
    usual = session.execute(b"SELECT current_setting('lock_timeout')").fetchone()
    assert usual is not None
    try:
        with session.transaction():
            session.execute(f"SET LOCAL lock_timeout = '{_MOMENT}'".encode())
            session.execute(f"LOCK TABLE {table} IN {mode} MODE".encode())
            # a savepoint that is released leaves its settings in force
            session.execute(b"SELECT set_config('lock_timeout', %s, true)", usual)
    except psycopg.errors.LockNotAvailable:
        return False
    return True


def end_holders(session: Session, table: str) -> None:
    """Ends other sessions of this user that hold a lock on ``table``, as it is written in SQL."""
    session.execute(_END_OTHERS.encode(), (table,))

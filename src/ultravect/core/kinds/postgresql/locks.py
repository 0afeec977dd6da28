"""Locks of a table: tried for a moment first, since anyone who wants a strong lock makes others wait after it."""

from __future__ import annotations

import time

import psycopg

from ultravect.core.contracts.receipt import ReceiptKey
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


_END_ATTEMPT = """
SELECT pg_terminate_backend(pid) FROM pg_stat_activity
WHERE usename = current_user AND datname = current_database() AND pid <> pg_backend_pid() AND left(application_name, length(%s)) = %s
"""
_LEFT = """
SELECT 1 FROM pg_stat_activity
WHERE usename = current_user AND datname = current_database() AND pid <> pg_backend_pid() AND left(application_name, length(%s)) = %s
"""
_HOLDERS = """
SELECT DISTINCT l.pid, a.usename, a.application_name FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid
WHERE l.relation = to_regclass(%s) AND l.granted AND l.pid <> pg_backend_pid() AND l.mode <> 'AccessShareLock' LIMIT 3
"""
_END_SECONDS = 5.0


def session_of(attempt: ReceiptKey | None, table: object) -> str:
    """What the session of a load is for, in the server's list of sessions."""
    return f"load {attempt.session} {table}" if attempt is not None else f"load {table}"


def end_attempt(session: Session, attempt: ReceiptKey) -> None:
    """Ends the sessions of an attempt whose worker is lost, or paused: they hold locks for as long as the server waits for them."""
    name = f"ultravect {session_of(attempt, '')}"
    session.execute(_END_ATTEMPT.encode(), (name, name))
    until = time.monotonic() + _END_SECONDS
    while session.execute(_LEFT.encode(), (name, name)).fetchone() and time.monotonic() < until:
        session.commit()  # the list of sessions is as it was when the transaction first looked
        time.sleep(0.05)
    session.commit()


def holders(session: Session, table: str) -> str:
    """Whose sessions have locked a table against writers, for a reader; "" where none are seen."""
    found = session.execute(_HOLDERS.encode(), (table,)).fetchall()
    return ", ".join(f"session {pid} of {user} ({doing or 'without a name'})" for pid, user, doing in found)


def try_lock(session: Session, table: str, mode: str, seconds: float) -> bool:
    """Locks ``table``, as it is written in SQL, until the transaction ends; False if that cannot be had at once.

    ``seconds``: how long whatever comes afterwards may wait for locks.
    """
    usual = int(seconds * 1000) or 1
    try:
        # a savepoint that is released leaves its settings in force
        session.execute(
            f"SAVEPOINT ultravect_lock; SET LOCAL lock_timeout = '{_MOMENT}'; LOCK TABLE {table} IN {mode} MODE; "
            f"SET LOCAL lock_timeout = '{usual}ms'; RELEASE SAVEPOINT ultravect_lock".encode()
        )
    except psycopg.errors.LockNotAvailable:
        # released, or what comes after it would have another transaction number
        session.execute(b"ROLLBACK TO SAVEPOINT ultravect_lock; RELEASE SAVEPOINT ultravect_lock")
        return False
    return True


def end_holders(session: Session, table: str) -> None:
    """Ends other sessions of this user that hold a lock on ``table``, as it is written in SQL."""
    session.execute(_END_OTHERS.encode(), (table,))

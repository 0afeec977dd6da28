"""Loads into several tables that one transaction publishes, one after the other in one session."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, closing, contextmanager

from ultravect.core.contracts.load import LoadOrder
from ultravect.core.dialects.base import Dialect
from ultravect.core.kinds.postgresql.catalogue import Session
from ultravect.core.kinds.postgresql.loads.load import PostgresqlLoad
from ultravect.core.kinds.postgresql.loads.open_load import opened, prepare
from ultravect.core.kinds.postgresql.loads.staging import commit
from ultravect.core.kinds.postgresql.session import explained
from ultravect.core.words import counted


class PostgresqlTogether:
    """See ``LoadsTogether``."""

    def __init__(self, session: Session, connection: str, dialect: Dialect, staging: str, count: int) -> None:
        self._session, self._connection, self._dialect, self._staging = session, connection, dialect, staging
        self._what = f"the loads into {counted(count, 'table')}"

    def load(self, order: LoadOrder) -> AbstractContextManager[PostgresqlLoad]:
        return opened(self._session, self._connection, self._dialect, order, self._staging, alone=False)

    def commit(self) -> None:
        row = self._session.execute("SELECT pg_current_xact_id()::text").fetchone()
        commit(self._session, self._connection, self._what, row[0] if row else "")


@contextmanager
def together(
    session: Session, connection: str, dialect: Dialect, orders: Sequence[LoadOrder], staging: str
) -> Iterator[PostgresqlTogether]:
    """See ``Target.together``."""
    with closing(session):
        with explained(connection, "preparing loads"):
            for order in orders:
                prepare(session, connection, dialect, order)
        yield PostgresqlTogether(session, connection, dialect, staging, len(orders))

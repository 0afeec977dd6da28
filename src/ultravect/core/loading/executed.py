"""Statements of sessions that have ``execute``, as the modules of drivers give them (PEP 249)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any


class ExecutedStatements:
    """See ``Statements``; ``session`` gives a cursor for each statement."""

    def __init__(self, session: Any) -> None:
        self._session = session

    def rows(self, statement: str) -> Sequence[Sequence[Any]]:
        found: Sequence[Sequence[Any]] = self._session.execute(statement).fetchall()
        return found

    def changed(self, statement: str) -> int:
        return int(self._session.execute(statement).rowcount)

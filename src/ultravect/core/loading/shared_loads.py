"""Loads into several tables by one transaction of one session, for kinds whose sessions are ``SqlSession``: see ``Target.windows``."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from typing import Any

from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.loading.sql_session import SqlSession


class SharedLoads:
    """See ``LoadsTogether``. ``opens`` opens a session of the database, for the first load of a transaction, and explains its errors; ``loads``
    gives that of a load in it. ``keeps``: the session stays open after a commit; else others can have the database in between."""

    def __init__(
        self,
        opens: Callable[[Attempt], AbstractContextManager[Any]],
        loads: Callable[[Any, Attempt], SqlSession],
        *,
        keeps: bool,
    ) -> None:
        self._opens, self._loads, self._keeps = opens, loads, keeps
        self._context: AbstractContextManager[Any] | None = None
        self._session: Any = None
        self._last: SqlSession | None = None

    @contextmanager
    def write(self, attempt: Attempt) -> Iterator[SqlSession]:
        if self._context is None:
            context = self._opens(attempt)
            self._session, self._context = context.__enter__(), context
        load = self._loads(self._session, attempt)
        load.is_shared, load.is_first = True, self._last is None
        try:
            yield load
            self._last = load
        except BaseException as error:
            # what has failed has undone the transaction, and the context says it in the user's terms
            if not self._close(error):
                raise

    def commit(self) -> None:
        assert self._last is not None, "there was a load"
        try:
            self._last.end_transaction()
        except BaseException as error:
            if not self._close(error):
                raise
        self._last = None
        if not self._keeps:
            self._close(None)

    def _close(self, error: BaseException | None) -> bool:
        context, self._context, self._last = self._context, None, None
        if context is None:
            return False
        kind, trace = (type(error), error.__traceback__) if error is not None else (None, None)
        return bool(context.__exit__(kind, error, trace))

    @contextmanager
    def opened(self) -> Iterator[SharedLoads]:
        """Leaving the context undoes what was not committed."""
        try:
            yield self
        finally:
            self._close(None)

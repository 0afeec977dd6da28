"""Work on the records from code that must not block."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Coroutine, Mapping
from concurrent.futures import Executor
from dataclasses import asdict
from typing import Any, ParamSpec, TypeVar

from asgiref.sync import sync_to_async
from django.db import close_old_connections, connection, connections

from ultravect.core.errors import UltravectError
from ultravect.service.records.lookup import find_connection
from ultravect.service.sealing import SealBroken

P = ParamSpec("P")
T = TypeVar("T")


_FRESH_SECONDS = 1.0
_used = threading.local()


def recorded(function: Callable[P, T]) -> Callable[P, Coroutine[Any, Any, T]]:
    """Work on the records in a thread, with a connection that is known to be alive."""

    def call(*arguments: P.args, **options: P.kwargs) -> T:
        # to ask whether it is alive takes as long as many a statement: one that has just answered is not asked
        before, _used.at = getattr(_used, "at", 0.0), time.monotonic()
        if _used.at - before > _FRESH_SECONDS or connection.errors_occurred:
            close_old_connections()
        return function(*arguments, **options)

    return sync_to_async(call)


def apart(function: Callable[P, T], threads: Executor) -> Callable[P, Coroutine[Any, Any, T]]:
    """Work on the records that may wait for others: in threads of its own, for all that is ``recorded`` shares one."""

    def call(*arguments: P.args, **options: P.kwargs) -> T:
        try:
            return function(*arguments, **options)
        finally:
            connections.close_all()

    return sync_to_async(call, thread_sensitive=False, executor=threads)


def opened_connection(name: str, job: Mapping[str, Any] | None = None) -> dict[str, Any]:
    """A connection with its secrets, for the memory of another process; with the keys that the expressions of ``job`` name.

    UltravectError where there is no such connection, or its secrets cannot be opened, or are not for its hosts.
    """
    found = find_connection(name)
    if found is None:
        raise UltravectError("connection-unknown", f"there is no connection {name!r} any more", hint="add it again")
    try:
        return asdict(found.spec(job))
    except SealBroken as error:
        raise UltravectError("seal-broken", f"connection {name}: {error}", hint=error.hint) from None

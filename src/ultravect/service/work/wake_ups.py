"""Wakes workers when there is something to claim, by LISTEN and NOTIFY of PostgreSQL; what is missed, they find by asking now and then."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping

import psycopg
import structlog
from django.db import connection

from ultravect.service.records.direct import direct_connection, notices

log = structlog.get_logger()
_CHANNEL = "ultravect_work"
WORK, LOOK, STREAM = "work", "look", "stream"
"""What there is to claim: legs, their slices and searches for them; questions to sites; streams."""

_AGAIN_SECONDS = 1.0


def wake_workers(what: str = WORK) -> None:
    """Wakes all workers once the transaction is committed."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", (_CHANNEL, what))


async def listen(happened: Mapping[str, asyncio.Event]) -> None:
    """Sets one of the events ``happened``, by their kinds, whenever there may be something to claim, until cancelled."""
    quiet = False
    while True:
        try:
            async with await direct_connection() as listener:
                await listener.execute(f"LISTEN {_CHANNEL}".encode())
                for event in happened.values():
                    event.set()  # what was queued before is not notified
                quiet = False
                async for notice in notices(listener):
                    if (event := happened.get(notice.payload)) is not None:
                        event.set()
        except (psycopg.Error, OSError) as error:
            if not quiet:
                log.warning("the records do not say what is queued, and are asked for it", reason=str(error).strip())
            quiet = True
        await asyncio.sleep(_AGAIN_SECONDS)

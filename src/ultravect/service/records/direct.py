"""Connections to the service's database apart from those of the pool, which may all be busy."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from typing import Any

import psycopg
from django.conf import settings


async def direct_connection() -> psycopg.AsyncConnection[Any]:
    """A connection of its own; psycopg.Error where there is none within five seconds."""
    database = settings.DATABASES["default"]
    return await psycopg.AsyncConnection.connect(
        dbname=database["NAME"],
        user=database["USER"],
        password=database["PASSWORD"],
        host=database["HOST"],
        port=database["PORT"],
        connect_timeout=5,
        autocommit=True,
    )


async def notices(listener: psycopg.AsyncConnection[Any]) -> AsyncIterator[psycopg.Notify]:
    """What the database notifies on this connection, for ever. The driver's own way looks ten times a second, which is half of what an idle
    service does."""
    loop, socket = asyncio.get_running_loop(), listener.pgconn.socket
    while True:
        async for notice in listener.notifies(timeout=0):
            yield notice
        readable = asyncio.Event()
        loop.add_reader(socket, readable.set)
        try:
            await readable.wait()
        finally:
            loop.remove_reader(socket)

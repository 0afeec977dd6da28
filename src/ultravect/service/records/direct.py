"""Connections to the service's database apart from those of the pool, which may all be busy."""

from __future__ import annotations

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

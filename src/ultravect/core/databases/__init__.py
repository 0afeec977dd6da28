"""Database kinds, one package each, registered here."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ultravect.core.databases.base import Database
from ultravect.core.databases.postgresql.database import PostgresqlDatabase

DATABASES: dict[str, Callable[[str, Any], Database]] = {"postgresql": PostgresqlDatabase}

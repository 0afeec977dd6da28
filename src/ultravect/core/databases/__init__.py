"""Database kinds, one module or package each, registered here."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from ultravect.core.databases.base import Database
from ultravect.core.databases.duckdb import DuckdbDatabase
from ultravect.core.databases.mariadb.database import MariadbDatabase
from ultravect.core.databases.postgresql.database import PostgresqlDatabase
from ultravect.core.databases.sqlite import SqliteDatabase

# name, settings and the roots that database files are confined to
DATABASES: dict[str, Callable[[str, Any, Sequence[str]], Database]] = {
    "postgresql": PostgresqlDatabase,
    "mariadb": MariadbDatabase,
    "sqlite": SqliteDatabase,
    "duckdb": DuckdbDatabase,
}

"""SQL dialects, one module each, registered here."""

from __future__ import annotations

from ultravect.core.dialects.base import Dialect
from ultravect.core.dialects.duckdb import DuckdbDialect
from ultravect.core.dialects.mariadb import MariadbDialect
from ultravect.core.dialects.oracle import OracleDialect
from ultravect.core.dialects.postgresql import PostgresqlDialect
from ultravect.core.dialects.sqlite import SqliteDialect
from ultravect.core.dialects.sqlserver import SqlserverDialect

DIALECTS: dict[str, Dialect] = {
    "postgresql": PostgresqlDialect(),
    "mariadb": MariadbDialect(),
    "sqlite": SqliteDialect(),
    "duckdb": DuckdbDialect(),
    "sqlserver": SqlserverDialect(),
    "oracle": OracleDialect(),
}

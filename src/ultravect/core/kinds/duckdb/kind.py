"""What the kind duckdb is: its settings, and what is opened with them."""

from __future__ import annotations

from pydantic import Field

from ultravect.core.contracts.kind import Kind
from ultravect.core.model.connection import DatabaseFile, DatabaseFileSettings


class DuckdbSettings(DatabaseFileSettings):
    """A DuckDB database file, inside one of the roots that the service was started with."""

    path: DatabaseFile = Field(examples=["/srv/data/weather.duckdb"])


KIND = Kind(
    name="duckdb",
    holds="tables",
    settings=DuckdbSettings,
    opens="ultravect.core.kinds.duckdb.database:DuckdbDatabase",
    dialect="ultravect.core.dialects.duckdb:DuckdbDialect",
    needs={"duckdb": "duckdb"},
    usual_schema="main",
)

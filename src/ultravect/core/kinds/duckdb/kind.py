"""What the kind duckdb is: see ``Kind``."""

from __future__ import annotations

from ultravect.core.contracts.kind import Kind
from ultravect.core.kinds.duckdb.settings import DuckdbSettings

KIND = Kind(
    name="duckdb",
    holds="tables",
    settings=DuckdbSettings,
    opens="ultravect.core.kinds.duckdb.database:DuckdbDatabase",
    dialect="ultravect.core.dialects.duckdb:DuckdbDialect",
    needs={"duckdb": "duckdb"},
    usual_schema="main",
)

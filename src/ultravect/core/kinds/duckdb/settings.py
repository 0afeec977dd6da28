"""Settings of the kind duckdb."""

from __future__ import annotations

from pydantic import Field

from ultravect.core.model.connection import DatabaseFile, DatabaseFileSettings


class DuckdbSettings(DatabaseFileSettings):
    """A DuckDB database file, inside one of the roots that the service was started with."""

    path: DatabaseFile = Field(examples=["/srv/data/weather.duckdb"])

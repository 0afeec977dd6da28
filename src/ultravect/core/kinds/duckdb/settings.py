"""Settings of the kind duckdb."""

from __future__ import annotations

from pydantic import Field

from ultravect.core.model.connection import (
    Create,
    DatabaseFile,
    DatabaseSettings,
)


class DuckdbSettings(DatabaseSettings):
    """A DuckDB database file, inside one of the roots that the service was started with."""

    path: DatabaseFile = Field(examples=["/srv/data/weather.duckdb"])
    create: Create = False

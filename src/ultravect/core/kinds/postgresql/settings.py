"""Settings of the kind postgresql."""

from __future__ import annotations

from ultravect.core.model.connection import Port, ServerSettings


class PostgresqlSettings(ServerSettings):
    """A PostgreSQL database."""

    port: Port = 5432

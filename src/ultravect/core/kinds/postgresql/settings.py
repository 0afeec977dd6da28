"""Settings of the kind postgresql."""

from __future__ import annotations

from pydantic import Field

from ultravect.core.model.connection import (
    Certificate,
    DatabaseName,
    DatabaseSettings,
    Host,
    Port,
    Secret,
    Staging,
    Tls,
)


class PostgresqlSettings(DatabaseSettings):
    """A PostgreSQL database."""

    host: Host
    port: Port = 5432
    database: DatabaseName
    user: str = Field(min_length=1)
    password: Secret = ""
    tls: Tls = "preferred"
    tls_ca: Certificate = ""
    staging: Staging = ""

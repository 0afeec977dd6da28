"""What the kind postgresql is: its settings, and what is opened with them."""

from __future__ import annotations

from ultravect.core.contracts.kind import Kind
from ultravect.core.model.connection import Port, ServerSettings


class PostgresqlSettings(ServerSettings):
    """A PostgreSQL database."""

    port: Port = 5432


KIND = Kind(
    name="postgresql",
    holds="tables",
    settings=PostgresqlSettings,
    opens="ultravect.core.kinds.postgresql.database:PostgresqlDatabase",
    dialect="ultravect.core.kinds.postgresql.dialect:PostgresqlDialect",
    needs={"psycopg": "psycopg[binary]"},
    usual_schema="public",
)

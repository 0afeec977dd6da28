"""What the kind postgresql is: see ``Kind``."""

from __future__ import annotations

from ultravect.core.contracts.kind import Kind
from ultravect.core.kinds.postgresql.settings import PostgresqlSettings

KIND = Kind(
    name="postgresql",
    holds="tables",
    settings=PostgresqlSettings,
    opens="ultravect.core.kinds.postgresql.database:PostgresqlDatabase",
    dialect="ultravect.core.kinds.postgresql.dialect:PostgresqlDialect",
    needs={"psycopg": "psycopg[binary]"},
    usual_schema="public",
)

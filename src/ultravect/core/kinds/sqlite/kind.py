"""What the kind sqlite is: its settings, and what is opened with them."""

from __future__ import annotations

from pydantic import Field

from ultravect.core.contracts.kind import Kind
from ultravect.core.model.connection import DatabaseFile, DatabaseFileSettings


class SqliteSettings(DatabaseFileSettings):
    """A SQLite database file, inside one of the roots that the service was started with."""

    path: DatabaseFile = Field(examples=["/srv/data/guestbook.db"])


KIND = Kind(
    name="sqlite",
    holds="tables",
    settings=SqliteSettings,
    opens="ultravect.core.kinds.sqlite.database:SqliteDatabase",
    dialect="ultravect.core.kinds.sqlite.dialect:SqliteDialect",
    usual_schema="main",
)
